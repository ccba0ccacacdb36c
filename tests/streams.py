"""Small streams built in view of the tests: access units with real parameter sets, and AAC frames."""

import numpy as np

from mudlark.demo.site import media_folder
from mudlark.demo.transport import AUDIO_PID, VIDEO_PID, Unit
from mudlark.media.picture.avc import PPS, SPS
from mudlark.media.picture.nal import nal_units
from mudlark.media.samples import batches
from mudlark.media.ts import TransportReader

FRAME = 3600  # ticks of 90 kHz at 25 frames a second
AUDIO_FRAME = 1920  # ticks of 90 kHz for 1024 samples at 48 kHz
DELIMITER = b"\0\0\0\1\x09\xf0"


def demo_segment(number: int = 0, height: int = 180) -> bytes:
    """A segment of the demo's film."""
    return (media_folder() / "tide-mill" / f"{height}p" / f"part-{number:03d}.ts").read_bytes()


def _parameter_sets() -> tuple[bytes, bytes]:
    data = np.frombuffer(demo_segment(), np.uint8)
    begins, ends = nal_units(data)
    kinds = (data[begins] & 31).tolist()
    return tuple(  # type: ignore[return-value]
        data[begins[kinds.index(kind)] : ends[kinds.index(kind)]].tobytes() for kind in (SPS, PPS)
    )


SPS_UNIT, PPS_UNIT = _parameter_sets()


def slice_unit(size: int, *, instant: bool = False, fill: int = 0x55) -> bytes:
    """A slice of `size` bytes with nothing decodable inside but its kind and its parameter set, the first."""
    return bytes([0x65 if instant else 0x41, 0x88, 0x84]) + bytes([fill]) * (size - 3)


def access_unit(size: int, *, instant: bool = False, fill: int = 0x55) -> bytes:
    """An access unit as encoders write it: a delimiter, parameter sets before an IDR picture, one slice."""
    sets = b"\0\0\0\1" + SPS_UNIT + b"\0\0\0\1" + PPS_UNIT if instant else b""
    return DELIMITER + sets + b"\0\0\1" + slice_unit(size, instant=instant, fill=fill)


def pictures(count: int, start: int = 0, size: int = 500) -> list[Unit]:
    """Pictures at 25 frames a second, an IDR first, two frames of reordering delay."""
    return [
        Unit(VIDEO_PID, access_unit(size + n, instant=n == 0), start + (n + 2) * FRAME, start + n * FRAME)
        for n in range(count)
    ]


def aac_frame(payload: bytes) -> bytes:
    """One ADTS frame, LC, 48 kHz, stereo."""
    size = len(payload) + 7
    return b"\xff\xf1\x4c" + bytes([0x80 | size >> 11, size >> 3 & 255, (size & 7) << 5 | 31, 0xFC]) + payload


def sounds(count: int, start: int = 0, per_unit: int = 4) -> list[Unit]:
    """AAC frames, each a pair of channels, some to a unit."""
    units = []
    for first in range(0, count, per_unit):
        data = b"".join(
            aac_frame(b"\x21" + bytes([n % 200 + 1]) * 88 + b"\7") for n in range(first, min(first + per_unit, count))
        )
        time = start + first * AUDIO_FRAME
        units.append(Unit(AUDIO_PID, data, time, time))
    return units


class Collected:
    """All samples of a reader, by track."""

    def __init__(self, *segments: bytes, reader: TransportReader | None = None) -> None:
        self.reader = reader or TransportReader()
        self.sizes: dict[int, list[int]] = {}
        self.dts: dict[int, list[int]] = {}
        self.pts: dict[int, list[int]] = {}
        self.sync: dict[int, list[bool]] = {}
        self.data: dict[int, bytes] = {}
        for batch in batches(self.reader, segments):
            for samples in batch:
                self.sizes.setdefault(samples.track, []).extend(samples.sizes.tolist())
                self.dts.setdefault(samples.track, []).extend(samples.dts.tolist())
                self.pts.setdefault(samples.track, []).extend(samples.pts.tolist())
                self.sync.setdefault(samples.track, []).extend(samples.sync.tolist())
                self.data[samples.track] = self.data.get(samples.track, b"") + b"".join(samples.pieces)
