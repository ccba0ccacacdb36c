"""The segment index of a file (ISO/IEC 14496-12 §8.16.3): where its subsegments are, and how long each lasts."""

import msgspec
import numpy as np

from mudlark.media.mp4.boxes import Box, Mp4Error

_REFERENCE = 12  # bytes


class Reference(msgspec.Struct, frozen=True):
    """start, size: bytes of the file. begin, duration: seconds. is_index: another index stands there, not media."""

    start: int
    size: int
    begin: float
    duration: float
    is_index: bool


def read_index(data: bytes | memoryview, box: Box, base: int) -> list[Reference]:
    """The references of an index. base: the byte of the file at which `data` begins; the box is counted from there."""
    content = bytes(data[box.content : box.end])
    version = content[0] if content else 0
    head = 32 if version else 24
    if version > 1 or len(content) < head:
        raise Mp4Error("Box 'sidx' is too short, or of a version that is not known", base + box.start)
    timescale = int.from_bytes(content[8:12], "big")
    wide = 8 if version else 4
    earliest = int.from_bytes(content[12 : 12 + wide], "big")
    offset = int.from_bytes(content[12 + wide : 12 + 2 * wide], "big")
    if max(earliest, offset) >> 62:
        raise Mp4Error("Box 'sidx' states a time or place beyond all reason", base + box.start)
    count = int.from_bytes(content[head - 2 : head], "big")
    if not timescale or head + count * _REFERENCE > len(content):
        raise Mp4Error(f"Box 'sidx' promises {count:,} entries and is too short for them", base + box.start)
    table = np.frombuffer(content, ">u4", 3 * count, head).reshape(count, 3).astype(np.int64)
    sizes, durations = table[:, 0] & 0x7FFFFFFF, table[:, 1]
    starts = base + box.end + offset + np.cumsum(sizes) - sizes
    begins = earliest + np.cumsum(durations) - durations
    rows = zip(
        starts.tolist(), sizes.tolist(), begins.tolist(), durations.tolist(), (table[:, 0] >> 31).tolist(), strict=True
    )
    return [
        Reference(start, size, begin / timescale, duration / timescale, bool(kind))
        for start, size, begin, duration, kind in rows
    ]
