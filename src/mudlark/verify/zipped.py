"""ZIP files that may come from anyone (APPNOTE 6.3): opened and read within bounds of entries, sizes and ratio.

Nothing is unpacked to the disk. What is encrypted, or packed by a method that is not read here, is said.
"""

import struct
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

import msgspec

from mudlark.errors import FormatError
from mudlark.plain import open_plain

MOST_ENTRIES = 100_000
_LARGEST_DIRECTORY = 64_000_000  # bytes
MOST_TIMES = 500  # what unpacks to so many times its size, and to much, is made to be a burden
MUCH = 1_000_000_000  # bytes
_METHODS = {zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2}
_BLOCK = 1 << 20
_END = b"PK\x05\x06"  # §4.3.16
_END_64 = b"PK\x06\x06"  # §4.3.14
_LOCATOR = b"PK\x06\x07"  # §4.3.15
_LOCAL_HEADER = 30  # bytes, without the name
_DESCRIBED_BEHIND, _DESCRIPTION = 8, 24  # a flag: sizes stand behind the member, in so many bytes (§4.3.9)
UNREADABLE = (zipfile.BadZipFile, zlib.error, EOFError, OSError, NotImplementedError, RuntimeError, ValueError)


class TooMuch(FormatError):
    """A ZIP file that is larger than is looked into, or made to be a burden."""


@contextmanager
def opened(path: Path) -> Iterator[zipfile.ZipFile]:
    """A ZIP file whose directory is within bounds, and whose entries do not lie over each other. Raises TooMuch where
    they do, FormatError where it is no ZIP file, NotPlain where it is no file."""
    with open_plain(path) as file:
        _insist_on_bounds(file)
        try:
            archive = zipfile.ZipFile(file)
        except UNREADABLE as problem:
            raise FormatError(f"The ZIP file cannot be read: {problem}") from problem
        with archive:
            _insist_on_order(archive.infolist())
            yield archive


def _insist_on_bounds(file: BinaryIO) -> None:
    """What the end of the directory states, before any of it is read."""
    size = file.seek(0, 2)
    begin = max(0, size - 65_557)
    file.seek(begin)
    tail = file.read()
    at = tail.rfind(_END)
    if at < 0 or len(tail) < at + 22:
        raise FormatError("The ZIP file cannot be read: it has no directory at its end, and is likely cut short")
    count, length = struct.unpack_from("<HI", tail, at + 10)
    if (at_locator := tail.rfind(_LOCATOR, 0, at)) >= 0 and at_locator + 16 <= len(tail):
        file.seek(min(size, struct.unpack_from("<Q", tail, at_locator + 8)[0]))
        end = file.read(56)
        if len(end) == 56 and end[:4] == _END_64:
            count, length = struct.unpack_from("<QQ", end, 32)
    file.seek(0)
    if count > MOST_ENTRIES or length > _LARGEST_DIRECTORY:
        raise TooMuch(f"The ZIP file has more entries ({count:,}) than are looked into")


def _insist_on_order(entries: list[zipfile.ZipInfo]) -> None:
    if not all(entry.filename for entry in entries):
        raise FormatError("The ZIP file cannot be read: one of its entries has no name")
    if len(entries) > MOST_ENTRIES:
        raise TooMuch(f"The ZIP file has more entries ({len(entries):,}) than are looked into")
    end = 0
    for entry in sorted(entries, key=lambda one: one.header_offset):
        if entry.header_offset < end:
            raise TooMuch("Entries of the ZIP file lie over each other, as where one is made to be very many")
        end = entry.header_offset + _LOCAL_HEADER + entry.compress_size
    packed = sum(entry.compress_size for entry in entries)
    if is_bomb(packed, sum(entry.file_size for entry in entries)):
        raise TooMuch(f"The ZIP file says that it unpacks to more than {MOST_TIMES} times its size")


class ZipParts(msgspec.Struct, frozen=True):
    """What the bytes of a ZIP file are. content: of members, packed; structure: headers, the directory, and zeros
    between them. stray: where other bytes stand between them (begin and end)."""

    content: int
    structure: int
    stray: list[tuple[int, int]]


def parts_of(archive: zipfile.ZipFile, size: int) -> ZipParts:
    """The parts of an opened ZIP file of `size` bytes."""
    file, end, headers, packed, described = archive.fp, 0, 0, 0, False
    assert file is not None
    stray = []
    places = [(entry.header_offset, entry) for entry in archive.infolist()]
    for begin, entry in [*sorted(places, key=lambda place: place[0]), (archive.start_dir, None)]:
        file.seek(end)
        if begin > end and not (described and begin - end <= _DESCRIPTION) and any(file.read(begin - end)):
            stray.append((end, begin))
        else:
            headers += max(0, begin - end)
        if entry is not None:
            file.seek(begin + _LOCAL_HEADER - 4)
            sizes = file.read(4)
            if len(sizes) < 4:
                raise FormatError(f"{entry.filename!r} is said to begin behind the end of the file", begin)
            length = _LOCAL_HEADER + sum(struct.unpack("<HH", sizes))
            end, described = begin + length + entry.compress_size, bool(entry.flag_bits & _DESCRIBED_BEHIND)
            headers, packed = headers + length, packed + entry.compress_size
    return ZipParts(packed, headers + size - archive.start_dir, stray)


def is_bomb(packed: int, unpacked: int) -> bool:
    """True for so many bytes made of so few that nobody packs like that but to be a burden."""
    return unpacked > MUCH and unpacked > MOST_TIMES * packed


def cannot_unpack(entry: zipfile.ZipInfo) -> str | None:
    """Why an entry cannot be unpacked here, in words; None if it can."""
    if entry.flag_bits & 1:
        return "is locked with a password"
    if entry.compress_type not in _METHODS:
        return f"is packed by a method that is not read here ({entry.compress_type})"
    return None


def blocks(archive: zipfile.ZipFile, entry: zipfile.ZipInfo) -> Iterator[bytes]:
    """The bytes of an entry, piece by piece. Raises FormatError where they cannot be had, or have another checksum."""
    if words := cannot_unpack(entry):
        raise FormatError(f"'{entry.filename}' {words}")
    try:
        with archive.open(entry) as file:
            while block := file.read(_BLOCK):
                yield block
    except UNREADABLE as problem:
        raise FormatError(f"'{entry.filename}' cannot be unpacked: {problem}") from problem
