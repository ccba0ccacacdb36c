"""JPEG (ITU-T T.81) and GIF (89a): their parts from the first byte to the last, and their end.

What is decoded from a picture whose data break off, or have a hole of zeros, is grey and no error to a decoder; the
parts say it. Runs of zeros are damage wherever the codes of the picture cannot mean them.
"""

from pathlib import Path

import numpy as np

from mudlark.errors import FormatError
from mudlark.media.samples import Bytes
from mudlark.plain import read_plain

LARGEST = 400_000_000  # bytes of a picture whose parts are looked at
_ZEROS = 64  # bytes of zeros in coded data
_SOI, _EOI, _SOS, _DHT = 0xD8, 0xD9, 0xDA, 0xC4
_PADDING = b"\0\r\n"
# what notes of programs that sort pictures, and of cameras, end with
_NOTES, _LONGEST_NOTE = (b"AXS!", b"AXS*", b"\xa1\xb2\xc3\xd4", b"cbipcbbl", b"SEFT"), 16
_ALONE = frozenset({0x01, *range(0xD0, 0xD8)})  # markers without a length (§B.1.1.3)
_FRAMES = frozenset(range(0xC0, 0xD0)) - {0xC4, 0xC8, 0xCC}


def check_jpeg_parts(path: Path) -> str | None:
    """What is wrong with the parts of a JPEG, in words; None if nothing is. Raises FormatError where they end too early
    or cannot be read."""
    return jpeg_parts(np.frombuffer(read_plain(path, LARGEST), np.uint8))


def jpeg_parts(data: Bytes) -> str | None:
    """The same of a JPEG in memory."""
    at, first_codes, progressive = 2, dict[tuple[int, int], int](), False
    marks = np.flatnonzero(data[:-1] == 0xFF)
    ends = marks[(data[marks + 1] != 0) & ((data[marks + 1] & 0xF8) != 0xD0) & (data[marks + 1] != 0xFF)]
    while True:
        while at + 1 < len(data) and data[at] == 0xFF == data[at + 1]:
            at += 1  # fill bytes (§B.1.1.2)
        if at + 2 > len(data):
            raise FormatError("it ends without its end (EOI); it is likely cut short", at)
        if data[at] != 0xFF:
            raise FormatError("where a marker should be is none", at)
        kind = int(data[at + 1])
        if kind == _EOI:
            return _behind(data, at + 2)
        if kind in _ALONE:
            at += 2
            continue
        length = int(data[at + 2]) << 8 | int(data[at + 3]) if at + 4 <= len(data) else 0
        body = data[at + 4 : at + 2 + length].tobytes()
        if length < 2 or len(body) < length - 2:
            raise FormatError("it ends inside of one of its parts; it is likely cut short", at)
        if kind == _DHT:
            first_codes |= _first_codes(body)
        elif kind in _FRAMES:
            progressive = kind in (0xC2, 0xC6, 0xCA, 0xCE)
        at += 2 + length
        if kind == _SOS:
            place = int(np.searchsorted(ends, at))
            end = int(ends[place]) if place < len(ends) else len(data)
            if not _may_be_zeros(body, first_codes, progressive=progressive):
                hole = zeros_in(data[at:end])
                if hole is not None:
                    return f"zeros stand in place of its coded data from byte {at + hole:,} on"
            if end == len(data):
                raise FormatError("its coded data have no end (EOI); it is likely cut short", end)
            at = end


def check_jpeg_decoding(path: Path) -> str | None:
    """What libjpeg warns of and goes on without, in words; None if nothing. Everything is decoded, at an eighth of the
    size, and forgotten."""
    return jpeg_decoding(read_plain(path, LARGEST))


