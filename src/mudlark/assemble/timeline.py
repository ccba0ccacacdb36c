"""Putting the samples of all renditions on one continuous clock.

All renditions of a stretch (the part between two discontinuities, RFC 8216 §4.3.2.3) share one clock, so they share one
shift, and one wrap of clocks that start anew: picture and sound stay as far apart as they were made. A stretch is
joined to the one before it where its picture goes on (or its sound, if there is no picture); what overlaps of other
tracks is left out. Where timestamps leap without a word, a new shift is found the same way, and the other renditions
take the same one. A hole (a segment that is missing) stays a hole: what follows keeps its time.
"""

from collections.abc import Iterable, Sequence

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.media.samples import Flags, Ints, Loss, LossCode, Samples

_BEFORE_ALL = -(1 << 62)  # ticks
_BACK = 0.5  # seconds by which a clock that goes back has begun anew, unless the same samples come again
_RECENT = 5_000  # samples of a track that are remembered
_HEAD = 64  # bytes by which two samples are told apart
_FEW = 16  # samples by which a repeat is known
LEAP = 10.0  # seconds between expected and stated time from which a leap is taken for an unmarked discontinuity


class _Stretch(msgspec.Struct):
    """One stretch: the time on its own clock that was met first, and the shifts from there to the film's clock."""

    anchor: float | None = None
    shifts: list[float] = msgspec.field(default_factory=list)


class _Rendition(msgspec.Struct):
    """Where a rendition stands in the current stretch. turns: seconds from its own clock to that of the stretch,
    which are known once it is anchored.
    """

    turns: float = 0.0
    anchored: bool = False
    shift: float | None = None


