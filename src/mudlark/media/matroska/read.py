"""Reading Matroska and WebM: tracks, and where, when and how large each sample is.

Follows RFC 9559. Sans-I/O: a callable is asked for bytes. Blocks without lacing are read; laced ones are refused.
"""

import struct
from dataclasses import dataclass, field

import numpy as np

from mudlark.media.codecs import CODECS
from mudlark.media.matroska import names
from mudlark.media.matroska.ebml import Element, MatroskaError, children, header
from mudlark.media.mp4.read import Edit, Movie, ReadAt, TrackIndex
from mudlark.media.samples import Format

_HEAD = 16
_LARGEST_MASTER = 1 << 26  # bytes of an element that is read whole
_LARGEST_CLUSTER = 1 << 28


class LacedError(MatroskaError):
    """Nothing is wrong with the file, but it holds blocks of a kind that is not read."""


@dataclass(slots=True)
class _Track:
    """A track while its blocks are met. times: ticks of the segment."""

    number: int
    format: Format
    language: str
    label: str = ""
    default: bool = True
    sizes: list[int] = field(default_factory=list)
    offsets: list[int] = field(default_factory=list)
    times: list[int] = field(default_factory=list)
    sync: list[bool] = field(default_factory=list)


def read_matroska(read: ReadAt, size: int) -> Movie:
    """The tracks of a file of `size` bytes, with all their samples, as an MP4's index would list them."""
    first = header(read(0, _HEAD), 0, size)
    if first.identifier != names.EBML:
        raise MatroskaError("This is not a Matroska file", 0)
    segment = header(read(first.end, _HEAD), 0, size, first.end)
    if segment.identifier != names.SEGMENT:
        raise MatroskaError("There is no segment", first.end)
    if segment.end > size:
        raise MatroskaError(f"The file ends at byte {size:,}; {segment.end - size:,} bytes are missing", segment.start)
    tracks: dict[int, _Track] = {}
    scale, duration = 1_000_000, 0.0
    at = segment.content
    while at < segment.end:
        element = header(read(at, _HEAD), 0, segment.end, at)
        if element.end > segment.end:
            raise MatroskaError(f"An element reaches {element.end - segment.end:,} bytes past the segment", at)
        if element.identifier == names.INFO:
            scale, duration = _info(_whole(read, element), element)
        elif element.identifier == names.TRACKS:
            tracks = _tracks(_whole(read, element), element)
        elif element.identifier == names.CLUSTER:
            if element.end - element.start > _LARGEST_CLUSTER:
                raise MatroskaError("A cluster is larger than a quarter of a gigabyte", element.start)
            _cluster(read(element.start, element.end - element.start), element, tracks)
        at = element.end
    ticks = 1_000_000_000 // scale
    movie = Movie(ticks, round(duration), [])
    for track in tracks.values():
        movie.tracks.append(_index(track, ticks))
    return movie


def _whole(read: ReadAt, element: Element) -> bytes:
    if element.end - element.start > _LARGEST_MASTER:
        raise MatroskaError("An element is larger than any can be", element.start)
    return read(element.start, element.end - element.start)


def _value(data: bytes, base: int, element: Element) -> bytes:
    return data[element.content - base : element.end - base]


def _number(data: bytes) -> int:
    return int.from_bytes(data, "big")


def real_number(data: bytes) -> float:
    if len(data) not in (4, 8):
        return 0.0
    value: float = struct.unpack(">f" if len(data) == 4 else ">d", data)[0]
    return value if 0 <= value < 1e15 else 0.0


def _info(data: bytes, info: Element) -> tuple[int, float]:
    scale, duration = 1_000_000, 0.0
    for element in children(data, info.start, info.content, info.end):
        if element.identifier == names.TIMESTAMP_SCALE:
            scale = _number(_value(data, info.start, element)) or scale
        elif element.identifier == names.DURATION:
            duration = real_number(_value(data, info.start, element))
    return min(scale, 1_000_000_000), duration


def _tracks(data: bytes, tracks: Element) -> dict[int, _Track]:
    element: dict[int, _Track] = {}
    for entry in children(data, tracks.start, tracks.content, tracks.end):
        if entry.identifier != names.TRACK_ENTRY:
            continue
        values = _values(data, tracks.start, entry)
        kind = _number(values.get(names.TRACK_TYPE, b""))
        if kind not in (1, 2):
            continue
        number = _number(values.get(names.TRACK_NUMBER, b""))
        language = values.get(names.LANGUAGE_BCP47) or values.get(names.LANGUAGE, b"eng")
        label = values.get(names.NAME, b"").decode("utf-8", "replace")
        default = bool(_number(values.get(names.FLAG_DEFAULT, b"\1")))
        element[number] = _Track(number, _format(values, kind), language.decode("utf-8", "replace"), label, default)
    return element


