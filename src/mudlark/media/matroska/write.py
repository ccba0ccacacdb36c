"""Writing Matroska: tracks, clusters of simple blocks, and cues.

Follows RFC 9559. No file is touched here: `add` says what comes next in the file, `head` gives what stands before the
clusters, `tail` what stands behind them. Times are in thousandths of a second, as players expect them.
"""

from collections.abc import Mapping
from itertools import pairwise

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.media.codecs import codec_of
from mudlark.media.language import three_letters
from mudlark.media.matroska import names
from mudlark.media.matroska.ebml import MatroskaError, element, real, text, unsigned, vint
from mudlark.media.matroska.formats import codec_delay, codec_private, colour_element
from mudlark.media.mp4.about import About
from mudlark.media.samples import Format, Ints, Loss, LossCode, Samples, TrackLabel, cut_pieces

_SCALE = 1_000_000  # nanoseconds of a tick
_CLUSTER_SECONDS = 2
_BLOCK = 13  # bytes before each sample: identifier, eight bytes of size, track, time, flags
_KEY = 0x80
HEAD_ROOM = 16 * 1024
_PRE_ROLL = 80_000_000  # nanoseconds of Opus that are decoded before a place that is sought (RFC 7845 §4.6)


def _file_head(kind: str) -> bytes:
    """The head of a file: matroska or webm."""
    return element(
        names.EBML,
        unsigned(0x4286, 1),  # version of EBML, the least that reads it, longest identifier and size
        unsigned(0x42F7, 1),
        unsigned(0x42F2, 4),
        unsigned(0x42F3, 8),
        text(0x4282, kind),
        unsigned(0x4287, 4),  # version of Matroska, and the least that reads it
        unsigned(0x4285, 2),
    )


class _Track(msgspec.Struct):
    """A track of the file, of samples with the track number `of`, and until when it lasts, in seconds."""

    number: int
    of: int
    format: Format
    label: TrackLabel
    end: float = 0.0


