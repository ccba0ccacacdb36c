"""PDF (ISO 32000-1): its end and its cross references lead to every object, streams unpack to their ends, and every
page has what it draws with.

Objects are read with the `pypdf` package, which mends what it can without a word; so the cross references, and where
they lead, are looked at here. Streams that are packed (Flate, §7.4.4) carry a check sum; pictures in JPEG have an end.
"""

import logging
import re
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import cache, partial
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import numpy as np

from mudlark.errors import FormatError
from mudlark.guard import reading
from mudlark.plain import open_plain
from mudlark.verify.account import Account
from mudlark.verify.forms.jpeg import jpeg_decoding, jpeg_parts, zeros_in

if TYPE_CHECKING:
    from mmap import mmap

    from pypdf import PdfReader

_Read = TypeVar("_Read")
_MOST_PAGES = 20_000
_MOST_OBJECTS = 2_000_000
_MOST_TABLES = 1_000  # cross-reference sections, one for each time that a document was changed
_TAIL = 2048  # bytes in which its end stands
_MOST_UNPACKED = 1 << 30  # bytes of one stream
_SOME = 1 << 20
_FLUSHED = b"\0\0\xff\xff"  # an empty block (RFC 1951 §3.2.4), behind which a writer may go on
_PACKED = frozenset({"/CCITTFaxDecode", "/JPXDecode", "/JBIG2Decode", "/LZWDecode"})  # none writes long runs of zeros
_ZEROS = 1024
_TWICE = "Multiple definitions in dictionary"  # as pypdf calls a key that is there twice
_AGAIN = "Detected loop"  # and what it says to who asks again for an object with such a key
_START = re.compile(rb"startxref\s{1,4}(\d{1,12})\s{1,4}%%EOF")
_OBJECT = re.compile(rb"\s{0,4}(\d{1,10})\s{1,4}(\d{1,5})\s{1,4}obj\b")
_SECTION = re.compile(rb"\s{0,4}(\d{1,10}) (\d{1,10})\s{1,4}")
_ENTRY = re.compile(rb"(\d{10}) (\d{5}) ([nf])(?: ?\r\n?| ?\n)")
_TRAILER = re.compile(rb"\s{0,4}trailer\b")
_BEFORE = re.compile(rb"/(?:Prev|XRefStm)\s{1,4}(\d{1,12})")


def check_pdf(path: Path, account: Account) -> None:
    """Look into a PDF."""
    from mmap import ACCESS_READ, mmap

    with open_plain(path) as file:
        size = file.seek(0, 2)
        if not size:
            raise FormatError("It is empty")
        with mmap(file.fileno(), 0, access=ACCESS_READ) as data:
            begins = list(_START.finditer(data, max(0, size - _TAIL)))
            if not begins:
                text = "The PDF does not end as a PDF should; it is likely cut short"
                account.failed("content", "document", text, grave=True, offset=size)
                return
            logging.getLogger("pypdf").setLevel(logging.CRITICAL)
            behind = bytes(data[begins[-1].end() :])
            if behind.strip(b"\r\n\0 \x1a"):
                account.leave_out(f"{len(behind):,} bytes behind its end")
                size -= len(behind)
            if _holds(path, data, int(begins[-1][1]), account):
                account.cover("content", size)


def _holds(path: Path, data: "mmap", start: int, account: Account) -> bool:
    """True if all of it was looked at and is good."""
    from pypdf import PdfReader

    try:
        with reading("The PDF"):
            _follow_tables(data, start)
            reader = PdfReader(path, strict=True)
            if reader.is_encrypted and not reader.decrypt(""):
                account.skipped("content", "a PDF with a password; its pages cannot be looked at")
                return False
            lenient = cache(partial(_lenient, path))
            for number, _, place in _places(reader):
                with reading(f"Object {number:,} of the PDF"):
                    _insist_on_object(data, number, place)
            for number, generation, place in _places(reader):
                with reading(f"Object {number:,} of the PDF, at byte {place:,},"):
                    _insist_on_stream(_read(partial(_object, number=number, generation=generation), reader, lenient))
            count = _read(_insist_on_pages, reader, lenient)
    except FormatError as problem:
        account.failed("content", "document", problem.what)
        return False
    account.passed("content", f"a PDF of {count:,} pages, all where its cross references say", pages=count)
    return True


def _lenient(path: Path) -> "PdfReader":
    """A reader that mends what it can."""
    from pypdf import PdfReader

    reader = PdfReader(path)
    if reader.is_encrypted:
        reader.decrypt("")
    return reader


def _read(what: "Callable[[PdfReader], _Read]", strict: "PdfReader", lenient: "Callable[[], PdfReader]") -> "_Read":
    """What is read of a PDF in which a key may be there twice: so its writer, and no damage, left it, and the last one
    counts. Whatever else would have to be mended is an error."""
    try:
        return what(strict)
    except Exception as problem:
        said = f"{problem} {problem.__cause__} {problem.__cause__ and problem.__cause__.__cause__}"
        if _TWICE not in said and _AGAIN not in said:
            raise
    with _told() as warnings:
        found = what(lenient())
    if others := [words for words in warnings if _TWICE not in words]:
        raise ValueError(others[0])
    return found


