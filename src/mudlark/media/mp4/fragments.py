"""Fragmented MP4 and CMAF segments: fragments in, samples out.

Follows ISO/IEC 14496-12 §8.8 (movie fragments). A segment holds one fragment or several; each run of samples (trun) is
one array. Raises Mp4Error on what contradicts itself, and is then as if the segment had not been fed.
"""

from collections.abc import Iterator
from contextlib import suppress
from itertools import groupby

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.media.movie import Edit, ReadAt, TrackIndex
from mudlark.media.mp4.boxes import Box, Mp4Error, children, header
from mudlark.media.mp4.read import PLAYED, Defaults, IndexedMovie, parse_movie
from mudlark.media.samples import Event, Format, Ints, Loss, LossCode, Samples

_NOT_SYNC = 0x10000  # sample_is_non_sync_sample (§8.8.3.1)
_MOST_SAMPLES = 1 << 22  # of one segment
_FIRST_SOUND = 2
_LARGEST_FRAGMENT = 1 << 26  # bytes of what describes the samples of one


class _Track(msgspec.Struct):
    """A track as the initialization section describes it. edit: ticks to take from media time to get to the movie's."""

    number: int
    formats: list[Format]
    edit: int
    defaults: Defaults
    following: int = 0
    begun: bool = False

    @property
    def timescale(self) -> int:
        """Ticks a second."""
        return self.formats[0].timescale

    def insist_on_usual(self, ticks: int) -> None:
        """Take this for the usual ticks of a sample where the index did not say."""
        self.formats = [one if one.sample_duration else replace(one, sample_duration=ticks) for one in self.formats]


class _Run(msgspec.Struct):
    """Samples of one track that follow each other in the data. begin: byte; end: when the next sample is decoded.
    described: the format of all of them, from 0."""

    begin: int
    end: int
    described: int
    sizes: Ints
    dts: Ints
    pts: Ints
    durations: Ints
    sync: np.ndarray[tuple[int], np.dtype[np.bool_]]


