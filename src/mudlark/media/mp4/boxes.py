"""Boxes of the ISO base media file format: building them and walking through them.

Follows ISO/IEC 14496-12 §4.2. `Box` positions are absolute byte offsets in the file.
"""

from collections.abc import Iterator

import msgspec

from mudlark.errors import FormatError


class Mp4Error(FormatError):
    """Not an MP4 file, or one whose boxes contradict each other."""


_TERMINATOR = b"\0\0\0\x08\0\0\0\0"  # ends the lists of QuickTime, as in its `wave`


def box(kind: str, *parts: bytes) -> bytes:
    """A box of four-letter `kind` around the parts."""
    size = 8 + sum(map(len, parts))
    return size.to_bytes(4, "big") + kind.encode("latin-1") + b"".join(parts)


def full_box(kind: str, version: int, flags: int, *parts: bytes) -> bytes:
    """A box that begins with a version and flags (§4.2)."""
    return box(kind, bytes([version]) + flags.to_bytes(3, "big"), *parts)


class Box(msgspec.Struct, frozen=True):
    """kind; start of the header, start of the content and end, in bytes from the start of the file."""

    kind: str
    start: int
    content: int
    end: int


def header(head: bytes | memoryview, at: int, limit: int) -> Box:
    """The box whose header is `head` (up to 16 bytes of it), at offset `at`, inside a space that ends at `limit`."""
    head = bytes(head)
    if len(head) < 8:
        raise Mp4Error("The file ends inside a box header", at)
    size, content = int.from_bytes(head[:4], "big"), at + 8
    if size == 1:
        if len(head) < 16:
            raise Mp4Error("The file ends inside a box header", at)
        size, content = int.from_bytes(head[8:16], "big"), at + 16
    elif size == 0:
        size = limit - at
    kind = head[4:8].decode("latin-1")
    if size < content - at or not all(32 <= byte < 127 or byte == 0xA9 for byte in head[4:8]):
        raise Mp4Error("Here no box begins", at)
    return Box(kind, at, content, at + size)


def children(data: bytes | memoryview, base: int, start: int, end: int) -> Iterator[Box]:
    """The boxes between absolute offsets `start` and `end`; `data` begins at offset `base`."""
    at = start
    while at < end:
        if end - at < 8:
            if any(data[at - base : end - base]):
                raise Mp4Error("Stray bytes between boxes", at)
            return
        head = data[at - base : min(at - base + 16, end - base)]
        if head[:8] == _TERMINATOR:
            return
        if head[:4] == b"\0\0\0\0":
            raise Mp4Error("A box inside another states no size, which only the last box of a file may do (§4.2)", at)
        head_of_box = header(head, at, end)
        if head_of_box.end > end:
            raise Mp4Error(
                f"Box '{head_of_box.kind}' reaches {head_of_box.end - end:,} bytes past the box around it", at
            )
        yield head_of_box
        at = head_of_box.end
