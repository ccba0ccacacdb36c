"""PNG (ISO/IEC 15948, third edition): chunks with their checksums, pixels to their last byte, and the end.

The pixels are unpacked piece by piece, counted and forgotten: as many must come as the header promises (§11.2.1, §7.3,
Adam7 in §8), each line with a filter that exists. Nothing is held of them, whatever size is promised.
"""

import struct
import zlib
from pathlib import Path
from typing import BinaryIO

from mudlark.plain import open_plain
from mudlark.verify.account import Account
from mudlark.verify.forms.jpeg import LARGEST, behind

_SIGNATURE = b"\x89PNG\r\n\x1a\n"
_HEADER = struct.Struct(">IIBBBBB")  # §11.2.1
_CHANNELS = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}  # by colour type (§11.2.1, table 11.1)
_DEPTHS = {0: {1, 2, 4, 8, 16}, 2: {8, 16}, 3: {1, 2, 4, 8}, 4: {8, 16}, 6: {8, 16}}
_PASSES = ((0, 0, 8, 8), (4, 0, 8, 8), (0, 4, 4, 8), (2, 0, 4, 4), (0, 2, 2, 4), (1, 0, 2, 2), (0, 1, 1, 2))
_BLOCK = 1 << 18
_MOST = 16 << 30  # bytes of pixels that are unpacked as a check
_TIMES, _MUCH = 900, 1 << 30  # what unpacks to so many times its size and to so much is made to be a burden
_MOST_CHUNKS = 2_000_000


class _Odd(Exception):
    """What is not as it should be: in words, and at which byte. grave: the picture itself is concerned."""

    def __init__(self, words: str, offset: int, *, grave: bool = True) -> None:
        super().__init__(words)
        self.words, self.offset, self.grave = words, offset, grave


class _Pixels:
    """Unpacked bytes of all lines: counted, and the filter of each line looked at. lines: length and number of the
    lines of each pass, filters included."""

    def __init__(self, lines: list[tuple[int, int]]) -> None:
        self.expected = sum(length * number for length, number in lines)
        self.came = 0
        self.packed = 0
        self._unpacker = zlib.decompressobj()
        self._lines = lines
        self._pass, self._done = 0, 0  # where the next filter is: which pass, bytes before it

    def add(self, data: bytes, offset: int) -> None:
        """Unpack. Raises _Odd."""
        self.packed += len(data)
        while data:
            try:
                unpacked = self._unpacker.decompress(data, _BLOCK)
            except zlib.error as problem:
                raise _Odd(f"its pixels cannot be unpacked ({problem})", offset) from problem
            data = self._unpacker.unconsumed_tail
            self._look(unpacked, offset)
            if self._unpacker.eof and self._unpacker.unused_data:
                raise _Odd("something stands behind its pixels", offset, grave=False)
            if not unpacked:
                return

    def _look(self, unpacked: bytes, offset: int) -> None:
        begin, end = self.came, self.came + len(unpacked)
        self.came = end
        if end > self.expected:
            raise _Odd(f"it has more pixels than its size of {self.expected:,} bytes", offset)
        while self._pass < len(self._lines):
            length, number = self._lines[self._pass]
            stop = self._done + length * number
            first = self._done if self._done >= begin else self._done + -(-(begin - self._done) // length) * length
            filters = unpacked[first - begin : min(end, stop) - begin : length] if first < min(end, stop) else b""
            if filters and max(filters) > 4:
                raise _Odd("a line has a filter that there is not", offset)
            if end < stop:
                return
            self._done, self._pass = stop, self._pass + 1

    @property
    def whole(self) -> bool:
        """True if all came, and the checksum of the pixels (RFC 1950) was there and right."""
        return self.came == self.expected and self._unpacker.eof


def check_png(path: Path, account: Account) -> None:
    """Look into a PNG (an animation's further frames by their checksums alone)."""
    try:
        with open_plain(path) as file:
            words = _read(file)
    except _Odd as odd:
        account.failed(
            "content", "picture", f"The PNG is not as it should be: {odd.words}", grave=odd.grave, offset=odd.offset
        )
        return
    if words is None:
        account.skipped("content", "a PNG that unpacks to more than is unpacked as a check")
    else:
        account.passed("content", words)
        account.cover("content", path.stat().st_size)


def _read(file: BinaryIO) -> str | None:
    """What it is in words; None if it is too large to be unpacked. Raises _Odd."""
    if file.read(8) != _SIGNATURE:
        raise _Odd("it does not begin as a PNG", 0)
    at, pixels, header, after, palette = 8, None, b"", False, False
    for _ in range(_MOST_CHUNKS):
        head = file.read(8)
        if len(head) < 8:
            raise _Odd("it ends without its end (IEND); it is likely cut short", at)
        length, name = int.from_bytes(head[:4], "big"), head[4:]
        if length > 1 << 31 or not (name.isalpha() and name.isascii()):
            raise _Odd("where a chunk should be is none", at)
        check, left, body, first = zlib.crc32(name), length, b"", at == 8
        if first != (name == b"IHDR"):
            raise _Odd("its header is not its first chunk", at)
        if first and length != _HEADER.size:
            raise _Odd("its header is none", at)
        if name == b"IDAT" and after:
            raise _Odd("its pixels do not stand together", at)
        while left:
            block = file.read(min(left, _BLOCK))
            if not block:
                raise _Odd("it ends inside of a chunk; it is likely cut short", at)
            left -= len(block)
            check = zlib.crc32(block, check)
            if first:
                body += block
            elif name == b"IDAT" and pixels:
                pixels.add(block, at)
                if pixels.came > _MUCH and pixels.came > _TIMES * pixels.packed:
                    return None
        if file.read(4) != check.to_bytes(4, "big"):
            raise _Odd(f"the chunk {name.decode()} does not have its checksum", at)
        if first:
            header = body
            pixels = _Pixels(_lines(header))
            if pixels.expected > _MOST:
                return None
        after |= name != b"IDAT" and pixels is not None and pixels.packed > 0
        palette |= name == b"PLTE"
        at += 12 + length
        if name == b"IEND":
            break
        if not name[0] & 0x20 and name not in (b"IHDR", b"PLTE", b"IDAT"):
            raise _Odd(f"it needs a chunk that is not known ({name.decode()})", at)
    else:
        raise _Odd("it has more chunks than any picture", at)
    if pixels is None or not pixels.whole:
        raise _Odd("it has fewer pixels than its header says", at)
    if header[9] == 3 and not palette:
        raise _Odd("it has no palette, and needs one", at)
    if wrong := behind(file.read(LARGEST)):
        raise _Odd(wrong, at, grave=False)
    width, height = struct.unpack_from(">II", header)
    return f"a PNG picture of {width}×{height}, every chunk with its checksum, every pixel there, and its end"


def _lines(header: bytes) -> list[tuple[int, int]]:
    """Bytes of a line and number of lines, of each pass. Raises _Odd."""
    width, height, depth, colour, packing, filters, interlaced = _HEADER.unpack(header)
    if not (0 < width < 1 << 31 and 0 < height < 1 << 31) or depth not in _DEPTHS.get(colour, ()):
        raise _Odd("its header is of no picture", 8)
    if packing or filters or interlaced > 1:
        raise _Odd("it is packed in a way that there is not", 8)
    bits = depth * _CHANNELS[colour]
    passes = _PASSES if interlaced else ((0, 0, 1, 1),)
    sizes = ((-(-(width - x) // across), -(-(height - y) // down)) for x, y, across, down in passes)
    return [(1 + (columns * bits + 7) // 8, rows) for columns, rows in sizes if columns > 0 and rows > 0]
