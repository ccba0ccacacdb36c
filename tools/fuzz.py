"""A coverage-guided fuzzer on the readers: whatever the bytes are, they end in a verdict or in an error of ours.

Usage: fuzz.py TARGET [SECONDS]; without a target, lists them. Needs the `atheris` package.
"""

import sys
import tempfile
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

FIRST = {  # how files of a form begin, so that the fuzzer need not find that out
    "mp4": b"\0\0\0\x14ftypisom\0\0\0\0isom",
    "matroska": b"\x1aE\xdf\xa3",
    "ts": b"",
    "mp3": b"\xff\xfb\x90\x64",
    "adts": b"\xff\xf1\x50\x80",
    "ac3": b"\x0b\x77",
    "flac": b"fLaC\0\0\0\x22",
    "ogg": b"OggS\0\2",
    "wav": b"RIFF\xff\xff\0\0WAVEfmt ",
    "aiff": b"FORM\0\0\xff\xffAIFF",
    "webvtt": b"WEBVTT\n\n",
    "srt": b"1\n00:00:01,000 --> ",
    "ttml": b"<tt ",
    "pdf": b"%PDF-1.7\n",
    "iso": bytes(0x8000) + b"\1CD001",
    "exe": b"MZ\0",
    "deb": b"!<arch>\ndebian",
    "tiff": b"II*\0",
    "svg": b"<svg ",
}
TEXTS = ("folio", "pyramid", "service", "list")
TARGETS = (*FIRST, *TEXTS)
OURS = ["mudlark.verify", "mudlark.media", "mudlark.manifest.pictures", "mudlark.sweeping.rows"]


def reader(name: str, folder: Path) -> Callable[[bytes], object]:
    """What reads bytes of a form. Imports what it needs, so that the fuzzer can watch that."""
    from mudlark.manifest.pictures.canvases import read_folio
    from mudlark.manifest.pictures.pyramid import read_pyramid
    from mudlark.manifest.pictures.service import largest, read_service
    from mudlark.sweeping.rows import rows_in
    from mudlark.verify.media import check_file
    from mudlark.verify.verdict import Report

    texts: dict[str, Callable[[bytes], object]] = {
        "folio": lambda data: read_folio(data, "https://museum.example/m"),
        "pyramid": lambda data: read_pyramid(data, "https://museum.example/c.dzi"),
        "service": lambda data: largest(read_service(data, "https://museum.example/info.json")),
        "list": lambda data: rows_in(data, "https://museum.example/"),
    }
    path = folder / "file"

    def verify(data: bytes) -> None:
        path.write_bytes(FIRST[name] + data)
        report = Report()
        check_file(path, None, report)
        assert report.checks or report.problems, "nothing was said of it"

    return texts.get(name, verify)


def main() -> None:
    if len(sys.argv) < 2:
        print(*TARGETS, sep="\n")
        return
    import atheris

    from mudlark.errors import MudlarkError

    name, seconds = sys.argv[1], sys.argv[2] if len(sys.argv) > 2 else "600"
    with tempfile.TemporaryDirectory(prefix="mudlark-fuzz-") as folder:
        options = [f"-max_total_time={seconds}", "-timeout=20", "-rss_limit_mb=1500", "-max_len=40000", "-verbosity=0"]
        options.append(f"-artifact_prefix={folder}/")
        with atheris.instrument_imports(include=OURS):
            read = reader(name, Path(folder))

        def run(data: bytes) -> None:
            with suppress(MudlarkError):
                read(data)

        atheris.Setup([sys.argv[0], *options], run)
        atheris.Fuzz()


if __name__ == "__main__":
    main()