class MatroskaBuilder(msgspec.Struct):
    """Collects samples of several tracks, cluster by cluster. labels: by the numbers of tracks. kind: matroska or
    webm."""

    labels: Mapping[int, TrackLabel] = msgspec.field(default_factory=dict)
    about: About = msgspec.field(default_factory=About)
    kind: str = "matroska"
    _tracks: list[_Track] = msgspec.field(default_factory=list)
    _current: dict[int, _Track] = msgspec.field(default_factory=dict)  # by the numbers of samples
    _lost: list[Loss] = msgspec.field(default_factory=list)
    _origin: float | None = None
    _written: int = 0
    _cues: list[tuple[int, int, int]] = msgspec.field(default_factory=list)

    def add(self, batch: list[Samples]) -> list[memoryview]:
        """Take samples of about the same time; give the clusters to append. At most 127 tracks."""
        for samples in batch:
            self._insist_on_track(samples)
        if self._origin is None:
            self._origin = min(int(s.pts.min()) / s.format.timescale + codec_delay(s.format) / 1e9 for s in batch)
        clusters: dict[int, list[tuple[Samples, Ints]]] = {}
        for samples in batch:
            late = codec_delay(samples.format) / 1e9 - self._origin
            times = np.rint((samples.pts / samples.format.timescale + late) * 1000).astype(np.int64)
            decoded = samples.dts / samples.format.timescale - self._origin
            groups = np.maximum(decoded, 0) // _CLUSTER_SECONDS
            cuts = [0, *(np.flatnonzero(np.diff(groups)) + 1).tolist(), len(samples)]
            rest, at = samples, 0
            for first, last in pairwise(cuts):
                part, rest = rest.split(last - at)
                at = last
                clusters.setdefault(int(groups[first]), []).append((part, times[first:last]))
            track = self._current[samples.track]
            track.end = max(track.end, samples.end / samples.format.timescale - self._origin)
        return [buffer for number in sorted(clusters) for buffer in self._cluster(clusters[number])]

    def _insist_on_track(self, samples: Samples) -> None:
        """A track for these samples. A format that no track can change to goes on in a track of its own."""
        known, format = self._current.get(samples.track), samples.format
        if known is not None and _goes_on(known.format, format):
            return
        label = self.labels.get(samples.track, TrackLabel())
        if known is not None:
            words = f"{_named(known.format)} to {_named(format)}, in track {len(self._tracks) + 1}"
            at = int(samples.pts.min()) / format.timescale
            self._lost.append(Loss(LossCode.FORMAT, len(samples), words, at=at))
            label = replace(label, default=False)
        self._current[samples.track] = _Track(len(self._tracks) + 1, samples.track, format, label)
        self._tracks.append(self._current[samples.track])

    def losses(self) -> list[Loss]:
        """What could not be said in one track since this was last asked."""
        lost, self._lost = self._lost, []
        return lost

    def _cluster(self, parts: list[tuple[Samples, Ints]]) -> list[memoryview]:
        """One cluster: blocks of all tracks in order of decoding."""
        base = max(0, min(int(times.min()) for _, times in parts))
        head = unsigned(names.CLUSTER_TIMESTAMP, base)
        size = sum(int(samples.sizes.sum()) + _BLOCK * len(samples) for samples, _ in parts)
        whole = names.CLUSTER.to_bytes(4, "big") + vint(len(head) + size, 8) + head
        pictures = any(track.format.type == "video" for track in self._tracks)
        for samples, times in parts:
            if not pictures and samples is parts[0][0]:
                self._cues.append((int(times[0]), self._current[samples.track].number, self._written))
            if samples.format.type == "video":
                for place in np.flatnonzero(samples.sync).tolist():
                    self._cues.append((int(times[place]), self._current[samples.track].number, self._written))
        self._written += len(whole) + size
        return [memoryview(whole), *self._interleaved([(samples, times - base) for samples, times in parts])]

    def _interleaved(self, parts: list[tuple[Samples, Ints]]) -> list[memoryview]:
        """The simple blocks of all tracks in order of decoding time: a head and a frame in turns, nothing copied."""
        when = np.concatenate([samples.dts / samples.format.timescale for samples, _ in parts])
        heads = memoryview(b"".join(self._heads(samples, times) for samples, times in parts))
        frames = [frame for samples, _ in parts for frame in _frames(samples)]
        buffers: list[memoryview] = []
        for index in np.argsort(when, kind="stable").tolist():
            buffers.append(heads[index * _BLOCK : (index + 1) * _BLOCK])
            buffers += frames[index]
        return buffers

    def _heads(self, samples: Samples, times: Ints) -> bytes:
        """What stands before each frame of one track, 13 bytes a frame."""
        times = np.clip(times, -0x8000, 0x7FFF)  # what a broken stream claims beyond that cannot be said
        count = len(samples)
        heads = np.empty((count, _BLOCK), np.uint8)
        heads[:, 0], heads[:, 1] = names.SIMPLE_BLOCK, 1
        heads[:, 2:9] = (samples.sizes + 4).astype(">u8").view(np.uint8).reshape(count, 8)[:, 1:]
        heads[:, 9] = 0x80 | self._current[samples.track].number
        heads[:, 10:12] = times.astype(">i2").view(np.uint8).reshape(count, 2)
        heads[:, 12] = np.where(samples.sync, _KEY, 0)
        return heads.tobytes()

    def head(self) -> bytes:
        """All that stands before the clusters, HEAD_ROOM bytes long. The cues stand behind them."""
        tail = self.tail()
        info, tracks = self._info(), self._entries()
        segment = names.SEGMENT.to_bytes(4, "big")
        content = self._content
        places: dict[int, int] = {}
        for _ in range(2):  # the sizes of the positions do not change
            seek = _seek_head(places or dict.fromkeys((names.INFO, names.TRACKS, names.CUES), HEAD_ROOM))
            places = {
                names.INFO: len(seek),
                names.TRACKS: len(seek) + len(info),
                names.CUES: HEAD_ROOM - content + self._written,
            }
        room = HEAD_ROOM - content - len(seek) - len(info) - len(tracks) - 9
        if room < 0:
            raise MatroskaError("There are more tracks than the head has room for")
        void = bytes([names.VOID]) + vint(room, 8) + bytes(room)
        size = HEAD_ROOM - content + self._written + len(tail)
        return _file_head(self.kind) + segment + vint(size, 8) + seek + info + tracks + void

    @property
    def _content(self) -> int:
        """Where the content of the segment begins: behind the file's head and its own."""
        return len(_file_head(self.kind)) + 12

    def tail(self) -> bytes:
        """The cues, and what the file says of itself."""
        shift = HEAD_ROOM - self._content
        points = [
            element(
                names.CUE_POINT,
                unsigned(names.CUE_TIME, max(0, time)),
                element(
                    names.CUE_TRACK_POSITIONS,
                    unsigned(names.CUE_TRACK, track),
                    unsigned(names.CUE_CLUSTER_POSITION, place + shift),
                ),
            )
            for time, track, place in self._cues
        ]
        cues = element(names.CUES, *points)
        facts = {"DATE_RELEASED": self.about.date, "URL": self.about.source}
        tags = [
            element(names.SIMPLE_TAG, text(names.TAG_NAME, name), text(names.TAG_STRING, value))
            for name, value in facts.items()
            if value
        ]
        return cues + (element(names.TAGS, element(names.TAG, element(names.TARGETS), *tags)) if tags else b"")

    def _info(self) -> bytes:
        length = max((track.end for track in self._tracks), default=0.0) * 1000
        return element(
            names.INFO,
            unsigned(names.TIMESTAMP_SCALE, _SCALE),
            real(names.DURATION, length),
            text(names.TITLE, self.about.title) if self.about.title else b"",
            text(names.MUXING_APP, "Mudlark"),
            text(names.WRITING_APP, "Mudlark"),
        )

    def _entries(self) -> bytes:
        listed = sorted(self._tracks, key=lambda track: (track.of, track.number))
        return element(names.TRACKS, *map(self._entry, listed))

    def spread(self, number: int) -> int:
        """Into how many tracks of the file the samples of one track went."""
        return sum(track.of == number for track in self._tracks)

    def _entry(self, track: _Track) -> bytes:
        format, label = track.format, track.label
        codec = codec_of(format.codec)
        if codec is None:
            raise MatroskaError(f"There is no Matroska name for {format.codec}")
        language = label.language or format.language
        parts = [
            unsigned(names.TRACK_NUMBER, track.number),
            unsigned(names.TRACK_UID, track.number),
            unsigned(names.TRACK_TYPE, 1 if format.type == "video" else 2),
            unsigned(names.FLAG_LACING, 0),
            unsigned(names.FLAG_DEFAULT, int(label.default)),
            text(names.LANGUAGE, three_letters(language)),
            text(names.LANGUAGE_BCP47, language) if language else b"",
            text(names.NAME, label.name) if label.name else b"",
            text(names.CODEC_ID, codec.matroska),
        ]
        private = codec_private(format)
        if private:
            parts.append(element(names.CODEC_PRIVATE, private))
        if format.sample_duration:
            parts.append(unsigned(names.DEFAULT_DURATION, format.sample_duration * 1_000_000_000 // format.timescale))
        if delay := codec_delay(format):
            parts.append(unsigned(names.CODEC_DELAY, delay))
            parts.append(unsigned(names.SEEK_PRE_ROLL, _PRE_ROLL))
        if format.type == "video":
            wide, high = format.pixel_aspect
            parts.append(
                element(
                    names.VIDEO,
                    unsigned(names.PIXEL_WIDTH, format.width),
                    unsigned(names.PIXEL_HEIGHT, format.height),
                    unsigned(names.DISPLAY_WIDTH, round(format.width * wide / high)),
                    unsigned(names.DISPLAY_HEIGHT, format.height),
                    format.elements or (colour_element(format.colour) if format.colour else b""),
                )
            )
        else:
            parts.append(
                element(
                    names.AUDIO,
                    real(names.SAMPLING_FREQUENCY, float(format.sample_rate)),
                    unsigned(names.CHANNELS, format.channels or 2),
                )
            )
        return element(names.TRACK_ENTRY, *parts)


def _goes_on(one: Format, other: Format) -> bool:
    """True if what describes one format serves the other, too: pictures bring their own descriptions along."""
    codecs = codec_of(one.codec), codec_of(other.codec)
    if one.type == "video":
        return codecs[0] is codecs[1]
    same = (one.channels, one.sample_rate) == (other.channels, other.sample_rate)
    return codecs[0] is codecs[1] and same and codec_private(one) == codec_private(other)


def _named(format: Format) -> str:
    codec = codec_of(format.codec)
    words = codec.words if codec else format.codec
    return words if format.type == "video" else f"{words} of {format.channels} channels at {format.sample_rate:,} Hz"


def _seek_head(places: Mapping[int, int]) -> bytes:
    entries = [
        element(
            names.SEEK,
            element(names.SEEK_ID, identifier.to_bytes(4, "big")),
            element(names.SEEK_POSITION, place.to_bytes(8, "big")),
        )
        for identifier, place in places.items()
    ]
    return element(names.SEEK_HEAD, *entries)


def _frames(samples: Samples) -> list[list[memoryview]]:
    """The buffers of each frame."""
    sizes = samples.sizes.tolist()
    if list(map(len, samples.pieces)) == sizes:
        return [[piece] for piece in samples.pieces]
    return cut_pieces(samples.pieces, np.cumsum(samples.sizes)[:-1].tolist())
