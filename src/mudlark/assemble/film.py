"""From segments, in order, to one file: any reader of samples into any writer.

Memory holds a segment of each rendition and the sample tables. Renditions are read by what their bytes are, stretch by
stretch; all are put on one clock, and handed to one writer. What was lost or put in is counted with its time.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import chain
from pathlib import Path

import msgspec
import numpy as np
from msgspec.structs import replace
from xxhash import xxh3_128

from mudlark.assemble.output import Output
from mudlark.assemble.sound import Filled, Filler
from mudlark.assemble.source import SectionReader
from mudlark.assemble.timeline import Timeline
from mudlark.errors import FormatError, StorageError
from mudlark.fetch.place import Place
from mudlark.media.picture.inband import IN_BAND, keeps_sets, with_parameter_sets
from mudlark.media.readers import READERS, container, reader_for
from mudlark.media.samples import Event, Format, Ints, Loss, LossCode, SampleReader, Samples, TrackLabel

_MOST_EVENTS = 1_000
_SHORT = 0.5  # seconds by which a segment may be shorter than it is promised
_ROUNDED = 0.5  # seconds more, where the promise is in whole seconds
_TRACKS = 16  # numbers that the tracks of one rendition may have


class Part(msgspec.Struct, frozen=True):
    """One segment of the film. place: on the disk, None if it is missing. rendition: its number. begin, duration: as
    promised.

    init: its initialization section. key, iv: with which it is encrypted (AES-128 in CBC), if it is. offset: seconds
    from the time of its media to that of the stretch, where the manifest states them. shown: from
    and until when it is presented, in seconds of the stretch, where it holds more.
    """

    rendition: int
    number: int
    begin: float
    duration: float
    place: Place | None
    stretch: int = 0
    init: "Section | None" = None
    key: bytes | None = None
    iv: bytes = b""
    offset: float | None = None
    shown: tuple[float, float] | None = None


class Section(msgspec.Struct, frozen=True):
    """An initialization section on disk, and with what it is encrypted, if it is."""

    place: Place
    key: bytes | None = None
    iv: bytes = b""


class Voice(msgspec.Struct, frozen=True):
    """A rendition that goes into the film. types: which of its tracks are taken."""

    types: frozenset[str] = frozenset({"video", "audio"})
    label: TrackLabel = msgspec.field(default_factory=TrackLabel)


class CodedFrames(msgspec.Struct, frozen=True):
    """A track's coded frames: how many, and the digest (XXH3, 128 bits) over their bytes, without what was put in.

    added: runs of samples that were put in, as first sample and number, counted in the finished track. bytes: of them;
    format, seconds: of the track. tracks: of the file, one behind the other, into which they went.
    """

    count: int
    digest: str
    added: tuple[tuple[int, int], ...] = ()
    bytes: int = 0
    format: Format | None = None
    seconds: float = 0.0
    tracks: int = 1


class Assembled(msgspec.Struct):
    """What became of the segments: how many gave samples, which could not be read, which are shorter than promised and
    how many seconds they last (nothing behind them would show it), what was lost or put in, and the coded frames of
    each track in the order of the file. events: messages among the media. timeline: the clock that they are on now.
    origin: when on that clock the film begins. path: of the file.
    """

    segments: int = 0
    unreadable: list[tuple[Part, FormatError]] = msgspec.field(default_factory=list)
    short: list[tuple[Part, float]] = msgspec.field(default_factory=list)
    losses: list[Loss] = msgspec.field(default_factory=list)
    frames: list[CodedFrames] = msgspec.field(default_factory=list)
    events: list[Event] = msgspec.field(default_factory=list)
    timeline: Timeline = msgspec.field(default_factory=Timeline)
    origin: float = 0.0
    path: Path = Path()


def assemble(
    parts: Iterable[Part], voices: Sequence[Voice], target: Path, planned_seconds: float, make_output: "MakeOutput"
) -> Assembled:
    """Write the parts, given stretch by stretch in order of time, into a file at `target` (or one that the output makes
    of that).

    Where the parameter sets of a picture change in the middle, everything is written once more from the beginning, with
    sets before each picture at which decoding may begin: a player that goes back would decode the beginning with those
    of the end.
    """
    rest, taken = iter(parts), list[Part]()

    def made(parts: Iterable[Part], *, in_band: bool) -> Assembled:
        with make_output(target, planned_seconds, _labels(voices)) as output:
            film = _Film(voices, output, in_band=in_band).run(parts)
            film.path = output.path
            return film

    try:
        try:
            return made(_noted(rest, taken), in_band=False)
        except _SetsChange:
            return made(chain(taken, rest), in_band=True)
    except OSError as problem:
        raise StorageError(
            f"Cannot write {target}: {problem.strerror}.", "Make room or choose another folder."
        ) from problem


def _noted(parts: Iterator[Part], taken: list[Part]) -> Iterator[Part]:
    """The parts, each of which is added to a list as it is taken."""
    for part in parts:
        taken.append(part)
        yield part


class _SetsChange(Exception):
    """The parameter sets of a picture change in the middle of a film whose first samples have none inside."""


MakeOutput = Callable[[Path, float, dict[int, TrackLabel]], Output]


def _labels(voices: Sequence[Voice]) -> dict[int, TrackLabel]:
    """What is said of the tracks of each rendition, by their numbers; only the first sound is played by itself."""
    labels = {}
    for number, voice in enumerate(voices):
        for track in range(_TRACKS):
            labels[number * _TRACKS + track] = replace(voice.label, default=voice.label.default and track <= 2)
    return labels


class _Film:
    """One film while it is made."""

    def __init__(self, voices: Sequence[Voice], output: Output, *, in_band: bool) -> None:
        self.readings = [_Reading(number, voice, in_band=in_band) for number, voice in enumerate(voices)]
        self.in_band = in_band
        self.output = output
        self.result = Assembled()
        self.timeline = self.result.timeline
        self.tracks: dict[int, _Track] = {}
        self.stretch: int | None = None
        self.opening: list[tuple[_Reading, list[Samples]]] | None = None
        self.opened: set[int] = set()

    def run(self, parts: Iterable[Part]) -> Assembled:
        source = SectionReader()
        for part in parts:
            reading = self.readings[part.rendition]
            if part.stretch != self.stretch:
                self.end_stretch()
                self.stretch = part.stretch
                self.timeline.begin(part.stretch)
                self.opening, self.opened = [], set()
            if part.place is None:
                self.take(reading, reading.flush())
                self.measure(reading)
                self.timeline.miss(part.rendition, part.duration)
                continue
            try:
                before, batch = reading.read(part, source)
            except FormatError as problem:
                self.take(reading, reading.flush())
                self.measure(reading)
                self.timeline.miss(part.rendition, part.duration)
                self.result.unreadable.append((part, problem))
                continue
            self.take(reading, before)
            self.result.segments += 1
            if reading.anew:
                self.timeline.anew(part.rendition)
                reading.anew = False
            self.take(reading, batch, opens=True)
            self.note(reading.losses(), self.timeline.end)
            self.hear(reading.events(), part)
        self.end_stretch()
        self.output.finish()
        self.result.frames = [
            replace(self.tracks[number].frames(), tracks=self.output.spread(number))
            for number in sorted(self.tracks)
            if self.tracks[number].count
        ]
        begins = [track.begin for track in self.tracks.values() if track.begin is not None]
        self.result.origin = origin = min(begins, default=0.0)
        self.result.losses = [
            loss if loss.at is None else replace(loss, at=max(0.0, loss.at - origin)) for loss in self.result.losses
        ]
        return self.result

    def take(self, reading: "_Reading", batch: list[Samples], *, opens: bool = False) -> None:
        """Place samples; the first of a stretch wait until those of every rendition are there."""
        if opens and self.opening is not None and reading.number in self.opened:
            self.open()
        if self.opening is None:
            lasts = reading.part.duration if reading.part else 0.0
            self.put(self.timeline.place(reading.number, reading.wraps, batch, lasts))
            return
        if batch:
            self.opening.append((reading, [samples.kept() for samples in batch]))
            self.opened.add(reading.number)
        if len(self.opened) == len(self.readings):
            self.open()

    def open(self) -> None:
        """Find the shift of a stretch from the first samples of its renditions, and place those."""
        waiting, self.opening = self.opening or [], None
        batches = [(reading.number, reading.wraps, batch) for reading, batch in waiting]
        self.put([samples for placed in self.timeline.open(batches) for samples in placed])

    def end_stretch(self) -> None:
        for reading in self.readings:
            self.take(reading, reading.flush())
            self.measure(reading)
        if self.opening is not None:
            self.open()

    def measure(self, reading: "_Reading") -> None:
        """Compare the last segment before an end, or before a hole, with what it promises."""
        if reading.part is not None and (lasts := reading.lasts()) is not None:
            rounded = _ROUNDED if reading.part.duration == int(reading.part.duration) else 0.0
            if min(reading.part.duration - lasts, reading.ends_early()) > _SHORT + rounded:
                self.result.short.append((reading.part, lasts))
        reading.part = None

    def put(self, batch: list[Samples]) -> None:
        """Hand samples on the film's clock to the writer, with silence in the holes of sound."""
        ready: list[Samples] = []
        for samples in batch:
            track = self.tracks.setdefault(samples.track, _Track(in_band=self.in_band))
            ready += track.ready(samples)
            self.note(track.losses())
        self.note(self.timeline.losses())
        self.output.add(ready, self.timeline.end)
        self.note(self.output.losses())

    def hear(self, events: Iterable[Event], part: Part) -> None:
        """Keep messages, each once: several renditions may carry the same."""
        shift = part.offset or 0.0
        for event in events:
            placed = replace(event, begin=round(event.begin + shift, 3))
            if placed not in self.result.events and len(self.result.events) < _MOST_EVENTS:
                self.result.events.append(placed)

    def note(self, losses: Iterable[Loss], at: float | None = None) -> None:
        self.result.losses += [loss if loss.at is not None else replace(loss, at=at) for loss in losses]


