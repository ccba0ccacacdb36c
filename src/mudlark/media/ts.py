"""MPEG-2 transport streams: packets in, samples out.

Follows ISO/IEC 13818-1 §2.4. Works on whole segments as arrays, one row a packet; there is no loop over packets, only
over stretches of them. Raises TransportError (with the byte offset) on input that is not a transport stream; loss
inside one is counted and said in `losses`, not raised.
"""

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

from mudlark.errors import FormatError, Refused
from mudlark.media.adts import AacStream
from mudlark.media.avc import AvcStream
from mudlark.media.samples import Bytes, Flags, Ints, Samples

Words = npt.NDArray[np.uint32]

PACKET = 188
_SYNC = 0x47
_WRAP = 1 << 33
_AVC, _AAC = 0x1B, 0x0F
_UNSUPPORTED = {
    **{0x01: "MPEG-1 video", 0x02: "MPEG-2 video", 0x03: "MPEG-1 audio", 0x04: "MPEG-2 audio", 0x11: "AAC in LATM"},
    **{0x24: "HEVC video", 0x81: "AC-3 audio", 0x87: "E-AC-3 audio"},
}
# the four bytes of a packet header (§2.4.3.2), read as one little-endian word
_DAMAGED, _UNIT_START, _PID = 0x8000, 0x4000, 0xFF1F00
_SCRAMBLED, _ADAPTED, _PAYLOAD = 0xC0000000, 0x20000000, 0x10000000
_MOST_SKIPPED = 1 << 20  # bytes searched for the first packet


class TransportError(FormatError):
    """Not a transport stream."""


def unwrap(ticks: Ints, after: int) -> Ints:
    """Undo the 33-bit wrap of 90 kHz timestamps so that they run on from `after`.

    ticks: int64, shape (n,), each in [0, 2**33). Returns int64, shape (n,), each within half a wrap of `after`.
    """
    half = _WRAP // 2
    return after + (ticks - after + half) % _WRAP - half


def looks_like_transport(head: bytes | memoryview) -> bool:
    """True if sync bytes stand a packet apart from the start, as far as `head` reaches."""
    marks = bytes(head[: PACKET * 20 : PACKET])
    return len(head) >= PACKET and set(marks) == {_SYNC}


def align(data: bytes | memoryview) -> tuple[Bytes, int]:
    """The packets of a segment as rows of 188 bytes, and how many bytes belong to none.

    A stretch in which sync is lost is stepped over to where three packets in a row (or the end) show it again.
    """
    flat = np.frombuffer(data, np.uint8)
    count = len(flat) // PACKET
    rows = flat[: count * PACKET].reshape(count, PACKET)
    if count and (rows[:, 0] == _SYNC).all():
        return rows, len(flat) - count * PACKET
    parts: list[Bytes] = []
    at = 0
    while (at := _resync(flat, at)) >= 0:
        fitting = (len(flat) - at) // PACKET
        rows = flat[at : at + fitting * PACKET].reshape(fitting, PACKET)
        bad = np.flatnonzero(rows[:, 0] != _SYNC)
        good = int(bad[0]) if len(bad) else fitting
        parts.append(rows[:good])
        at += good * PACKET
    if not parts:
        raise TransportError("This is not an MPEG transport stream: no chain of sync bytes", 0)
    packets = np.concatenate(parts)
    return packets, len(flat) - packets.size


def _resync(flat: Bytes, start: int) -> int:
    """The first position from `start` at which packets begin, or -1."""
    end = min(len(flat), start + _MOST_SKIPPED)
    marks = np.flatnonzero(flat[start:end] == _SYNC) + start
    marks = marks[marks + PACKET <= len(flat)]
    for ahead in (1, 2):
        following = marks + ahead * PACKET
        inside = following < len(flat)
        # the very end has no following packets to ask, so it counts only behind packets that were in sync
        good = ~inside if start else np.zeros(len(marks), np.bool_)
        good[inside] = flat[following[inside]] == _SYNC
        marks = marks[good]
    return int(marks[0]) if len(marks) else -1


@dataclass(slots=True)
class _Payload:
    """Elementary bytes of one PID out of one segment, behind what was carried over.

    starts: where in `stream` each packetised unit begins. pts, dts: its 33-bit times, -1 when absent.
    """

    stream: Bytes
    starts: Ints
    pts: Ints
    dts: Ints


