"""Writing a progressive MP4 whose index comes first.

Follows ISO/IEC 14496-12 (boxes, sample tables, edit lists), 14496-14 (mp4a), 14496-15 (avc1, avc3). No file is touched
here: `Mp4Builder.add` says which buffers come next in the file, `head` gives what stands before them.

Index first without a second pass: room for the index is set aside before the first sample, and what it does not need
becomes a `free` box. Only when the room is too small must the media be moved.
"""

from collections.abc import Mapping
from itertools import pairwise
from typing import Any

import msgspec
import numpy as np
import numpy.typing as npt
from msgspec.structs import replace

from mudlark.media.mp4.about import About, about_box
from mudlark.media.mp4.boxes import Mp4Error, box, full_box
from mudlark.media.mp4.entries import sample_entry
from mudlark.media.mp4.headers import MOVIE_SCALE, movie_header, track_box
from mudlark.media.samples import Format, Ints, Samples, TrackLabel, cut_pieces

_FILE_TYPE = box("ftyp", b"isom", (0x200).to_bytes(4, "big"), b"isomiso2avc1mp41")
_MEDIA_HEADER = 16
Numbers = npt.NDArray[np.integer[Any]]
_FARTHEST = 1 << 30  # ticks between decoding and presentation that a broken stream may claim
_MOST = 0xFFFF_FFFF  # that a field of 32 bits holds
_USUAL_SCALE, _LEAST_SCALE = 90_000, 1_000  # ticks a second, where the stream's own are too fine for a hole
CHUNK_SECONDS = 1.0  # how much of one track stands in one piece before the next track has its turn


class _Table(msgspec.Struct):
    """What the index will say about one track; lists of arrays as narrow as the file has them, joined at the end.
    last: ticks that the last sample is stated to last, 0 where nothing states it."""

    formats: list[Format]
    sizes: list[npt.NDArray[np.uint32]] = msgspec.field(default_factory=list)
    dts: list[Ints] = msgspec.field(default_factory=list)
    offsets: list[npt.NDArray[np.int32]] = msgspec.field(default_factory=list)
    sync: list[npt.NDArray[np.uint32]] = msgspec.field(default_factory=list)
    chunk_places: list[int] = msgspec.field(default_factory=list)
    chunk_counts: list[int] = msgspec.field(default_factory=list)
    chunk_formats: list[int] = msgspec.field(default_factory=list)
    count: int = 0
    last: int = 0

    def number_of(self, format: Format) -> int:
        """The number, from 1, of a format among those of the track; one that says the same takes its place."""
        for index, known in enumerate(self.formats):
            if _alike(known, format):
                self.formats[index] = format
                return index + 1
        self.formats.append(format)
        return len(self.formats)


def _alike(one: Format, other: Format) -> bool:
    """True if the same decoder configuration serves both: they may differ in where parameter sets stand."""
    same = (one.config, one.width, one.height, one.channels, one.sample_rate, one.pixel_aspect)
    return same == (other.config, other.width, other.height, other.channels, other.sample_rate, other.pixel_aspect)


