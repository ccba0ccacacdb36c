"""The one representation in which all readers and writers of media meet.

A reader turns bytes into `Samples`: the track's format, arrays with a row a sample, and the bytes themselves as a list
of buffers that are written one after the other. A writer takes `Samples`. Neither knows the other.
"""

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from enum import StrEnum
from fractions import Fraction
from itertools import accumulate
from typing import Literal, Protocol

import msgspec
import numpy as np
import numpy.typing as npt
from msgspec.structs import replace

from mudlark.media.picture.colour import Colour

Ints = npt.NDArray[np.int64]
Flags = npt.NDArray[np.bool_]
Bytes = npt.NDArray[np.uint8]
# of sound in fewer bands, or also in fewer channels, than are heard
Hints = Literal["", "bands", "parametric"]
_LONGEST_PRIMING = 1.0  # seconds


class Format(msgspec.Struct, frozen=True, eq=False):
    """What a decoder must know before the first sample. Two are equal if all that stands before `container` is: the
    rest only matters to who writes it.

    codec: as in RFC 6381 (avc1.64001f, mp4a.40.2). timescale: ticks a second of dts and pts.
    config: the decoder configuration, in the form that `codecs` names for the codec.
    sample_duration: usual ticks a sample, 0 when unknown. pixel_aspect: width and height of one pixel.
    language: as stated, empty when it is not. entry: the sample entry of the MP4 that it was read from, whole.
    container: what it was read from, where that matters for what it is written into. exact: the usual ticks a sample
    where they are no whole number, as the timescale is not the sound's own. colour: as the container states it.
    elements: what a Matroska track says of its picture beside that, whole. matrix: how an MP4 has it turned (36 bytes),
    empty if it is not. priming: ticks of the first samples that are decoded and not heard.
    prefix: bytes that the file leaves out before each sample; deflated: it keeps them packed (RFC 1950).
    hints: what its frames hint at, of which the configuration does not speak.
    """

    type: Literal["video", "audio", "text"]
    codec: str
    timescale: int
    config: bytes
    sample_duration: int = 0
    width: int = 0
    height: int = 0
    pixel_aspect: tuple[int, int] = (1, 1)
    channels: int = 0
    sample_rate: int = 0
    language: str = ""
    container: str = ""
    entry: bytes = b""
    exact: Fraction | None = None
    colour: Colour | None = None
    elements: bytes = b""
    matrix: bytes = b""
    priming: int = 0
    prefix: bytes = b""
    deflated: bool = False
    hints: Hints = ""

    @property
    def _compared(self) -> tuple[object, ...]:
        shape = (self.width, self.height, self.pixel_aspect, self.channels, self.sample_rate)
        return self.type, self.codec, self.timescale, self.config, self.sample_duration, shape, self.language

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Format) and self._compared == other._compared

    def __hash__(self) -> int:
        return hash(self._compared)

    @property
    def lasts(self) -> Fraction:
        """The usual ticks a sample, exactly; 0 when unknown."""
        return self.exact if self.exact is not None else Fraction(self.sample_duration)


class Samples(msgspec.Struct):
    """Consecutive samples of one track, in decoding order.

    sizes: bytes. dts, pts: ticks of the format's timescale. sync: decoding may start here.
    pieces: buffers whose concatenation is the samples' bytes; a piece may hold parts of one sample or of several.
    durations: ticks that each sample is stated to last; None where nothing states it.
    All arrays have shape (n,). One format describes them all: samples of another are in another `Samples`.
    """

    track: int
    format: Format
    sizes: Ints
    dts: Ints
    pts: Ints
    sync: Flags
    pieces: list[memoryview]
    durations: Ints | None = None

    def __len__(self) -> int:
        return len(self.sizes)

    @property
    def usual(self) -> int:
        """Ticks from one sample to the next, as they usually are; 0 when unknown."""
        return self.format.sample_duration or (int(np.median(np.diff(self.dts))) if len(self) > 1 else 0)

    @property
    def end(self) -> int:
        """The tick at which all of them are over, as far as it is known how long they last."""
        return int((self.pts + (self.usual if self.durations is None else self.durations)).max())

    def primed(self) -> "Samples":
        """The same, where they are the first of their track: what is decoded before the time of zero is not heard, as
        far as that is no more than decoders need."""
        before = max(0, -int(self.pts.min())) if len(self) else 0
        needed = 0 < before <= _LONGEST_PRIMING * self.format.timescale
        return replace(self, format=replace(self.format, priming=before)) if needed else self

    def kept(self) -> "Samples":
        """The same with bytes of its own, which hold for good."""
        return replace(self, pieces=[memoryview(b"".join(self.pieces))])

    def only(self, kept: Flags) -> "Samples":
        """The samples for which `kept`, shape (n,), is true."""
        turns = (np.flatnonzero(np.diff(kept)) + 1).tolist()
        at = np.append(0, np.cumsum(self.sizes))
        runs = cut_pieces(self.pieces, at[turns].tolist())
        pieces = [piece for run in runs[0 if len(kept) and kept[0] else 1 :: 2] for piece in run]
        return self._rows(kept, pieces)

    def split(self, at: int) -> "tuple[Samples, Samples]":
        """The samples before number `at`, and the others."""
        first, second = cut_pieces(self.pieces, [int(self.sizes[:at].sum())])
        return self._rows(slice(at), first), self._rows(slice(at, None), second)

    def _rows(self, rows: Flags | slice, pieces: list[memoryview]) -> "Samples":
        lasts = self.durations[rows] if self.durations is not None else None
        arrays = (self.sizes[rows], self.dts[rows], self.pts[rows], self.sync[rows])
        return Samples(self.track, self.format, *arrays, pieces, lasts)


