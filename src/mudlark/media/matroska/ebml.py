"""EBML: the elements that Matroska is made of, written and walked through.

Follows RFC 8794 §4 (variable-size integers) and §6 (elements).
"""

import struct
from collections.abc import Iterator

import msgspec

from mudlark.errors import FormatError


class MatroskaError(FormatError):
    """Not a Matroska file, or one whose elements contradict each other."""


class Element(msgspec.Struct, frozen=True):
    """identifier: with its marker bits. start of the header, start of the content and end, in bytes of the file; one of
    unknown size ends with what is around it.
    """

    identifier: int
    start: int
    content: int
    end: int
    unknown: bool = False


def number_in(data: bytes) -> int:
    """An unsigned number; 0 where there is nothing."""
    return int.from_bytes(data[:8], "big")


def real_number(data: bytes) -> float:
    """A number of four or eight bytes; 0 where it is none, or beyond all reason."""
    if len(data) not in (4, 8):
        return 0.0
    value: float = struct.unpack(">f" if len(data) == 4 else ">d", data)[0]
    return value if 0 <= value < 1e15 else 0.0


def vint(value: int, width: int = 0) -> bytes:
    """A size as EBML writes it, in as few bytes as can be, or in `width` bytes."""
    width = width or next(size for size in range(1, 9) if value < (1 << 7 * size) - 1)
    return (value | 1 << 7 * width).to_bytes(width, "big")


def element(identifier: int, *parts: bytes) -> bytes:
    """An element around the parts."""
    name = identifier.to_bytes((identifier.bit_length() + 7) // 8, "big")
    return name + vint(sum(map(len, parts))) + b"".join(parts)


def unsigned(identifier: int, value: int) -> bytes:
    """An element with an unsigned number."""
    return element(identifier, value.to_bytes(max(1, (value.bit_length() + 7) // 8), "big"))


def real(identifier: int, value: float) -> bytes:
    """An element with a number of eight bytes."""
    return element(identifier, struct.pack(">d", value))


def text(identifier: int, value: str) -> bytes:
    """An element with text."""
    return element(identifier, value.encode("utf-8"))


def header(data: bytes | memoryview, at: int, limit: int, base: int = 0) -> Element:
    """The element whose header begins at `at` of the data, inside a space that ends at `limit`. base: the byte of the
    file at which the data begins; positions given back are of the file."""
    first = data[at] if at < len(data) else 0
    width = 9 - first.bit_length()
    if not first or width > 4 or at + width >= len(data):
        raise MatroskaError("Here no element begins", base + at)
    identifier = int.from_bytes(data[at : at + width], "big")
    place = at + width
    lead = data[place]
    size_width = 9 - lead.bit_length()
    if not lead or place + size_width > len(data):
        raise MatroskaError("An element states no size", base + at)
    size = int.from_bytes(data[place : place + size_width], "big") & (1 << 7 * size_width) - 1
    content = base + place + size_width
    if size == (1 << 7 * size_width) - 1:
        return Element(identifier, base + at, content, max(limit, content), unknown=True)
    return Element(identifier, base + at, content, content + size)


def children(data: bytes | memoryview, base: int, start: int, end: int) -> Iterator[Element]:
    """The elements between two bytes of the file; `data` begins at byte `base`."""
    at = start
    while at < end:
        head = header(data, at - base, end, base)
        if head.end > end:
            raise MatroskaError(f"An element reaches {head.end - end:,} bytes past the one around it", at)
        yield head
        at = head.end
