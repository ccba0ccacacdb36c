"""Is a file that is no film whole? What can be told of archives, pictures and documents.

What cannot be looked into is skipped, and the check says so: then only a digest can prove it.
"""

import bz2
import gzip
import json
import logging
import lzma
import struct
import tarfile
import zlib
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

from mudlark.errors import FormatError
from mudlark.verify import zipped
from mudlark.verify.verdict import Report

PICTURES = frozenset({"png", "jpeg", "gif", "webp", "avif", "tiff"})
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
_UNREADABLE = (  # what the library raises, its own errors among them
    *(ValueError, KeyError, TypeError, AttributeError, IndexError, AssertionError, NotImplementedError),
    *(RecursionError, OSError, struct.error, zlib.error),
)
_MOST_FRAMES = 2_000
_MOST_PAGES = 20_000
_MOST_PIXELS = 400_000_000


def check_content(path: Path, form: str, report: Report) -> list[tuple[str, int]]:
    """Check a file by what its first bytes say it is; gives the names and sizes inside an archive."""
    if form == "zip":
        return _check_zip(path, report)
    if is_misnamed(path, form):
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
    elif form == "svg":
        _check_svg(path, report)
    elif form == "json" and path.stat().st_size <= _LARGEST_JSON:
        _check_json(path, report)
    else:
        report.skipped(
            "content", f"{path.name}: Mudlark does not look into this format; only a digest can prove it whole"
        )
    return []


def is_misnamed(path: Path, form: str) -> bool:
    """True if a text stands where the name promises something else: the page of an error, likely."""
    promised = _NAMED.get(path.suffix.lower().lstrip("."))
    return promised is not None and form not in promised and form in _TEXTUAL


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


def _check_svg(path: Path, report: Report) -> None:
    from lxml import etree  # slow to load

    if path.stat().st_size > _LARGEST_JSON:
        report.skipped("content", "an SVG that is too large to read as a check")
        return
    try:
        parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False)
        root = etree.parse(str(path), parser).getroot()
    except etree.LxmlError as problem:
        report.failed("content", "picture", f"The SVG cannot be read: {problem}", grave=True)
    else:
        report.passed("content", f"an SVG of {sum(1 for _ in root.iter()):,} elements that reads to its end")


def _check_json(path: Path, report: Report) -> None:
    try:
        json.loads(path.read_bytes())
    except (ValueError, RecursionError) as problem:
        report.failed("content", "document", f"The JSON cannot be read: {problem}")
    else:
        report.passed("content", "JSON that reads to its end")


def _check_zip(path: Path, report: Report) -> list[tuple[str, int]]:
    entries: list[tuple[str, int]] = []
    try:
        with zipped.opened(path) as archive:
            inside = [entry for entry in archive.infolist() if not entry.is_dir()]
            entries = [(entry.filename, entry.file_size) for entry in inside]
            locked = [words for entry in inside if (words := zipped.cannot_unpack(entry))]
            for entry in inside:
                if not zipped.cannot_unpack(entry):
                    for _ in zipped.blocks(archive, entry):
                        pass
    except zipped.TooMuch as problem:
        report.skipped("content", f"{problem.what}; only a digest can prove it whole")
        return []
    except FormatError as problem:
        report.failed("content", "archive", f"{problem.what}", grave=True)
        return entries
    count = "1 file" if len(entries) == 1 else f"{len(entries):,} files"
    if locked:
        report.skipped("content", f"a ZIP file, {count} inside; {len(locked):,} cannot be tried: one {locked[0]}")
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
            count = min(getattr(picture, "n_frames", 1), _MOST_FRAMES)
            for number in range(count):
                picture.seek(number)
                picture.load()
            more = f" and its {count} frames" if count > 1 else ""
            report.passed("content", f"a {picture.format} picture of {width}×{height} that decodes to its end{more}")
    except Image.DecompressionBombError:
        report.skipped("content", "a picture that is too large to decode as a check")
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, EOFError) as problem:
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
    """A PDF: its end, its cross references, and every page that these lead to, with the `pypdf` package."""
    from pypdf import PdfReader
    from pypdf.errors import PyPdfError

    with path.open("rb") as file:
        size = file.seek(0, 2)
        file.seek(max(0, size - 2048))
        tail = file.read()
    if b"%%EOF" not in tail:
        text = "The PDF does not end as a PDF should; it is likely cut short"
        report.failed("content", "document", text, grave=True, offset=size)
        return
    logging.getLogger("pypdf").setLevel(logging.CRITICAL)
    number = 0
    try:
        reader = PdfReader(path, strict=True)
        if reader.is_encrypted and not reader.decrypt(""):
            report.skipped("content", "a PDF with a password; its pages cannot be looked at")
            return
        count = len(reader.pages)
        for page in reader.pages[:_MOST_PAGES]:
            number += 1
            if "/MediaBox" not in page:
                raise ValueError("it has no size")
            _resolved(page)
    except (PyPdfError, *_UNREADABLE) as problem:
        where = f"Page {number} of the PDF" if number else "The PDF"
        report.failed("content", "document", f"{where} cannot be read: {problem or type(problem).__name__}")
        return
    report.passed("content", f"a PDF of {count:,} pages, all where its cross references say", pages=count)


def _resolved(page: Any) -> None:
    """Everything that a page draws with is there."""
    contents = page.get("/Contents")
    for one in contents if isinstance(contents, list) else [contents]:
        if one is not None and one.get_object() is None:
            raise ValueError("what it draws is missing")
    resources = page.get("/Resources")
    pictures = resources.get_object().get("/XObject") if resources is not None else None
    for name, one in (pictures.get_object() if pictures is not None else {}).items():
        if one.get_object() is None:
            raise ValueError(f"its picture {name} is missing")