class TrackLabel(msgspec.Struct, frozen=True):
    """What a file says of a track beside its format. language: BCP 47. default: played unless another is chosen."""

    language: str = ""
    name: str = ""
    default: bool = True


class LossCode(StrEnum):
    """What may be lost or put in on the way from segments to a film."""

    STRAY_BYTES = "stray-bytes"
    PACKETS = "packets-lost"
    UNDECODABLE = "undecodable-pictures"
    LEFT_OUT = "left-out"
    REPEATED = "repeated-samples"
    LEAP = "timestamp-leap"
    LEADING = "leading-pictures"
    SILENCE = "silence-added"
    HOLE = "sound-hole"
    FORMAT = "format-changed"
    UNTRIMMED = "end-not-trimmed"
    BESIDE = "beside-left-out"
    RESIZED = "picture-size-changed"


class Loss(msgspec.Struct, frozen=True):
    """How many of something were lost (or put in), and what. seconds: that they last. at: seconds on the film's clock,
    if known.
    """

    code: LossCode
    count: int
    detail: str = ""
    seconds: float = 0.0
    at: float | None = None


class Event(msgspec.Struct, frozen=True):
    """A message that goes along with the media (emsg, ID3, KLV, SCTE 35). scheme: what it is about. begin: seconds, on
    the clock of its stretch where that is known."""

    scheme: str
    value: str
    begin: float
    message: str

    @property
    def words(self) -> str:
        """All of it in one line."""
        return f"{self.begin:.3f} s, {self.scheme} {self.value}: {self.message}"


class SampleReader(Protocol):
    """Turns the segments of one rendition into samples, segment after segment."""

    @property
    def wraps(self) -> float:
        """Seconds after which its clock starts anew, 0 if it never does, -1 if its clock says nothing."""

    def begin(self, init: bytes | None = None) -> None:
        """What follows continues nothing: timestamps may start anew. init: the initialization section, if any."""

    def feed(self, data: memoryview) -> list[Samples]:
        """Take one whole segment; give what is complete by now. `data` is free again when this returns; the pieces of
        the samples hold until the next call. On FormatError it is as if this had not been called."""

    def flush(self) -> list[Samples]:
        """Give what was held back for a continuation; the next segment does not continue this one."""

    def losses(self) -> list[Loss]:
        """What was lost or left out since this was last asked."""

    def events(self) -> list[Event]:
        """Messages that came along since this was last asked."""


def batches(reader: SampleReader, segments: Iterable[bytes]) -> Iterator[list[Samples]]:
    """All samples of some segments, batch by batch; each batch must be used up before the next is taken."""
    for segment in segments:
        yield reader.feed(memoryview(segment))
    yield reader.flush()


def cut_pieces(pieces: Sequence[memoryview], positions: Sequence[int]) -> list[list[memoryview]]:
    """Cut a list of buffers at rising byte positions; n cuts give n + 1 lists."""
    ends = list(accumulate(map(len, pieces)))
    lists: list[list[memoryview]] = []
    index = used = 0  # the first piece not yet given away, and how many of its bytes are
    for position in positions:
        last = bisect_left(ends, position, index)
        part = list(pieces[index : last + 1])
        if part:
            part[-1] = part[-1][: len(part[-1]) - (ends[last] - position)]
            part[0] = part[0][used:]
        used = len(pieces[last]) - (ends[last] - position) if part else 0
        lists.append(part)
        index = last
    rest = list(pieces[index:])
    if rest:
        rest[0] = rest[0][used:]
    lists.append(rest)
    return lists
