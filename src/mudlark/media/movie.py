"""The neutral model of a film in a file: its tracks, their formats, and where, when and how large each sample is.

Every reader of a container with an index gives it, and whoever looks into a film (verification, reports, playing, lists
of tracks) knows nothing else. Times are ticks of a track's own timescale, places are bytes of the file.
"""

from array import array
from collections.abc import Callable
from typing import IO

import msgspec
import numpy as np

from mudlark.errors import FormatError
from mudlark.media.samples import Flags, Format, Ints

ReadAt = Callable[[int, int], bytes]


class CutOff(FormatError):
    """A file that ends, or is left, inside of a part that states to be longer."""


class Edit(msgspec.Struct, frozen=True):
    """A part of a track's media that is presented. media_time: its first tick; None where nothing is shown or heard
    meanwhile. length: ticks; None if it lasts until the media end."""

    media_time: int | None
    length: int | None


class TrackIndex(msgspec.Struct):
    """One track, a row a sample, in order of decoding; all arrays have shape (n,), may share their memory, and are not
    to be changed.

    number: as its file has it. formats: one or several; described: which of them describes each sample, from 0.
    sizes, offsets: bytes. dts, pts, durations: ticks. sync: decoding may begin there.
    delay: ticks for which nothing is presented before its first edit. edits: what is presented, in turn; all of it if
    there are none. language: BCP 47 or ISO 639, und where it is not stated. label: its name. default: played unless
    another is chosen. stated: ticks that all its samples are said to last, 0 if that is not said.
    """

    number: int
    formats: tuple[Format, ...]
    sizes: Ints
    offsets: Ints
    dts: Ints
    pts: Ints
    durations: Ints
    sync: Flags
    described: Ints
    delay: int = 0
    edits: tuple[Edit, ...] = ()
    language: str = "und"
    label: str = ""
    default: bool = True
    stated: int = 0

    @property
    def format(self) -> Format:
        """What describes its first sample."""
        return self.formats[int(self.described[0]) if len(self.described) else 0]

    @property
    def media_origin(self) -> int:
        """The tick of its media at which its presentation begins, whether there are samples by then or not."""
        return next((edit.media_time for edit in self.edits if edit.media_time is not None), 0)

    @property
    def media_start(self) -> int:
        """The first tick of its media that is presented."""
        first = int(self.pts.min()) if len(self.pts) else 0
        return max(first, self.media_origin) if any(edit.media_time is not None for edit in self.edits) else first

    def presented(self) -> tuple[float, float]:
        """When this track begins and ends on the movie's clock, in seconds."""
        if not len(self.pts):
            return 0.0, 0.0
        last = int((self.pts + self.durations).max())
        length = 0
        for edit in self.edits or (Edit(None, 0), Edit(self.media_start, None)):
            if edit.media_time is None:
                length += edit.length or 0
            else:
                there = max(0, last - max(self.media_start, edit.media_time))
                length += there if edit.length is None else min(there, edit.length)
        return self.delay / self.format.timescale, (self.delay + length) / self.format.timescale

    def runs(self) -> Ints:
        """Where its samples stand in the file, run by run (see `contiguous`), in order of decoding."""
        return contiguous(self.offsets, self.sizes)


class Unread(msgspec.Struct):
    """Parts of a file that its standard does not know where they stand: how many, their bytes, and where the first
    begins."""

    count: int = 0
    size: int = 0
    first: int = 0

    def note(self, begin: int, end: int) -> None:
        """One more of them."""
        self.first = self.first if self.count else begin
        self.count, self.size = self.count + 1, self.size + end - begin


class Movie(msgspec.Struct):
    """A whole file. stated: seconds that its header says it lasts, 0 if it does not. tracks: pictures and sound.
    others: tracks of anything else (texts, time codes), which no one plays here. unread: what belongs to nothing."""

    stated: float
    tracks: list[TrackIndex]
    others: list[TrackIndex] = msgspec.field(default_factory=list)
    unread: Unread = msgspec.field(default_factory=Unread)

    @property
    def end(self) -> float | None:
        """The second at which the last of its tracks ends; None without tracks."""
        return max((track.presented()[1] for track in self.tracks), default=None)


def contiguous(offsets: Ints, sizes: Ints) -> Ints:
    """First byte and end of each run of samples of which one begins where the one before it ends; shape (runs, 2)."""
    if not len(offsets):
        return np.zeros((0, 2), np.int64)
    ends = offsets + sizes
    apart = np.flatnonzero(offsets[1:] != ends[:-1])
    return np.stack([offsets[np.append(0, apart + 1)], ends[np.append(apart, -1)]], axis=1)


def growing() -> "array[int]":
    """Numbers of 64 bits that come one by one, eight bytes each."""
    return array("q")


class Windowed:
    """Reads small parts of a file out of larger ones. Call it with a place and a number of bytes; fewer come where the
    file ends."""

    def __init__(self, read: ReadAt, window: int = 1 << 20) -> None:
        self._read, self._most = read, window
        self._window, self._begin = b"", 0

    def __call__(self, at: int, count: int) -> bytes:
        if not self._begin <= at <= at + count <= self._begin + len(self._window):
            self._window, self._begin = self._read(at, max(count, self._most)), at
        return self._window[at - self._begin : at - self._begin + count]


def reader_of(file: IO[bytes]) -> ReadAt:
    """What gives so many bytes of a file from a place on; fewer where it ends before, however far away that is."""

    size = file.seek(0, 2)

    def read(at: int, count: int) -> bytes:
        if not 0 <= at < size:
            return b""
        file.seek(at)
        return file.read(count)

    return read
