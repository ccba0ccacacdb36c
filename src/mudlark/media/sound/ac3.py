"""AC-3 and E-AC-3, frame by frame, and the boxes that describe them in MP4.

Follows ETSI TS 102 366 §4.3 and §5.3 (AC-3), Annex E §E.1.2 (E-AC-3), Annex F (MP4: dac3, dec3).
"""

import numpy as np

from mudlark.media.bits import Bits
from mudlark.media.samples import Bytes, Format, Ints
from mudlark.media.sound.framed import Syntax, bits_of, reserved

_RATES = (48000, 44100, 32000)
_KBITS = (32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 448, 512, 576, 640)
# 16-bit words of a frame by [sample rate code][frame size code] (§4.4.1.4)
_WORDS = np.array(
    [
        [kbits * 2 for kbits in _KBITS for _ in (0, 1)],
        [kbits * 96000 // 44100 + odd for kbits in _KBITS for odd in (0, 1)],
        [kbits * 3 for kbits in _KBITS for _ in (0, 1)],
        [0] * 38,
    ],
    np.int64,
)
_CHANNELS = (2, 1, 2, 3, 3, 4, 4, 5)
_BLOCKS = (1, 2, 3, 6)
_SHORTEST = 16  # bytes: no frame has fewer
FRAME = 1536  # samples of six blocks
_HEADER = 10  # bytes in which what is read of a dependent frame stands
# bits of a channel map (§E.1.3.1.8), from the first, that `dec3` names: pairs and single channels beside those of 5.1
_LOCATIONS = (5, 6, 7, 8, 9, 10, 11, 12, 14)
_ADDED = {5: 2, 6: 2, 7: 1, 8: 1, 9: 2, 10: 2, 11: 2, 12: 1, 13: 2, 14: 1}


def _marks(stream: Bytes) -> Ints:
    return np.flatnonzero((stream[:-1] == 0x0B) & (stream[1:] == 0x77))


def _lengths(stream: Bytes, at: Ints) -> Ints:
    enhanced = bits_of(stream, at, 5, 3, 31) > 10
    size = bits_of(stream, at, 4, 0, 63)
    plain = _WORDS[bits_of(stream, at, 4, 6, 3), np.minimum(size, 37)] * 2 * (size < 38)
    stated = ((bits_of(stream, at, 2, 0, 7) << 8 | bits_of(stream, at, 3, 0, 255)) + 1) * 2
    known = bits_of(stream, at, 5, 3, 31) <= 16
    lengths = np.where(enhanced, stated, plain)
    return np.where(known & (lengths >= _SHORTEST), lengths, 0)


def _joined(stream: Bytes, at: Ints) -> Bytes:
    """Dependent substreams, and independent ones beyond the first, belong to the sample before (§E.1.3.1.1)."""
    enhanced = bits_of(stream, at, 5, 3, 31) > 10
    kind, number = bits_of(stream, at, 2, 6, 3), bits_of(stream, at, 2, 3, 7)
    joined: Bytes = (enhanced & ((kind == 1) | (number > 0))).astype(np.uint8)
    return joined


def frame_size(header: bytes) -> int:
    """Bytes of the frame that begins so; 0 if it is none."""
    return int(_lengths(np.frombuffer(header, np.uint8), np.zeros(1, np.int64))[0]) if len(header) > 5 else 0


def audio_format(header: bytes) -> Format:
    """The format that a frame header describes."""
    return _enhanced(header) if header[5] >> 3 > 10 else _plain(header)


def _plain(header: bytes) -> Format:
    code, size = header[4] >> 6, header[4] & 63
    if code > 2 or size > 37:
        raise reserved("sample rate or size")
    bits = Bits(header[5:])
    identifier, mode = bits.take(5), bits.take(3)
    layout = bits.take(3)
    if layout & 1 and layout != 1:
        bits.take(2)
    if layout & 4:
        bits.take(2)
    if layout == 2:
        bits.take(2)
    low = bits.take(1)
    config = (code << 22 | identifier << 17 | mode << 14 | layout << 11 | low << 10 | (size >> 1) << 5).to_bytes(
        3, "big"
    )
    rate = _RATES[code] >> max(0, identifier - 8)
    return _format("ac-3", rate, config, _CHANNELS[layout] + low)


def _enhanced(frames: bytes) -> Format:
    """frames: an independent frame, and the dependent ones behind it that belong to the same sample."""
    bits = Bits(frames[2:])
    bits.take(5)
    words = bits.take(11) + 1
    code = bits.take(2)
    blocks = 6
    if code == 3:
        half = bits.take(2)
        if half > 2:
            raise reserved("sample rate")
        rate = _RATES[half] // 2
    else:
        rate, blocks = _RATES[code], _BLOCKS[bits.take(2)]
    layout, low = bits.take(3), bits.take(1)
    identifier = bits.take(5)
    dependent, channel_map, at = 0, 0, words * 2
    while at + _HEADER <= len(frames) and frames[at : at + 2] == b"\x0b\x77" and frames[at + 2] >> 6 == 1:
        length, own = _dependent(frames[at:])
        dependent, channel_map, at = dependent + 1, channel_map | own, at + length
    kbits = at * 8 * rate // (blocks * 256 * 1000)
    independent = min(code, 3) << 22 | identifier << 17 | layout << 9 | low << 8
    if dependent:  # ETSI TS 102 366 §F.6.1: how many there are, and which channels they add
        located = sum(1 << bit for bit, place in enumerate(_LOCATIONS) if channel_map >> 15 - place & 1)
        described = ((independent >> 1 | min(dependent, 15)) << 9 | located).to_bytes(4, "big")
    else:
        described = independent.to_bytes(3, "big")
    added = sum(count for place, count in _ADDED.items() if channel_map >> 15 - place & 1)
    channels = _CHANNELS[layout] + low + added
    return _format("ec-3", rate, (kbits << 3).to_bytes(2, "big") + described, channels, blocks * 256)


def _dependent(frame: bytes) -> tuple[int, int]:
    """Bytes of a dependent frame, and its channel map (§E.1.2.2, §E.1.3.1.8), 0 if it has none."""
    bits = Bits(frame[2 : 2 + _HEADER])
    bits.take(5)
    length = (bits.take(11) + 1) * 2
    bits.take(4)
    mode, _ = bits.take(3), bits.take(1)
    bits.take(5)
    for _ in range(2 if mode == 0 else 1):  # dialnorm and compr, of each channel where there are two programs
        bits.take(5)
        if bits.flag():
            bits.take(8)
    return length, bits.take(16) if bits.flag() else 0


def _format(codec: str, rate: int, config: bytes, channels: int, duration: int = FRAME) -> Format:
    return Format(
        type="audio",
        codec=codec,
        timescale=rate,
        config=config,
        sample_duration=duration,
        channels=channels,
        sample_rate=rate,
    )


AC3 = Syntax(
    header=8, marks=_marks, lengths=_lengths, alike=b"\xff\xff\0\0\xc0\xf8", format=audio_format, joined=_joined
)
