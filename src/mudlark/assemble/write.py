"""From segments, in order, to one file: any reader of samples into the MP4 writer.

Memory holds one segment and the sample tables. The file is written once from front to back; its index, which comes
first, goes into room that was set aside when the first segment showed how large it will be.
"""

import os
import shutil
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path

from mudlark.assemble.timeline import Timeline
from mudlark.errors import FormatError, StorageError
from mudlark.media.mp4.write import Mp4Builder
from mudlark.media.samples import SampleReader, Samples

_SOME = 1 << 20
_VECTOR = 1024  # most buffers the system takes at once


@dataclass(frozen=True, slots=True)
class Part:
    """One segment in its place. path: None if it is missing. rendition: which of the readers it belongs to."""

    rendition: int
    number: int
    duration: float
    path: Path | None
    discontinuity: bool = False


@dataclass(slots=True)
class Assembled:
    """What became of the segments: how many gave samples, which could not be read, and what was mended or left out."""

    segments: int = 0
    unreadable: list[tuple[Part, FormatError]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def assemble(
    parts: Iterable[Part], make_reader: Callable[[], SampleReader], target: Path, planned_seconds: float
) -> Assembled:
    """Write the parts, given in order of time, into a progressive MP4 at `target`."""
    renditions: dict[int, tuple[SampleReader, Timeline]] = {}
    result = Assembled()
    source = _Source()
    try:
        with target.open("wb", buffering=0) as file:
            output = _Output(file.fileno(), target, planned_seconds)
            for part in parts:
                if part.rendition not in renditions:
                    renditions[part.rendition] = (make_reader(), Timeline())
                reader, timeline = renditions[part.rendition]
                if part.discontinuity or part.path is None:
                    output.add(timeline.place(_numbered(reader.flush(), part.rendition)), 0)
                if part.discontinuity:
                    reader.restart()
                    timeline.jump()
                if part.path is None:
                    timeline.skip(part.duration)
                    continue
                try:
                    batch = reader.feed(source.read(part.path))
                except FormatError as problem:
                    output.add(timeline.place(_numbered(reader.flush(), part.rendition)), 0)
                    timeline.skip(part.duration)
                    result.unreadable.append((part, problem))
                    continue
                result.segments += 1
                output.add(timeline.place(_numbered(batch, part.rendition)), part.duration)
            for rendition, (reader, timeline) in renditions.items():
                output.add(timeline.place(_numbered(reader.flush(), rendition)), 0)
                result.notes += [*reader.losses, *timeline.notes]
            output.finish()
    except OSError as problem:
        raise StorageError(
            f"Cannot write {target}: {problem.strerror}.", "Make room or choose another folder."
        ) from problem
    return result


def _numbered(batch: list[Samples], rendition: int) -> list[Samples]:
    """Give tracks of different renditions different numbers."""
    for samples in batch:
        samples.track += rendition * 10
    return batch


class _Source:
    """Reads whole files into memory that is used again and again."""

    def __init__(self) -> None:
        self._memory = bytearray()

    def read(self, path: Path) -> memoryview:
        with path.open("rb", buffering=0) as file:
            size = os.fstat(file.fileno()).st_size
            if size > len(self._memory):
                self._memory = bytearray(size + size // 4)
            at, view = 0, memoryview(self._memory)
            while at < size and (got := file.readinto(view[at:size])):
                at += got
            return view[:at]


class _Output:
    """The file while it grows: room for the index, then media data."""

    def __init__(self, file: int, path: Path, planned_seconds: float) -> None:
        self._file = file
        self._path = path
        self._planned = planned_seconds
        self._seconds = 0.0
        self._builder = Mp4Builder()
        self._room = 0
        self._waiting: list[memoryview] = []

    def add(self, batch: list[Samples], seconds: float) -> None:
        """Append samples that stand for so many seconds of the plan."""
        self._seconds += seconds
        if not batch:
            return
        self._waiting += self._builder.add(batch)
        if not self._room:
            self._room = self._builder.index_estimate(self._seconds / self._planned if self._planned else 1.0)
            os.lseek(self._file, self._room, os.SEEK_SET)
        _write_all(self._file, self._waiting)
        self._waiting = []

    def finish(self) -> None:
        """Write the index into its room."""
        if not self._builder.media_size:
            return
        head = self._builder.head(self._room)
        if head is None:
            room = self._builder.room_needed()
            head = self._builder.head(room)
            assert head is not None
            self._move(room)
        os.lseek(self._file, 0, os.SEEK_SET)
        _write_all(self._file, [memoryview(head)])

    def _move(self, room: int) -> None:
        """The room was too small: copy the media to where it fits."""
        aside = self._path.with_suffix(".moved")
        with self._path.open("rb") as source, aside.open("wb") as target:
            source.seek(self._room)
            target.seek(room)
            shutil.copyfileobj(source, target, _SOME)
        with aside.open("rb") as source:
            os.lseek(self._file, 0, os.SEEK_SET)
            while block := source.read(_SOME):
                _write_all(self._file, [memoryview(block)])
        aside.unlink()


def _write_all(file: int, buffers: list[memoryview]) -> None:
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
