"""The file while it grows: room for the index, then media data, at last the index into its room.

The room is sized from the first samples of all renditions. Where it turns out too small, or nothing could be foreseen,
the media is moved once, by the kernel where it can.
"""

import os
from collections.abc import Mapping
from pathlib import Path
from types import TracebackType
from typing import Protocol, Self

from mudlark.assemble.join import copy_range
from mudlark.media.mp4.write import Mp4Builder
from mudlark.media.samples import Samples, TrackLabel

_VECTOR = 1024  # most buffers the system takes at once


class Output(Protocol):
    """Takes samples on one clock, and leaves a file."""

    def __enter__(self) -> Self: ...

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None: ...

    def add(self, batch: list[Samples], reached: float) -> None:
        """Append samples. reached: seconds of the film that there are by now."""

    def finish(self) -> None:
        """Complete the file."""


class ProgressiveFile:
    """A progressive MP4 with its index first. planned: seconds, 0 if nothing promises any."""

    def __init__(self, path: Path, planned: float, builder: Mp4Builder) -> None:
        self._path = path
        self._planned = planned
        self._builder = builder
        self._room: int | None = None
        self._begin: float | None = None

    def __enter__(self) -> Self:
        self._file = os.open(self._path, os.O_RDWR | os.O_CREAT | os.O_TRUNC, 0o666)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        os.close(self._file)

    def add(self, batch: list[Samples], reached: float) -> None:
        """Append samples."""
        if not batch:
            return
        buffers = self._builder.add(batch)
        if self._room is None:
            begin = min(int(samples.pts.min()) / samples.format.timescale for samples in batch)
            share = (reached - begin) / self._planned if self._planned else 0.0
            self._room = self._builder.index_estimate(share) if share > 0 else 0
            os.lseek(self._file, self._room, os.SEEK_SET)
        write_all(self._file, buffers)

    def finish(self) -> None:
        """Write the index into its room; where that is too small, the media is moved behind it."""
        if self._room is None:
            return
        head = self._builder.head(self._room)
        if head is None:
            head = self._builder.head(self._builder.room_needed())
            assert head is not None
            self._move(head)
        else:
            os.lseek(self._file, 0, os.SEEK_SET)
            write_all(self._file, [memoryview(head)])

    def _move(self, head: bytes) -> None:
        moved = self._path.with_name(self._path.name + ".moved")
        target = os.open(moved, os.O_RDWR | os.O_CREAT | os.O_TRUNC, 0o666)
        try:
            write_all(target, [memoryview(head)])
            os.lseek(self._file, self._room or 0, os.SEEK_SET)
            copy_range(self._file, target, self._builder.media_size)
            moved.replace(self._path)
        except BaseException:
            os.close(target)
            moved.unlink(missing_ok=True)
            raise
        os.close(self._file)
        self._file = target


def progressive(target: Path, planned: float, labels: Mapping[int, TrackLabel]) -> ProgressiveFile:
    """A progressive MP4 that says nothing of itself."""
    return ProgressiveFile(target, planned, Mp4Builder(labels))


def write_all(file: int, buffers: list[memoryview]) -> None:
    """Write buffers one after the other at the file's position."""
    if not hasattr(os, "writev"):
        for buffer in buffers:
            while len(buffer):
                buffer = buffer[os.write(file, buffer) :]
        return
    at = 0
    while at < len(buffers):
        group = buffers[at : at + _VECTOR]
        written = os.writev(file, group)
        if written < sum(map(len, group)):
            while written >= len(group[0]):
                written -= len(group.pop(0))
                at += 1
            buffers[at] = group[0][written:]
        else:
            at += len(group)
