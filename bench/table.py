"""What speed is promised, in one table: each number beside what was wanted, the floor, and the last release.

The floor is what nothing can be faster than that does the same with the same means: a bare Python program that imports
the same libraries, sockets that are read, hashed and written and nothing else, `cp`, `sha256sum`, or what people do by
hand. `--only WORD` runs some of the rows; `--release` keeps the numbers as those of the release (bench/released.json).
A slower number fails nothing; it is said.
"""

import argparse
import math
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import msgspec

import assay
import byhand
import fetch
import ledger
import remux
import report
import sift
from mudlark import __version__
from mudlark.find.judge.rank import rank
from mudlark.find.places.page import read_page

_RELEASED = Path(__file__).with_name("released.json")
_SLOWER = 1.15  # times the number of the release from which on a number is called slower
_HOURS = 3
_LIBRARIES = "import asyncio, click, msgspec, rich.console, rich.text; from mudlark.web.client import aiohttp"
_PAGE = b"""<!doctype html><title>The Tide Mill</title><video src="mill.mp4"></video><a href="plan.pdf">The plan</a>"""


class Row(msgspec.Struct, frozen=True):
    """what: is measured, in which unit. now: its number. floor: the number that nothing goes below; None where there is
    no such thing. wanted: the number that was set as the aim. more: true if a larger number is better."""

    what: str
    now: float
    wanted: float
    floor: float | None = None
    more: bool = False

    def line(self, released: float | None) -> str:
        """The row, as it stands in the table."""
        met = self.now >= self.wanted if self.more else self.now <= self.wanted
        slower = released is not None and (
            released > _SLOWER * self.now if self.more else self.now > _SLOWER * released
        )
        numbers = "".join(f"{_number(one):>10}" for one in (self.now, self.wanted, self.floor, released))
        return f"{self.what:<58}{numbers}  {'' if met else 'not met'}{' slower' if slower else ''}".rstrip()


class Release(msgspec.Struct):
    """The numbers of a release, by what was measured."""

    version: str
    numbers: dict[str, float] = {}


def _number(value: float | None) -> str:
    return "–" if value is None else f"{value:.2f}" if value < 10 else f"{value:.0f}"


def _start(folder: Path) -> Iterator[Row]:
    program, python = [sys.executable, "-m", "mudlark"], [sys.executable, "-c"]
    bare = fetch.wall([*python, "import click"], 5)
    yield Row("haul --help, s", fetch.wall([*program, "haul", "--help"], 7), 0.25, bare)
    (folder / "in").mkdir()
    (folder / "in" / "page.html").write_bytes(_PAGE)
    (folder / "in" / "mill.mp4").write_bytes(remux.DEMO.read_bytes()[:20_000])
    (folder / "in" / "plan.pdf").write_bytes(b"%PDF-1.7\n")
    with fetch.served(0, folder / "in") as port:
        command = [*program, "sift", f"http://127.0.0.1:{port}/page.html"]
        yield Row("sift of a small page, s", fetch.wall(command, 7), 0.45, fetch.wall([*python, _LIBRARIES], 5))


def _by_hand(folder: Path) -> Iterator[Row]:
    if not byhand.missing():
        for what, both, wanted in byhand.compared(folder, rounds=5):
            yield Row(f"{what}, times by hand", both.ratio, wanted)


def _lanes(_: Path) -> Iterator[Row]:
    with fetch.served(50) as port:
        for lanes, wanted in ((8, 1.08), (32, 1.12)):
            best = min(fetch.ours(port, 400, 20_000, lanes) for _ in range(3))
            ideal = math.ceil(400 / lanes) * 0.05
            plain = min(fetch.bare(port, 400, 20_000, lanes) for _ in range(3))
            yield Row(f"400 x 20 KB, 50 ms, {lanes} lanes, times the ideal", best / ideal, wanted, plain / ideal)
    with fetch.served(0) as port:
        mine = min(fetch.ours(port, 150, 2_000_000, 8) for _ in range(3))
        plain = min(fetch.bare(port, 150, 2_000_000, 8) for _ in range(3))
        yield Row("150 x 2 MB, 8 lanes, MB/s", 300 / mine, 300, 300 / plain, more=True)


