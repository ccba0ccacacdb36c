"""Reading Matroska and WebM files: tracks, and where, when and how large each sample is.

Follows RFC 9559. Sans-I/O: a callable is asked for bytes, so that a file need not be in memory.
"""

import numpy as np
from msgspec.structs import replace

from mudlark.errors import Refused
from mudlark.media.matroska import names
from mudlark.media.matroska.blocks import ABOVE_CLUSTERS, IN_SEGMENT, PlainBlocks, Track, read_cluster
from mudlark.media.matroska.ebml import Element, MatroskaError, children, header, number_in, real_number
from mudlark.media.matroska.formats import codec_id, completed, format_of
from mudlark.media.movie import Movie, ReadAt, TrackIndex, Unread
from mudlark.media.samples import Format

_HEAD = 16
_LARGEST_MASTER = 1 << 26  # bytes of an element that is read whole
_LARGEST_CLUSTER = 1 << 28
_TOGETHER = 1 << 22  # bytes of small clusters that are read at once
_MOST_TRACKS = 1_000
_HEAD_OF_FRAME = 64
_LONGEST = 10**12  # nanoseconds that a frame or a delay may last
_DEEPEST = 4
_DEFLATED, _STRIPPED = 0, 3  # ways of packing frames (RFC 9559 §5.1.4.1.31.6)
_MASTERS = frozenset(
    {
        names.VIDEO,
        names.AUDIO,
        names.CONTENT_ENCODINGS,
        names.CONTENT_ENCODING,
        names.CONTENT_COMPRESSION,
        names.COLOUR,
        names.MASTERING,
    }
)
# what is carried over as it is
_CARRIED = frozenset(
    {
        names.COLOUR,
        names.STEREO_MODE,
        names.ALPHA_MODE,
        names.PROJECTION,
        names.INTERLACED,
        names.FIELD_ORDER,
        *names.CROPS,
    }
)


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
    tracks: dict[int, Track] = {}
    scale, duration = 1_000_000, 0.0
    unread = Unread()
    at = segment.content
    while at < segment.end:
        element = header(read(at, _HEAD), 0, segment.end, at)
        if element.end > segment.end:
            raise MatroskaError(f"An element reaches {element.end - segment.end:,} bytes past the segment", at)
        if element.identifier == names.INFO:
            scale, duration = read_info(_whole(read, element), element.start, element)
        elif element.identifier == names.TRACKS:
            tracks = read_tracks(_whole(read, element), element.start, element, every=True)
            tracks[0] = Track(0, Format("text", "no track that is described", 1000, b""))
        elif element.identifier == names.CLUSTER:
            at = _read_clusters(read, element, segment.end, tracks, unread)
            continue
        elif element.identifier not in IN_SEGMENT:
            unread.note(element.start, element.end)
        at = element.end
    ticks = 1_000_000_000 // scale
    movie = Movie(duration * scale / 1e9, [], unread=unread)
    for track in tracks.values():
        listed = movie.others if track.format.type == "text" else movie.tracks
        if track.number or track.sizes:
            listed.append(_index(track, ticks, scale, read, duration))
    return movie


def described(head: bytes, size: int) -> tuple[float, list[Format]]:
    """What the beginning of a file of `size` bytes says of it: seconds, and the formats of its tracks of pictures and
    sound. Raises MatroskaError where it does not say."""
    segment = header(head, header(head, 0, size).end, size)
    scale, duration, tracks, at = 1_000_000, 0.0, dict[int, Track](), segment.content
    while at + _HEAD < len(head) and not tracks:
        element = header(head, at, size)
        if element.identifier == names.CLUSTER:
            break
        if element.end <= len(head) and element.identifier == names.INFO:
            scale, duration = read_info(head, 0, element)
        elif element.end <= len(head) and element.identifier == names.TRACKS:
            tracks = read_tracks(head, 0, element)
        at = element.end
    if not tracks:
        raise MatroskaError("Its tracks are not described at its beginning", at)
    return duration * scale / 1e9, [track.format for track in tracks.values()]


