"""Writing fragmented MP4: an initialization section, and a fragment for each batch of samples.

Follows ISO/IEC 14496-12 §8.8 (mvex, moof). What is written so far can be played at any time.
"""

from collections.abc import Mapping

import numpy as np

from mudlark.media.mp4.boxes import box, full_box
from mudlark.media.mp4.entries import sample_entry
from mudlark.media.mp4.headers import movie_header, track_box
from mudlark.media.samples import Format, Samples, TrackLabel

_FILE_TYPE = box("ftyp", b"iso6", bytes(4), b"iso6cmfcmp41")
_SYNC, _NOT_SYNC = 0x02000000, 0x01010000  # depends on no other sample; depends on others and is no sync sample


def initialization(formats: Mapping[int, Format], labels: Mapping[int, TrackLabel] | None = None) -> bytes:
    """The section before the first fragment, for tracks of these formats by their numbers."""
    tracks, extends = [], []
    for number, format in sorted(formats.items()):
        empty = [full_box(kind, 0, 0, bytes(4)) for kind in ("stts", "stsc", "stco")]
        described = full_box("stsd", 0, 0, b"\0\0\0\1", sample_entry(format))
        tables = box("stbl", described, *empty, full_box("stsz", 0, 0, bytes(8)))
        label = (labels or {}).get(number, TrackLabel())
        tracks.append(track_box(number, format, label, (0, 0), b"", tables))
        extends.append(full_box("trex", 0, 0, number.to_bytes(4, "big"), b"\0\0\0\1", bytes(12)))
    return _FILE_TYPE + box("moov", movie_header(0, len(tracks)), *tracks, box("mvex", *extends))


def fragment(number: int, batch: list[Samples]) -> list[memoryview]:
    """A fragment with this number (from 1), as buffers that are written one after the other."""
    sizes = [int(samples.sizes.sum()) for samples in batch]
    head = _head(number, batch, [0] * len(batch))
    places = [len(head) + 8 + sum(sizes[:index]) for index in range(len(batch))]
    head = _head(number, batch, places)
    media = (8 + sum(sizes)).to_bytes(4, "big") + b"mdat"
    return [memoryview(head + media), *(piece for samples in batch for piece in samples.pieces)]


def _head(number: int, batch: list[Samples], places: list[int]) -> bytes:
    parts = [full_box("mfhd", 0, 0, number.to_bytes(4, "big"))]
    for samples, place in zip(batch, places, strict=True):
        header = full_box("tfhd", 0, 0x20000, samples.track.to_bytes(4, "big"))
        decoded = full_box("tfdt", 1, 0, int(samples.dts[0]).to_bytes(8, "big"))
        parts.append(box("traf", header, decoded, _run(samples, place)))
    return box("moof", *parts)


def _run(samples: Samples, place: int) -> bytes:
    last = int(samples.durations[-1]) if samples.durations is not None else samples.usual or 1
    rows = np.empty((len(samples), 4), ">i4")
    rows[:, 0] = np.append(np.diff(samples.dts), last)
    rows[:, 1] = samples.sizes
    rows[:, 2] = np.where(samples.sync, _SYNC, _NOT_SYNC)
    rows[:, 3] = samples.pts - samples.dts
    count = len(samples).to_bytes(4, "big")
    return full_box("trun", 1, 0xF01, count, place.to_bytes(4, "big"), rows.tobytes())