class FragmentReader:
    """Reads the segments of one rendition: its first picture, and all of its sounds."""

    wraps = 0.0

    def __init__(self, handlers: frozenset[str] = PLAYED, *, every: bool = False) -> None:
        """handlers: the kinds of tracks that are read. every: all tracks are, whatever they are."""
        self._handlers, self._every = handlers, every
        self._tracks: dict[int, _Track] = {}
        self._lost: list[Loss] = []
        self._events: list[Event] = []

    def begin(self, init: bytes | None = None) -> None:
        """Take the initialization section of what follows. Without one, that of before goes on."""
        if init is None:
            return
        boxes = list(children(init, 0, 0, len(init)))
        index = next((box for box in boxes if box.kind == "moov"), None)
        if index is None:
            raise Mp4Error("The initialization section has no index (moov)", 0)
        self._tracks = self._read_index(init[index.start : index.end])

    def _read_index(self, data: bytes) -> dict[int, _Track]:
        movie = parse_movie(data, fragments=True, handlers=self._handlers)
        tracks: dict[int, _Track] = {}
        sounds = _FIRST_SOUND
        for index in [*movie.tracks, *(movie.others if self._every else [])]:
            video = index.format.type == "video"
            if video and not self._every and any(track.number == 1 for track in tracks.values()):
                self._lost.append(Loss(LossCode.LEFT_OUT, 1, "a second picture"))
                continue
            defaults = (movie.defaults or {}).get(index.number, Defaults())
            language = index.language if index.language != "und" else ""
            formats = [replace(one, sample_duration=defaults.duration, language=language) for one in index.formats]
            stated = next((edit.media_time for edit in index.edits if edit.media_time is not None), 0)
            tracks[index.number] = _Track(1 if video else sounds, formats, stated - index.delay, defaults)
            sounds += not video
        if not tracks:
            raise Mp4Error("The initialization section describes no track of the kind that is wanted", 0)
        return tracks

    def losses(self) -> list[Loss]:
        """What was left out since this was last asked."""
        lost, self._lost = self._lost, []
        return lost

    def events(self) -> list[Event]:
        """Messages among the media since this was last asked."""
        events, self._events = self._events, []
        return events

    def ends(self) -> dict[int, int]:
        """When each track has ended so far, by its number in the samples, in ticks."""
        return {track.number: track.following - track.edit for track in self._tracks.values()}

    def flush(self) -> list[Samples]:
        """Nothing is held back."""
        return []

    def feed(self, data: memoryview) -> list[Samples]:
        """Take one whole segment."""
        boxes = list(_top(data))
        tracks = self._tracks
        if (index := next((box for box in boxes if box.kind == "moov"), None)) is not None:
            tracks = self._read_index(bytes(data[index.start : index.end]))
        if not tracks:
            raise Mp4Error("Fragments came before any initialization section", 0)
        following = {number: track.following for number, track in tracks.items()}
        runs: dict[int, list[_Run]] = {}
        for box in boxes:
            if box.kind == "moof":
                self._read_fragment(data, box, tracks, following, runs, len(data))
        if not any(box.kind == "moof" for box in boxes):
            if index is None:
                raise Mp4Error("There is no fragment (moof) in the segment", 0)
            return self._progressive(data, index, tracks)
        begin = min((run[0].dts[0] / tracks[number].timescale for number, run in runs.items()), default=0.0)
        self._events += [event for box in boxes if box.kind == "emsg" and (event := _event(data, box, float(begin)))]
        made = [
            samples for number, of_track in runs.items() for samples in self._described(tracks[number], data, of_track)
        ]
        for number, track in tracks.items():
            track.following = following[number]
        self._tracks = tracks
        made = self._opened(made)
        return sorted((samples for samples in made if len(samples)), key=lambda samples: samples.track)

    def _progressive(self, data: memoryview, box: Box, tracks: dict[int, _Track]) -> list[Samples]:
        """The samples of a whole file, whose index lists them all."""
        made = []
        for index in parse_movie(bytes(data[box.start : box.end]), fragments=True, handlers=self._handlers).tracks:
            track = tracks.get(index.number)
            if track is None or not len(index.sizes):
                continue
            if int(index.offsets.min()) < 0 or int((index.offsets + index.sizes).max()) > len(data):
                raise Mp4Error("Samples lie outside of the file", box.start)
            pieces = [data[first:last] for first, last in index.runs().tolist()]
            track.insist_on_usual(int(np.median(index.durations)))
            times = index.dts - track.edit, index.pts - track.edit
            rest = Samples(track.number, track.formats[0], index.sizes, *times, index.sync, pieces, index.durations)
            done = 0
            for cut in [*(np.flatnonzero(np.diff(index.described)) + 1).tolist(), len(index.sizes)]:
                some, rest = rest.split(cut - done)
                some.format, done = track.formats[int(index.described[cut - 1])], cut
                made.append(some)
        self._tracks = tracks
        return sorted(self._opened(made), key=lambda samples: samples.track)

    def _opened(self, made: list[Samples]) -> list[Samples]:
        """The samples, with what is only decoded at the beginning of each track of sound."""
        opening = {track.number for track in self._tracks.values() if not track.begun}
        for track in self._tracks.values():
            track.begun = track.begun or any(samples.track == track.number for samples in made)
        primed = []
        for samples in made:
            is_first = samples.track in opening and samples.format.type == "audio"
            opening.discard(samples.track)
            primed.append(samples.primed() if is_first else samples)
        return primed

    @property
    def tracks(self) -> frozenset[int]:
        """The numbers of the tracks that are read, as the index has them."""
        return frozenset(self._tracks)

    def note_runs(
        self,
        data: memoryview,
        moof: Box,
        following: dict[int, int],
        runs: dict[int, list[_Run]],
        limit: int,
        origin: int,
    ) -> None:
        """The runs of a fragment alone, whose samples lie within `limit` bytes of its beginning. origin: the byte of
        its file at which the data begin."""
        self._read_fragment(data, moof, self._tracks, following, runs, limit, origin)

    def _read_fragment(
        self,
        data: memoryview,
        moof: Box,
        tracks: dict[int, _Track],
        following: dict[int, int],
        runs: dict[int, list[_Run]],
        limit: int,
        origin: int | None = None,
    ) -> None:
        """Note the runs of a fragment. limit: bytes behind the beginning of `data` in which samples may lie. origin:
        the byte of the file at which the data begin, if that is known."""
        end_of_data = moof.start
        for traf in children(data, 0, moof.content, moof.end):
            if traf.kind != "traf":
                continue
            inside = list(children(data, 0, traf.content, traf.end))
            head = next((box for box in inside if box.kind == "tfhd"), None)
            if head is None:
                raise Mp4Error("A track fragment has no header (tfhd)", traf.start)
            fields = _Fields(data, head)
            flags = fields.flags
            number = fields.take(4)
            track = tracks.get(number)
            based = fields.take(8) if flags & 0x1 else None
            usual = track.defaults if track else Defaults()
            described = fields.take(4) - 1 if flags & 0x2 else usual.described
            if track and not 0 <= described < len(track.formats):
                raise Mp4Error("A fragment names a sample description that does not exist", head.start)
            usual = Defaults(
                duration=fields.take(4) if flags & 0x8 else usual.duration,
                size=fields.take(4) if flags & 0x10 else usual.size,
                flags=fields.take(4) if flags & 0x20 else usual.flags,
                described=described,
            )
            base = moof.start if flags & 0x20000 else end_of_data
            if based is not None:  # it counts from the beginning of the file (§8.8.7)
                base = based - origin if origin is not None else _base_in(data, inside, moof, based)
            if track is None:
                continue
            for box in inside:
                if box.kind == "tfdt":
                    stated = _Fields(data, box)
                    following[number] = stated.take(8 if stated.version else 4)
                    if following[number] >> 62:
                        raise Mp4Error("A fragment begins at a time beyond all reason", box.start)
            at = base
            for box in inside:
                if box.kind == "trun":
                    run, at = _read_run(data, box, usual, base, at, following[number], limit)
                    if len(run.sizes):
                        if moof.start <= run.begin < moof.end:
                            raise Mp4Error("A run of samples begins inside of the boxes that describe it", box.start)
                        following[number] = run.end
                        runs.setdefault(number, []).append(run)
            end_of_data = at

    def _described(self, track: _Track, data: memoryview, runs: list[_Run]) -> list[Samples]:
        """The samples of some runs of one track: those that one format describes together."""
        if sum(len(run.sizes) for run in runs) > _MOST_SAMPLES:
            raise Mp4Error("A segment claims more samples than any can hold", 0)
        return [
            self._samples(track, data, list(same), described)
            for described, same in groupby(runs, key=lambda run: run.described)
        ]

    def _samples(self, track: _Track, data: memoryview, runs: list[_Run], described: int) -> Samples:
        sizes, dts, pts, lasts = (
            np.concatenate([getattr(run, name) for run in runs]) for name in ("sizes", "dts", "pts", "durations")
        )
        sync = np.concatenate([run.sync for run in runs])
        pieces: list[memoryview] = []
        begin = end = runs[0].begin
        for run in runs:
            if run.begin != end:
                pieces.append(data[begin:end])
                begin = run.begin
            end = run.begin + int(run.sizes.sum())
        pieces.append(data[begin:end])
        if track.formats[described].type == "audio":
            sync = np.ones(len(sync), np.bool_)
            if len(dts) > 1:
                track.insist_on_usual(int(np.median(np.diff(dts))))
        times = dts - track.edit, pts - track.edit
        return Samples(track.number, track.formats[described], sizes, *times, sync, pieces, lasts)


