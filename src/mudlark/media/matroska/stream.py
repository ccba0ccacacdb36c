"""WebM and Matroska segments: clusters in, samples out.

Follows RFC 9559. A segment holds clusters; what describes the tracks comes before the first, in an initialization
section or in the segment itself. Raises MatroskaError on what contradicts itself, and is then as if the segment had not
been fed.
"""

import zlib

import numpy as np
from msgspec.structs import replace

from mudlark.media.matroska import names
from mudlark.media.matroska.blocks import Track, read_cluster
from mudlark.media.matroska.ebml import MatroskaError, header
from mudlark.media.matroska.formats import completed
from mudlark.media.matroska.read import read_info, read_tracks
from mudlark.media.movie import contiguous
from mudlark.media.picture.avc import AVC
from mudlark.media.picture.inband import put_before
from mudlark.media.picture.nal import CLOCK, NalStream
from mudlark.media.samples import Event, Format, Ints, Loss, LossCode, Samples, cut_pieces

_JITTER = 0.0021  # seconds by which times in thousandths may differ from those that the frames have
_FIRST_SOUND = 2
_HEADER = 12  # bytes of the longest header of an element; less of one is where a section was cut
_LARGEST_FRAME = 1 << 26  # bytes of a frame that was packed


class ClusterReader:
    """Reads the segments of one rendition: its first picture, and all of its sounds."""

    wraps = 0.0

    def __init__(self) -> None:
        self._tracks: dict[int, Track] = {}
        self._numbers: dict[int, int] = {}
        self._scale = 1_000_000
        self._next: dict[int, int] = {}
        self._begun: set[int] = set()
        self._plain: dict[int, NalStream] = {}  # by track: pictures with start codes
        self._formats: dict[int, Format] = {}
        self._lost: list[Loss] = []

    def begin(self, init: bytes | None = None) -> None:
        """Take the section before the clusters. Without one, that of before goes on."""
        self._next, self._begun, self._plain = {}, set(), {}
        if init is not None and not self._read_head(init, []):
            raise MatroskaError("The initialization section describes no tracks", 0)

    def _read_head(self, data: bytes | memoryview, clusters: list[int]) -> bool:
        """Take what describes the tracks, and note where clusters begin. True if there are tracks."""
        tracks: dict[int, Track] | None = None
        scale = self._scale
        at, end = 0, len(data)
        while at < end and not (tracks and end - at < _HEADER):
            element = header(data, at, end)
            if element.identifier == names.SEGMENT:
                at = element.content
                continue
            if element.identifier == names.CLUSTER:
                clusters.append(at)
                at = _behind(data, element.start) if element.unknown else element.end
                continue
            if element.end > end:
                break  # the section was cut where the clusters begin, or an index behind them was
            if element.identifier == names.INFO:
                scale, _ = read_info(data, 0, element)
            elif element.identifier == names.TRACKS:
                tracks = read_tracks(data, 0, element)
            at = element.end
        if tracks is not None:
            self._take(tracks, scale)
        return tracks is not None

    def _take(self, tracks: dict[int, Track], scale: int) -> None:
        numbers: dict[int, int] = {}
        sounds = _FIRST_SOUND
        for number, track in tracks.items():
            if track.format.type == "video":
                if 1 in numbers.values():
                    self._lost.append(Loss(LossCode.LEFT_OUT, 1, "a second picture"))
                    continue
                numbers[number] = 1
            else:
                numbers[number] = sounds
                sounds += 1
        if not numbers:
            raise MatroskaError("There is neither picture nor sound", 0)
        self._tracks = {number: tracks[number] for number in numbers}
        self._numbers, self._scale, self._formats, self._next = numbers, scale, {}, {}

    def losses(self) -> list[Loss]:
        """What was left out since this was last asked."""
        lost, self._lost = self._lost, []
        return lost

    def events(self) -> list[Event]:
        """There are none."""
        return []

    def flush(self) -> list[Samples]:
        """Nothing is held back."""
        return []

    def feed(self, data: memoryview) -> list[Samples]:
        """Take one whole segment."""
        before = (self._tracks, self._numbers, self._scale, self._formats, dict(self._next), set(self._begun))
        clusters: list[int] = []
        try:
            self._read_head(data, clusters)
            if not self._tracks:
                raise MatroskaError("Clusters came before anything that describes them", 0)
            if not clusters:
                raise MatroskaError("There is no cluster in the segment", 0)
            for track in self._tracks.values():
                track.clear()
            for at in clusters:
                read_cluster(data, 0, header(data, at, len(data)), self._tracks)
            read = (self._samples(number, track, data) for number, track in self._tracks.items() if track.sizes)
            made = [samples for samples in map(self._with_lengths, read) if samples is not None]
        except BaseException:
            self._tracks, self._numbers, self._scale, self._formats, self._next, self._begun = before
            raise
        for track in self._tracks.values():
            if track.additions:
                kind = "picture" if track.format.type == "video" else "sound"
                text = f"Of the {kind}, what its blocks add (transparency, metadata)"
                self._lost.append(Loss(LossCode.LEFT_OUT, track.additions, text))
            if track.discarded:
                self._lost.append(Loss(LossCode.UNTRIMMED, 1, seconds=track.discarded / 1e9))
        return sorted(made, key=lambda samples: samples.track)

    def _samples(self, number: int, track: Track, data: memoryview) -> Samples:
        sizes, times, sync = track.frames(self._scale)
        first, size = track.offsets[0], track.sizes[0]
        if number not in self._formats:
            head = track.format.prefix + bytes(data[first : first + min(size, 64)])
            format = completed(
                track.format, track.private, _inflated(head, begun=True) if track.format.deflated else head
            )
            ticks = 1_000_000_000 // self._scale if format.type == "video" else format.sample_rate or 1000
            language = "" if track.language == "und" else track.language
            self._formats[number] = replace(format, timescale=ticks, language=language, container="matroska")
        format = self._formats[number]
        seconds = (times * self._scale - track.delay) / 1e9
        pts = np.rint(seconds * format.timescale).astype(np.int64)
        if format.type == "audio" and format.sample_duration:
            pts = self._even(number, pts, format)
        # blocks stand in order of decoding, and state only when they are shown
        dts = np.sort(pts) if format.type == "video" else pts
        if format.type == "audio":
            sync = np.ones(len(sync), np.bool_)
        runs = contiguous(np.array(track.offsets, np.int64), sizes)
        pieces = [data[begin:end] for begin, end in runs.tolist()]
        lasts = np.rint(np.array(track.lasts, np.int64) * self._scale / 1e9 * format.timescale).astype(np.int64)
        stated = lasts if format.type == "video" and not track.laced and lasts.all() else None
        samples = Samples(self._numbers[number], format, sizes, dts, pts, sync, pieces, stated)
        samples = _unpacked(samples)
        first = number not in self._begun
        self._begun.add(number)
        return samples.primed() if first and format.type == "audio" else samples

    def _with_lengths(self, samples: Samples) -> Samples | None:
        """The samples with lengths before their units, where a browser has recorded them with start codes, and their
        parameter sets inside (H.264 Annex B). None before the first of these sets."""
        format = samples.format
        if format.config or not format.codec.startswith("avc"):
            return samples
        stream = self._plain.setdefault(samples.track, NalStream(samples.track, AVC))
        starts = np.cumsum(samples.sizes) - samples.sizes
        dts, pts = (
            np.rint(times * (CLOCK / format.timescale)).astype(np.int64) for times in (samples.dts, samples.pts)
        )
        made, _ = stream.samples(
            np.frombuffer(bytearray(b"".join(samples.pieces)), np.uint8), starts, dts, pts, last=True
        )
        if stream.skipped:
            self._lost.append(Loss(LossCode.UNDECODABLE, stream.skipped))
            stream.skipped = 0
        if made is None:
            return None
        described = replace(made.format, language=format.language, container="matroska", colour=format.colour)
        return replace(made, format=described)

    def _even(self, number: int, ticks: Ints, format: Format) -> Ints:
        """Times as the frames have them, where those that are stated differ by no more than their rounding."""
        slack = _JITTER * format.timescale
        expected = self._next.get(number)
        steps = np.arange(len(ticks), dtype=np.int64) * format.sample_duration
        drift = ticks - steps
        begin = int(ticks[0]) if expected is None or abs(expected - int(ticks[0])) > slack else expected
        if float(np.abs(drift - begin).max()) <= slack:
            ticks = begin + steps
        self._next[number] = int(ticks[-1]) + format.sample_duration
        return ticks


