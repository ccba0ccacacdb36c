"""Sound that is a chain of frames with headers (AAC in ADTS, MPEG audio, AC-3, E-AC-3): found in arrays, and timed.

What differs between them stands in a `Syntax`, a row each in adts.py, mpeg_audio.py and ac3.py. Frames are followed by
their own lengths, so that what looks like a header inside of one is none. There is no loop over frames, except through
streams in which that happens.
"""

from collections.abc import Callable, Sequence

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.errors import FormatError
from mudlark.media.samples import Bytes, Flags, Format, Hints, Ints, Samples
from mudlark.media.sound.hints import SOME

_TOLERANCE = 0.020  # seconds by which a timestamp may differ from the running count before it is a jump
_NONE = np.zeros(0, np.int64)


class Syntax(msgspec.Struct, frozen=True):
    """How frames of a codec begin.

    header: bytes needed to know a frame's length. marks: where frames may begin. lengths: their bytes, headers
    included, 0 where there can be none. alike: a mask of the header's first bytes, for those bits that stay the same.
    stripped: bytes of each header that MP4 does not keep. format: what the frames of a sample describe. blocks: how
    many blocks of samples each frame holds, one if nothing says. joined: true for frames that
    belong to the sample before them. hints: what such samples hint at, of which their headers do not speak.
    """

    header: int
    marks: Callable[[Bytes], Ints]
    lengths: Callable[[Bytes, Ints], Ints]
    alike: bytes
    format: Callable[[bytes], Format]
    stripped: Callable[[Bytes, Ints], Ints] | None = None
    joined: Callable[[Bytes, Ints], Bytes] | None = None
    blocks: Callable[[Bytes, Ints], Ints] | None = None
    hints: Callable[[Sequence[bytes]], Hints] | None = None


class Frames(msgspec.Struct, frozen=True):
    """Positions and lengths in bytes of whole frames; `rest`: where the unfinished one begins."""

    positions: Ints
    lengths: Ints
    rest: int


def frames(stream: Bytes, syntax: Syntax) -> Frames:
    """Find the chain of frames. Bytes that belong to no frame are stepped over."""
    usable = len(stream) - syntax.header + 1
    marks = syntax.marks(stream[: len(stream)]) if usable > 0 else _NONE
    marks = marks[marks < usable]
    lengths = syntax.lengths(stream, marks)
    marks, lengths = marks[lengths > 0], lengths[lengths > 0]
    if not len(marks):
        return Frames(_NONE, _NONE, max(0, usable - 1))
    leader = _leader(stream, marks, lengths, syntax)
    marks, lengths = marks[leader:], lengths[leader:]
    same = _alike(stream, marks, marks[0], syntax)
    chain, sizes = marks[same], lengths[same]
    if not np.array_equal(chain[1:], chain[:-1] + sizes[:-1]):
        chain = _walk(marks, lengths, usable)
        sizes = syntax.lengths(stream, chain)
    whole = chain + sizes <= len(stream)
    rest = int(chain[~whole][0]) if not whole.all() else int(chain[-1] + sizes[-1]) if len(chain) else len(stream)
    return Frames(chain[whole], sizes[whole], min(rest, len(stream)))


def _alike(stream: Bytes, marks: Ints, others: Ints | np.int64, syntax: Syntax) -> Flags:
    """Which marks begin a frame of the kind that others begin."""
    same = np.ones(len(marks), np.bool_)
    for at, mask in enumerate(syntax.alike):
        same &= (stream[marks + at] & mask) == (stream[others + at] & mask)
    return same


def _leader(stream: Bytes, marks: Ints, lengths: Ints, syntax: Syntax) -> int:
    """The number of the first mark whose frame is followed by one of its kind, or reaches to where nobody can tell:
    what was cut out of a longer stream begins inside of a frame, where anything may look like a mark."""
    ends = marks + lengths
    behind = np.minimum(np.searchsorted(marks, ends), len(marks) - 1)
    follows = (marks[behind] == ends) & _alike(stream, marks, marks[behind], syntax)
    follows |= ends >= len(stream) - syntax.header + 1
    return int(follows.argmax())


def described(stream: Bytes, layout: Frames, syntax: Syntax, end: int, before: Format | None = None) -> Format:
    """What the first sample of a chain, which ends at a byte, describes, and what hints the first frames hold, which
    those before them did if there were any."""
    said = syntax.format(stream[int(layout.positions[0]) : end].tobytes())
    if syntax.hints is None:
        return said
    if before == said:
        return before
    places = zip(layout.positions[:SOME].tolist(), layout.lengths[:SOME].tolist(), strict=True)
    return replace(said, hints=syntax.hints([stream[at : at + size].tobytes() for at, size in places]))


def _walk(marks: Ints, lengths: Ints, end: int) -> Ints:
    """Follow the chain mark by mark: the slow way, for streams in which sync words also occur inside frames."""
    following = dict(zip(marks.tolist(), lengths.tolist(), strict=True))
    chain = []
    at = int(marks[0])
    for mark in marks.tolist():
        target = mark + following[mark]
        if mark >= at and (target in following or target >= end):
            chain.append(mark)
            at = target
    return np.array(chain, np.int64)