def _films(folder: Path) -> Iterator[Row]:
    for form, wanted in (("TS", 80), ("fMP4", 250), ("WebM", 100)):
        place = folder / form
        place.mkdir()
        one = remux.measured(form, 6_000_000, place, megabytes=300, rounds=3)
        copied = 300 / one.copy if one.copy else None
        yield Row(f"{form} to a film, MB/s of CPU", 300 / one.ours, wanted, copied, more=True)
    place = folder / "long"
    place.mkdir()
    one = remux.measured("TS", 300_000, place, megabytes=_HOURS * 3600 * 430_000 // 8_000_000, rounds=1)
    yield Row(f"peak memory of a film of {_HOURS} h, MB", one.peak, 120)


def _webm(folder: Path) -> Iterator[Row]:
    path = folder / "film.webm"
    assay.long_webm(path, 600)
    hashing, _ = assay.measured(["sha256sum", str(path)])
    assay.recorded(path)
    command = [sys.executable, "-m", "mudlark", "assay", str(folder), "--no-history"]
    took = min(assay.measured(command)[0] for _ in range(3))
    size = path.stat().st_size / 1e6
    yield Row("assay of WebM in small frames, MB/s", size / took, 300, size / hashing, more=True)
    said = subprocess.run([sys.executable, "-c", _INDEX, str(path)], capture_output=True, text=True, check=True)
    yield Row("index of a Matroska file, bytes a frame", float(said.stdout), 40)


_INDEX = """
import sys, tracemalloc
from pathlib import Path
from mudlark.media.matroska.read import read_matroska
from mudlark.media.movie import reader_of
path = Path(sys.argv[1])
with path.open("rb") as file:
    read_matroska(reader_of(file), path.stat().st_size)
    tracemalloc.start()
    movie = read_matroska(reader_of(file), path.stat().st_size)
    print(tracemalloc.get_traced_memory()[0] / sum(len(track.sizes) for track in movie.tracks))
"""


def _pages(_: Path) -> Iterator[Row]:
    source = sift.page(3)
    best = math.inf
    for _round in range(3):
        begun = time.process_time()
        found = read_page(source, "http://museum.example/")
        rank(found)
        best = min(best, time.process_time() - begun)
    yield Row(f"a page of 3 MB with {len(found.finds):,} finds, s", best, 0.8)


def _shelves(folder: Path) -> Iterator[Row]:
    for number in range(100_000):
        ledger.item(folder / f"{number // 1000:03d}" / f"Film {number}", number, segments=1)
    command = [sys.executable, "-m", "mudlark", "ledger", str(folder), "--most", "20"]
    listing = fetch.wall(["find", str(folder), "-name", "record.json"], 3)
    fetch.wall(command, 1)
    yield Row("ledger of 100,000 items, the second time, s", fetch.wall(command, 3), 0.8, listing)
    yield Row("the same, all of them shown, s", fetch.wall(command[:-2], 3), 0.8, listing)


def _reports(folder: Path) -> Iterator[Row]:
    report.real_item(folder / "long")
    command = [sys.executable, "-m", "mudlark", "report", str(folder / "long"), "--into", str(folder / "a.html")]
    took, memory = min(assay.measured([*command, "--replace"]) for _ in range(3))
    yield Row("report of a film of 11 h, s", took, 1.5)
    yield Row("the same, MB", memory, 150)


_GROUPS: dict[str, Callable[[Path], Iterator[Row]]] = {
    "start": _start,
    "hand": _by_hand,
    "lanes": _lanes,
    "films": _films,
    "webm": _webm,
    "pages": _pages,
    "shelves": _shelves,
    "reports": _reports,
}


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", action="append", choices=sorted(_GROUPS), default=[])
    parser.add_argument("--release", action="store_true")
    given = parser.parse_args()
    released = msgspec.json.decode(_RELEASED.read_bytes(), type=Release) if _RELEASED.exists() else Release("release")
    print(f"{os.cpu_count()} cores, Python {sys.version.split()[0]}; ratios and numbers of one run")
    print(f"{'':<58}{'now':>10}{'wanted':>10}{'floor':>10}{released.version:>10}")
    numbers = dict(released.numbers)
    for name, rows in _GROUPS.items():
        if given.only and name not in given.only:
            continue
        with tempfile.TemporaryDirectory(prefix="mudlark-bench-") as place:
            folder = Path(place)
            folder.chmod(0o755)  # for a server that runs as somebody else
            for row in rows(folder):
                print(row.line(released.numbers.get(row.what)), flush=True)
                numbers[row.what] = round(row.now, 3)
    if given.release:
        data = msgspec.json.encode(Release(__version__, numbers))
        _RELEASED.write_bytes(msgspec.json.format(data, indent=2) + b"\n")


if __name__ == "__main__":
    main()
