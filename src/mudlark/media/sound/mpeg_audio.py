"""MPEG audio of layers 1 to 3 (MP3 and MP2), frame by frame.

Follows ISO/IEC 11172-3 §2.4.1.3 and ISO/IEC 13818-3 §2.4.2.3 (lower sample rates), with the half of those again that
encoders call version 2.5.
"""

import numpy as np

from mudlark.media.samples import Bytes, Format, Ints
from mudlark.media.sound.framed import Syntax, bits_of, reserved

# kilobits a second by [version 1 or others][layer 3, 2, 1][index]
_KBITS = np.array(
    [
        [
            [0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 0],
            [0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384, 0],
            [0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448, 0],
        ],
        [
            [0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0],
            [0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160, 0],
            [0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256, 0],
        ],
    ],
    np.int64,
)
_RATES = np.array([[11025, 12000, 8000, 0], [0] * 4, [22050, 24000, 16000, 0], [44100, 48000, 32000, 0]], np.int64)
_SAMPLES = np.array([[1152, 1152, 384], [576, 1152, 384]], np.int64)  # by [version 1 or others][layer 3, 2, 1]


def _marks(stream: Bytes) -> Ints:
    return np.flatnonzero((stream[:-1] == 0xFF) & (stream[1:] & 0xE0 == 0xE0))


def _lengths(stream: Bytes, at: Ints) -> Ints:
    version, layer = bits_of(stream, at, 1, 3, 3), bits_of(stream, at, 1, 1, 3) - 1
    low = (version != 3).astype(np.int64)
    rate = _RATES[version, bits_of(stream, at, 2, 2, 3)]
    kbits = _KBITS[low, np.maximum(layer, 0), bits_of(stream, at, 2, 4, 15)]
    padding = bits_of(stream, at, 2, 1, 1)
    good = (layer >= 0) & (rate > 0) & (kbits > 0)
    rate = np.where(good, rate, 1)
    slot = np.where(layer == 2, 4, 1)
    samples = _SAMPLES[low, np.maximum(layer, 0)]
    return np.where(good, (samples // 8 * kbits * 1000 // rate // slot + padding) * slot, 0)


def audio_format(header: bytes) -> Format:
    """The format that a frame header describes."""
    version, layer = header[1] >> 3 & 3, (header[1] >> 1 & 3) - 1
    rate = int(_RATES[version, header[2] >> 2 & 3])
    if layer < 0 or not rate:
        raise reserved("layer or sample rate")
    return Format(
        type="audio",
        codec="mp4a.6B" if version == 3 else "mp4a.69",
        timescale=rate,
        config=b"",
        sample_duration=int(_SAMPLES[int(version != 3), layer]),
        channels=1 if header[3] >> 6 == 3 else 2,
        sample_rate=rate,
    )


MPEG_AUDIO = Syntax(header=4, marks=_marks, lengths=_lengths, alike=b"\xff\xfe\x0c", format=audio_format)


def silence(frame: bytes) -> bytes | None:
    """A silent frame of layer 3 with the header of another: no granule of it has any bits."""
    if len(frame) < 4 or frame[1] >> 1 & 3 != 1:
        return None
    header = bytearray(frame[:4])
    header[1] |= 1  # without a checksum
    length = int(_lengths(np.frombuffer(bytes(header), np.uint8), np.zeros(1, np.int64))[0])
    return bytes(header) + bytes(length - 4)
