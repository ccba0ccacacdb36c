"""Is a file that is no film whole? What can be told of archives, pictures and documents.

What cannot be looked into is skipped, and the check says so: then only a digest can prove it.
"""

import bz2
import codecs
import gzip
import logging
import lzma
import tarfile
from collections.abc import Iterator
from itertools import islice
from pathlib import Path
from typing import Any, BinaryIO

from mudlark.errors import FormatError
from mudlark.guard import reading
from mudlark.media.forms import PICTURES, PROMISED
from mudlark.plain import open_plain
from mudlark.verify import zipped
from mudlark.verify.forms.pictures import check_picture, check_svg
from mudlark.verify.verdict import Report
from mudlark.verify.zipped import is_bomb

_TEXTUAL = frozenset({"text", "html", "xml", "json", "unknown"})  # what comes in place of something that is gone
_A = {"gzip": "a gzip", "bzip2": "a bzip2", "xz": "an xz"}
_MOST_MEMORY = 100_000_000  # bytes that unpacking may take
_MOST_UNPACKED = 64 << 30  # bytes that are unpacked as a check
_SOME = 1 << 20
_LARGEST_JSON = 50_000_000
_MOST_PAGES = 20_000


def check_content(path: Path, form: str, report: Report) -> list[tuple[str, int]]:
    """Check a file by what its first bytes say it is; gives the names and sizes inside an archive."""
    if form == "zip":
        return _check_zip(path, report)
    if is_misnamed(path, form):
        text = f"{path.name} is named {path.suffix} but holds {'something else' if form == 'unknown' else form.upper()}"
        report.failed("content", "misnamed", text)
    elif form in PICTURES:
        check_picture(path, report)
    elif form == "pdf":
        _check_document(path, report)
    elif form in _A:
        _check_packed(path, form, report)
    elif form == "tar":
        _check_tar(path, report)
    elif form == "svg":
        check_svg(path, report)
    elif form == "json" and path.stat().st_size <= _LARGEST_JSON:
        _check_json(path, report)
    else:
        report.skipped(
            "content", f"{path.name}: Mudlark does not look into this format; only a digest can prove it whole"
        )
    return []


def is_misnamed(path: Path, form: str) -> bool:
    """True if a text stands where the name promises something else: the page of an error, likely."""
    promised = PROMISED.get(path.suffix.lower().lstrip("."))
    return promised is not None and form not in promised and form in _TEXTUAL


def _check_packed(path: Path, form: str, report: Report) -> None:
    """Unpacked to its end, where its own checksum stands (RFC 1952 §2.3.1 for gzip)."""
    packed, size = path.stat().st_size, 0
    try:
        with reading(f"The {form} file"), open_plain(path) as file:
            for block in _unpacked(file, form):
                size += len(block)
                if size > _MOST_UNPACKED or is_bomb(packed, size):
                    report.skipped("content", f"{_A[form]} file that unpacks to more than is unpacked as a check")
                    return
    except FormatError as problem:
        if "Memory usage limit" in problem.what:
            report.skipped("content", f"{_A[form]} file that takes more memory to unpack than a check may")
        else:
            report.failed("content", "archive", problem.what, grave=True)
        return
    report.passed("content", f"{_A[form]} file that unpacks to {size:,} bytes with its checksum")


def _unpacked(file: BinaryIO, form: str) -> Iterator[bytes]:
    """What is in a packed file, piece by piece. XZ: with a bound on its memory, which its file object does not have."""
    if form != "xz":
        with gzip.GzipFile(fileobj=file) if form == "gzip" else bz2.BZ2File(file) as inside:
            while block := inside.read(_SOME):
                yield block
        return
    unpacker, data = lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=_MOST_MEMORY), b""
    while True:
        if unpacker.eof:  # streams may follow each other, with zeros in between (§2.2)
            data = unpacker.unused_data.lstrip(b"\0")
            while not data and (more := file.read(_SOME)):
                data = more.lstrip(b"\0")
            if not data:
                return
            unpacker = lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=_MOST_MEMORY)
        elif unpacker.needs_input and not (data := file.read(_SOME)):
            raise EOFError("it ends before its end")
        yield unpacker.decompress(data, _SOME)
        data = b""


def _check_tar(path: Path, report: Report) -> None:
    """Every header has its checksum, and the archive ends as one does; what is in the files is not covered."""
    count = 0
    try:
        with reading("The tar file"), open_plain(path) as file, tarfile.open(fileobj=file, mode="r:") as archive:
            while archive.next() is not None:
                vars(archive)["members"].clear()  # which are kept otherwise, however many there are
                count += 1
            file.seek(archive.offset)
            ended = file.read(512)
    except FormatError as problem:
        report.failed("content", "archive", problem.what, grave=True)
        return
    if len(ended) < 512 or any(ended):
        report.failed(
            "content", "archive", "The tar file does not end as one should; it is likely cut short", grave=True
        )
    else:
        report.passed("content", f"a tar file of {count:,} entries, each with the checksum of its header")


def _check_json(path: Path, report: Report) -> None:
    """JSON to its end (RFC 8259), in UTF-8; nothing is built of it."""
    import msgspec

    try:
        with reading("The JSON"), open_plain(path) as file:
            data = file.read(_LARGEST_JSON + 1)
            str(data, "utf-8-sig")
            msgspec.json.decode(data.removeprefix(codecs.BOM_UTF8), type=msgspec.Raw)
    except FormatError as problem:
        report.failed("content", "document", problem.what)
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


def _check_document(path: Path, report: Report) -> None:
    """A PDF: its end, its cross references, and every page that these lead to, with the `pypdf` package."""
    from pypdf import PdfReader

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
        with reading("It"):
            reader = PdfReader(path, strict=True)
            if reader.is_encrypted and not reader.decrypt(""):
                report.skipped("content", "a PDF with a password; its pages cannot be looked at")
                return
            count = len(reader.pages)
            for page in islice(reader.pages, _MOST_PAGES):
                number += 1
                if "/MediaBox" not in page:
                    raise ValueError("it has no size")
                _resolved(page)
    except FormatError as problem:
        where = f"Page {number} of the PDF" if number else "The PDF"
        report.failed("content", "document", f"{where}{problem.what.removeprefix('It')}")
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