def _base_in(data: memoryview, inside: list[Box], moof: Box, based: int) -> int:
    """Where the samples of a fragment are counted from whose file is not known to begin with its data: at the fragment,
    as nearly all writers have it; or at the place that is stated, if that leads to where no box is."""
    first = next((box for box in inside if box.kind == "trun"), None)
    if first is None or not (fields := _Fields(data, first)).flags & 0x1:
        return moof.start
    fields.take(4)
    offset = fields.take(4)
    offset -= 1 << 32 if offset >> 31 else 0
    if moof.start + offset < moof.end <= based + offset < len(data):
        return based
    return moof.start


def _top(data: memoryview) -> Iterator[Box]:
    """The boxes of a segment; the last one may not reach past its end."""
    at = 0
    while at < len(data):
        box = header(data[at : at + 16], at, len(data))
        if box.end > len(data):
            raise Mp4Error(f"Box '{box.kind}' reaches {box.end - len(data):,} bytes past the segment's end", at)
        yield box
        at = box.end


def _event(data: memoryview, box: Box, begin: float) -> Event | None:
    """A message (ISO/IEC 23009-1 §5.10.3.3); None if it is cut short. begin: of the segment, in seconds."""
    content = bytes(data[box.content : box.end])
    if len(content) < 24 or content[0] > 1:
        return None
    if content[0]:
        scale, time = int.from_bytes(content[4:8], "big"), int.from_bytes(content[8:16], "big")
        scheme, _, rest = content[24:].partition(b"\0")
        value, _, message = rest.partition(b"\0")
        begin = time / scale if scale else begin
    else:
        scheme, _, rest = content[4:].partition(b"\0")
        value, _, rest = rest.partition(b"\0")
        scale, message = int.from_bytes(rest[:4], "big"), rest[16:]
        begin += int.from_bytes(rest[4:8], "big") / scale if scale else 0.0
    words = message.decode("utf-8", "replace") if message.isascii() else message.hex()
    named, valued = (part.decode("utf-8", "replace")[:200] for part in (scheme, value))
    return Event(named, valued, begin, words[:2_000])