class Mp4Builder:
    """Collects samples of several tracks, chunk by chunk, and builds the index at the end.

    labels: what is said of tracks, by their numbers. about: of the whole file.
    """

    def __init__(self, labels: Mapping[int, TrackLabel] | None = None, about: About | None = None) -> None:
        self._tables: dict[int, _Table] = {}
        self._written = 0
        self._labels = labels or {}
        self._about = about or About()

    @property
    def media_size(self) -> int:
        """Bytes of samples so far."""
        return self._written

    def add(self, batch: list[Samples]) -> list[memoryview]:
        """Take samples of about the same time, one entry a track; give the buffers to append to the media data.

        Tracks take turns by the second of decoding time, so that a player reads on instead of seeking.
        """
        pending: list[tuple[int, Samples, int, int, list[memoryview]]] = []
        for samples in batch:
            seconds = samples.dts / samples.format.timescale // CHUNK_SECONDS
            cuts = [0, *(np.flatnonzero(np.diff(seconds)) + 1).tolist(), len(samples)]
            at = np.concatenate([[0], np.cumsum(samples.sizes)])
            parts = cut_pieces(samples.pieces, at[cuts[1:-1]].tolist())
            for (first, last), pieces in zip(pairwise(cuts), parts, strict=True):
                pending.append((int(seconds[first]), samples, first, last, pieces))
        pending.sort(key=lambda chunk: (chunk[0], chunk[1].track))
        buffers: list[memoryview] = []
        for _, samples, first, last, pieces in pending:
            table = self._tables.setdefault(samples.track, _Table([samples.format]))
            table.chunk_formats.append(table.number_of(samples.format))
            table.chunk_places.append(self._written)
            table.chunk_counts.append(last - first)
            self._written += int(samples.sizes[first:last].sum())
            buffers.extend(pieces)
        for samples in batch:
            table = self._tables[samples.track]
            table.sizes.append(samples.sizes.astype(np.uint32))
            table.dts.append(samples.dts)
            table.offsets.append(np.clip(samples.pts - samples.dts, -_FARTHEST, _FARTHEST).astype(np.int32))
            table.sync.append((np.flatnonzero(samples.sync) + table.count).astype(np.uint32))
            table.count += len(samples)
            table.last = int(samples.durations[-1]) if samples.durations is not None else 0
        return buffers

    def index_estimate(self, share: float) -> int:
        """Bytes to set aside for everything before the media, if what was added so far is `share` of the whole."""
        fixed = len(about_box(self._about))
        so_far = len(self._index(0)) - fixed
        return int(so_far / max(share, 1e-6) * 1.1) + fixed + 4096

    def head(self, room: int) -> bytes | None:
        """All that stands before the media, exactly `room` bytes long; None if that is not enough."""
        index = self._index(room)
        free = room - len(_FILE_TYPE) - len(index) - _MEDIA_HEADER
        if free < 0 or 0 < free < 8:
            return None
        filler = box("free", bytes(free - 8)) if free else b""
        media = b"\0\0\0\1mdat" + (self._written + _MEDIA_HEADER).to_bytes(8, "big")
        return _FILE_TYPE + index + filler + media

    def room_needed(self) -> int:
        """The smallest `room` with which `head` succeeds."""
        room = len(_FILE_TYPE) + len(self._index(0)) + _MEDIA_HEADER
        return len(_FILE_TYPE) + len(self._index(room)) + _MEDIA_HEADER  # offsets may need to be wide from there

    def _index(self, media_start: int) -> bytes:
        ordered = sorted((number, table) for number, table in self._tables.items() if table.count)
        tracks = [
            _Track(place, table, self._labels.get(number, TrackLabel()))
            for place, (number, table) in enumerate(ordered, start=1)
        ]
        origin = min((track.begin for track in tracks), default=0.0)
        boxes = [track.box(media_start, origin) for track in tracks]
        duration = max((round((track.end - origin) * MOVIE_SCALE) for track in tracks), default=0)
        return box("moov", movie_header(duration, len(tracks)), *boxes, about_box(self._about))


