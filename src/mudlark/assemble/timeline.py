"""Putting the samples of successive segments on one continuous clock.

The timestamps of a rendition run on by themselves, except at a discontinuity (RFC 8216 §4.3.2.3), where they start
anew, and where they leap without a word. Both are joined to the end of what came before. A hole (a segment that is
missing) stays a hole: what follows keeps its time, so picture and sound stay together.
"""

import numpy as np

from mudlark.media.samples import Samples, cut_pieces

LEAP = 10.0  # seconds between expected and stated time from which a leap is taken for an unmarked discontinuity


class Timeline:
    """The clock of one rendition. `notes` says in words what had to be mended."""

    def __init__(self) -> None:
        self.notes: list[str] = []
        self._shift = 0.0
        self._ends: dict[int, float] = {}
        self._last: dict[int, int] = {}
        self._skipped = 0.0
        self._join = False

    def jump(self) -> None:
        """A discontinuity: the next samples follow the last ones, whatever their timestamps say."""
        self._join = bool(self._ends)

    def skip(self, seconds: float) -> None:
        """A segment of this length is missing here."""
        self._skipped += seconds

    def place(self, batch: list[Samples]) -> list[Samples]:
        """The batch on the continuous clock, without samples that were there already."""
        batch, later = _at_leap(batch)
        if not batch:
            return batch
        if self._ends:
            # the smallest shift with which no track begins before its end: the one that leaves the smallest gap
            ends = max(self._ends.values())
            shift = max(self._ends.get(samples.track, ends) - _begin([samples]) for samples in batch) + self._skipped
            if not self._join and abs(self._shift - shift) > LEAP + self._skipped:
                self._join = True
                self.notes.append(f"Timestamps leap by {self._shift - shift:.1f} s; joined without a gap")
            if self._join:
                self._shift = shift
        self._join, self._skipped = False, 0.0
        placed = [moved for samples in batch if len(moved := self._move(samples))]
        return placed + self.place(later) if later else placed

    def _move(self, samples: Samples) -> Samples:
        ticks = round(self._shift * samples.format.timescale)
        samples.dts = samples.dts + ticks
        samples.pts = samples.pts + ticks
        last = self._last.get(samples.track)
        if last is not None:
            samples = self._without_repeats(samples, last)
        if len(samples):
            self._last[samples.track] = int(samples.dts[-1])
            length = samples.format.sample_duration or int(np.median(np.diff(samples.dts)) if len(samples) > 1 else 0)
            end = (int(samples.pts.max()) + length) / samples.format.timescale
            self._ends[samples.track] = max(end, self._ends.get(samples.track, 0.0))
        return samples

    def _without_repeats(self, samples: Samples, last: int) -> Samples:
        """Only the samples whose decoding time is later than all before them."""
        fresh = samples.dts > np.maximum.accumulate(np.append(last, samples.dts))[:-1]
        if fresh.all():
            return samples
        self.notes.append(f"{int((~fresh).sum()):,} samples come a second time; left out")
        turns = (np.flatnonzero(np.diff(fresh)) + 1).tolist()
        at = np.append(0, np.cumsum(samples.sizes))
        runs = cut_pieces(samples.pieces, at[turns].tolist())
        pieces = [piece for run in runs[0 if fresh[0] else 1 :: 2] for piece in run]
        return Samples(
            *(samples.track, samples.format, samples.sizes[fresh], samples.dts[fresh], samples.pts[fresh]),
            *(samples.sync[fresh], pieces),
        )


def _at_leap(batch: list[Samples]) -> tuple[list[Samples], list[Samples]]:
    """The batch before and after the first leap inside it: a picture held back may stand before one, with old times."""
    before: list[Samples] = []
    after: list[Samples] = []
    whole: list[Samples] = []
    for samples in batch:
        leaps = np.flatnonzero(np.abs(np.diff(samples.dts)) > LEAP * samples.format.timescale)
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