@dataclass(slots=True)
class _Carried:
    """A unit that may go on in the next segment: its bytes and its times (already unwrapped)."""

    data: Bytes = field(default_factory=lambda: np.zeros(0, np.uint8))
    pts: int | None = None
    dts: int | None = None


class TransportReader:
    """Reads the segments of one rendition. One H.264 and one AAC stream of the first program are carried over."""

    def __init__(self) -> None:
        self._clock: int | None = None
        self._programs: int | None = None
        self._video: tuple[int, AvcStream] | None = None
        self._audio: tuple[int, AacStream] | None = None
        self._carried: dict[int, _Carried] = {}
        self._rooms: dict[int, Bytes] = {}
        self._left_out: set[str] = set()
        self._bytes_lost = 0
        self._packets_lost = 0

    @property
    def losses(self) -> list[str]:
        """What was left out so far, in words."""
        said = [f"{kind} is not carried over" for kind in sorted(self._left_out)]
        if self._bytes_lost:
            said.append(f"{self._bytes_lost:,} bytes are not transport packets")
        if self._packets_lost:
            said.append(f"{self._packets_lost:,} transport packets are missing or damaged")
        if self._video and self._video[1].skipped:
            said.append(f"{self._video[1].skipped:,} pictures before the first parameter sets cannot be decoded")
        return said

    def feed(self, data: bytes | memoryview) -> list[Samples]:
        """Take one whole segment; the last picture of each is held back until the next shows that it is whole."""
        packets, stray = align(data)
        self._bytes_lost += stray
        header = packets.reshape(-1).view("<u4").reshape(-1, PACKET // 4)[:, 0].copy()
        damaged = (header & _DAMAGED) != 0
        if damaged.any():
            self._packets_lost += int(damaged.sum())
            packets, header = packets[~damaged], header[~damaged]
        self._read_tables(packets, header)
        result = []
        for pid, stream in [entry for entry in (self._video, self._audio) if entry]:
            payload = self._gather(packets, header, pid)
            samples = self._consume(pid, stream, payload, last=False)
            if samples is not None and len(samples):
                result.append(samples)
        return result

    def flush(self) -> list[Samples]:
        """Give what was held back."""
        result = []
        nothing = np.zeros(0, np.int64)
        for pid, stream in [entry for entry in (self._video, self._audio) if entry]:
            rest = self._carried.get(pid, _Carried())
            samples = self._consume(pid, stream, _Payload(rest.data, nothing, nothing, nothing), last=True)
            if samples is not None and len(samples):
                result.append(samples)
        self._carried.clear()
        return result

    def restart(self) -> None:
        """Timestamps start anew, and the streams may have other PIDs."""
        self._clock = None
        self._programs = None
        self._carried.clear()
        if self._audio:
            self._audio[1].restart()

    def _read_tables(self, packets: Bytes, header: Words) -> None:
        """Find the program's streams (§2.4.4.3 program association, §2.4.4.8 program map)."""
        association = _section(packets, header, 0)
        if association is not None:
            entries = [association[at : at + 4] for at in range(8, len(association) - 4, 4)]
            maps = [int.from_bytes(e[2:4], "big") & 0x1FFF for e in entries if e[0] or e[1]]
            self._programs = maps[0] if maps else None
        if self._programs is None:
            if self._video or self._audio:
                return
            raise TransportError("The transport stream has no program association table")
        table = _section(packets, header, self._programs)
        if table is None:
            if self._video or self._audio:
                return
            raise TransportError("The transport stream has no program map table")
        self._assign(table)

    def _assign(self, table: bytes) -> None:
        at = 12 + (int.from_bytes(table[10:12], "big") & 0x0FFF)
        video = audio = None
        while at + 5 <= len(table) - 4:
            kind, pid = table[at], int.from_bytes(table[at + 1 : at + 3], "big") & 0x1FFF
            at += 5 + (int.from_bytes(table[at + 3 : at + 5], "big") & 0x0FFF)
            if kind == _AVC and video is None:
                video = pid
            elif kind == _AAC and audio is None:
                audio = pid
            elif kind in (0xDB, 0xCF):
                raise Refused("The transport stream is protected (sample encryption); Mudlark does not fetch it.")
            elif kind in (_AVC, _AAC):
                self._left_out.add("A second stream of the same kind")
            elif kind in _UNSUPPORTED:
                self._left_out.add(_UNSUPPORTED[kind])
        if video is None and audio is None:
            kinds = ", ".join(sorted(self._left_out)) or "neither picture nor sound"
            raise TransportError(f"The transport stream holds {kinds}; Mudlark reads H.264 and AAC in it so far")
        if video is not None:
            self._video = (video, self._video[1] if self._video else AvcStream(1))
        if audio is not None:
            self._audio = (audio, self._audio[1] if self._audio else AacStream(2))

    def _gather(self, packets: Bytes, header: Words, pid: int) -> _Payload:
        """Copy the elementary bytes of one PID into one array, behind what was carried over for it."""
        rows = _rows(header, pid)
        rows, word = self._in_order(packets, header, rows)
        if (word & _SCRAMBLED).any():
            raise Refused("The transport stream is scrambled (conditional access); Mudlark does not fetch it.")
        start = np.full(len(rows), 4, np.int64)
        adapted = np.flatnonzero(word & _ADAPTED)
        start[adapted] = np.minimum(5 + packets[rows[adapted], 4].astype(np.int64), PACKET)
        units = np.flatnonzero(word & _UNIT_START)
        skip, pts, dts, sound = _unit_headers(packets, rows, start, units)
        self._packets_lost += int((~sound).sum())
        carried = self._carried.get(pid)
        before = carried.data if carried else np.zeros(0, np.uint8)
        if carried is None:
            first = int(units[0]) if len(units) else len(rows)
            if first:  # the rest of a unit whose beginning is not there
                self._packets_lost += first
                rows, start, skip, units = rows[first:], start[first:], skip[first:], units - first
        start = start + skip
        lengths = PACKET - start
        ends = len(before) + np.cumsum(lengths)
        places = ends - lengths
        stream = self._room(pid, int(ends[-1]) if len(ends) else len(before))
        stream[: len(before)] = before
        _copy(packets, rows, start, places, stream)
        units, pts, dts = units[sound], pts[sound], dts[sound]
        return _Payload(stream, places[units], pts, dts)

    def _room(self, pid: int, size: int) -> Bytes:
        """Space for the elementary bytes of a segment: used again for the next one, as fresh memory costs time."""
        if pid not in self._rooms or len(self._rooms[pid]) < size:
            self._rooms[pid] = np.empty(size + size // 4, np.uint8)
        return self._rooms[pid][:size]

    def _in_order(self, packets: Bytes, header: Words, rows: Ints) -> tuple[Ints, Words]:
        """Drop packets sent twice and count those that are missing, by continuity counter (§2.4.3.3)."""
        word = header[rows]
        counter = (word >> 24).astype(np.uint8)
        step = (counter[1:] - counter[:-1]) & 15
        odd = np.flatnonzero(step != 1)
        if not len(odd):
            return rows, word
        marked = (
            (word[odd + 1] & _ADAPTED != 0) & (packets[rows[odd + 1], 4] > 0) & (packets[rows[odd + 1], 5] & 0x80 != 0)
        )
        twice = (step[odd] == 0) & ~marked
        self._packets_lost += int(((step[odd] - 1) & 15)[~twice & ~marked].sum())
        keep = np.ones(len(rows), np.bool_)
        keep[odd[twice] + 1] = False
        return rows[keep], word[keep]

    def _consume(self, pid: int, stream: AvcStream | AacStream, payload: _Payload, *, last: bool) -> Samples | None:
        """Time the units, keep back the unfinished one, and have the stream make samples of the rest."""
        before = self._carried.get(pid, _Carried())
        timed = payload.pts >= 0
        starts = payload.starts[timed]
        raw_pts = payload.pts[timed]
        raw_dts = np.where(payload.dts[timed] >= 0, payload.dts[timed], raw_pts)
        if self._clock is None and len(raw_dts):
            self._clock = int(raw_dts[0])
        pts, dts = unwrap(raw_pts, self._clock or 0), unwrap(raw_dts, self._clock or 0)
        if len(dts):
            self._clock = int(dts[-1])
        if before.pts is not None and before.dts is not None:
            starts = np.concatenate([[0], starts])
            pts, dts = np.concatenate([[before.pts], pts]), np.concatenate([[before.dts], dts])
        if isinstance(stream, AacStream):
            samples, rest = stream.samples(payload.stream, starts, pts) if len(payload.stream) else (None, 0)
            # bytes carried over belong to a frame that is counted on, so they need no time of their own
            self._carried[pid] = _Carried(payload.stream[rest:].copy())
            return samples
        if not len(starts):
            self._carried[pid] = _Carried(payload.stream.copy())
            return None
        if last:
            self._carried.pop(pid, None)
            return stream.samples(payload.stream, starts, dts, pts)
        cut = int(starts[-1])
        self._carried[pid] = _Carried(payload.stream[cut:].copy(), int(pts[-1]), int(dts[-1]))
        if len(starts) == 1:
            return None
        return stream.samples(payload.stream[:cut], starts[:-1], dts[:-1], pts[:-1])


def _unit_headers(packets: Bytes, rows: Ints, start: Ints, units: Ints) -> tuple[Ints, Ints, Ints, Flags]:
    """Read the PES headers (§2.4.3.6) that begin in the rows `units`.

    Returns how many bytes each row's payload is shortened by (shape of rows), and for each unit pts, dts (-1 when
    absent) and whether the header is sound. A header may reach into the following rows of the same PID.
    """
    skip = np.zeros(len(rows), np.int64)
    columns = np.minimum(start[units, None] + np.arange(19), PACKET - 1)
    head = packets[rows[units, None], columns].astype(np.int64)
    short = np.flatnonzero(start[units] + 19 > PACKET)
    for unit in short.tolist():  # a header cut by the packet's end: join the next packets' payloads
        row = int(units[unit])
        joined = np.concatenate([packets[rows[r], start[r] :] for r in range(row, min(row + 6, len(rows)))])
        head[unit] = np.append(joined[:19], np.zeros(max(0, 19 - len(joined)), np.uint8))
    sound = (head[:, 0] == 0) & (head[:, 1] == 0) & (head[:, 2] == 1)
    size = np.where(sound, 9 + head[:, 8], 0)
    flags = np.where(sound, head[:, 7] >> 6, 0)
    pts = np.where(flags >= 2, _timestamp(head[:, 9:14]), -1)
    dts = np.where(flags == 3, _timestamp(head[:, 14:19]), -1)
    room = PACKET - start[units]
    skip[units] = np.minimum(size, room)
    for unit in np.flatnonzero(size > room).tolist():
        left, row = int(size[unit] - room[unit]), int(units[unit]) + 1
        while left > 0 and row < len(rows):
            skip[row] = min(left, PACKET - int(start[row]))
            left -= int(skip[row])
            row += 1
    return skip, pts, dts, sound


def _timestamp(field_: Ints) -> Ints:
    """The 33 bits of a timestamp spread over five bytes with marker bits."""
    a, b, c, d, e = field_.T
    ticks: Ints = (a >> 1 & 7) << 30 | b << 22 | c >> 1 << 15 | d << 7 | e >> 1
    return ticks


def _copy(packets: Bytes, rows: Ints, start: Ints, places: Ints, out: Bytes) -> None:
    """Copy payloads into `out`: full packets in a row as one block, the others (unit starts, stuffing) one by one."""
    if not len(rows):
        return
    plain = start == 4
    breaks = np.flatnonzero(~(plain[1:] & plain[:-1] & (rows[1:] == rows[:-1] + 1))) + 1
    first = np.concatenate([[0], breaks])
    count = np.diff(np.append(first, len(rows)))
    source, target = packets.reshape(-1).data, out.data
    full = PACKET - 4
    payloads = np.ndarray(len(packets), f"V{full}", packets, offset=4, strides=(PACKET,))
    for row, number, begin, place in zip(
        rows[first].tolist(), count.tolist(), start[first].tolist(), places[first].tolist(), strict=True
    ):
        if number == 1:
            size = PACKET - begin
            target[place : place + size] = source[row * PACKET + begin : (row + 1) * PACKET]
        else:
            np.ndarray(number, f"V{full}", out, offset=place)[:] = payloads[row : row + number]


def _rows(header: Words, pid: int) -> Ints:
    """The packets of a PID that carry a payload."""
    return np.flatnonzero((header & (_PID | _PAYLOAD)) == (pid >> 8 << 8 | (pid & 0xFF) << 16 | _PAYLOAD))


def _section(packets: Bytes, header: Words, pid: int) -> bytes | None:
    """The first whole section of a table on `pid` (§2.4.4), which may span packets."""
    rows = _rows(header, pid)
    collected = b""
    for row in rows.tolist():
        packet = packets[row].tobytes()
        begin = 5 + packet[4] if packet[3] & 0x20 else 4
        if packet[1] & 0x40:
            begin += 1 + packet[begin] if begin < PACKET else 0
            collected = packet[begin:]
        elif collected:
            collected += packet[begin:]
        if len(collected) >= 3:
            size = 3 + (int.from_bytes(collected[1:3], "big") & 0x0FFF)
            if len(collected) >= size:
                return collected[:size]
    return None
