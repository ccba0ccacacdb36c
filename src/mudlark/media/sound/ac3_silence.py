"""Frames of AC-3 and E-AC-3 in which nothing is heard, built like a neighbour of theirs.

Follows ETSI TS 102 366 §4.3 and §4.4 (syntax), §6.2.2 (without any signal-to-noise offset no mantissa has bits), §5.3.8
and §7.10 (checksums), Annex E §E.1.2. Dither is off, so that what has no bits is silence.
"""

from functools import lru_cache

from mudlark.errors import FormatError
from mudlark.media.bits import Bits

_BLOCKS = 6
_CHANNELS = (2, 1, 2, 3, 3, 4, 4, 5)
_POLYNOMIAL = 0x8005  # x^16 + x^15 + x^2 + 1
_KEPT = 62  # three exponents that are as the one before (§6.1.3): 25 * 2 + 5 * 2 + 2
_REUSED, _BY_FOUR = 0, 3  # strategies of exponents (§4.4.3.22)
_GROUPS = 6  # of exponents that each stand for four: 73 of them in the narrowest channel


class _Writer:
    """Bits, most significant first."""

    def __init__(self) -> None:
        self.value = 0
        self.count = 0

    def put(self, value: int, width: int) -> None:
        self.value = self.value << width | value
        self.count += width

    def put_all(self, bits: str) -> None:
        """Single bits as they are read; spaces are for the eye."""
        bits = bits.replace(" ", "")
        self.put(int(bits, 2), len(bits))

    def closed(self, size: int) -> bytearray:
        """All of it, filled with zeros to a number of bytes. Raises FormatError if it is longer."""
        if self.count > size * 8:
            raise FormatError("A frame is too small for silence", 0)
        return bytearray((self.value << (size * 8 - self.count)).to_bytes(size, "big"))


def silence(neighbour: bytes, size: int) -> bytes | None:
    """A silent frame of `size` bytes, the header that of a neighbour, of which the first bytes are given; None where
    the neighbour is of a kind that is not known well enough."""
    try:
        if len(neighbour) < 12:
            return None
        return _enhanced(neighbour[:12], size) if neighbour[5] >> 3 > 10 else _plain(neighbour[:12], size)
    except FormatError:
        return None


