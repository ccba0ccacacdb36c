"""Is a file that is no film whole? What can be told of archives, pictures and documents.

What cannot be looked into is judged by its length and by digests alone, and the check says so.
"""

import zipfile
import zlib
from collections.abc import Sequence
from pathlib import Path

from mudlark.verify.verdict import Report

PICTURES = frozenset({"png", "jpeg", "gif", "webp"})
_PLAYED = frozenset({"matroska", "mp3", "ogg", "flac", "wav", "adts", "ts"})
_MOST_PIXELS = 400_000_000


def check_content(path: Path, form: str, report: Report) -> list[tuple[str, int]]:
    """Check a file by what its first bytes say it is; gives the names and sizes inside an archive."""
    if form == "zip":
        return _check_zip(path, report)
    if form in PICTURES:
        _check_picture(path, report)
    elif form == "pdf":
        _check_document(path, report)
    elif form in _PLAYED:
        report.failed("content", "unproven", f"{path.name}: Mudlark cannot look inside {form.upper()} yet")
    else:
        report.skipped("content", "a format that Mudlark does not look into; its length and digests are what is proven")
    return []


def _check_zip(path: Path, report: Report) -> list[tuple[str, int]]:
    try:
        with zipfile.ZipFile(path) as archive:
            entries = [(entry.filename, entry.file_size) for entry in archive.infolist() if not entry.is_dir()]
            locked = any(entry.flag_bits & 1 for entry in archive.infolist())
            bad = None if locked else archive.testzip()
    except (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, RuntimeError) as problem:
        report.failed("content", "archive", f"The ZIP file cannot be read: {problem}", grave=True)
        return []
    count = "1 file" if len(entries) == 1 else f"{len(entries):,} files"
    if bad:
        report.failed("content", "archive", f"'{bad}' inside the ZIP file does not have its checksum", grave=True)
    elif locked:
        report.skipped("content", f"a ZIP file with a password, {count} inside; their checksums cannot be tried")
    else:
        report.passed("content", f"a ZIP file, {count} inside, all with their checksums")
    return entries


def _check_picture(path: Path, report: Report) -> None:
    from PIL import Image, UnidentifiedImageError  # costs start-up time that films need not pay

    try:
        with Image.open(path) as picture:
            width, height = picture.size
            if width * height > _MOST_PIXELS:
                report.skipped("content", f"a picture of {width}×{height}, too large to decode as a check")
                return
            picture.load()
            report.passed("content", f"a {picture.format} picture of {width}×{height} that decodes to its end")
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError) as problem:
        report.failed("content", "picture", f"The picture cannot be decoded: {problem}", grave=True)


def check_pages(pictures: Sequence[Path], report: Report) -> None:
    """Every page image decodes to its end; one check for all, a problem for each that does not."""
    alone = Report()
    for picture in pictures:
        _check_picture(picture, alone)
    bad = [number for number, check in enumerate(alone.checks, start=1) if check.outcome == "failed"]
    if bad:
        numbers = ", ".join(map(str, bad[:20]))
        report.failed("pages", "page-unreadable", f"Page image {numbers} of {len(pictures)} cannot be decoded")
    else:
        report.passed("pages", f"{len(pictures)} page images, each decodes to its end")


def _check_document(path: Path, report: Report) -> None:
    with path.open("rb") as file:
        file.seek(0, 2)
        file.seek(max(0, file.tell() - 2048))
        tail = file.read()
    if b"startxref" in tail and b"%%EOF" in tail:
        report.passed("content", "a PDF that ends as a PDF should")
    else:
        report.failed("content", "document", "The PDF does not end as a PDF should; it is likely cut short", grave=True)
