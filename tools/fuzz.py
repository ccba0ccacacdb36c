"""A coverage-guided fuzzer on the readers: whatever the bytes are, they end in a verdict or in an error of ours.

Usage: fuzz.py READER [SECONDS [all]]; without a reader, lists them. It stops at the first thing that it finds; with
`all` it goes on, and tells each place in the code once. Needs the `atheris` package. It begins with the files of
tests/corpus/READER, whose names begin with the form that they are of, and changes them by their structure: boxes, EBML
elements, transport packets and lines are dropped, repeated, swapped and resized as wholes.
"""

import random
import sys
import tempfile
import traceback
from collections.abc import Callable, Iterator
from contextlib import suppress
from itertools import pairwise
from pathlib import Path
from typing import Any

CORPUS = Path(__file__).parents[1] / "tests" / "corpus"
FORMS = {  # the first byte of an input says which form it is taken for
    "media": ("mp4", "matroska", "ts", "mp3", "adts", "ac3", "flac", "ogg", "wav", "aiff", "segments"),
    "picture": ("png", "jpeg", "gif", "webp", "avif", "tiff", "svg", "pdf", "folio", "pyramid", "service"),
    "text": ("webvtt", "srt", "ttml", "json", "zip", "gzip", "xz", "tar", "iso", "exe", "deb"),
    "manifest": ("hls", "dash", "patch"),
    "record": ("record", "history", "requests", "bag", "state"),
    "list": ("list", "robots", "feed"),
    "har": ("har",),
    "warc": ("warc",),
}
OURS = [
    *("mudlark.verify", "mudlark.media", "mudlark.manifest", "mudlark.sweeping.rows", "mudlark.web.robots"),
    *("mudlark.archive", "mudlark.browser", "mudlark.assemble", "mudlark.find.places.feed", "mudlark.fetch.unfinished"),
]
LARGEST = 60_000  # bytes of an input
SLOWEST = 20  # seconds that an input may take
MOST_AT_ONCE = 300  # MB that an input may ask for at once
MOST_MEMORY = 10_000  # MB for all of them: the fuzzer never gives back what a mutation of ours has made
URL = "https://museum.example/a"


def files_in(folder: Path) -> dict[str, Callable[[bytes], object]]:
    """What reads bytes of each form; where that is done by way of a file, it stands in the folder. Imports what it
    needs, so that the fuzzer can watch that."""
    from mudlark.archive.assay import assay
    from mudlark.archive.bagcheck import check_bag
    from mudlark.archive.history import checks_of, last_check
    from mudlark.archive.ledger import read_ledger
    from mudlark.archive.warc import Exchanges
    from mudlark.browser.capture import read_captures
    from mudlark.fetch.unfinished import unfinished
    from mudlark.find.places.feed import read_xml
    from mudlark.manifest import hls
    from mudlark.manifest.dash.document import parse_document
    from mudlark.manifest.dash.patch import patched
    from mudlark.manifest.dash.presentation import open_mpd
    from mudlark.manifest.pictures.canvases import read_folio
    from mudlark.manifest.pictures.pyramid import read_pyramid
    from mudlark.manifest.pictures.service import largest, read_service
    from mudlark.media.readers import container, reader_for
    from mudlark.report.requests import read_log
    from mudlark.sweeping.rows import rows_in
    from mudlark.verify.account import Account
    from mudlark.verify.media import check_file
    from mudlark.web.robots import Rules

    def kept(name: str, data: bytes) -> Path:
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(data)
        return path

    def verify(data: bytes) -> None:
        report = Account()
        check_file(kept("file", data), None, report)
        assert report.checks or report.problems, "nothing was said of it"

    def segments(data: bytes) -> None:
        """As a stream brings it: an initialization section and two segments, cut in the middle of the input."""
        third = len(data) // 3
        reader = reader_for(container(data[third:]))
        reader.begin(data[:third])
        for part in (data[third : 2 * third], data[2 * third :]):
            reader.feed(memoryview(part))
        reader.flush()

    def dash(data: bytes) -> None:
        presentation = open_mpd(parse_document(data, URL), URL, (), 1_000_000.0)
        for rendition in presentation.renditions:
            for segment in (rendition.segments or ())[:20]:
                assert segment.resource.url

    def patch(data: bytes) -> None:
        document, _, change = data.partition(b"\0")
        patched(parse_document(document, URL), change, URL)

    def record(data: bytes) -> None:
        kept("item/record.json", data)
        (assayed,) = assay(folder / "item")
        codes = {problem.code for problem in assayed.account.problems}
        assert "unexamined" not in codes and len(read_ledger(folder / "item").entries) == 1

    def history(data: bytes) -> None:
        kept("item/history.jsonl", data)
        checks_of(folder / "item")
        last_check(str(folder / "item"))

    def requests(data: bytes) -> None:
        kept("item/requests.jsonl", data)
        read_log(folder / "item")

    def state(data: bytes) -> None:
        kept("stores/.mudlark/one/state.sqlite", data)
        assert len(unfinished(folder / "stores")) <= 1

    def bag(data: bytes) -> None:
        assert not any("could not be looked into" in one for one in check_bag(kept("bag.zip", data)))

    def warc(data: bytes) -> None:
        exchanges = Exchanges(kept("exchanges.warc.gz", data))
        exchanges.close()

    texts: dict[str, Callable[[bytes], object]] = {
        "segments": segments,
        "folio": lambda data: read_folio(data, URL),
        "pyramid": lambda data: read_pyramid(data, f"{URL}.dzi"),
        "service": lambda data: largest(read_service(data, f"{URL}/info.json")),
        "hls": lambda data: hls.parse(data, URL, {"a": "b"}),
        "dash": dash,
        "patch": patch,
        "record": record,
        "history": history,
        "requests": requests,
        "state": state,
        "bag": bag,
        "list": lambda data: rows_in(data, URL),
        "robots": lambda data: Rules(data, "Mudlark").allow(f"{URL}/b?c=d"),
        "feed": lambda data: read_xml(data, URL),
        "har": lambda data: read_captures(kept("file.har", data)),
        "warc": warc,
    }
    return {form: texts.get(form, verify) for forms in FORMS.values() for form in forms}