@lru_cache(maxsize=8)
def _plain(neighbour: bytes, size: int) -> bytes | None:
    layout = neighbour[6] >> 5
    bits, frame = Bits(neighbour), _Writer()
    levels = 2 * ((layout & 1 and layout != 1) + bool(layout & 4) + (layout == 2))
    bits.take(16 + 16)
    frame.put(0x0B77 << 16, 32)
    frame.put(bits.take(8 + 5 + 3 + 3 + levels), 8 + 5 + 3 + 3 + levels)
    low = bits.take(1)
    frame.put(low, 1)
    frame.put(bits.take(5), 5)  # loudness of dialogue
    frame.put(0, 3)
    if layout == 0:
        bits.take(3)
        frame.put(bits.take(5) << 3, 8)
    frame.put_all("01 000")  # an original; no time codes, nothing more
    channels = _CHANNELS[layout]
    for block in range(_BLOCKS):
        first = block == 0
        frame.put(0, 2 * channels + 1 + (layout == 0))  # long blocks, no dither, no dynamic range
        frame.put_all("10" if first else "0")  # no coupling
        if layout == 2:
            frame.put_all("10000" if first else "0")
        _exponents(frame, channels, low, first)
        frame.put_all("1 10 01 01 10 111" if first else "0")  # bit allocation
        if first:
            frame.put(1 << 6, 7)
            for _ in range(channels + low):
                frame.put(4, 7)
        else:
            frame.put(0, 1)
        frame.put(0, 2)  # no changes of the allocation, nothing to skip
    made = frame.closed(size)
    return _checked(made, (size // 2 >> 1) + (size // 2 >> 3))


def _exponents(frame: _Writer, channels: int, low: int, first: bool) -> None:
    """Strategies, bandwidths and values (§4.3.3): the quietest that there are, told once and used again."""
    frame.put(int("11" * channels, 2) if first else 0, 2 * channels)
    frame.put(first and low, low)
    if not first:
        return
    frame.put(0, 6 * channels)
    _values(frame, channels, low)


def _values(frame: _Writer, channels: int, low: int) -> None:
    for _ in range(channels):
        frame.put(15, 4)
        for _ in range(_GROUPS):
            frame.put(_KEPT, 7)
        frame.put(0, 2)
    if low:
        frame.put(15, 4)
        frame.put(_KEPT << 7 | _KEPT, 14)


@lru_cache(maxsize=8)
def _enhanced(neighbour: bytes, size: int) -> bytes | None:
    bits, frame = Bits(neighbour), _Writer()
    bits.take(16)
    kind, number, _, code, blocks = bits.take(2), bits.take(3), bits.take(11), bits.take(2), bits.take(2)
    if kind != 0 or number or code == 3 or blocks != 3 or size % 2:
        return None  # only the first independent substream, of six blocks
    layout, low, identifier, loudness = bits.take(3), bits.take(1), bits.take(5), bits.take(5)
    frame.put(0x0B77, 16)
    frame.put(size // 2 - 1, 16)
    frame.put(code << 2 | blocks, 4)
    frame.put(layout << 11 | low << 10 | identifier << 5 | loudness, 14)
    frame.put(0, 1)
    if layout == 0:
        frame.put(loudness << 1, 6)
    frame.put(0, 3)  # neither mixing nor informational data, nor anything more
    channels = _CHANNELS[layout]
    # strategies of exponents block by block; one noise offset for all; switches for dither only
    frame.put_all("1 0 00 0 0 1 0 0 0 0 0")
    if layout > 1:
        frame.put(0, _BLOCKS)  # no coupling, and none later
    for block in range(_BLOCKS):
        frame.put(int("11" * channels, 2) if block == 0 else _REUSED, 2 * channels)
    if low:
        frame.put_all("1" + "0" * (_BLOCKS - 1))
    frame.put(0, 5 * channels)  # for a converter
    frame.put(0, 6 + 4)  # no signal-to-noise offset
    frame.put(0, 1)
    for block in range(_BLOCKS):
        first = block == 0
        frame.put(0, channels + 1 + (layout == 0))  # no dither, no dynamic range
        frame.put(0, 1)  # no spectral extension
        if layout == 2:
            frame.put(0, 4 if first else 1)
        if first:
            frame.put(0, 6 * channels)
            _values(frame, channels, low)
        frame.put(0, 1)  # nothing for a converter
    return _checked(frame.closed(size))


def _checked(frame: bytearray, first_part: int | None = None) -> bytes:
    """The frame with its checksums. first_part: 16-bit words that the first checksum of AC-3 covers."""
    if first_part is not None:
        frame[2:4] = _solve(frame, first_part * 2).to_bytes(2, "big")
    frame[-2:] = checksum(frame[2:-2]).to_bytes(2, "big")
    return bytes(frame)


def checksum(data: bytes | bytearray) -> int:
    """The remainder over whole bytes (§7.10.1); 0 over all that a checksum covers, itself included."""
    register = 0
    for byte in data:
        register ^= byte << 8
        for _ in range(8):
            register = (register << 1 ^ (_POLYNOMIAL if register & 0x8000 else 0)) & 0xFFFF
    return register


def _solve(frame: bytearray, end: int) -> int:
    """What must stand in the first two bytes behind the sync word for the remainder up to `end` to be 0.

    The remainder is linear: each bit there adds its own pattern, so that sixteen patterns are to be combined.
    """
    length = end - 2
    rows = [(checksum((1 << bit).to_bytes(2, "big") + bytes(length - 2)), 1 << bit) for bit in range(16)]
    wanted, answer = checksum(frame[2:end]), 0
    for place in reversed(range(16)):
        pivot = next((row for row in rows if row[0] >> place & 1), None)
        if pivot is None:
            continue
        rows = [(a ^ pivot[0], b ^ pivot[1]) if a >> place & 1 else (a, b) for a, b in rows if (a, b) != pivot]
        if wanted >> place & 1:
            wanted, answer = wanted ^ pivot[0], answer ^ pivot[1]
    return answer
