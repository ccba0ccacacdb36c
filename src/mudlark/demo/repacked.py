"""The museum's streams in other packings, made of its transport streams when they are asked for.

Fragments with picture and sound apart, packed sound, segments under a key: what the rest of the web serves.
"""

from collections.abc import Sequence
from functools import cache
from pathlib import Path

import numpy as np

from mudlark.media.mp4.fragment import fragment, initialization
from mudlark.media.samples import Samples
from mudlark.media.ts import TransportReader

_RATES = (96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350)
_OWNER = b"com.apple.streaming.transportStreamTimestamp\0"


@cache
def samples_of(paths: tuple[Path, ...], kind: str) -> tuple[Samples, ...]:
    """The samples of one kind (video, audio) of some segments, one entry a segment, with bytes of their own."""
    return tuple(_joined([one for one in batch if one.format.type == kind]) for batch in _batches(paths))


def _batches(paths: Sequence[Path]) -> list[list[Samples]]:
    """What each segment gives. The last picture of each, which is held back for the next, goes with its own."""
    reader = TransportReader()
    batches = []
    for path in paths:
        batches.append([samples.kept() for samples in reader.feed(memoryview(path.read_bytes()))])
        batches[-1] += [samples.kept() for samples in reader.flush()]
    return batches


def _joined(parts: list[Samples]) -> Samples:
    first = parts[0]
    return Samples(
        first.track,
        parts[-1].format,
        np.concatenate([part.sizes for part in parts]),
        np.concatenate([part.dts for part in parts]),
        np.concatenate([part.pts for part in parts]),
        np.concatenate([part.sync for part in parts]),
        [piece for part in parts for piece in part.pieces],
    )


def section(samples: Sequence[Samples]) -> bytes:
    """The initialization section for the tracks of some samples."""
    return initialization({one.track: one.format for one in samples})


def fragments(number: int, samples: Sequence[Samples]) -> bytes:
    """A segment of one fragment."""
    return b"".join(fragment(number, list(samples)))


def packed(samples: Samples) -> bytes:
    """AAC in ADTS, behind an ID3 tag with the time of the first frame."""
    format = samples.format
    time = int(samples.pts[0]) * 90_000 // format.timescale
    private = _OWNER + (time % (1 << 33)).to_bytes(8, "big")
    frame = b"PRIV" + _syncsafe(len(private)) + b"\0\0" + private
    tag = b"ID3\4\0\0" + _syncsafe(len(frame)) + frame
    data = b"".join(samples.pieces)
    ends = np.cumsum(samples.sizes)
    index, channels = _RATES.index(format.sample_rate), format.channels
    frames = [
        _adts_header(int(size) + 7, index, channels) + data[int(end - size) : int(end)]
        for size, end in zip(samples.sizes, ends, strict=True)
    ]
    return tag + b"".join(frames)


def _syncsafe(size: int) -> bytes:
    return bytes(size >> shift & 127 for shift in (21, 14, 7, 0))


def _adts_header(size: int, index: int, channels: int) -> bytes:
    """ISO/IEC 14496-3 §1.A.2.2, LC, without a checksum."""
    return bytes(
        (
            0xFF,
            0xF1,
            1 << 6 | index << 2 | channels >> 2,
            (channels & 3) << 6 | size >> 11,
            size >> 3 & 255,
            (size & 7) << 5 | 31,
            0xFC,
        )
    )


def encrypted(data: bytes, key: bytes, iv: bytes) -> bytes:
    """AES-128 in CBC mode with PKCS7 padding (RFC 8216 §4.3.2.4)."""
    from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

    size = 16 - len(data) % 16
    encryptor = Cipher(algorithms.AES(key), modes.CBC(iv)).encryptor()
    return encryptor.update(data + bytes([size]) * size) + encryptor.finalize()