class FramedStream:
    """Turns frames with the 90 kHz timestamps of their packets into samples.

    Frames are counted on from the first timestamp; a timestamp that is off by more than a little (a gap, or an
    overlap) moves the count there.
    """

    def __init__(self, track: int, syntax: Syntax) -> None:
        self.track = track
        self.format: Format | None = None
        self._syntax = syntax
        self._next: int | None = None

    def restart(self) -> None:
        """The next timestamp starts a new count."""
        self._next = None

    @property
    def following(self) -> int | None:
        """When the next frame would begin by the count, in ticks of 90 kHz; None before the first."""
        if self._next is None or self.format is None:
            return None
        return self._next * 90_000 // self.format.timescale

    def samples(self, stream: Bytes, starts: Ints, pts: Ints) -> tuple[Samples | None, int]:
        """Samples of all whole frames, and where the unfinished rest begins.

        starts: where in the stream each timed packet begins; pts: its time in ticks of 90 kHz, unwrapped; shape (k,).
        """
        layout = frames(stream, self._syntax)
        if not len(layout.positions):
            return None, layout.rest
        opening = np.flatnonzero(~self._joined(stream, layout.positions)[1:])[:1]
        end = int(layout.positions[int(opening[0]) + 1]) if len(opening) else len(stream)
        said = described(stream, layout, self._syntax, end, self.format)
        if self.format is None or said.sample_rate != self.format.sample_rate:
            self._next = None
        self.format = said
        firsts, sizes, pieces = self._payload(stream, layout)
        frame = np.searchsorted(firsts, starts)
        times, self._next = running_times(said, self._next, len(firsts), frame, pts)
        sync = np.ones(len(firsts), np.bool_)
        return Samples(self.track, said, sizes, times, times, sync, pieces), layout.rest

    def _joined(self, stream: Bytes, positions: Ints) -> Flags:
        """Which frames belong to the sample before them."""
        if self._syntax.joined is None:
            return np.zeros(len(positions), np.bool_)
        return self._syntax.joined(stream, positions).astype(np.bool_)

    def _payload(self, stream: Bytes, layout: Frames) -> tuple[Ints, Ints, list[memoryview]]:
        """Where each sample begins, its bytes, and the buffers that hold them all."""
        positions, sizes = layout.positions, layout.lengths
        first, end = int(positions[0]), int(positions[-1] + sizes[-1])
        together = bool((positions[1:] == positions[:-1] + sizes[:-1]).all())
        if self._syntax.stripped is None and together:
            data = stream[first:end]
        else:
            kept = np.zeros(end - first + 1, np.int8)  # rises where bytes are kept, falls where they are not
            begins = positions - first
            if self._syntax.stripped is not None:
                stripped = self._syntax.stripped(stream, positions)
                begins, sizes = begins + stripped, sizes - stripped
            np.add.at(kept, begins, 1)
            np.add.at(kept, begins + sizes, -1)
            data = stream[first:end][np.cumsum(kept[:-1], dtype=np.int8).view(np.bool_)]
        if self._syntax.joined is not None:
            opening = np.flatnonzero(~self._joined(stream, positions))
            opening = opening if len(opening) and opening[0] == 0 else np.append(0, opening)
            positions, sizes = positions[opening], np.add.reduceat(sizes, opening)
        return positions, sizes, [np.ascontiguousarray(data).data]


def running_times(format: Format, following: int | None, count: int, frame: Ints, pts: Ints) -> tuple[Ints, int]:
    """Times of so many frames in ticks of the sample rate: a running count that jumps only where a timestamp says so.

    following: the time that the first should have, if there were frames before. frame: of each timestamp, the frame it
    belongs to; pts: its time in ticks of 90 kHz. Also gives the time that the next frame should have.
    """
    rate, step = format.sample_rate, format.sample_duration
    stated = (pts * rate + 45_000) // 90_000
    frame, first = np.unique(frame, return_index=True)  # of two timestamps for one frame the first counts
    frame, stated = frame[frame < count], stated[first][frame < count]
    if following is None:
        following = int(stated[0] - frame[0] * step) if len(frame) else 0
    times = following + np.arange(count, dtype=np.int64) * step
    off = stated - times[frame]
    while len(jumps := np.flatnonzero(np.abs(off) > _TOLERANCE * rate)):
        jump = jumps[0]
        shift = off[jump]
        times[frame[jump] :] += shift
        off[frame >= frame[jump]] -= shift
    return times, int(times[-1]) + step


def bits_of(stream: Bytes, marks: Ints, at: int, shift: int, mask: int) -> Ints:
    """A field of the byte `at` of each header, as int64."""
    field: Ints = (stream[marks + at].astype(np.int64) >> shift) & mask
    return field


def reserved(what: str) -> FormatError:
    """A header names something that the standard keeps for later."""
    return FormatError(f"The header of a sound frame names a reserved {what}")
