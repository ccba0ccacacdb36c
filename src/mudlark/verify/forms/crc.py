"""Check sums that media formats carry, over many frames at once or by the standard library."""

import zlib
from functools import cache

import numpy as np
from numpy.typing import NDArray

from mudlark.media.samples import Bytes, Ints

_POLYNOMIAL = 0x8005  # x^16 + x^15 + x^2 + 1, most significant bit first
_MIRRORED = bytes(int(f"{byte:08b}"[::-1], 2) for byte in range(256))
_ALL = 0xFFFFFFFF
_AT_ONCE = 32 << 20  # bytes of frames that are looked at together


@cache
def _table() -> NDArray[np.uint16]:
    """What two bytes become."""
    values = np.arange(1 << 16, dtype=np.int64)
    for _ in range(16):
        values = ((values << 1) ^ (values >> 15) * _POLYNOMIAL) & 0xFFFF
    return values.astype(np.uint16)


def crc16(stream: Bytes, begins: Ints, lengths: Ints) -> NDArray[np.uint16]:
    """CRC-16 of parts of a stream, as FLAC and AC-3 have it: it begins with zero, so zeros in front change nothing.

    Frames of about one length are cheapest.
    """
    table, result = _table(), np.zeros(len(begins), np.uint16)
    order = np.argsort(lengths, kind="stable")
    at = 0
    while at < len(order):
        widest = int(lengths[order[at : at + 1]].max(initial=0))
        count = max(1, min(len(order) - at, _AT_ONCE // max(1, widest)))
        group = order[at : at + count]
        longest = int(lengths[group].max(initial=0))
        while len(group) > 1 and longest > 2 * widest + 64:  # few long ones are not to make all others long
            group = group[: (len(group) + 1) // 2]
            longest = int(lengths[group].max(initial=0))
        result[group] = _together(stream, begins[group], lengths[group], longest + longest % 2, table)
        at += len(group)
    return result


def _together(stream: Bytes, begins: Ints, lengths: Ints, width: int, table: NDArray[np.uint16]) -> NDArray[np.uint16]:
    places = begins[:, None] + lengths[:, None] - width + np.arange(width)[None, :]
    rows = np.where(places >= begins[:, None], stream[np.maximum(places, 0)], 0).astype(np.uint8)
    words = np.ascontiguousarray(rows).view(">u2").astype(np.uint16).T.copy()
    register = np.zeros(len(begins), np.uint16)
    for word in words:
        register = table[register ^ word]
    return register


def crc32_forward(data: bytes | memoryview, register: int = 0) -> int:
    """CRC-32 with the polynomial of Ethernet, most significant bit first and nothing inverted, as Ogg has it; with the
    register at all ones, as transport streams have it."""
    mirrored = bytes(data).translate(_MIRRORED)
    begin = int(f"{register:032b}"[::-1], 2)
    return int(f"{zlib.crc32(mirrored, begin ^ _ALL) ^ _ALL:032b}"[::-1], 2)