class _Reading:
    """A rendition while it is read: the reader for what its bytes are, and what that has begun with."""

    def __init__(self, number: int, voice: Voice, *, in_band: bool) -> None:
        self.number = number
        self.voice = voice
        self._in_band = in_band
        self.anew = False
        self._readers: dict[str, SampleReader] = {}
        self._form = ""
        self._held: list[Samples] = []
        self._init: Section | None = None
        self._stretch: int | None = None
        self._offset: float | None = None
        self.part: Part | None = None
        self._spans: dict[int, list[float]] = {}  # of each track: when the part begins and ends, and its usual step
        self._since = (0.0, 0.0)  # when the stretch begins, by its media and as promised
        self._decoded: dict[int, Ints] = {}  # of each track: when its last sample was, in ticks; shape (1,)

    @property
    def wraps(self) -> float:
        return self._readers[self._form].wraps if self._form else 0.0

    def read(self, part: Part, source: SectionReader) -> tuple[list[Samples], list[Samples]]:
        """What was held back before a part that begins anew, and the samples of the part."""
        data = source.read(part.place, part.key, part.iv) if part.place else memoryview(b"")
        form = container(data)
        if part.init and form not in READERS:
            form = "mp4"  # it may begin with a box that nobody knows
        if part.key and form not in READERS:
            raise FormatError("What it decrypts to is no media segment; it was encrypted with another key")
        goes_on = (form, part.init, part.stretch) == (self._form, self._init, self._stretch)
        if goes_on:
            batch = self._readers[form].feed(data)
            self._begin(part)
            return [], self._ours(batch, part.offset)
        reader = self._readers.get(form) or reader_for(form, in_band=self._in_band)
        self._held = [samples.kept() for samples in self.flush()]
        self.anew = True
        fresh = part.init if part.init != self._init or form not in self._readers else None
        reader.begin(source.whole(fresh.place, fresh.key, fresh.iv) if fresh else None)
        batch = reader.feed(data)
        self._readers[form], self._form, self._init, self._stretch = reader, form, part.init, part.stretch
        before, self._held = self._held, []
        self._since = np.inf, part.begin
        self._begin(part)
        return before, self._ours(batch, part.offset)

    def _begin(self, part: Part) -> None:
        """What comes from now on is of this part."""
        self.part = part
        for span in self._spans.values():
            span[:2] = [np.inf, -np.inf]

    def lasts(self) -> float | None:
        """Seconds that the part lasts, by the track that lasts longest; None if it gave nothing."""
        return max((end - begin for begin, end, _ in self._spans.values() if end >= begin), default=None)

    def ends_early(self) -> float:
        """Seconds by which the part ends before it is promised to, by all that came since the stretch began: segments
        that are cut where pictures allow it are longer and shorter than their promises."""
        end = max((end for _, end, _ in self._spans.values()), default=-np.inf)
        since, promised = self._since
        return self.part.begin + self.part.duration - promised - (end - since) if self.part else 0.0

    def flush(self) -> list[Samples]:
        """What was held back."""
        held, self._held = self._held, []
        return [*held, *self._ours(self._readers[self._form].flush(), self._offset)] if self._form else held

    def losses(self) -> list[Loss]:
        return self._readers[self._form].losses()

    def events(self) -> list[Event]:
        return self._readers[self._form].events()

    def _ours(self, batch: list[Samples], offset: float | None) -> list[Samples]:
        """Those of the tracks that are taken, with numbers of their own among those of all renditions, on the clock of
        the stretch where that is known."""
        self._offset = offset
        taken = [samples for samples in batch if samples.format.type in self.voice.types and len(samples)]
        for samples in taken:
            samples.track = self.number * _TRACKS + min(samples.track, _TRACKS - 1)
            self._measure(samples)
            if offset:
                ticks = round(offset * samples.format.timescale)
                samples.dts, samples.pts = samples.dts + ticks, samples.pts + ticks
        shown = self.part.shown if self.part else None
        return [some for one in taken if len(some := _presented(one, *shown))] if shown else taken

    def _measure(self, samples: Samples) -> None:
        """Note when samples are shown, on the clock of their media."""
        scale = samples.format.timescale
        span = self._spans.setdefault(samples.track, [np.inf, -np.inf, 0.0])
        span[0] = min(span[0], int(samples.pts.min()) / scale)
        if self._since[0] == np.inf or (self.part and self.part.begin == self._since[1]):
            self._since = min(self._since[0], span[0]), self._since[1]
        before = self._decoded.get(samples.track, samples.dts[:0])
        steps = np.diff(np.append(before, samples.dts))
        if length := float(np.median(steps)) if len(steps) else samples.usual:
            span[2] = max(0.0, length / scale)
        self._decoded[samples.track] = samples.dts[-1:]
        span[1] = max(span[1], samples.end / scale, int(samples.pts.max()) / scale + span[2])


