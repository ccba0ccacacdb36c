"""WebP (its container specification, RIFF) and AVIF (ISO/IEC 14496-12, AV1 image file format): chunks and boxes from
the first byte to the last, without long runs of zeros where coded data should be.

Both codecs are arithmetic coders: zeros on end mean nothing in them, and a decoder goes on without a word. BMP has no
parts but its header, and no codec.
"""

from pathlib import Path

import numpy as np

from mudlark.errors import FormatError
from mudlark.media.mp4.boxes import header
from mudlark.plain import read_plain
from mudlark.verify.forms.jpeg import LARGEST, behind, zeros_in

_ZEROS = 256  # bytes of zeros that no coded picture holds
_CODED = frozenset({b"VP8 ", b"VP8L", b"ALPH", b"ANMF"})


def check_webp_parts(path: Path) -> str | None:
    """What is wrong with the chunks of a WebP, in words; None if nothing is."""
    data = read_plain(path, LARGEST)
    stated = int.from_bytes(data[4:8], "little") + 8
    if stated > len(data):
        raise FormatError(f"it states {stated:,} bytes and has {len(data):,}; it is likely cut short", len(data))
    at = 12
    while at + 8 <= stated:
        name, size = data[at : at + 4], int.from_bytes(data[at + 4 : at + 8], "little")
        if at + 8 + size > stated or not all(32 <= byte < 127 for byte in name):
            raise FormatError("where a chunk should be is none", at)
        if name in _CODED and (wrong := _hole(data, at + 8, at + 8 + size)):
            return wrong
        at += 8 + size + size % 2
    if at != stated:
        raise FormatError("its chunks do not fill it", at)
    return behind(data[stated:])


def check_bmp_parts(path: Path) -> str | None:
    """The same of a BMP, whose header states the size of the file, 0 where nobody knew, and where its pixels begin."""
    data = read_plain(path, LARGEST)
    stated, begin = int.from_bytes(data[2:6], "little"), int.from_bytes(data[10:14], "little")
    if max(stated, begin) > len(data):
        raise FormatError(
            f"it states {max(stated, begin):,} bytes and has {len(data):,}; it is likely cut short", len(data)
        )
    return behind(data[stated:]) if stated > begin else None


def check_avif_parts(path: Path) -> str | None:
    """The same of the boxes of an AVIF."""
    data = read_plain(path, LARGEST)
    at = 0
    while at < len(data):
        box = header(data[at : at + 16], at, len(data))
        if box.end > len(data):
            raise FormatError(f"its box '{box.kind}' reaches behind its end; it is likely cut short", at)
        if box.kind == "mdat" and (wrong := _hole(data, box.content, box.end)):
            return wrong
        at = box.end
    return None


def _hole(data: bytes, begin: int, end: int) -> str | None:
    hole = zeros_in(np.frombuffer(data, np.uint8)[begin:end], _ZEROS)
    return None if hole is None else f"zeros stand in place of its coded data from byte {begin + hole:,} on"