def _read_clusters(read: ReadAt, cluster: Element, end: int, tracks: dict[int, Track], unread: Unread) -> int:
    """A cluster, and the small ones that follow it at once; gives the byte behind them. end: of the segment."""
    if cluster.unknown:
        cluster = replace(cluster, end=_end_of(read, cluster), unknown=False)
    size = cluster.end - cluster.start
    if size > _LARGEST_CLUSTER:
        raise MatroskaError("A cluster is larger than a quarter of a gigabyte", cluster.start)
    base = cluster.start
    data = read(base, max(size, min(_TOGETHER, end - base)))
    plain, at = PlainBlocks(data, base, tracks), base
    within = base + max(size, len(data))
    while cluster.identifier == names.CLUSTER and not cluster.unknown and cluster.end <= within:
        at = read_cluster(data, base, cluster, tracks, unread, plain)
        if at - base + _HEAD > len(data):
            break
        cluster = header(data, at - base, end, base)
    plain.note()
    return at


def _end_of(read: ReadAt, cluster: Element) -> int:
    """Where a cluster of unknown size ends: where an element begins that cannot stand in it. Headers alone are read."""
    at = cluster.content
    while at < cluster.end:
        element = header(read(at, _HEAD), 0, cluster.end, at)
        if element.identifier in ABOVE_CLUSTERS:
            return at
        if element.end > cluster.end:
            raise MatroskaError(f"An element reaches {element.end - cluster.end:,} bytes past the segment", at)
        at = element.end
    return cluster.end


def last_whole_element(read: ReadAt, size: int) -> int:
    """Where the last whole element of a file ends that was cut out of an endless body, of which nothing states how long
    it is; `size` for any other."""
    at = size
    try:
        behind = header(read(0, _HEAD), 0, size).end
        segment = header(read(behind, _HEAD), 0, size, behind)
        if segment.identifier != names.SEGMENT or not segment.unknown:
            return size
        at = segment.content
        while at < size:
            element = header(read(at, _HEAD), 0, size, at)
            if element.identifier == names.CLUSTER and element.unknown:
                at = element.content
            elif element.end > size:
                return at
            else:
                at = element.end
    except MatroskaError:  # a header that is cut off, or none
        return at if size - at < _HEAD else size
    return size


def _whole(read: ReadAt, element: Element) -> bytes:
    if element.end - element.start > _LARGEST_MASTER:
        raise MatroskaError("An element is larger than any can be", element.start)
    return read(element.start, element.end - element.start)


def _value(data: bytes | memoryview, base: int, element: Element) -> bytes:
    return bytes(data[element.content - base : element.end - base])


def read_info(data: bytes | memoryview, base: int, info: Element) -> tuple[int, float]:
    """Nanoseconds of a tick, and the duration in ticks. base: the byte of the file at which `data` begins."""
    scale, duration = 1_000_000, 0.0
    for element in children(data, base, info.content, info.end):
        if element.identifier == names.TIMESTAMP_SCALE:
            scale = number_in(_value(data, base, element)) or scale
        elif element.identifier == names.DURATION:
            duration = real_number(_value(data, base, element))
    return min(scale, 1_000_000_000), duration