class Timeline:
    """The clock of a film. Renditions and tracks are known by numbers; times are seconds."""

    def __init__(self) -> None:
        self._stretch = _Stretch()
        self._stretches: dict[int, _Stretch] = {}
        self._renditions: dict[int, _Rendition] = {}
        self._reached: dict[int, float] = {}
        self._missing: dict[int, float] = {}
        self._tracks_of: dict[int, set[int]] = {}
        self._last: dict[int, int] = {}
        self._recent: dict[int, tuple[Ints, Ints]] = {}  # by track: times and sizes of the last samples
        self._heads: dict[tuple[int, int], bytes] = {}  # by track and time: how the first sample of a batch begins
        self._scales: dict[int, int] = {}
        self._lost: list[Loss] = []

    def losses(self) -> list[Loss]:
        """What had to be mended since this was last asked."""
        lost, self._lost = self._lost, []
        return lost

    @property
    def end(self) -> float:
        """Until when there is anything."""
        return max(map(self._end_of, self._reached), default=0.0)

    def _end_of(self, track: int) -> float:
        """Until when there is anything of a track, with what is missing at its end."""
        return self._reached[track] + self._missing.get(track, 0.0)

    def begin(self, number: int) -> None:
        """A stretch begins; what is placed from now on is of it."""
        self._stretch = self._stretches.setdefault(number, _Stretch())
        self._renditions = {}

    def shift_of(self, number: int) -> tuple[float, float] | None:
        """The shift of a stretch to the film's clock, and the time of its own clock that was met first."""
        known = self._stretches.get(number)
        return (known.shifts[0], known.anchor) if known and known.shifts and known.anchor is not None else None

    def anew(self, rendition: int) -> None:
        """A rendition is read anew from here on: its clock may have started over."""
        if rendition in self._renditions:
            self._renditions[rendition].anchored = False

    def miss(self, rendition: int, seconds: float) -> None:
        """A segment of a rendition is missing here."""
        for track in self._tracks_of.get(rendition, ()):
            self._missing[track] = self._missing.get(track, 0.0) + seconds

    def open(self, batches: Sequence[tuple[int, float, list[Samples]]]) -> list[list[Samples]]:
        """The first samples of each rendition in a stretch: rendition, seconds after which its clock starts anew, and
        samples. The shift that they share is found here, and they are placed."""
        stretch = self._stretch
        for rendition, wraps, batch in batches:
            if batch:
                self._unwrap(rendition, wraps, batch)
        if not stretch.shifts:
            gaps = [gap for rendition, _, batch in batches for gap in self._gaps(rendition, batch)]
            if gaps:
                stretch.shifts.append(_fitting(gaps) if self._reached else 0.0)
        return [self.place(rendition, wraps, batch) for rendition, wraps, batch in batches]

    def place(self, rendition: int, wraps: float, batch: list[Samples], lasts: float = 0.0) -> list[Samples]:
        """Samples of a rendition on the film's clock, without those that were there already. lasts: seconds that their
        segment is promised to last: in a long one, a picture may stand for as long."""
        placed: list[Samples] = []
        stands = lasts if lasts > LEAP else 0.0
        while batch:
            first, batch = _at_leap(batch, stands)
            placed += self._place_run(rendition, wraps, first, stands)
        return placed

    def _place_run(self, rendition: int, wraps: float, batch: list[Samples], stands: float) -> list[Samples]:
        """Place samples without a leap inside."""
        state = self._renditions.get(rendition)
        if state is None or not state.anchored:
            state = self._unwrap(rendition, wraps, batch)
        gaps = self._gaps(rendition, batch)
        fitting = _fitting(gaps)
        shifts = self._stretch.shifts
        if not shifts:
            shifts.append(fitting if self._reached else 0.0)
        if state.shift is None:
            state.shift = shifts[0]
        known = any(samples.track in self._reached for samples in batch)
        placed = state.shift + state.turns
        if known and self._behind(batch, placed) > _BACK and not self._came_before(batch, placed):
            # an encoder that began anew without a word
            self._lost.append(Loss(LossCode.LEAP, 1, f"{state.shift - fitting:.1f} s", at=self.end))
            if not any(abs(shift - fitting) <= _BACK for shift in shifts):
                shifts.append(fitting)
            state.shift = min(shifts, key=lambda shift: abs(shift - fitting))
        elif known and not any(-LEAP <= state.shift - gap <= LEAP + stands for _, gap in gaps):
            nearest = min(shifts, key=lambda shift: abs(shift - fitting))
            if abs(nearest - fitting) > LEAP:
                shifts.append(fitting)
                nearest = fitting
                self._lost.append(Loss(LossCode.LEAP, 1, f"{state.shift - fitting:.1f} s", at=self.end))
            state.shift = nearest
        shift = state.shift + state.turns
        return [moved for samples in batch if len(moved := self._move(rendition, samples, shift))]

    def _behind(self, batch: Iterable[Samples], shift: float) -> float:
        """Seconds by which these samples would begin before what there is of their tracks: the picture, if it is one
        of them. What is missing in between does not count: how long that was is only promised."""
        ends = [
            (samples.format.type == "video", self._reached[samples.track] - _begin([samples]) - shift)
            for samples in batch
            if samples.track in self._reached
        ]
        return _fitting(ends)

    def _came_before(self, batch: Iterable[Samples], shift: float) -> bool:
        """True if the first of these samples are there already: of the same size at the same time, and with the same
        bytes where those are remembered."""
        pictures = [samples for samples in batch if samples.format.type == "video"] or list(batch)
        for samples in pictures:
            times, sizes = self._recent.get(samples.track, (samples.dts[:0], samples.dts[:0]))
            scale = self._scales.get(samples.track, samples.format.timescale)
            if not len(times) or scale != samples.format.timescale:
                return True  # that cannot be told
            wanted = samples.dts[:_FEW] + round(shift * scale)
            if (head := self._heads.get((samples.track, int(wanted[0])))) is not None:
                return head == _head(samples)
            at = np.minimum(np.searchsorted(times, wanted), len(times) - 1)
            there = (np.abs(times[at] - wanted) <= 1) & (sizes[at] == samples.sizes[:_FEW])
            if int(there.sum()) * 2 < int((wanted <= times[-1]).sum()):
                return False
        return True

    def _unwrap(self, rendition: int, wraps: float, batch: list[Samples]) -> _Rendition:
        """Bring the clock of a rendition to that of the stretch, from which it may be whole wraps away; one that says
        nothing begins with the stretch."""
        state = self._renditions.setdefault(rendition, _Rendition())
        begin = _begin(batch)
        if self._stretch.anchor is None:
            self._stretch.anchor = begin
        if wraps > 0:
            state.turns = round((self._stretch.anchor - begin) / wraps) * wraps
        else:
            state.turns = self._stretch.anchor - begin if wraps < 0 else 0.0
        state.anchored = True
        return state

    def _gaps(self, rendition: int, batch: Iterable[Samples]) -> list[tuple[bool, float]]:
        """For each track whether it is a picture, and the shift with which it would go on where it (or the film) has
        ended."""
        turns = self._renditions[rendition].turns
        gaps = []
        for samples in batch:
            end = self._end_of(samples.track) if samples.track in self._reached else self.end
            gaps.append((samples.format.type == "video", end - _begin([samples]) - turns))
        return gaps

    def _move(self, rendition: int, samples: Samples, shift: float) -> Samples:
        scale = self._scales.setdefault(samples.track, samples.format.timescale)
        if scale != samples.format.timescale:
            samples = _scaled(samples, scale)
        ticks = round(shift * scale)
        samples.dts = samples.dts + ticks
        samples.pts = samples.pts + ticks
        self._tracks_of.setdefault(rendition, set()).add(samples.track)
        samples = self._without_repeats(samples, self._last.get(samples.track, _BEFORE_ALL))
        if len(samples):
            self._last[samples.track] = int(samples.dts[-1])
            before = self._recent.get(samples.track, (samples.dts[:0], samples.dts[:0]))
            times, sizes = np.append(before[0], samples.dts), np.append(before[1], samples.sizes)
            self._recent[samples.track] = times[-_RECENT:], sizes[-_RECENT:]
            self._heads[samples.track, int(samples.dts[0])] = _head(samples)
            if len(self._heads) > _RECENT:
                del self._heads[next(iter(self._heads))]
            end = samples.end / scale
            self._reached[samples.track] = max(end, self._reached.get(samples.track, end))
            self._missing[samples.track] = 0.0
        return samples

    def _without_repeats(self, samples: Samples, last: int) -> Samples:
        """The samples whose decoding time is later than all before them. Pictures that carry a time that was there, and
        are others than those that had it, are late: they come next."""
        fresh = samples.dts > np.maximum.accumulate(np.append(last, samples.dts))[:-1]
        if fresh.all():
            return samples
        late = ~fresh & self._is_new(samples) if samples.format.type == "video" else np.zeros(len(fresh), np.bool_)
        gone = ~fresh & ~late
        if gone.any():
            count = int(gone.sum())
            seconds = count * samples.format.sample_duration / samples.format.timescale
            self._lost.append(Loss(LossCode.REPEATED, count, seconds=seconds, at=self.end))
            samples = samples.only(~gone)
        rank = np.arange(len(samples), dtype=np.int64)  # each is as little later as can be
        rising = np.maximum.accumulate(np.append(last + 1, samples.dts - rank))[1:] + rank
        return replace(samples, dts=rising, pts=samples.pts + (rising - samples.dts))

    def _is_new(self, samples: Samples) -> Flags:
        """Which samples are not those that have come at the same time before."""
        times, sizes = self._recent.get(samples.track, (samples.dts[:0], samples.dts[:0]))
        if not len(times):
            return np.ones(len(samples), np.bool_)
        at = np.minimum(np.searchsorted(times, samples.dts), len(times) - 1)
        new: Flags = (times[at] != samples.dts) | (sizes[at] != samples.sizes)
        return new