@contextmanager
def _told() -> Iterator[list[str]]:
    """What the reader of PDF says that it mends, meanwhile."""
    said: list[str] = []
    logger, listener = logging.getLogger("pypdf"), logging.Handler()
    listener.emit = lambda record: said.append(record.getMessage())  # type: ignore[method-assign]
    level, logger.propagate = logger.level, False
    logger.setLevel(logging.WARNING)
    logger.addHandler(listener)
    try:
        yield said
    finally:
        logger.removeHandler(listener)
        logger.setLevel(level)
        logger.propagate = True


def _follow_tables(data: "mmap", start: int) -> None:
    """Every cross-reference section (§7.5.4, §7.5.8), from the last one back, is where it should be, and as long."""
    places, seen = [start], set[int]()
    while places:
        place = places.pop()
        if place in seen:
            continue
        seen.add(place)
        if len(seen) > _MOST_TABLES:
            raise ValueError("it has too many cross-reference sections")
        if data[place : place + 4] != b"xref":
            if not _OBJECT.match(data, place):
                raise ValueError(f"no cross references stand at byte {place:,}, where they should")
            continue  # a stream, which says itself what is before it
        at = place + 4
        while section := _SECTION.match(data, at):
            at = section.end()
            for _ in range(int(section[2])):
                entry = _ENTRY.match(data, at)
                if entry is None:
                    raise ValueError(f"the cross references at byte {place:,} are not as many as they state")
                at = entry.end()
        if not _TRAILER.match(data, at):
            raise ValueError(f"the cross references at byte {place:,} do not end as they should")
        places += [int(found[1]) for found in _BEFORE.finditer(data, at, data.find(b"startxref", at))]


def _places(reader: "PdfReader") -> Iterator[tuple[int, int, int]]:
    """Number and generation of each object that is in use and stands by itself, and its byte."""
    found = 0
    for generation, places in reader.xref.items():
        free = reader.xref_free_entry.get(generation, {})
        for number, place in places.items():
            if place and not free.get(number) and generation != 65_535:
                found += 1
                if found > _MOST_OBJECTS:
                    raise ValueError("it has more objects than are looked at")
                yield number, generation, place


def _insist_on_object(data: "mmap", number: int, place: int) -> None:
    there = _OBJECT.match(data, place)
    if there is None or int(there[1]) != number:
        raise ValueError(f"it does not stand at byte {place:,}, where the cross references say")


def _object(reader: "PdfReader", number: int, generation: int) -> Any:
    from pypdf.generic import IndirectObject

    return reader.get_object(IndirectObject(number, generation, reader))


def _insist_on_stream(found: Any) -> None:
    """What a stream holds unpacks to its end, or ends as its form does."""
    from pypdf.generic import StreamObject

    if not isinstance(found, StreamObject):
        return
    raw = found._data if isinstance(found._data, bytes) else b""
    filters = found.get("/Filter")
    filters = filters.get_object() if filters is not None else []
    first = str(filters if isinstance(filters, str) else next(iter(filters), ""))
    if first == "/FlateDecode":
        _unpack(raw)
    elif first == "/DCTDecode":
        if not raw.startswith(b"\xff\xd8"):
            raise ValueError("it is said to hold a JPEG, and does not")
        whole = raw.rstrip(b"\r\n")
        if wrong := jpeg_parts(np.frombuffer(whole, np.uint8)) or jpeg_decoding(whole):
            raise ValueError(wrong)
    elif first in _PACKED and (hole := zeros_in(np.frombuffer(raw, np.uint8), _ZEROS)) is not None:
        raise ValueError(f"zeros stand in place of its packed data, {hole:,} bytes in")


def _unpack(raw: bytes) -> None:
    """Packed data have their check sum (RFC 1950 §2.2); what ends without one is cut off, unless it ends where a writer
    flushed what it had, as forms are filled in."""
    unpacker, total, rest = zlib.decompressobj(), 0, raw
    while rest and not unpacker.eof:
        total += len(unpacker.decompress(rest, _SOME))
        if total > _MOST_UNPACKED:
            return  # made to be a burden, or a picture that is
        rest = unpacker.unconsumed_tail
    if raw and not unpacker.eof and not raw.rstrip(b"\r\n").endswith(_FLUSHED):
        raise ValueError("its packed data are cut off")


def _insist_on_pages(reader: "PdfReader") -> int:
    """Gives how many there are."""
    for number, page in enumerate(islice(reader.pages, _MOST_PAGES), start=1):
        with reading(f"Page {number} of the PDF"):
            _insist_on_page(page)
    return len(reader.pages)


def _insist_on_page(page: Any) -> None:
    """A page has a size, and everything that it draws with is there."""
    if "/MediaBox" not in page:
        raise ValueError("it has no size")
    contents = page.get("/Contents")
    for one in contents if isinstance(contents, list) else [contents]:
        if one is not None and one.get_object() is None:
            raise ValueError("what it draws is missing")
    resources = page.get("/Resources")
    pictures = resources.get_object().get("/XObject") if resources is not None else None
    for name, one in (pictures.get_object() if pictures is not None else {}).items():
        if one.get_object() is None:
            raise ValueError(f"its picture {name} is missing")
