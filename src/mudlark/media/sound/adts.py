"""AAC in ADTS frames, and the AudioSpecificConfig that their headers imply.

Follows ISO/IEC 14496-3 §1.A.2.2 (ADTS), §1.6.2.1 (AudioSpecificConfig) and §4.4.2 (raw data blocks, for silence).
"""

import numpy as np

from mudlark.errors import FormatError
from mudlark.media.samples import Bytes, Format, Ints
from mudlark.media.sound.framed import Syntax, bits_of, reserved
from mudlark.media.sound.hints import hints_in

RATES = (96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350)
_CHANNELS = (0, 1, 2, 3, 4, 5, 6, 8)
FRAME = 1024  # samples a frame
# syntax elements of each channel configuration (§1.6.3.5): s one channel, c a pair, l low frequencies
_ELEMENTS = ("", "s", "c", "sc", "scs", "scc", "sccl", "scccl")


def _marks(stream: Bytes) -> Ints:
    return np.flatnonzero((stream[:-1] == 0xFF) & (stream[1:] & 0xF6 == 0xF0))


def _lengths(stream: Bytes, at: Ints) -> Ints:
    fields = stream[at[:, None] + np.arange(3, 6)].astype(np.int64)
    lengths: Ints = (fields[:, 0] & 3) << 11 | fields[:, 1] << 3 | fields[:, 2] >> 5
    return np.where(lengths > 7, lengths, 0)


def _stripped(stream: Bytes, at: Ints) -> Ints:
    return 9 - 2 * bits_of(stream, at, 1, 0, 1)


def audio_format(header: bytes) -> Format:
    """The format that an ADTS header describes; its timescale is the sample rate."""
    profile, rate = header[2] >> 6, header[2] >> 2 & 15
    channels = (header[2] & 1) << 2 | header[3] >> 6
    if rate >= len(RATES):
        raise reserved(f"sample rate ({rate})")
    if not channels:
        raise FormatError("An AAC stream describes its channels inside the frames, which is not supported")
    kind = profile + 1
    config = (kind << 11 | rate << 7 | channels << 3).to_bytes(2, "big")
    return Format(
        type="audio",
        codec=f"mp4a.40.{kind}",
        timescale=RATES[rate],
        config=config,
        sample_duration=FRAME,
        channels=_CHANNELS[channels],
        sample_rate=RATES[rate],
    )


def _blocks(stream: Bytes, at: Ints) -> Ints:
    """Raw data blocks of each frame (§1.A.3.2)."""
    return bits_of(stream, at, 6, 0, 3) + 1


ADTS = Syntax(
    header=7,
    marks=_marks,
    lengths=_lengths,
    alike=b"\0\xff\xfd\xc0",
    format=audio_format,
    stripped=_stripped,
    blocks=_blocks,
    hints=hints_in,
)


def silence(config: bytes) -> bytes | None:
    """A raw data block of AAC-LC in which every channel is silent; None if the configuration is of another kind.

    Every channel has no scale factor bands at all (max_sfb 0), so nothing of a spectrum follows.
    """
    if len(config) < 2 or config[0] >> 3 not in (2, 5, 29):
        return None
    channels = config[1] >> 3 & 15
    if not 0 < channels < len(_ELEMENTS):
        return None
    stream = "0" * 8 + "000"  # global_gain; no pulses, no noise shaping, no gain control
    window = "0" * 11  # reserved, sequence and shape of the window, max_sfb, no prediction
    single = "0" * 8 + window + "000"
    codes = {"s": "000", "c": "001", "l": "011"}
    bits = ""
    tags = dict.fromkeys(codes, 0)
    for element in _ELEMENTS[channels]:
        bits += codes[element] + f"{tags[element]:04b}"
        tags[element] += 1
        bits += "1" + window + "00" + stream + stream if element == "c" else single
    bits += "111"
    bits += "0" * (-len(bits) % 8)
    return int(bits, 2).to_bytes(len(bits) // 8, "big")
