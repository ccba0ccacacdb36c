"""MPEG-2 transport streams: packets in, samples out.

Follows ISO/IEC 13818-1 §2.4. Works on whole segments as arrays, one row a packet; there is no loop over packets, only
over stretches of them. Raises TransportError (with the byte offset) on input that is not a transport stream, and is
then as if it had not been fed; loss inside one is counted, not raised. Which elementary streams are read is a table.
"""

import copy
from collections import Counter
from collections.abc import Callable, Iterator
from functools import cache
from itertools import pairwise

import msgspec
import numpy as np
import numpy.typing as npt
from msgspec.structs import replace

from mudlark.errors import FormatError, Refused
from mudlark.media.crc import crc32_forward
from mudlark.media.picture.avc import AVC
from mudlark.media.picture.hevc import HEVC
from mudlark.media.picture.nal import NalStream
from mudlark.media.samples import Bytes, Event, Flags, Ints, Loss, LossCode, Samples
from mudlark.media.sound.ac3 import AC3
from mudlark.media.sound.adts import ADTS
from mudlark.media.sound.framed import FramedStream
from mudlark.media.sound.latm import LatmStream
from mudlark.media.sound.mpeg_audio import MPEG_AUDIO
from mudlark.media.sound.opus import OpusStream
from mudlark.media.ts_messages import KLV, MARKER_TABLE, MARKERS, METADATA, PRIVATE, is_cut, marker, metadata
from mudlark.media.ts_packets import PACKET, SYNC, stands_in

Words = npt.NDArray[np.uint32]

_LONGEST_MESSAGE = 400  # packets
_WRAP = 1 << 33
_ASSOCIATION, _PROGRAM_MAP = 0x00, 0x02  # kinds of tables (§2.4.4.4)
_ALL_ONES = 0xFFFFFFFF
SoundStream = FramedStream | LatmStream | OpusStream
Stream = NalStream | SoundStream
# by the type that the program map states (§2.4.4.9), and by the descriptors of private streams (ETSI EN 300 468)
_TYPES: dict[int, Callable[[int], Stream]] = {
    0x03: lambda track: FramedStream(track, MPEG_AUDIO),
    0x04: lambda track: FramedStream(track, MPEG_AUDIO),
    0x0F: lambda track: FramedStream(track, ADTS),
    0x11: LatmStream,
    0x1B: lambda track: NalStream(track, AVC),
    0x24: lambda track: NalStream(track, HEVC),
    0x81: lambda track: FramedStream(track, AC3),
    0x84: lambda track: FramedStream(track, AC3),
    0x87: lambda track: FramedStream(track, AC3),
}
_PRIVATE_TYPE = 0x06
_DESCRIPTORS: dict[int, Callable[[int], Stream]] = {0x6A: _TYPES[0x81], 0x7A: _TYPES[0x87]}
_REGISTERED: dict[bytes, Callable[[int], Stream]] = {
    b"AC-3": _TYPES[0x81],
    b"EAC3": _TYPES[0x87],
    b"HEVC": _TYPES[0x24],
    b"Opus": OpusStream,
}
_REGISTRATION, _LANGUAGE, _EXTENSION = 0x05, 0x0A, 0x7F
_OPUS, _MOST_CHANNELS = b"\x80", 8  # an extension whose next byte is the number of channels (ETSI TS 103 491 Annex)
_PROTECTED = frozenset({0xDB, 0xCF, 0xC1, 0xC2})
_KNOWN_OTHERS = {0x01: "MPEG-1 video", 0x02: "MPEG-2 video", 0x10: "MPEG-4 part 2 video", 0x33: "VVC video"}
_BESIDE = {  # what is no picture and no sound
    0x05: "private sections",
    0x06: "private data (subtitles, KLV)",
    0x15: "timed metadata (ID3, KLV)",
    0x86: "markers (SCTE 35)",
}
_FIRST_SOUND = 2  # the picture is track 1, sounds follow
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