def _behind(data: bytes | memoryview, start: int) -> int:
    """The byte behind a cluster of unknown size."""
    return read_cluster(data, 0, header(data, start, len(data)), {})


def _unpacked(samples: Samples) -> Samples:
    """The samples as they are without the packing of their track (RFC 9559 §5.1.4.1.31.5)."""
    format = replace(samples.format, prefix=b"", deflated=False)
    if samples.format.prefix:
        return replace(put_before(samples, np.arange(len(samples)), samples.format.prefix), format=format)
    if not samples.format.deflated:
        return samples
    packed = cut_pieces(samples.pieces, np.cumsum(samples.sizes)[:-1].tolist())
    frames = [_inflated(b"".join(pieces)) for pieces in packed]
    sizes = np.array([len(frame) for frame in frames], np.int64)
    return replace(samples, format=format, sizes=sizes, pieces=[memoryview(b"".join(frames))])


def _inflated(packed: bytes, *, begun: bool = False) -> bytes:
    """A frame that was packed (RFC 1950), or what its first bytes hold if it is only begun. Raises MatroskaError where
    it cannot be unpacked."""
    unpacking = zlib.decompressobj()
    try:
        frame = unpacking.decompress(packed, _LARGEST_FRAME)
    except zlib.error as problem:
        raise MatroskaError(f"A packed frame cannot be unpacked ({problem})") from problem
    if not begun and not unpacking.eof:
        raise MatroskaError("A packed frame is cut off, or too large to unpack")
    return frame
