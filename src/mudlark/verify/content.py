"""Is a file that is no film whole? What can be told of archives, pictures and documents.

What cannot be looked into is skipped, and the check says so: then only a digest can prove it.
"""

import bz2
import gzip
import json
import lzma
import re
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Sequence
from pathlib import Path

from mudlark.verify.verdict import Report

PICTURES = frozenset({"png", "jpeg", "gif", "webp"})
_PACKED: dict[str, Callable[[Path], gzip.GzipFile | bz2.BZ2File | lzma.LZMAFile]] = {
    "gzip": gzip.GzipFile,
    "bzip2": bz2.BZ2File,
    "xz": lzma.LZMAFile,
}
_NAMED = {  # what a name promises, and what may then come
    "gz": {"gzip"},
    "tgz": {"gzip"},
    "bz2": {"bzip2"},
    "tbz2": {"bzip2"},
    "xz": {"xz"},
    "txz": {"xz"},
    "zip": {"zip"},
    "7z": {"7z"},
    "rar": {"rar"},
    "tar": {"tar"},
    "iso": {"iso", "udf"},
    "pdf": {"pdf"},
    "epub": {"zip"},
    "docx": {"zip"},
    "xlsx": {"zip"},
    "pptx": {"zip"},
    "odt": {"zip"},
    "ods": {"zip"},
    "odp": {"zip"},
    "jpg": {"jpeg"},
    "jpeg": {"jpeg"},
    "png": {"png"},
    "gif": {"gif"},
    "webp": {"webp"},
    "deb": {"deb"},
    "rpm": {"rpm"},
    "cab": {"cab"},
    "exe": {"exe"},
}
_TEXTUAL = frozenset({"text", "html", "xml", "json", "unknown"})  # what comes in place of something that is gone
_A = {"gzip": "a gzip", "bzip2": "a bzip2", "xz": "an xz"}
_MOST_UNPACKED = 64 << 30  # bytes that are unpacked as a check
_SOME = 1 << 20
_LARGEST_JSON = 50_000_000
_LARGEST_TABLE = 8_000_000  # bytes
_START = re.compile(rb"startxref\s+(\d{1,15})\s+%%EOF\s*$")
_TABLE = re.compile(rb"xref\s+0 \d+\s+((?:\d{10} \d{5} [nf]\s*)+)trailer")
_PLACE = re.compile(rb"(\d{10}) \d{5} n")
_OBJECT = re.compile(rb"\s*\d+\s+\d+\s+obj\b")
_MOST_PIXELS = 400_000_000


def check_content(path: Path, form: str, report: Report) -> list[tuple[str, int]]:
    """Check a file by what its first bytes say it is; gives the names and sizes inside an archive."""
    if form == "zip":
        return _check_zip(path, report)
    promised = _NAMED.get(path.suffix.lower().lstrip("."))
    if promised and form not in promised and form in _TEXTUAL:
        text = f"{path.name} is named {path.suffix} but holds {'something else' if form == 'unknown' else form.upper()}"
        report.failed("content", "misnamed", text)
    elif form in PICTURES:
        _check_picture(path, report)
    elif form == "pdf":
        _check_document(path, report)
    elif form in _PACKED:
        _check_packed(path, form, report)
    elif form == "tar":
        _check_tar(path, report)
    elif form == "json" and path.stat().st_size <= _LARGEST_JSON:
        _check_json(path, report)
    else:
        report.skipped(
            "content", f"{path.name}: Mudlark does not look into this format; only a digest can prove it whole"
        )
    return []


def _check_packed(path: Path, form: str, report: Report) -> None:
    """Unpacked to its end, where its own checksum stands (RFC 1952 §2.3.1 for gzip)."""
    size = 0
    try:
        with _PACKED[form](path) as file:
            while block := file.read(_SOME):
                size += len(block)
                if size > _MOST_UNPACKED:
                    report.skipped(
                        "content", f"more than {_MOST_UNPACKED >> 30} GiB inside, too much to unpack as a check"
                    )
                    return
    except (OSError, EOFError, lzma.LZMAError, zlib.error, ValueError) as problem:
        report.failed("content", "archive", f"The {form} file cannot be unpacked: {problem}", grave=True)
        return
    report.passed("content", f"{_A[form]} file that unpacks to {size:,} bytes with its checksum")


def _check_tar(path: Path, report: Report) -> None:
    """Every header has its checksum, and the archive ends as one does; what is in the files is not covered."""
    count = 0
    try:
        with tarfile.open(path, "r:") as archive:
            for _ in archive:
                count += 1
            end = archive.offset
        with path.open("rb") as file:
            file.seek(end)
            ended = file.read(512)
    except (tarfile.TarError, OSError, EOFError, ValueError) as problem:
        report.failed("content", "archive", f"The tar file cannot be read: {problem}", grave=True)
        return
    if len(ended) < 512 or any(ended):
        report.failed(
            "content", "archive", "The tar file does not end as one should; it is likely cut short", grave=True
        )
    else:
        report.passed("content", f"a tar file of {count:,} entries, each with the checksum of its header")


def _check_json(path: Path, report: Report) -> None:
    try:
        json.loads(path.read_bytes())
    except (ValueError, RecursionError) as problem:
        report.failed("content", "document", f"The JSON cannot be read: {problem}")
    else:
        report.passed("content", "JSON that reads to its end")


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
    except Image.DecompressionBombError:
        report.skipped("content", "a picture that is too large to decode as a check")
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError) as problem:
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
    """A PDF ends as one, and the objects are where its table says, if it has one in the plain form (ISO 32000-1
    §7.5.4); other forms are not looked into further."""
    with path.open("rb") as file:
        size = file.seek(0, 2)
        file.seek(max(0, size - 2048))
        tail = file.read()
        start = _START.search(tail)
        if not start or not tail.rstrip().endswith(b"%%EOF"):
            text = "The PDF does not end as a PDF should; it is likely cut short"
            report.failed("content", "document", text, grave=True)
            return
        file.seek(min(int(start[1]), size))
        there = file.read(_LARGEST_TABLE)
        table = _TABLE.match(there)
        if not table:
            if _OBJECT.match(there):  # a table in the compressed form
                report.passed("content", "a PDF that ends as a PDF should")
            else:
                report.failed("content", "document", "The PDF's table is not where its end says")
            return
        places = [int(place) for place in _PLACE.findall(table[1])]
        for place in places:
            file.seek(min(place, size))
            if not _OBJECT.match(file.read(24)):
                text = f"The PDF has no object at byte {place:,}, where its table says"
                report.failed("content", "document", text)
                return
    report.passed("content", f"a PDF whose {len(places):,} objects are where its table says")