class _Fields:
    """The fields of a full box, one after the other."""

    def __init__(self, data: memoryview, box: Box) -> None:
        self._data, self._box, self.at = data, box, box.content
        self.version = self.take(1)
        self.flags = self.take(3)

    def take(self, size: int) -> int:
        """The next unsigned number."""
        if self.at + size > self._box.end:
            raise Mp4Error(f"Box '{self._box.kind}' is too short", self._box.start)
        self.at += size
        return int.from_bytes(self._data[self.at - size : self.at], "big")


def read_movie(read: ReadAt, boxes: list[Box], index: Box) -> IndexedMovie:
    """The tracks of a file, progressive or fragmented. index: its moov box."""
    if any(box.kind == "moof" for box in boxes):
        return read_fragmented(read, boxes, index)
    return parse_movie(read(index.start, index.end - index.start), index.start)


def read_fragmented(read: ReadAt, boxes: list[Box], index: Box) -> IndexedMovie:
    """The tracks of a whole fragmented file, with all their samples, as the index of a progressive one would list them.

    boxes: those at the top of the file, the last of which may reach past its end. Only what describes samples is read.
    """
    movie = parse_movie(read(index.start, index.end - index.start), index.start, fragments=True)
    reader = FragmentReader(every=True)
    reader.begin(read(index.start, index.end - index.start))
    tracks = reader.tracks
    following = dict.fromkeys(tracks, 0)  # behind the samples of the index, where no time is stated (§8.8.12)
    following |= {track.number: int(track.durations.sum()) for track in (*movie.tracks, *movie.others)}
    listed: dict[int, list[_Run]] = {}
    end = boxes[-1].end
    for box in boxes:
        if box.kind != "moof" or box.end - box.start > _LARGEST_FRAGMENT:
            continue
        runs: dict[int, list[_Run]] = {}
        data = memoryview(read(box.start, box.end - box.start))
        head = header(data[:16], 0, len(data))
        if head.end > len(data):
            raise Mp4Error("A fragment is cut off", box.start)
        try:
            reader.note_runs(data, head, following, runs, end - box.start, box.start)
        except Mp4Error as problem:
            raise problem.moved(box.start) from problem
        for number, found in runs.items():
            listed.setdefault(number, []).extend(replace(run, begin=run.begin + box.start) for run in found)
    if any(len(track.sizes) for track in movie.tracks):  # the header states how long those of the index last (§8.2.2.3)
        movie.stated = movie.fragments_last / movie.timescale
    movie.tracks = [_whole(track, listed.get(track.number, [])) for track in movie.tracks]
    movie.others = [_whole(track, listed.get(track.number, [])) for track in movie.others]
    _set_delays([track for track in movie.tracks if len(track.pts)])
    return movie


def _set_delays(tracks: list[TrackIndex]) -> None:
    """Fragments state when they are shown (§8.8.12), on one clock for all tracks: one that begins later than the first
    of them is presented later."""
    begins = [(track.media_start - track.media_origin) / track.format.timescale for track in tracks]
    for track, begin in zip(tracks, begins, strict=True):
        track.delay += round((begin - min(begins)) * track.format.timescale)


