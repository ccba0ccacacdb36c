"""Sound without holes: players count sound by its frames, not by the times of its table.

A hole from one frame up is filled with the codec's own silence, where a silent frame is known; less than a frame is
carried on to the next hole. So picture and sound stay together as a player plays them, wherever one looks.
"""

from collections.abc import Iterator
from fractions import Fraction

import msgspec
import numpy as np

from mudlark.media.codecs import silent_frame
from mudlark.media.samples import Loss, LossCode, Samples

_LONGEST = 43_200.0  # seconds that are filled with silence; a longer hole is said, and stays one
_AT_ONCE = 4096  # silent frames
_HEAD = 16  # bytes of a frame that tell its kind


class Filled(msgspec.Struct):
    """Samples, and whether they are silence that was put in."""

    samples: Samples
    silent: bool = False


class Filler:
    """One track of sound. Samples are on the film's clock already."""

    def __init__(self) -> None:
        self._counted: Fraction | None = None  # until when a player is, in ticks, if it counts frames
        self._lost: list[Loss] = []

    def losses(self) -> list[Loss]:
        """What was put in, or could not be, since this was last asked."""
        lost, self._lost = self._lost, []
        return lost

    def fill(self, samples: Samples) -> Iterator[Filled]:
        """The samples, with silence where there is a hole before one."""
        frame = samples.format.lasts
        if not frame:
            yield Filled(samples)
            return
        while len(samples):
            if self._counted is None:
                self._counted = Fraction(int(samples.dts[0]))
            whole = int(self._counted)
            expected = float(self._counted - whole) + np.arange(len(samples)) * float(frame)
            ahead = (samples.dts - whole) - expected
            holes = np.flatnonzero(ahead >= float(frame))
            if not len(holes):
                self._counted += len(samples) * frame
                yield Filled(samples)
                return
            first = int(holes[0])
            if first:
                before, samples = samples.split(first)
                self._counted += first * frame
                yield Filled(before)
            yield from self._silence(samples, int(ahead[first] // float(frame)))

    def _silence(self, following: Samples, count: int) -> Iterator[Filled]:
        """So many silent frames before the samples that follow."""
        assert self._counted is not None
        format = following.format
        at = float(self._counted / format.timescale)
        silent = silent_frame(format, bytes(following.pieces[0][:_HEAD]))
        begin, self._counted = self._counted, self._counted + count * format.lasts
        seconds = float(count * format.lasts / format.timescale)
        if silent is None or seconds > _LONGEST:
            self._lost.append(Loss(LossCode.HOLE, count, "", seconds, at))
            return
        self._lost.append(Loss(LossCode.SILENCE, count, "", seconds, at))
        for done in range(0, count, _AT_ONCE):
            some = min(_AT_ONCE, count - done)
            ticks = float(begin - int(begin)) + (done + np.arange(some)) * float(format.lasts)
            times = int(begin) + np.rint(ticks).astype(np.int64)
            sizes, sync = np.full(some, len(silent), np.int64), np.ones(some, np.bool_)
            pieces = [memoryview(silent * some)]
            yield Filled(Samples(following.track, format, sizes, times, times, sync, pieces), silent=True)