def jpeg_decoding(data: bytes) -> str | None:
    """The same of a JPEG in memory."""
    import simplejpeg  # few need it

    *_, colours, _ = simplejpeg.decode_jpeg_header(data, strict=False)
    into = "CMYK" if colours in ("CMYK", "YCCK") else "GRAY"
    try:
        simplejpeg.decode_jpeg(data, into, fastdct=True, min_height=1, min_width=1, min_factor=1, strict=True)
    except ValueError as problem:
        return str(problem).rstrip(".")
    return None


def _first_codes(body: bytes) -> dict[tuple[int, int], int]:
    """The symbol whose code is all zeros, by class (0 for DC, 1 for AC) and number of its table (§B.2.4.2)."""
    found, at = {}, 0
    while at + 17 <= len(body):
        count = sum(body[at + 1 : at + 17])
        if count and at + 17 < len(body):
            found[body[at] >> 4, body[at] & 15] = body[at + 17]
        at += 17 + count
    return found


def _may_be_zeros(scan: bytes, codes: dict[tuple[int, int], int], *, progressive: bool) -> bool:
    """True if a long run of zeros can be what a scan means: the same colour on and on, or nothing to refine."""
    count = scan[0] if scan else 0
    if len(scan) < 4 + 2 * count:
        return True
    tables = [scan[2 + 2 * number] for number in range(count)]
    begin, _, refined = scan[1 + 2 * count : 4 + 2 * count]
    if progressive and refined >> 4:
        return True
    flat = all(codes.get((0, table >> 4), 0) == 0 for table in tables)
    alike = [codes.get((1, table & 15), 0) for table in tables]
    if not progressive:
        return flat and all(symbol == 0 for symbol in alike)
    return flat if begin == 0 else all(symbol & 15 == 0 and symbol >> 4 < 15 for symbol in alike)


def zeros_in(coded: Bytes, longest: int = _ZEROS) -> int | None:
    """Where a run of more zeros than that begins; None if there is none."""
    marked = np.flatnonzero(coded)
    edges = np.concatenate([[-1], marked, [len(coded)]])
    long = np.flatnonzero(np.diff(edges) > longest + 1)
    return int(edges[long[0]]) + 1 if len(long) else None


def _behind(data: Bytes, at: int) -> str | None:
    """What stands behind the end: padding, the mark of the end once more, another picture or a film (as cameras put
    it), or notes of programs that sort pictures, is nothing wrong."""
    rest = data[at:]
    if rest[:2].tobytes() == b"\xff\xd9":
        rest = rest[2:]
    head, foot = rest[:8].tobytes(), rest[-_LONGEST_NOTE:].tobytes()
    if head[:2] == b"\xff\xd8" or head[4:] == b"ftyp" or any(mark in foot for mark in _NOTES):
        return None
    return behind(rest)


def behind(rest: Bytes | bytes) -> str | None:
    """What is wrong with the bytes behind the end of a picture, in words: nothing if they are zeros, or the line end
    that a script left."""
    return f"{len(rest):,} bytes stand behind its end" if bytes(rest).strip(_PADDING) else None


def check_gif_parts(path: Path) -> str | None:
    """The same of a GIF (its specification, §§17 to 27)."""
    data = read_plain(path, LARGEST)
    at = 13 + (3 << (data[10] & 7) + 1 if len(data) > 10 and data[10] & 0x80 else 0)
    pictures = 0
    while at < len(data):
        kind = data[at]
        if kind == 0x3B:
            if not pictures:
                return "it has no picture"
            return behind(data[at + 1 :])
        if kind == 0x21:
            at += 2
        elif kind == 0x2C and at + 10 <= len(data):
            pictures += 1
            at += 11 + (3 << (data[at + 9] & 7) + 1 if data[at + 9] & 0x80 else 0)
        elif kind == 0:
            at += 1  # padding that some writers leave between parts
            continue
        else:
            raise FormatError("where a part should begin is none", at)
        while at < len(data) and data[at]:
            at += 1 + data[at]
        at += 1
    raise FormatError("it ends without its trailer; it is likely cut short", len(data))
