"""Writing MPEG-2 transport streams, for the demo's media and for tests; Mudlark itself only reads them.

Follows ISO/IEC 13818-1 §2.4. One program, H.264 and AAC unless other streams are given, tables at the start of every
segment.
"""

from collections.abc import Iterable

import msgspec
import numpy as np

VIDEO_PID, AUDIO_PID, MAP_PID = 0x100, 0x101, 0x1000
_PROGRAM = 1


class MappedStream(msgspec.Struct, frozen=True):
    """A stream of the program map: its PID, its type, and its descriptors as they stand there."""

    pid: int
    type: int
    descriptors: bytes = b""


AVC, AAC = MappedStream(VIDEO_PID, 0x1B), MappedStream(AUDIO_PID, 0x0F)


class Unit(msgspec.Struct, frozen=True):
    """One packetised unit: an access unit of video, or some audio frames. pts, dts: ticks of 90 kHz."""

    pid: int
    data: bytes
    pts: int
    dts: int


def crc32(data: bytes) -> int:
    """The checksum of table sections (Annex A)."""
    register = 0xFFFFFFFF
    for byte in data:
        register ^= byte << 24
        for _ in range(8):
            register = (register << 1 ^ 0x04C11DB7 if register & 0x80000000 else register << 1) & 0xFFFFFFFF
    return register


def section(table: int, identifier: int, body: bytes) -> bytes:
    """A table section with its header and checksum."""
    inside = identifier.to_bytes(2, "big") + b"\xc1\0\0" + body
    data = bytes([table]) + (0xB000 | len(inside) + 4).to_bytes(2, "big") + inside
    return data + crc32(data).to_bytes(4, "big")


def timestamp(mark: int, ticks: int) -> bytes:
    """A 33-bit timestamp with its marker bits (§2.4.3.6)."""
    ticks %= 1 << 33
    return bytes(
        [
            mark << 4 | ticks >> 30 << 1 | 1,
            ticks >> 22 & 255,
            (ticks >> 15 & 127) << 1 | 1,
            ticks >> 7 & 255,
            (ticks & 127) << 1 | 1,
        ]
    )


def unit_header(unit: Unit) -> bytes:
    """The PES header of a unit; video leaves its length open."""
    both = unit.pts != unit.dts
    times = timestamp(3, unit.pts) + timestamp(1, unit.dts) if both else timestamp(2, unit.pts)
    video = unit.pid == VIDEO_PID
    size = 0 if video or len(unit.data) + 8 > 0xFFFF else len(unit.data) + len(times) + 3
    kind = 0xE0 if video else 0xC0
    return (
        b"\0\0\1" + bytes([kind]) + size.to_bytes(2, "big") + bytes([0x84, 0xC0 if both else 0x80, len(times)]) + times
    )


class TransportWriter:
    """Packs units into segments; continuity counters run on from segment to segment."""

    def __init__(self, *streams: MappedStream) -> None:
        self._counters: dict[int, int] = {}
        self._streams = streams or (AVC, AAC)

    def segment(self, units: Iterable[Unit]) -> bytes:
        """One segment: the tables, then the units in the given order."""
        streams = b"".join(
            bytes([one.type])
            + (0xE000 | one.pid).to_bytes(2, "big")
            + (0xF000 | len(one.descriptors)).to_bytes(2, "big")
            + one.descriptors
            for one in self._streams
        )
        clock = self._streams[0].pid
        association = section(0, 1, _PROGRAM.to_bytes(2, "big") + (0xE000 | MAP_PID).to_bytes(2, "big"))
        program = section(2, _PROGRAM, (0xE000 | clock).to_bytes(2, "big") + b"\xf0\0" + streams)
        parts = [self._packets(0, b"\0" + association), self._packets(MAP_PID, b"\0" + program)]
        for unit in units:
            reference = unit.dts if unit.pid == clock else None
            parts.append(self._packets(unit.pid, unit_header(unit) + unit.data, reference))
        return b"".join(parts)

    def _packets(self, pid: int, data: bytes, reference: int | None = None) -> bytes:
        """Packets that carry `data`; the first with a clock reference if given, the last stuffed."""
        lead = b""
        if reference is not None:
            base = (reference - 9000) % (1 << 33)
            lead = b"\x07\x10" + (base << 15 | 0x7E00).to_bytes(6, "big")
        count = -(-(len(data) + len(lead)) // 184)
        rows = np.full((count, 188), 0xFF, np.uint8)
        counter = self._counters.get(pid, 0)
        self._counters[pid] = (counter + count) % 16
        rows[:, 0] = 0x47
        rows[:, 1], rows[:, 2] = pid >> 8, pid & 255
        rows[0, 1] |= 0x40
        rows[:, 3] = 0x10 | (counter + np.arange(count)) % 16
        body = np.frombuffer(data, np.uint8)
        room = np.full(count, 184)
        if lead:
            rows[0, 3] |= 0x20
            rows[0, 4 : 4 + len(lead)] = np.frombuffer(lead, np.uint8)
            room[0] -= len(lead)
        spare = int(room.sum()) - len(body)
        if spare:
            last = count - 1
            had = 184 - int(room[last])
            rows[last, 3] |= 0x20
            rows[last, 4] = had + spare - 1
            if not had and spare > 1:
                rows[last, 5] = 0
            room[last] -= spare
        first = int(room[0])
        rows[0, 188 - first :] = body[:first]
        middle = max(0, count - 2)
        rows[1 : 1 + middle, 4:] = body[first : first + middle * 184].reshape(middle, 184)
        if count > 1:
            rows[-1, 188 - int(room[-1]) :] = body[first + middle * 184 :]
        return rows.tobytes()
