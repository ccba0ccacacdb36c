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
        self._repeated = 0

    def jump(self) -> None:
        """A discontinuity: the next samples follow the last ones, whatever their timestamps say."""
        self._join = bool(self._ends)

    def skip(self, seconds: float) -> None:
        """A segment of this length is missing here."""
        self._skipped += seconds

    def place(self, batch: list[Samples]) -> list[Samples]:
        """The batch on the continuous clock, without samples that were there already."""
        if not batch:
            return batch
        begin = min(int(samples.dts[0]) / samples.format.timescale for samples in batch)
        if self._ends:
            expected = max(self._ends.values()) + self._skipped
            if not self._join and abs(begin + self._shift - expected) > LEAP + self._skipped:
                self._join = True
                self.notes.append(f"Timestamps leap by {begin + self._shift - expected:.1f} s; joined without a gap")
            if self._join:
                self._shift = expected - begin
        self._join, self._skipped = False, 0.0
        return [moved for samples in batch if len(moved := self._move(samples))]

    def _move(self, samples: Samples) -> Samples:
        ticks = round(self._shift * samples.format.timescale)
        samples.dts = samples.dts + ticks
        samples.pts = samples.pts + ticks
        last = self._last.get(samples.track)
        if last is not None and len(samples) and samples.dts[0] <= last:
            samples = self._without_repeats(samples, last)
        if len(samples):
            self._last[samples.track] = int(samples.dts[-1])
            length = samples.format.sample_duration or int(np.median(np.diff(samples.dts)) if len(samples) > 1 else 0)
            self._ends[samples.track] = (int(samples.dts[-1]) + length) / samples.format.timescale
        return samples

    def _without_repeats(self, samples: Samples, last: int) -> Samples:
        keep = int(np.searchsorted(np.maximum.accumulate(samples.dts), last, "right"))
        self.notes.append(f"{keep:,} samples come a second time; left out")
        pieces = cut_pieces(samples.pieces, [int(samples.sizes[:keep].sum())])[1]
        return Samples(
            *(samples.track, samples.format, samples.sizes[keep:], samples.dts[keep:], samples.pts[keep:]),
            *(samples.sync[keep:], pieces),
        )
