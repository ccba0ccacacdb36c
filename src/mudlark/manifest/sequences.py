"""Segments that are made when they are asked for: a template of ten million takes no more memory than one of ten.

Follows ISO/IEC 23009-1 §5.3.9 (templates, timelines). What is known of a run of segments are numbers; addresses are put
together one by one.
"""

from bisect import bisect_right
from collections.abc import Callable, Iterator, Sequence
from itertools import accumulate
from math import inf
from typing import overload

import msgspec

from mudlark.manifest.model import Initialization, Segment
from mudlark.web.resource import Resource


class Run(msgspec.Struct, frozen=True):
    """Segments of the same duration in a row. time, duration: ticks; number: of the first; parts: into how many each is
    cut, told apart by a number of their own. reckoned: their number comes from a length, not from a list."""

    time: int
    duration: int
    count: int
    number: int
    parts: int = 1
    reckoned: bool = False


class StretchClock(msgspec.Struct, frozen=True):
    """Where the segments of one rendition stand in one stretch. begin: seconds of the stretch in the presentation;
    end: of the stretch, None if it is not known. timescale: ticks a second. offset: ticks that belong to the begin."""

    begin: float
    end: float | None
    timescale: int
    offset: int
    stretch: int

    def seconds(self, ticks: int) -> float:
        """The time in the presentation that a time of the media is."""
        return self.begin + (ticks - self.offset) / self.timescale

    @property
    def shift(self) -> float:
        """Seconds to add to the time of the media for the time since the stretch began."""
        return -self.offset / self.timescale


_OVER = 0.05  # seconds by which a segment may stand out of its stretch without being cut
_REST = 0.25  # of a segment: what is shorter is likely only the difference between two roundings
Address = Callable[[int, int, int], Resource]  # from number, time and part


class Runs(Sequence[Segment]):
    """Segments in runs. address: makes the resource of one, from its number, its time, and the number of its part."""

    def __init__(self, runs: Sequence[Run], clock: StretchClock, address: Address, init: Initialization | None) -> None:
        self._runs = runs
        self._clock = clock
        self._address = address
        self._init = init
        self._ends = list(accumulate(run.count * run.parts for run in runs))

    def __len__(self) -> int:
        return self._ends[-1] if self._ends else 0

    @overload
    def __getitem__(self, at: int) -> Segment: ...

    @overload
    def __getitem__(self, at: slice) -> Sequence[Segment]: ...

    def __getitem__(self, at: int | slice) -> Segment | Sequence[Segment]:
        if isinstance(at, slice):
            return tuple(self[index] for index in range(*at.indices(len(self))))
        if at < 0:
            at += len(self)
        if not 0 <= at < len(self):
            raise IndexError(at)
        place = bisect_right(self._ends, at)
        run = self._runs[place]
        return self._segment(run, at - (self._ends[place] - run.count * run.parts))

    def __iter__(self) -> Iterator[Segment]:
        for run in self._runs:
            for within in range(run.count * run.parts):
                yield self._segment(run, within)

    def _segment(self, run: Run, within: int) -> Segment:
        index, part = divmod(within, run.parts)
        time = run.time + index * run.duration
        clock = self._clock
        begin = clock.seconds(time) + part * run.duration / run.parts / clock.timescale
        end = clock.seconds(time + run.duration) if part == run.parts - 1 else begin + run.duration / run.parts
        last = inf if clock.end is None else clock.end
        over = begin < clock.begin - _OVER or end > last + _OVER
        if over or end > last:
            begin, end = max(begin, clock.begin), min(end, last)
        return Segment(
            sequence=run.number + index,
            resource=self._address(run.number + index, time, part + 1),
            begin=begin,
            duration=max(0.0, end - begin),
            stretch=clock.stretch,
            init=self._init,
            offset=clock.shift,
            shown=(0.0, last - clock.begin) if over else None,
            rest=run.reckoned and index == run.count - 1 and (end - begin) * clock.timescale < _REST * run.duration,
        )


class SequenceChain(Sequence[Segment]):
    """Several sequences, one after the other."""

    def __init__(self, parts: Sequence[Sequence[Segment]]) -> None:
        self._parts = parts
        self._ends = list(accumulate(map(len, parts)))

    def __len__(self) -> int:
        return self._ends[-1] if self._ends else 0

    @overload
    def __getitem__(self, at: int) -> Segment: ...

    @overload
    def __getitem__(self, at: slice) -> Sequence[Segment]: ...

    def __getitem__(self, at: int | slice) -> Segment | Sequence[Segment]:
        if isinstance(at, slice):
            return tuple(self[index] for index in range(*at.indices(len(self))))
        if at < 0:
            at += len(self)
        if not 0 <= at < len(self):
            raise IndexError(at)
        place = bisect_right(self._ends, at)
        return self._parts[place][at - (self._ends[place] - len(self._parts[place]))]

    def __iter__(self) -> Iterator[Segment]:
        for part in self._parts:
            yield from part