def _presented(samples: Samples, begin: float, end: float) -> Samples:
    """The samples that are presented from a second on and until another, with what is needed to decode these."""
    scale = samples.format.timescale
    inside = np.flatnonzero(samples.pts < end * scale - 0.5)
    samples = samples.split(int(inside[-1]) + 1 if len(inside) else 0)[0]
    before = samples.pts + max(1, samples.usual) <= begin * scale + 0.5
    if not before.any():
        return samples
    if samples.format.type == "audio":
        return samples.only(~before)
    opening = np.flatnonzero(samples.sync & (samples.pts <= begin * scale + 0.5))
    return samples.split(int(opening[-1]))[1] if len(opening) else samples


class _Track:
    """A track of the film: its coded frames so far, and what keeps it decodable and without holes."""

    def __init__(self, *, in_band: bool) -> None:
        self._in_band = in_band
        self.count = 0
        self.begin: float | None = None
        self.end = 0.0
        self._coded = 0
        self._bytes = 0
        self._hash = xxh3_128()
        self._filler = Filler()
        self._first: Format | None = None
        self._leading = 0
        self._size: tuple[int, int] | None = None
        self._resized: list[Loss] = []
        self._added: list[tuple[int, int]] = []

    def ready(self, samples: Samples) -> list[Samples]:
        """Samples as they go into the file."""
        video = samples.format.type == "video"
        if video and self._first is None:
            first = int(np.argmax(samples.sync)) if samples.sync.any() else len(samples)
            if first:  # what cannot be decoded alone is left out at the beginning
                self._leading += first
                samples = samples.split(first)[1]
        if not len(samples):
            return []
        if self._first is None:
            self._first = samples.format
            self.begin = (int(samples.pts.min()) + samples.format.priming) / samples.format.timescale
        if video:
            self._mind_size(samples)
            samples = self._decodable(samples)
        self.end = max(self.end, samples.end / samples.format.timescale)
        made = [Filled(samples)] if video else list(self._filler.fill(samples))
        for one in made:
            if one.silent:
                self._added.append((self.count, len(one.samples)))
            else:
                self._coded += len(one.samples)
                self._bytes += int(one.samples.sizes.sum())
                for piece in one.samples.pieces:
                    self._hash.update(piece)
            self.count += len(one.samples)
        return [one.samples for one in made]

    def _decodable(self, samples: Samples) -> Samples:
        """Where the parameter sets of a picture change, all samples have theirs. Raises _SetsChange where earlier ones
        have not."""
        assert self._first is not None
        is_other = samples.format.config != self._first.config or samples.format.codec[:4] != self._first.codec[:4]
        if not self._in_band and is_other and self.count and keeps_sets(self._first):
            raise _SetsChange
        if not self._in_band and not is_other:
            return samples
        samples = with_parameter_sets(samples)
        if samples.format.codec[:3] == self._first.codec[:3] and samples.format.codec[:4] in IN_BAND:
            codec = samples.format.codec[:4] + self._first.codec[4:]
            samples = replace(samples, format=replace(self._first, codec=codec))
        return samples

    def _mind_size(self, samples: Samples) -> None:
        """Note where pictures of another size begin."""
        size = samples.format.width, samples.format.height
        if self._size not in (None, size) and all(size):
            before = self._size or size
            words = f"{size[0]}×{size[1]} behind {before[0]}×{before[1]}"
            at = int(samples.pts.min()) / samples.format.timescale
            self._resized.append(Loss(LossCode.RESIZED, len(samples), words, at=at))
        self._size = size

    def losses(self) -> list[Loss]:
        lost, self._resized = [*self._filler.losses(), *self._resized], []
        if self._leading:
            lost.append(Loss(LossCode.LEADING, self._leading, at=0.0))
            self._leading = 0
        return lost

    def frames(self) -> CodedFrames:
        seconds = self.end - self.begin if self.begin is not None else 0.0
        return CodedFrames(self._coded, self._hash.hexdigest(), tuple(self._added), self._bytes, self._first, seconds)