def read_tracks(data: bytes | memoryview, base: int, tracks: Element, *, every: bool = False) -> dict[int, Track]:
    """The tracks of pictures and sound, by number, without frames. every: those of anything else, too. Raises Refused
    where one is encrypted.

    Where no language is stated none is taken for it, although the standard would have it English (§5.1.4.1.19): most
    writers that state none know of none.
    """
    listed: dict[int, Track] = {}
    for entry in children(data, base, tracks.content, tracks.end):
        if entry.identifier != names.TRACK_ENTRY:
            continue
        values = _values(data, base, entry)
        kind = number_in(values.get(names.TRACK_TYPE, b""))
        played = kind in (1, 2)
        if not played and not every:
            continue
        if names.CONTENT_ENCRYPTION in values:
            raise Refused("The file is protected (its tracks are encrypted); without its keys it cannot be read.")
        algorithm = (
            number_in(values.get(names.CONTENT_ALGORITHM, b"\0")) if names.CONTENT_COMPRESSION in values else None
        )
        if played and algorithm not in (None, _DEFLATED, _STRIPPED):
            raise MatroskaError("The frames of a track are packed once more, in a way that is not read", entry.start)
        if len(listed) >= _MOST_TRACKS:
            raise MatroskaError(f"There are more than {_MOST_TRACKS:,} tracks", entry.start)
        language = values.get(names.LANGUAGE_BCP47) or values.get(names.LANGUAGE, b"und")
        number = number_in(values.get(names.TRACK_NUMBER, b""))
        format = _format(data, base, entry, values, kind) if played else Format("text", codec_id(values), 1000, b"")
        if algorithm == _STRIPPED:
            format = replace(format, prefix=values.get(names.CONTENT_SETTINGS, b""))
        elif algorithm == _DEFLATED:
            format = replace(format, deflated=True)
        listed[number] = Track(
            number=number,
            format=format,
            private=values.get(names.CODEC_PRIVATE, b""),
            language=language.decode("utf-8", "replace").rstrip("\0"),
            label=values.get(names.NAME, b"").decode("utf-8", "replace").rstrip("\0"),
            default=bool(number_in(values.get(names.FLAG_DEFAULT, b"\1"))),
            usual=min(number_in(values.get(names.DEFAULT_DURATION, b"")), _LONGEST),
            delay=min(number_in(values.get(names.CODEC_DELAY, b"")), _LONGEST),
        )
    return listed


def _format(data: bytes | memoryview, base: int, entry: Element, values: dict[int, bytes], kind: int) -> Format:
    """The format of a track, with what its entry says of the picture beside that."""
    inside = (one for one in children(data, base, entry.content, entry.end) if one.identifier == names.VIDEO)
    carried = [
        bytes(data[one.start - base : one.end - base])
        for video in inside
        for one in children(data, base, video.content, video.end)
        if one.identifier in _CARRIED
    ]
    return replace(format_of(values, kind), elements=b"".join(carried))


def _values(data: bytes | memoryview, base: int, entry: Element, depth: int = 0) -> dict[int, bytes]:
    """What stands in a track entry, with what stands inside of its masters."""
    values: dict[int, bytes] = {}
    for element in children(data, base, entry.content, entry.end):
        values[element.identifier] = _value(data, base, element)
        if element.identifier in _MASTERS and depth < _DEEPEST:
            values |= _values(data, base, element, depth + 1)
    return values


def _index(track: Track, ticks: int, scale: int, read: ReadAt, stated: float) -> TrackIndex:
    """stated: ticks that the file is said to last."""
    sizes, times, sync = track.frames(scale)
    delay = round(track.delay / scale)
    pts = times - delay if delay else times
    # blocks stand in order of decoding, and state only when they are shown
    dts = pts if (pts[1:] >= pts[:-1]).all() else np.sort(pts)
    steps = np.diff(dts)
    usual = int(np.median(steps)) if len(steps) else max(0, round(stated) - int(pts.max(initial=0)))
    durations = np.append(steps, usual) if len(pts) else pts
    format = track.format
    if len(sizes) and not format.deflated:
        head = read(track.offsets[0], min(int(sizes[0]), _HEAD_OF_FRAME))
        format = completed(format, track.private, format.prefix + head)
    return TrackIndex(
        track.number,
        (replace(format, timescale=ticks, sample_duration=0),),
        sizes,
        np.frombuffer(track.offsets, np.int64),
        dts,
        pts,
        durations,
        np.broadcast_to(np.True_, len(sizes)) if format.type == "audio" else sync,
        np.broadcast_to(np.int64(0), len(sizes)),  # which takes no room
        int(pts.min()) if len(pts) else 0,
        language=track.language,
        label=track.label,
        default=track.default,
    )