def _head(samples: Samples) -> bytes:
    """How the first of these samples begins."""
    return bytes(samples.pieces[0][: min(_HEAD, int(samples.sizes[0]))])


def _fitting(gaps: list[tuple[bool, float]]) -> float:
    """The shift of a stretch, out of those that would fit its tracks: that of the picture if there is one."""
    pictures = [gap for picture, gap in gaps if picture]
    return max(pictures or [gap for _, gap in gaps], default=0.0)


def _scaled(samples: Samples, scale: int) -> Samples:
    """The same in ticks of another timescale, that of the track's first samples."""
    old = samples.format.timescale
    exact = samples.format.lasts * scale / old
    return replace(
        samples,
        format=replace(samples.format, timescale=scale, sample_duration=round(exact), exact=exact),
        dts=(samples.dts * scale + old // 2) // old,
        pts=(samples.pts * scale + old // 2) // old,
        durations=None if samples.durations is None else (samples.durations * scale + old // 2) // old,
    )


def _at_leap(batch: list[Samples], stands: float) -> tuple[list[Samples], list[Samples]]:
    """The batch before and after the first leap inside it: a picture held back may stand before one, with old times.
    A leap is what contradicts how long samples are stated to last: a slide may stand for minutes. stands: seconds that
    a picture may, where nothing states it."""
    before: list[Samples] = []
    after: list[Samples] = []
    whole: list[Samples] = []
    for samples in batch:
        scale, steps = samples.format.timescale, np.diff(samples.dts)
        most = LEAP * scale + (stands * scale if samples.durations is None else samples.durations[:-1])
        leaps = np.flatnonzero((steps > most) | (steps < -_BACK * scale))
        if len(leaps):
            first, second = samples.split(int(leaps[0]) + 1)
            before.append(first)
            after.append(second)
        else:
            whole.append(samples)
    if not after:
        return batch, []
    old, new = before[0].dts[-1] / before[0].format.timescale, _begin(after)
    for samples in whole:
        begin = _begin([samples])
        (after if abs(begin - new) < abs(begin - old) else before).append(samples)
    return before, after


def _begin(batch: list[Samples]) -> float:
    """When the first of these samples is presented, in seconds."""
    return min(int(samples.pts.min()) / samples.format.timescale for samples in batch)