def align(data: bytes | memoryview) -> tuple[Bytes, int]:
    """The packets of a segment as rows of 188 bytes, and how many bytes belong to none.

    A stretch in which sync is lost is stepped over to where three packets in a row (or the end) show it again.
    """
    flat = np.frombuffer(data, np.uint8)
    if (stands := stands_in(data)) is not None:
        size, at = stands
        flat = flat[: len(flat) // size * size].reshape(-1, size)[:, at : at + PACKET].reshape(-1)
    count = len(flat) // PACKET
    rows = flat[: count * PACKET].reshape(count, PACKET)
    if count and (rows[:, 0] == SYNC).all():
        return rows, len(flat) - count * PACKET
    parts: list[Bytes] = []
    at = 0
    while (at := _resync(flat, at)) >= 0:
        fitting = (len(flat) - at) // PACKET
        rows = flat[at : at + fitting * PACKET].reshape(fitting, PACKET)
        bad = np.flatnonzero(rows[:, 0] != SYNC)
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
    marks = np.flatnonzero(flat[start:end] == SYNC) + start
    marks = marks[marks + PACKET <= len(flat)]
    for ahead in (1, 2):
        following = marks + ahead * PACKET
        inside = following < len(flat)
        # the very end has no following packets to ask, so it counts only behind packets that were in sync
        good = ~inside if start else np.zeros(len(marks), np.bool_)
        good[inside] = flat[following[inside]] == SYNC
        marks = marks[good]
    return int(marks[0]) if len(marks) else -1


class _Payload(msgspec.Struct):
    """Elementary bytes of one PID out of one segment, behind what was carried over.

    starts: where in `stream` each packetised unit begins. pts, dts: its 33-bit times, -1 when absent.
    """

    stream: Bytes
    starts: Ints
    pts: Ints
    dts: Ints


class _Carried(msgspec.Struct):
    """A unit that may go on in the next segment: its bytes and its times (already unwrapped)."""

    data: Bytes = msgspec.field(default_factory=lambda: np.zeros(0, np.uint8))
    pts: int | None = None
    dts: int | None = None


class _State(msgspec.Struct):
    """What a reader remembers from segment to segment; put back whole if a segment cannot be read."""

    clock: int | None = None
    program: int | None = None
    table: bytes = b""  # the program map that holds now
    met: frozenset[int] = frozenset()  # PIDs of streams and program maps so far
    streams: dict[int, Stream] = msgspec.field(default_factory=dict)  # by PID, in the order of their tracks
    carried: dict[int, _Carried] = msgspec.field(default_factory=dict)
    lost: Counter[tuple[LossCode, str]] = msgspec.field(default_factory=Counter)
    languages: dict[int, str] = msgspec.field(default_factory=dict)  # by PID
    kinds: dict[int, Callable[[int], Stream]] = msgspec.field(default_factory=dict)  # by track
    origin: int | None = None  # the first tick of the stretch
    messages: dict[int, int] = msgspec.field(default_factory=dict)  # kinds of streams of messages, by PID
    events: list[Event] = msgspec.field(default_factory=list)
    unfinished: dict[int, Bytes] = msgspec.field(
        default_factory=dict
    )  # packets of messages that reach into the next segment

    def copy(self) -> "_State":
        return replace(
            self,
            streams={pid: copy.copy(stream) for pid, stream in self.streams.items()},
            carried=dict(self.carried),
            lost=self.lost.copy(),
            languages=dict(self.languages),
            kinds=dict(self.kinds),
            messages=dict(self.messages),
            events=list(self.events),
            unfinished=dict(self.unfinished),
        )


class TransportReader:
    """Reads the segments of one rendition: the first picture of the first program, and all of its sounds."""

    wraps = _WRAP / 90_000  # seconds after which its clock starts anew

    def __init__(self, *, in_band: bool = False) -> None:
        """in_band: parameter sets stay in the samples from the first on."""
        self._state = _State()
        self._in_band = in_band
        self._rooms: dict[int, Bytes] = {}

    @property
    def pids(self) -> frozenset[int]:
        """The streams that have been read, by their PIDs, and the tables that lead to them."""
        return frozenset((0, *self._state.met))

    def losses(self) -> list[Loss]:
        """What was lost or left out since this was last asked."""
        lost = [Loss(code, count, detail) for (code, detail), count in self._state.lost.items()]
        self._state.lost.clear()
        return lost

    def feed(self, data: bytes | memoryview) -> list[Samples]:
        """Take one whole segment; the last picture of each is held back until the next shows that it is whole."""
        before = self._state.copy()
        try:
            return self._feed(data)
        except BaseException:
            self._state = before
            raise

    def _feed(self, data: bytes | memoryview) -> list[Samples]:
        packets, stray = align(data)
        self._lose(LossCode.STRAY_BYTES, stray)
        header = _headers(packets)
        damaged = (header & _DAMAGED) != 0
        if damaged.any():
            self._lose(LossCode.PACKETS, int(damaged.sum()))
            packets, header = packets[~damaged], header[~damaged]
        result: list[Samples] = []
        at = 0
        for row, table in self._program_maps(packets, header):
            if self._state.streams and at < row and self._state.table:
                result += self._take(packets[at:row], header[at:row])
                at = row
            result += self._assign(table)
        if not self._state.streams:
            raise TransportError("The transport stream has no program map table")
        return result + self._take(packets[at:], header[at:])

    def _take(self, packets: Bytes, header: Words) -> list[Samples]:
        """The samples of packets during which the tables are the same."""
        result: list[Samples] = []
        for pid, stream in self._state.streams.items():
            payload = self._gather(packets, header, pid)
            result += self._consume(pid, stream, payload, last=False)
        for pid, kind in self._state.messages.items():
            self._state.events += self._messages(packets, header, pid, kind)
        return result

    def events(self) -> list[Event]:
        """Messages beside picture and sound since this was last asked, in seconds from where the stretch begins."""
        events, self._state.events = self._state.events, []
        return events

    def _messages(self, packets: Bytes, header: Words, pid: int, kind: int) -> Iterator[Event]:
        """The messages of one PID; what reaches into the next segment is read with that."""
        state = self._state
        packets = self._with_unfinished(packets[_rows(header, pid)], pid, kind)
        if not len(packets):
            return
        header = _headers(packets)
        clock, origin = state.clock or 0, state.origin or 0
        if kind == MARKERS:
            came = (clock - origin) / 90_000
            for _, section in _sections(packets, header, pid, MARKER_TABLE):
                if found := marker(section, came, origin, lambda ticks: int(unwrap(np.array(ticks), clock))):
                    yield found
            return
        state.carried.pop(pid, None)
        lost = state.lost.copy()
        payload = self._gather(packets, header, pid)
        state.lost = lost  # of what no film has, nothing is missing
        ends = np.append(payload.starts[1:], len(payload.stream))[: len(payload.starts)]
        for begin, end, pts in zip(payload.starts.tolist(), ends.tolist(), payload.pts.tolist(), strict=True):
            ticks = int(unwrap(np.array(pts), clock)) if pts >= 0 else clock
            yield from metadata(payload.stream[begin:end].tobytes(), round((ticks - origin) / 90_000, 3))

    def _with_unfinished(self, packets: Bytes, pid: int, kind: int) -> Bytes:
        """The packets of one PID, behind those of a message that the segment before left unfinished; those of one that
        is unfinished now wait."""
        left = self._state.unfinished.pop(pid, None)
        own = packets if left is None else np.concatenate((left, packets))
        starts = np.flatnonzero(own[:, 1] & 0x40)
        if not len(starts) or len(own) - starts[-1] > _LONGEST_MESSAGE:
            return own
        last = own[starts[-1] :]
        if is_cut(map(bytes, last), section=kind == MARKERS):
            self._state.unfinished[pid] = last.copy()
            return own[: starts[-1]]
        return own

    def flush(self) -> list[Samples]:
        """Give what was held back."""
        return self._let_go(list(self._state.streams))

    def _let_go(self, pids: list[int]) -> list[Samples]:
        """What was held back of some streams, which do not go on."""
        result: list[Samples] = []
        nothing = np.zeros(0, np.int64)
        for pid in pids:
            rest = self._state.carried.get(pid, _Carried())
            payload = _Payload(rest.data, nothing, nothing, nothing)
            result += self._consume(pid, self._state.streams[pid], payload, last=True)
            self._state.carried.pop(pid, None)
        return result

    def begin(self, init: bytes | None = None) -> None:
        """Timestamps start anew, and the streams may have other PIDs. init: the tables, where segments have none of
        their own (RFC 8216 §3.2)."""
        state = self._state
        state.clock = state.program = state.origin = None
        state.table = b""
        state.carried.clear()
        for stream in state.streams.values():
            if not isinstance(stream, NalStream):
                stream.restart()
        if init:
            packets, _ = align(init)
            for _, table in self._program_maps(packets, _headers(packets)):
                self._assign(table)

    def _lose(self, code: LossCode, count: int, detail: str = "") -> None:
        if count:
            self._state.lost[code, detail] += count

    def _program_maps(self, packets: Bytes, header: Words) -> list[tuple[int, bytes]]:
        """The program maps (§2.4.4.8) that say something new, each with the packet before which it begins to hold: the
        first program's of the association table (§2.4.4.3), which may name another one as it goes on."""
        state = self._state
        found: list[tuple[int, bytes]] = []
        associations = _sections(packets, header, 0, _ASSOCIATION)
        programs = [(row, program) for row, table in associations if (program := _first_program(table)) is not None]
        if state.program is None and not programs:
            if state.streams:
                return []
            raise TransportError("The transport stream has no program association table")
        begins = [(0, state.program)] if state.program is not None else []
        for row, program in programs:
            if not begins or program != begins[-1][1]:
                begins.append((row if begins else 0, program))
        known = state.table
        for (begin, program), (end, _) in pairwise([*begins, (len(packets), None)]):
            assert program is not None
            state.program = program
            for row, table in _sections(packets, header, program, _PROGRAM_MAP):
                if begin <= row < end and table != known:
                    found.append((row, table))
                    known = table
        return found

    def _assign(self, table: bytes) -> list[Samples]:
        """Give the streams of a program map their tracks; a stream of the same kind goes on where its track was. Gives
        what was held back of streams that do not go on."""
        state = self._state
        known = {stream.track: stream for stream in state.streams.values()}
        streams: dict[int, Stream] = {}
        state.messages.clear()
        sounds, others, beside = _FIRST_SOUND, list[str](), list[str]()
        for kind, pid, descriptors in _entries(table):
            if kind in _PROTECTED:
                raise Refused("The transport stream is protected (sample encryption); Mudlark does not fetch it.")
            make = _maker(kind, descriptors)
            if make is None:
                if kind in (METADATA, MARKERS) or (kind == PRIVATE and descriptors.get(_REGISTRATION, b"")[:4] == KLV):
                    state.messages[pid] = kind
                others.append(_KNOWN_OTHERS.get(kind, ""))
                beside.append(_BESIDE.get(kind, ""))
                continue
            track = 1 if isinstance(make(1), NalStream) else sounds
            if track == 1 and any(stream.track == 1 for stream in streams.values()):
                others.append("a second picture")
                continue
            sounds += track != 1
            same = known.get(track) if state.kinds.get(track) is make else None
            streams[pid] = stream = same or make(track)
            if isinstance(stream, NalStream):
                stream.changed = stream.changed or self._in_band
            state.kinds[track] = make
            language = descriptors.get(_LANGUAGE, b"")[:3].decode("latin-1").strip("\0 ")
            state.languages[pid] = language.lower() if language.isalpha() else ""
        if not streams:
            raise TransportError(
                f"The transport stream holds {', '.join(filter(None, others)) or 'neither picture nor sound'}, "
                "which Mudlark does not read"
            )
        if list(streams) != list(state.streams):
            for name in filter(None, others):
                self._lose(LossCode.LEFT_OUT, 1, name)
            for name in filter(None, beside):
                self._lose(LossCode.BESIDE, 1, name)
        held = self._let_go([pid for pid, stream in state.streams.items() if streams.get(pid) is not stream])
        state.streams = dict(sorted(streams.items(), key=lambda entry: entry[1].track))
        state.table = table
        state.met |= {*streams, *([state.program] if state.program is not None else [])}
        return held

    def _gather(self, packets: Bytes, header: Words, pid: int) -> _Payload:
        """Copy the elementary bytes of one PID into one array, behind what was carried over for it."""
        rows = _rows(header, pid)
        rows, word = self._in_order(packets, header, rows)
        scrambled = (word & _SCRAMBLED) != 0
        if scrambled.any():
            if scrambled.sum() * 2 > len(rows):
                raise Refused("The transport stream is scrambled (conditional access); Mudlark does not fetch it.")
            self._lose(LossCode.PACKETS, int(scrambled.sum()))  # single ones are damaged
            rows, word = rows[~scrambled], word[~scrambled]
        start = np.full(len(rows), 4, np.int64)
        adapted = np.flatnonzero(word & _ADAPTED)
        start[adapted] = np.minimum(5 + packets[rows[adapted], 4].astype(np.int64), PACKET)
        units = np.flatnonzero(word & _UNIT_START)
        skip, pts, dts, sound = _unit_headers(packets, rows, start, units)
        self._lose(LossCode.PACKETS, int((~sound).sum()))
        carried = self._state.carried.get(pid)
        before = carried.data if carried else np.zeros(0, np.uint8)
        if carried is None:
            first = int(units[0]) if len(units) else len(rows)
            if first:  # the rest of a unit whose beginning is not there
                self._lose(LossCode.PACKETS, first)
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
        self._lose(LossCode.PACKETS, int(((step[odd] - 1) & 15)[~twice & ~marked].sum()))
        keep = np.ones(len(rows), np.bool_)
        keep[odd[twice] + 1] = False
        return rows[keep], word[keep]

    def _consume(self, pid: int, stream: Stream, payload: _Payload, *, last: bool) -> Iterator[Samples]:
        """Time the units, keep back the unfinished one, and have the stream make samples of the rest."""
        samples = self._samples(pid, stream, payload, last)
        if isinstance(stream, NalStream) and stream.skipped:
            self._lose(LossCode.UNDECODABLE, stream.skipped)
            stream.skipped = 0
        if samples is None or not len(samples):
            return
        if language := self._state.languages.get(pid):
            samples.format = replace(samples.format, language=language)
        yield samples

    def _samples(self, pid: int, stream: Stream, payload: _Payload, last: bool) -> Samples | None:
        state = self._state
        before = state.carried.get(pid, _Carried())
        timed = payload.pts >= 0
        starts = payload.starts[timed]
        raw_pts = payload.pts[timed]
        raw_dts = np.where(payload.dts[timed] >= 0, payload.dts[timed], raw_pts)
        if state.clock is None and len(raw_dts):
            state.clock = int(raw_dts[0])
        if state.origin is None:
            state.origin = state.clock
        pts, dts = unwrap(raw_pts, state.clock or 0), unwrap(raw_dts, state.clock or 0)
        if len(dts):
            state.clock = int(dts[-1])
        if before.pts is not None and before.dts is not None:
            starts = np.concatenate([[0], starts])
            pts, dts = np.concatenate([[before.pts], pts]), np.concatenate([[before.dts], dts])
        if not isinstance(stream, NalStream):
            samples, rest = stream.samples(payload.stream, starts, pts) if len(payload.stream) else (None, 0)
            # bytes carried over belong to a frame that is counted on, so they need no time of their own
            state.carried[pid] = _Carried(payload.stream[rest:].copy())
            return samples
        if not len(starts):
            state.carried[pid] = _Carried(payload.stream.copy())
            return None
        samples, held = stream.samples(payload.stream, starts, dts, pts, last=last)
        state.carried.pop(pid, None)
        if held is not None:
            state.carried[pid] = _Carried(payload.stream[held.begin :].copy(), held.pts, held.dts)
        return samples


def _entries(table: bytes) -> Iterator[tuple[int, int, dict[int, bytes]]]:
    """Type, PID and descriptors (by tag) of each stream of a program map (§2.4.4.8)."""
    at = 12 + (int.from_bytes(table[10:12], "big") & 0x0FFF)
    while at + 5 <= len(table) - 4:
        kind, pid = table[at], int.from_bytes(table[at + 1 : at + 3], "big") & 0x1FFF
        end = at + 5 + (int.from_bytes(table[at + 3 : at + 5], "big") & 0x0FFF)
        by_tag: dict[int, bytes] = {}
        at += 5
        while at + 2 <= min(end, len(table) - 4):
            by_tag[table[at]] = table[at + 2 : at + 2 + table[at + 1]]
            at += 2 + table[at + 1]
        yield kind, pid, by_tag
        at = end


def _maker(kind: int, descriptors: dict[int, bytes]) -> Callable[[int], Stream] | None:
    """What reads a stream; None if nothing does."""
    if kind != _PRIVATE_TYPE:
        return _TYPES.get(kind)
    registered = _REGISTERED.get(descriptors.get(_REGISTRATION, b"")[:4])
    extended = descriptors.get(_EXTENSION, b"")
    if (
        registered is OpusStream
        and extended[:1] == _OPUS
        and 0 < int.from_bytes(extended[1:2], "big") <= _MOST_CHANNELS
    ):
        return _opus(extended[1])
    return registered or next((make for tag, make in _DESCRIPTORS.items() if tag in descriptors), None)


@cache
def _opus(channels: int) -> Callable[[int], Stream]:
    """What makes a reader of Opus with so many channels, the same each time."""
    return lambda track: OpusStream(track, channels)


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


def _headers(packets: Bytes) -> Words:
    """The first four bytes of each packet, as one word."""
    return packets.reshape(-1).view("<u4").reshape(-1, PACKET // 4)[:, 0].copy()


def _rows(header: Words, pid: int) -> Ints:
    """The packets of a PID that carry a payload."""
    return np.flatnonzero((header & (_PID | _PAYLOAD)) == (pid >> 8 << 8 | (pid & 0xFF) << 16 | _PAYLOAD))


def _first_program(association: bytes) -> int | None:
    """The PID of the first program's map; what program 0 names is the network's table."""
    entries = [association[at : at + 4] for at in range(8, len(association) - 4, 4)]
    return next((int.from_bytes(one[2:4], "big") & 0x1FFF for one in entries if one[0] or one[1]), None)


def _sections(packets: Bytes, header: Words, pid: int, kind: int) -> list[tuple[int, bytes]]:
    """The sections of one table that hold now (§2.4.4), which may span packets, each with the row in which it begins.

    Those whose check sum does not hold are passed over, unless none does: there are writers that know of none.
    """
    listed: list[tuple[int, bytes]] = []
    collected, began = b"", 0
    for row in _rows(header, pid).tolist():
        packet = packets[row].tobytes()
        begin = 5 + packet[4] if packet[3] & 0x20 else 4
        if packet[1] & 0x40:
            begin += 1 + packet[begin] if begin < PACKET else 0
            collected, began = packet[begin:], row
        elif collected:
            collected += packet[begin:]
        if len(collected) >= 3:
            size = 3 + (int.from_bytes(collected[1:3], "big") & 0x0FFF)
            if len(collected) >= size:
                if collected[0] == kind and size > 12 and (kind == MARKER_TABLE or collected[5] & 1):
                    listed.append((began, collected[:size]))
                collected = b""
    checked = [one for one in listed if not crc32_forward(one[1], register=_ALL_ONES)]
    return checked or listed[:1]