def _values(data: bytes, base: int, entry: Element) -> dict[int, bytes]:
    """What stands in a track entry, with what stands in the picture and sound inside of it."""
    values: dict[int, bytes] = {}
    for element in children(data, base, entry.content, entry.end):
        if element.identifier in (names.VIDEO, names.AUDIO):
            for inner in children(data, base, element.content, element.end):
                values[inner.identifier] = _value(data, base, inner)
        else:
            values[element.identifier] = _value(data, base, element)
    return values


def _format(values: dict[int, bytes], kind: int) -> Format:
    name = values.get(names.CODEC_ID, b"").decode("ascii", "replace")
    codec = next((codec for codec in CODECS if name.startswith(codec.matroska)), None)
    private = values.get(names.CODEC_PRIVATE, b"")
    if kind == 1:
        described = f"avc1.{private[1:4].hex()}" if codec and codec.words == "H.264" else name
        if codec and codec.words != "H.264":
            described = codec.prefixes[0]
        width, height = (_number(values.get(key, b"")) for key in (names.PIXEL_WIDTH, names.PIXEL_HEIGHT))
        return Format("video", described, 1000, private, 0, width, height)
    described = codec.prefixes[0] if codec else name
    if codec and codec.words == "AAC" and private:
        described = f"mp4a.40.{private[0] >> 3}"
    rate = round(real_number(values.get(names.SAMPLING_FREQUENCY, b"")))
    channels = _number(values.get(names.CHANNELS, b"\1"))
    return Format("audio", described, 1000, private, 0, channels=channels, sample_rate=rate)


def _cluster(data: bytes, cluster: Element, tracks: dict[int, _Track]) -> None:
    base = 0
    for element in children(data, cluster.start, cluster.content, cluster.end):
        if element.identifier == names.CLUSTER_TIMESTAMP:
            base = _number(_value(data, cluster.start, element))
        elif element.identifier == names.SIMPLE_BLOCK:
            _block(data, cluster.start, element, base, tracks, None)
        elif element.identifier == names.BLOCK_GROUP:
            inner = list(children(data, cluster.start, element.content, element.end))
            alone = not any(one.identifier == 0xFB for one in inner)  # refers to no other block
            for one in inner:
                if one.identifier == names.BLOCK:
                    _block(data, cluster.start, one, base, tracks, alone)


def _block(data: bytes, start: int, element: Element, base: int, tracks: dict[int, _Track], sync: bool | None) -> None:
    at = element.content - start
    if element.end - element.content < 4 or not data[at] & 0x80:
        raise MatroskaError("A block is too short", element.start)
    track = tracks.get(data[at] & 0x7F)
    flags = data[at + 3]
    if flags & 0x06:
        raise LacedError("A block holds several frames (lacing), which is not read", element.start)
    if track is None:
        return
    track.sizes.append(element.end - element.content - 4)
    track.offsets.append(element.content + 4)
    track.times.append(base + int.from_bytes(data[at + 1 : at + 3], "big", signed=True))
    track.sync.append(bool(flags & 0x80) if sync is None else sync)


def _index(track: _Track, ticks: int) -> TrackIndex:
    pts = np.array(track.times, np.int64)
    # blocks stand in order of decoding, and state only when they are shown
    dts = np.sort(pts)
    steps = np.diff(dts)
    usual = int(np.median(steps)) if len(steps) else 0
    durations = np.append(steps, usual) if len(pts) else pts
    format = Format(
        track.format.type,
        track.format.codec,
        ticks,
        track.format.config,
        0,
        track.format.width,
        track.format.height,
        channels=track.format.channels,
        sample_rate=track.format.sample_rate,
    )
    first = int(pts.min()) if len(pts) else 0
    edits = [Edit(first, -1), Edit(0, first)]
    sizes, offsets = np.array(track.sizes, np.int64), np.array(track.offsets, np.int64)
    sync = np.array(track.sync, np.bool_)
    return TrackIndex(
        track.number,
        format,
        sizes,
        offsets,
        dts,
        pts,
        durations,
        sync,
        edits,
        track.language,
        track.label,
        track.default,
    )
