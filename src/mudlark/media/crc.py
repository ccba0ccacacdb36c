"""Check sums that media formats carry, over many frames at once or by the standard library."""

import zlib
from functools import cache

import numpy as np
from numpy.typing import NDArray

from mudlark.media.samples import Bytes, Ints

_POLYNOMIAL = 0x8005  # x^16 + x^15 + x^2 + 1, most significant bit first
_MIRRORED = bytes(int(f"{byte:08b}"[::-1], 2) for byte in range(256))
_ALL = 0xFFFFFFFF
_AT_ONCE = 16 << 20  # bytes of parts that are looked at together
_LONGER = 1.3  # times the shortest of them


@cache
def _table() -> NDArray[np.uint16]:
    """What two bytes become."""
    values = np.arange(1 << 16, dtype=np.int64)
    for _ in range(16):
        values = ((values << 1) ^ (values >> 15) * _POLYNOMIAL) & 0xFFFF
    return values.astype(np.uint16)


def crc16(stream: Bytes, begins: Ints, lengths: Ints) -> NDArray[np.uint16]:
    """CRC-16 of parts of a stream, as FLAC and AC-3 have it: it begins with zero, so zeros in front change nothing.

    Parts of about one length are looked at together, padded in front to the longest.
    """
    result = np.zeros(len(begins), np.uint16)
    order = np.argsort(lengths, kind="stable")
    sizes = lengths[order]
    at = 0
    while at < len(order):
        alike = int(np.searchsorted(sizes, sizes[at] * _LONGER + 64, "right"))
        width = int(sizes[alike - 1]) + int(sizes[alike - 1]) % 2
        end = min(alike, at + max(1, _AT_ONCE // max(1, width)))
        group = order[at:end]
        result[group] = _together(stream, begins[group] + lengths[group], lengths[group], width)
        at = end
    return result


def _together(stream: Bytes, ends: Ints, lengths: Ints, width: int) -> NDArray[np.uint16]:
    if width == 0:
        return np.zeros(len(ends), np.uint16)
    short = max(0, width - int(ends.min()))  # bytes that are missing before the first
    padded = np.concatenate([np.zeros(short, np.uint8), stream]) if short else stream
    rows = np.lib.stride_tricks.sliding_window_view(padded, width)[ends + short - width]
    before = width - lengths
    if before.any():
        rows[np.arange(width)[None, :] < before[:, None]] = 0
    words = rows.view(">u2").T.astype(np.uint16)
    table, register = _table(), np.zeros(len(ends), np.uint16)
    for word in words:
        register = table[register ^ word]
    return register


def crc32_forward(*parts: bytes | memoryview, register: int = 0) -> int:
    """CRC-32 with the polynomial of Ethernet, most significant bit first and nothing inverted, as Ogg has it; with the
    register at all ones, as transport streams have it. The bits of the result are mirrored, as those of
    `mirrored(stored)` are."""
    value = register ^ _ALL
    for part in parts:
        value = zlib.crc32(bytes(part).translate(_MIRRORED), value)
    return value ^ _ALL


def mirrored(stored: bytes) -> int:
    """A check sum as it is stored, least significant byte first, with its bits mirrored."""
    return int.from_bytes(stored.translate(_MIRRORED), "big")
