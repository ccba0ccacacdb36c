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


def _enhanced(header: bytes) -> Format:
    bits = Bits(header[2:])
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
    kbits = words * 16 * rate // (blocks * 256 * 1000)
    independent = min(code, 3) << 22 | identifier << 17 | layout << 9 | low << 8
    config = (kbits << 3).to_bytes(2, "big") + independent.to_bytes(3, "big")
    return _format("ec-3", rate, config, _CHANNELS[layout] + low, blocks * 256)


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
