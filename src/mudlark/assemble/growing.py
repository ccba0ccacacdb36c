"""A film that can be played while it grows: fragmented MP4, written fragment by fragment.

What stands in the file is whole at any time but for the last fragment, which players pass over (ISO/IEC 14496-12 §8.8).
"""

import os
from collections.abc import Mapping
from pathlib import Path
from types import TracebackType
from typing import Self

import numpy as np
from msgspec.structs import replace

from mudlark.assemble.output import write_all
from mudlark.media.mp4.fragment import fragment, initialization
from mudlark.media.samples import Loss, Samples, TrackLabel

_LATER = 1.0  # seconds by which all times are put off, as none may be negative


class GrowingFile:
    """An Output."""

    def __init__(self, path: Path, labels: Mapping[int, TrackLabel]) -> None:
        self.path = path
        self._labels = labels
        self._numbers: dict[int, int] = {}
        self._count = 0
        self._begin: float | None = None

    def __enter__(self) -> Self:
        self._file = os.open(self.path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        os.close(self._file)

    def add(self, batch: list[Samples], reached: float) -> None:
        """Append a fragment. Tracks that come later than the first fragment are not in this file."""
        if not batch:
            return
        if self._begin is None:
            self._begin = min(int(one.dts[0]) / one.format.timescale for one in batch) - _LATER
            tracks = sorted({one.track for one in batch})
            self._numbers = {track: number for number, track in enumerate(tracks, start=1)}
            formats = {self._numbers[one.track]: one.format for one in batch}
            labels = {self._numbers[track]: self._labels.get(track, TrackLabel()) for track in tracks}
            write_all(self._file, [memoryview(initialization(formats, labels))])
        ready = [self._placed(samples) for samples in batch if samples.track in self._numbers and len(samples)]
        if ready:
            self._count += 1
            write_all(self._file, fragment(self._count, ready))

    def _placed(self, samples: Samples) -> Samples:
        assert self._begin is not None
        ticks = np.int64(round(self._begin * samples.format.timescale))
        return replace(samples, track=self._numbers[samples.track], dts=samples.dts - ticks, pts=samples.pts - ticks)

    def losses(self) -> list[Loss]:
        """None are told of a preview."""
        return []

    def spread(self, number: int) -> int:
        """Each track is one of the file."""
        return 1

    def finish(self) -> None:
        """There is nothing more to it."""


def growing(target: Path, planned: float, labels: Mapping[int, TrackLabel]) -> GrowingFile:
    """Makes one, as `assemble` wants it."""
    return GrowingFile(target, labels)