def _going_on(track: TrackIndex) -> tuple[Edit, ...]:
    """The edits of a track that goes on in fragments: one that lasts until the end of the samples of its index was
    written when there were no others."""
    last = track.edits[-1] if track.edits else None
    if last is None or last.media_time is None or not last.length or not len(track.sizes):
        return track.edits
    if last.media_time + last.length <= int(track.durations[:-1].sum()):
        return track.edits
    return (*track.edits[:-1], replace(last, length=None))


def _whole(track: TrackIndex, runs: list[_Run]) -> TrackIndex:
    """A track of the index with the samples of its fragments behind its own."""
    sizes = np.concatenate([track.sizes, *(run.sizes for run in runs)])
    offsets = np.concatenate([track.offsets, *(run.begin + np.cumsum(run.sizes) - run.sizes for run in runs)])
    dts = np.concatenate([track.dts, *(run.dts for run in runs)])
    pts = np.concatenate([track.pts, *(run.pts for run in runs)])
    sync = np.concatenate([track.sync, *(run.sync for run in runs)])
    described = np.concatenate([track.described, *(np.full(len(run.sizes), run.described, np.int64) for run in runs)])
    if track.format.type == "audio":
        sync = np.ones(len(sync), np.bool_)
    end = runs[-1].end if runs else int(dts[-1] + track.durations[-1]) if len(dts) else 0
    durations = np.diff(np.append(dts, end))
    return replace(
        track,
        edits=_going_on(track) if runs else track.edits,
        # some state how long those of the index last, and browsers another clock's ticks: then it is less
        stated=track.stated if not runs or track.stated > int(durations.sum()) else 0,
        sizes=sizes,
        offsets=offsets,
        dts=dts,
        pts=pts,
        durations=durations,
        sync=sync,
        described=described,
    )


def _read_run(
    data: memoryview, box: Box, usual: Defaults, base: int, at: int, begin: int, limit: int
) -> tuple[_Run, int]:
    """A run of samples (§8.8.8), and where its bytes end."""
    fields = _Fields(data, box)
    flags, count = fields.flags, fields.take(4)
    if flags & 0x1:
        offset = fields.take(4)
        at = base + offset - (1 << 32 if offset >> 31 else 0)
    first_flags = fields.take(4) if flags & 0x4 else None
    names = [
        name for bit, name in ((0x100, "duration"), (0x200, "size"), (0x400, "flags"), (0x800, "shift")) if flags & bit
    ]
    need = count * 4 * len(names)
    if count > _MOST_SAMPLES or need > box.end - fields.at or ("size" not in names and count * usual.size > limit):
        raise Mp4Error(f"A run claims {count:,} samples, which it cannot hold", box.start)
    table = np.frombuffer(data, ">u4", count * len(names), fields.at).reshape(count, len(names))
    columns = {name: table[:, index].astype(np.int64) for index, name in enumerate(names)}

    def column(name: str, otherwise: int) -> Ints:
        return columns[name] if name in columns else np.full(count, otherwise, np.int64)

    sizes, durations = column("size", usual.size), column("duration", usual.duration)
    if count > 1 and not durations[-1]:  # of which nothing was known when it was written
        durations[-1] = durations[-2]
    sample_flags = column("flags", usual.flags)
    if first_flags is not None and count:
        sample_flags[0] = first_flags
    shift = column("shift", 0)
    # version 0 says that offsets are unsigned; what writes negative ones there means them
    shift = np.where(shift >= 1 << 31, shift - (1 << 32), shift)
    end = at + int(sizes.sum())
    if at < 0 or end > limit:
        raise Mp4Error("Samples of a fragment lie outside of its segment", box.start)
    dts = begin + np.cumsum(durations) - durations
    sync, last = (sample_flags & _NOT_SYNC) == 0, begin + int(durations.sum())
    return _Run(at, last, usual.described, sizes, dts, dts + shift, durations, sync), end


def last_whole_fragment(read: ReadAt, size: int) -> int:
    """Where the last whole fragment of a file ends that was cut out of an endless body; `size` where there is none."""
    at = whole = 0
    with suppress(Mp4Error):  # of a header that is cut off, or none
        while at < size:
            one = header(read(at, 16), at, size)
            at = one.end
            if one.kind == "mdat" and at <= size:
                whole = at
    return whole or size
