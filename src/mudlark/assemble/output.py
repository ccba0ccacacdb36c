"""The file while it grows: room for the index, then media data, at last the index into its room.

The room is sized from the first samples of all renditions. Where it turns out too small, or nothing could be foreseen,
the media is moved once, by the kernel where it can.
"""

import os
from collections.abc import Mapping
from contextlib import ExitStack
from pathlib import Path
from types import TracebackType
from typing import Literal, Protocol, Self

from mudlark.assemble.join import copy_range
from mudlark.errors import UsageError
from mudlark.media.carried import not_carried
from mudlark.media.codecs import WEBM, codec_of
from mudlark.media.matroska.write import HEAD_ROOM, MatroskaBuilder
from mudlark.media.mp4.about import About
from mudlark.media.mp4.write import Mp4Builder
from mudlark.media.samples import Loss, LossCode, Samples, TrackLabel

_PACKINGS = frozenset({".mp3", ".ac3", ".eac3"})
_VECTOR = 1024  # most buffers the system takes at once


class Output(Protocol):
    """Takes samples on one clock, and leaves a file at `path`."""

    @property
    def path(self) -> Path: ...

    def __enter__(self) -> Self: ...

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None: ...

    def add(self, batch: list[Samples], reached: float) -> None:
        """Append samples. reached: seconds of the film that there are by now."""

    def losses(self) -> list[Loss]:
        """What the file has no place for, since this was last asked."""

    def spread(self, number: int) -> int:
        """Into how many tracks of the file the samples of one track went; tracks come in the order of their numbers."""

    def finish(self) -> None:
        """Complete the file."""


class _File:
    """A file that is written from front to back."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def __enter__(self) -> Self:
        self._file = os.open(self.path, os.O_RDWR | os.O_CREAT | os.O_TRUNC, 0o666)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        os.close(self._file)

    def losses(self) -> list[Loss]:
        """Nothing that is handed in is left out."""
        return []

    def spread(self, number: int) -> int:
        """Each track is one of the file."""
        return 1


class ProgressiveFile(_File):
    """A progressive MP4 with its index first. planned: seconds, 0 if nothing promises any."""

    def __init__(self, path: Path, planned: float, builder: Mp4Builder) -> None:
        super().__init__(path)
        self._planned = planned
        self._builder = builder
        self._room: int | None = None

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
        moved = self.path.with_name(self.path.name + ".moved")
        target = os.open(moved, os.O_RDWR | os.O_CREAT | os.O_TRUNC, 0o666)
        try:
            write_all(target, [memoryview(head)])
            os.lseek(self._file, self._room or 0, os.SEEK_SET)
            copy_range(self._file, target, self._builder.media_size)
            moved.replace(self.path)
        except BaseException:
            os.close(target)
            moved.unlink(missing_ok=True)
            raise
        os.close(self._file)
        self._file = target


class MatroskaFile(_File):
    """A Matroska file; its head goes into room that is set aside."""

    def __init__(self, path: Path, builder: MatroskaBuilder) -> None:
        super().__init__(path)
        self._builder = builder
        self._begun = False

    def add(self, batch: list[Samples], reached: float) -> None:
        """Append samples."""
        if not batch:
            return
        if not self._begun:
            os.lseek(self._file, HEAD_ROOM, os.SEEK_SET)
            self._begun = True
        write_all(self._file, self._builder.add(batch))

    def losses(self) -> list[Loss]:
        """Formats that go on in a track of their own."""
        return self._builder.losses()

    def spread(self, number: int) -> int:
        """A track whose format changes is several of the file."""
        return self._builder.spread(number)

    def finish(self) -> None:
        """Append the cues, and write the head into its room."""
        if self._begun:
            write_all(self._file, [memoryview(self._builder.tail())])
            os.lseek(self._file, 0, os.SEEK_SET)
            write_all(self._file, [memoryview(self._builder.head())])


class FrameFile(_File):
    """Sound alone in its own packing: nothing but its frames."""

    def add(self, batch: list[Samples], reached: float) -> None:
        """Append samples."""
        for samples in batch:
            write_all(self._file, list(samples.pieces))

    def finish(self) -> None:
        """There is nothing more to it."""


class ChosenFile:
    """The file that fits what comes, known once the first samples of all tracks are there.

    stem: its path without extension. container: mp4 or mkv, or None for the family that the media came in, or whichever
    holds all of it; sound alone gets a packing of its own where it has one.
    """

    def __init__(
        self, stem: Path, planned: float, labels: Mapping[int, TrackLabel], about: About, container: str | None = None
    ) -> None:
        self._stem = stem
        self._planned = planned
        self._labels = labels
        self._about = about
        self._container = container
        self._chosen: Output | None = None
        self._lost: list[Loss] = []
        self._stack = ExitStack()

    @property
    def path(self) -> Path:
        """Where the file is, or would be."""
        return self._chosen.path if self._chosen else self._with(".mp4")

    def _with(self, extension: str) -> Path:
        return self._stem.with_name(self._stem.name + extension)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._stack.close()

    def add(self, batch: list[Samples], reached: float) -> None:
        """Append samples."""
        if batch and self._chosen is None:
            self._chosen = self._stack.enter_context(self._choose(batch))
            into: Literal["mp4", "matroska"] = "matroska" if isinstance(self._chosen, MatroskaFile) else "mp4"
            words = (word for samples in batch for word in not_carried(samples.format, into))
            self._lost += [Loss(LossCode.LEFT_OUT, 1, word) for word in dict.fromkeys(words)]
        if self._chosen:
            self._chosen.add(batch, reached)

    def losses(self) -> list[Loss]:
        """What the chosen file has no place for, since this was last asked."""
        lost, self._lost = [*self._lost, *(self._chosen.losses() if self._chosen else [])], []
        return lost

    def spread(self, number: int) -> int:
        """As the chosen file has it."""
        return self._chosen.spread(number) if self._chosen else 1

    def _choose(self, batch: list[Samples]) -> Output:
        sound = all(samples.format.type == "audio" for samples in batch)
        formats = [samples.format for samples in batch]
        codecs = [codec_of(format.codec) for format in formats]
        homeless = [codec.words for codec in codecs if codec and not codec.entry]
        if self._container == "mp4" and homeless:
            raise UsageError(f"MP4 has no place for {homeless[0]}.", "Leave --container out, or take mkv.")
        came_so = all(format.container == "matroska" for format in formats)
        if self._container == "mkv" or (self._container is None and (came_so or homeless)):
            webm = self._container is None and all(codec and codec.words in WEBM for codec in codecs)
            extension = ".webm" if webm else ".mka" if sound else ".mkv"
            builder = MatroskaBuilder(self._labels, self._about, "webm" if webm else "matroska")
            return MatroskaFile(self._with(extension), builder)
        codec = codecs[0]
        if sound and len({samples.track for samples in batch}) == 1 and codec and codec.extension in _PACKINGS:
            return FrameFile(self._with(codec.extension))
        movie = Mp4Builder(self._labels, self._about)
        return ProgressiveFile(self._with(".m4a" if sound else ".mp4"), self._planned, movie)

    def finish(self) -> None:
        """Complete the file."""
        if self._chosen:
            self._chosen.finish()


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