class _Track:
    """One track's arrays, joined, and the boxes made of them."""

    def __init__(self, number: int, table: _Table, label: TrackLabel) -> None:
        self.number = number
        self.formats = table.formats
        self.format = table.formats[0]
        self.label = label
        for arrays in (table.sizes, table.dts, table.offsets, table.sync):
            arrays[:] = [np.concatenate(arrays)]  # joined for good, so that they are not there twice
        self.sizes, self.dts, self.sync = table.sizes[0], table.dts[0], table.sync[0] + np.uint32(1)
        self.offsets = table.offsets[0]
        self.chunk_places = np.array(table.chunk_places, np.int64)
        self.chunk_counts = np.array(table.chunk_counts, np.int64)
        self.chunk_formats = np.array(table.chunk_formats, np.int64)
        self.durations = _durations(self.dts, table.last, self.format.sample_duration)
        if int(self.durations.max()) > _MOST:
            self._slow_down()
        shift = max(0, -int(self.offsets.min()))  # offsets of version 0 are not negative
        if shift:
            self.offsets = self.offsets + np.int32(shift)
        presented = self.dts + self.offsets
        self.last = int((presented + self.durations).max())
        # what comes before is decoded, and not presented
        self.first = min(int(presented.min()) + self.format.priming, self.last)
        # seconds on the common clock: a shift of all offsets is undone by the edit list, so it is not counted here
        self.begin = (self.first - shift) / self.format.timescale
        self.end = (self.last - shift) / self.format.timescale

    def _slow_down(self) -> None:
        """Take a timescale in which the longest duration fits its field of 32 bits: each time is rounded once."""
        old = self.format.timescale
        scale = min(_USUAL_SCALE, old * _MOST // (int(self.durations.max()) + 1))
        if scale < _LEAST_SCALE:
            raise Mp4Error(f"A hole of {int(self.durations.max()) // old:,} s is longer than an MP4 can have", 0)
        ticks, shown = (_rescaled(times, old, scale) for times in (self.dts, self.dts + self.offsets))
        usual = (self.format.sample_duration * scale + old // 2) // old
        self.dts, self.offsets = ticks, (shown - ticks).astype(np.int32)
        self.format = replace(self.format, timescale=scale, sample_duration=usual)
        self.formats = [replace(one, timescale=scale) for one in self.formats]
        self.durations = _durations(self.dts, int(self.durations[-1]) * scale // old, usual)

    def box(self, media_start: int, origin: float) -> bytes:
        played = round((self.end - self.begin) * MOVIE_SCALE)
        delay = round((self.begin - origin) * MOVIE_SCALE)
        return track_box(
            self.number,
            self.format,
            self.label,
            (delay + played, int(self.durations.sum())),
            self._edits(delay, played, self.first - int(self.dts[0])),
            self._tables(media_start),
        )

    def _edits(self, delay: int, played: int, media_time: int) -> bytes:
        """An edit list (§8.6.6): wait until this track begins, then play from its first presented sample."""
        rows = [(delay, -1)] if delay else []
        rows.append((played, media_time))
        entries = b"".join(
            length.to_bytes(8, "big") + time.to_bytes(8, "big", signed=True) + b"\0\1\0\0" for length, time in rows
        )
        return box("edts", full_box("elst", 1, 0, len(rows).to_bytes(4, "big"), entries))

    def _tables(self, media_start: int) -> bytes:
        places = self.chunk_places + media_start
        wide = bool(len(places)) and int(places[-1]) > 0xFFFFFFFF
        offsets = [_runs("ctts", self.offsets)] if self.offsets.any() else []
        sync = [_list("stss", self.sync)] if len(self.sync) < len(self.sizes) else []
        parts = [
            full_box("stsd", 0, 0, len(self.formats).to_bytes(4, "big"), *map(sample_entry, self.formats)),
            _runs("stts", self.durations),
            *offsets,
            *sync,
            self._chunk_runs(),
            full_box("stsz", 0, 0, bytes(4), len(self.sizes).to_bytes(4, "big"), self.sizes.astype(">u4").tobytes()),
            _list("co64", places, ">u8") if wide else _list("stco", places),
        ]
        return box("stbl", *parts)

    def _chunk_runs(self) -> bytes:
        first = _run_starts(self.chunk_counts << 16 | self.chunk_formats)
        rows = np.stack([first + 1, self.chunk_counts[first], self.chunk_formats[first]], axis=1)
        return full_box("stsc", 0, 0, len(rows).to_bytes(4, "big"), rows.astype(">u4").tobytes())


def _rescaled(ticks: Ints, old: int, scale: int) -> Ints:
    """Ticks of one timescale in those of another, rounded once; in two parts, so that nothing overflows."""
    return ticks // old * scale + (ticks % old * scale + old // 2) // old


def _durations(dts: Ints, last: int, usual: int) -> Ints:
    """Ticks from each sample to the next. The last lasts as it is stated to (0 if it is not), else as most others, else
    as usual."""
    durations = np.empty_like(dts)
    np.subtract(dts[1:], dts[:-1], out=durations[:-1])
    np.maximum(durations, 0, out=durations)
    durations[-1] = last or (int(np.median(durations[:-1])) if len(dts) > 1 else usual) or usual or 1
    return durations


def _run_starts(values: Numbers) -> Ints:
    return np.concatenate([[0], np.flatnonzero(np.diff(values)) + 1]) if len(values) else np.zeros(0, np.int64)


def _runs(kind: str, values: Numbers) -> bytes:
    """A table of (how many, value)."""
    first = _run_starts(values)
    if len(values) and (int(values.max()) > _MOST or int(values.min()) < 0):
        raise Mp4Error(f"The table {kind} holds a number that does not fit into it", 0)
    rows = np.stack([np.diff(np.append(first, len(values))), values[first]], axis=1)
    return full_box(kind, 0, 0, len(rows).to_bytes(4, "big"), rows.astype(">u4").tobytes())


def _list(kind: str, values: Numbers, width: str = ">u4") -> bytes:
    return full_box(kind, 0, 0, len(values).to_bytes(4, "big"), values.astype(width).tobytes())