def units(data: bytes, form: str) -> Iterator[tuple[int, int]]:
    """Where the wholes of an input begin and end: boxes, elements, packets, or lines."""
    if form == "ts":
        ends: list[int] = [*range(0, len(data), 188), len(data)]
    elif form in ("mp4", "avif", "segments"):
        yield from _boxes(data, 0, len(data), 0)
        return
    elif form == "matroska":
        ends = [0, *(at for at in range(1, len(data)) if data[at] in (0xA3, 0xA0, 0xE7, 0xAE, 0x1F, 0x16)), len(data)]
    elif form == "png":
        ends = [
            0,
            *(at - 4 for at in range(8, len(data)) if data[at : at + 4] in (b"IHDR", b"IDAT", b"IEND")),
            len(data),
        ]
    else:
        mark = (
            b">" if form in ("ttml", "dash", "svg", "patch", "feed") else b"," if form in ("record", "har") else b"\n"
        )
        ends, at = [0], 0
        while (at := data.find(mark, at) + 1) > 0:
            ends.append(at)
        ends.append(len(data))
    yield from ((begin, end) for begin, end in pairwise(ends) if begin < end)


def _boxes(data: bytes, at: int, end: int, depth: int) -> Iterator[tuple[int, int]]:
    while at + 8 <= end and depth < 8:
        size = int.from_bytes(data[at : at + 4], "big")
        stop = min(end, at + size) if size >= 8 else end
        yield at, stop
        if data[at + 4 : at + 8] in (b"moov", b"trak", b"mdia", b"minf", b"stbl", b"moof", b"traf", b"mvex", b"edts"):
            yield from _boxes(data, at + 8, stop, depth + 1)
        at = stop


def changed(data: bytes, form: str, chance: random.Random) -> bytes:
    """An input with one of its wholes dropped, repeated, swapped with another, cut, zeroed or put to the end."""
    places = list(units(data, form))
    if not places:
        return data
    begin, end = chance.choice(places)
    first, last = chance.choice(places)
    whole, other = data[begin:end], data[first:last]
    ways = (
        lambda: data[:begin] + data[end:],
        lambda: data[:end] + whole + data[end:],
        lambda: data[:begin] + other + data[end:],
        lambda: data[:begin] + whole[: chance.randint(0, len(whole))] + data[end:],
        lambda: data[:begin] + bytes(len(whole)) + data[end:],
        lambda: data[:begin] + data[end:] + whole,
        lambda: data[:begin] + whole * chance.randint(2, 9) + data[end:],
    )
    return chance.choice(ways)()


def main() -> None:
    if len(sys.argv) < 2:
        print(*FORMS, sep="\n")
        return
    import atheris

    from mudlark.errors import MudlarkError

    name, seconds = sys.argv[1], sys.argv[2] if len(sys.argv) > 2 else "600"
    forms, go_on, met = FORMS[name], sys.argv[3:] == ["all"], set[str]()
    with tempfile.TemporaryDirectory(prefix="mudlark-fuzz-") as folder:
        seeds = Path(folder) / "seeds"
        seeds.mkdir()
        for path in sorted((CORPUS / name).iterdir()):
            form = path.name.partition("-")[0].partition(".")[0]
            (seeds / path.name).write_bytes(bytes([forms.index(form)]) + path.read_bytes())
        options = [f"-max_total_time={seconds}", f"-timeout={SLOWEST}", f"-rss_limit_mb={MOST_MEMORY}"]
        options.append(f"-malloc_limit_mb={MOST_AT_ONCE}")
        options += [f"-max_len={LARGEST}", "-verbosity=1", "-print_final_stats=1", f"-artifact_prefix={folder}/"]
        with atheris.instrument_imports(include=OURS):
            read = files_in(Path(folder))

        def run(data: bytes) -> None:
            if data:
                with suppress(MudlarkError):
                    try:
                        read[forms[data[0] % len(forms)]](data[1:])
                    except MudlarkError:
                        raise
                    except Exception as problem:
                        if not go_on:
                            raise
                        place = traceback.format_exc(limit=-3)
                        key = f"{type(problem).__name__} {traceback.extract_tb(problem.__traceback__)[-1].lineno}"
                        if key not in met:
                            met.add(key)
                            print(f"FOUND in {forms[data[0] % len(forms)]}:\n{place}", file=sys.stderr, flush=True)

        def mutate(data: bytes, most: int, seed: int) -> bytes:
            chance = random.Random(seed)
            if len(data) > 1 and chance.random() < 0.5:
                return (data[:1] + changed(data[1:], forms[data[0] % len(forms)], chance))[:most]
            mutated: Any = atheris.Mutate(data, most)
            return bytes(mutated)

        atheris.Setup([sys.argv[0], *options, str(seeds)], run, custom_mutator=mutate)
        atheris.Fuzz()


if __name__ == "__main__":
    main()
