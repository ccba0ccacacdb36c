"""The blocks of clusters: which frame of which track stands where, and when it is shown.

Follows RFC 9559 §5.1.3 and §10 (lacing: Xiph, EBML, fixed size), clusters of known and unknown size, and elements that
say nothing (Void, CRC-32).
"""

import struct
from array import array

import msgspec
import numpy as np

from mudlark.media.matroska import names
from mudlark.media.matroska.ebml import Element, MatroskaError, header, number_in
from mudlark.media.movie import Unread, growing
from mudlark.media.samples import Format, Ints

_LEVEL_ONE = frozenset(
    {
        names.CLUSTER,
        names.CUES,
        names.TAGS,
        names.TRACKS,
        names.INFO,
        names.SEEK_HEAD,
        names.CHAPTERS,
        names.ATTACHMENTS,
    }
)
_ANYWHERE = frozenset({names.VOID, names.CRC_32})
IN_SEGMENT = _LEVEL_ONE | _ANYWHERE
_NUMBERS = frozenset({names.CLUSTER_TIMESTAMP, names.POSITION, names.PREVIOUS_SIZE})  # of a cluster
_IN_CLUSTER = _ANYWHERE | _NUMBERS | {names.SILENT_TRACKS, names.SIMPLE_BLOCK, names.BLOCK_GROUP}
_IN_GROUP = _ANYWHERE | {
    names.BLOCK,
    names.BLOCK_ADDITIONS,
    names.BLOCK_DURATION,
    names.REFERENCE_PRIORITY,
    names.REFERENCE_BLOCK,
    names.REFERENCE_VIRTUAL,
    names.CODEC_STATE,
    names.DISCARD_PADDING,
    names.SLICES,
    names.REFERENCE_FRAME,
}
_LONGEST_NUMBER = 8  # bytes
ABOVE_CLUSTERS = _LEVEL_ONE | {names.EBML, names.SEGMENT}  # what cannot stand inside of one (RFC 9559 §4.5)
_MOST_LACED = 256
_NOT_DESCRIBED = 0  # the number of what takes the frames of tracks that no entry describes, if there is such a track
_FEW = 16  # blocks that are noted one by one
_EIGHT_BYTES = struct.Struct(">Q").unpack_from
# By the first byte of a size: bytes of a simple block in front of what is in it, and how the size is cut out of eight
# bytes; one of zero begins no size, and leads beyond all that there is.
_WIDTHS = [8, *(9 - first.bit_length() for first in range(1, 256))]
_HEADS = [1 << 60, *(1 + width for width in _WIDTHS[1:])]
_SHIFTS, _MASKS = [64 - 8 * width for width in _WIDTHS], [(1 << 7 * width) - 1 for width in _WIDTHS]
_HEADS_OF, _UNKNOWN_OF = np.array(_HEADS), np.array(_MASKS)  # a size of ones alone states none


class Track(msgspec.Struct):
    """A track, and its frames as they are met. times, lasts: ticks of the segment; lasts are 0 where nothing states
    them. usual: nanoseconds of one frame, as its entry states. delay: nanoseconds before the first that is heard.
    laced: runs of frames of one block, as first and number, whose times are not stated one by one. additions: blocks
    with something more than the frame (transparency, metadata). discarded: nanoseconds at the end that are not heard.
    """

    number: int
    format: Format
    private: bytes = b""
    language: str = ""
    label: str = ""
    default: bool = True
    usual: int = 0
    delay: int = 0
    sizes: "array[int]" = msgspec.field(default_factory=growing)
    offsets: "array[int]" = msgspec.field(default_factory=growing)
    times: "array[int]" = msgspec.field(default_factory=growing)
    lasts: "array[int]" = msgspec.field(default_factory=growing)
    sync: bytearray = msgspec.field(default_factory=bytearray)
    laced: list[tuple[int, int]] = msgspec.field(default_factory=list)
    additions: int = 0
    discarded: int = 0

    def frames(self, scale: int) -> tuple[Ints, Ints, "np.ndarray[tuple[int], np.dtype[np.bool_]]"]:
        """Sizes, times and sync flags, the times of laced frames filled in. scale: nanoseconds of a tick. What is given
        is not copied, where it need not be."""
        sizes, sync = np.frombuffer(self.sizes, np.int64), np.frombuffer(self.sync, np.bool_)
        if not self.laced:
            return sizes, np.frombuffer(self.times, np.int64), sync
        times = np.array(self.times, np.float64)
        before = 0.0
        for first, count in self.laced:
            step = self.usual / scale
            if not step and self.lasts[first]:
                step = self.lasts[first] / count
            if not step:
                following = first + count
                step = (times[following] - times[first]) / count if following < len(times) else before
            before = step
            times[first : first + count] = times[first] + np.arange(count) * step
        return sizes, np.rint(times).astype(np.int64), sync

    def clear(self) -> None:
        """Forget the frames; what was given of them stays."""
        self.sizes, self.offsets, self.times, self.lasts = (growing() for _ in range(4))
        self.sync, self.laced = bytearray(), []
        self.additions = self.discarded = 0


class PlainBlocks:
    """Simple blocks of one piece of data that stand one behind the other in its clusters, as nearly all do: they are
    followed by their sizes alone, and noted together. base: the byte of the file at which `data` begins."""

    def __init__(self, data: bytes | memoryview, base: int, tracks: dict[int, Track]) -> None:
        self._data, self._base, self._tracks = data, base, tracks
        self._starts, self._ends, self._times = array("q"), array("q"), array("q")

    def follow(self, at: int, end: int, time: int) -> int:
        """Take those that stand at this place of a cluster, which ends at `end`, both in the data; gives where the last
        of them ends. time: of the cluster."""
        data, add, last, simple, begun = self._data, self._starts.append, end - 9, names.SIMPLE_BLOCK, len(self._starts)
        while at <= last and data[at] == simple:
            first = data[at + 1]
            size = _EIGHT_BYTES(data, at + 1)[0] >> _SHIFTS[first] & _MASKS[first]
            behind = at + _HEADS[first] + size
            if behind > end or size == _MASKS[first]:  # which states none
                break
            add(at)
            at = behind
        if count := len(self._starts) - begun:
            self._ends += self._starts[begun + 1 :]
            self._ends.append(at)
            self._times += array("q", [time]) * count
        return at

    def note(self) -> None:
        """Note the frames of all that were taken since the last time."""
        count = len(self._starts)
        if count < _FEW or not self._note_together():
            for start, end, time in zip(self._starts, self._ends, self._times, strict=True):
                _block(self._data, self._base, header(self._data, start, end, self._base), time, self._tracks, None, 0)
        del self._starts[:], self._ends[:], self._times[:]

    def _note_together(self) -> bool:
        """False where some are laced, too short, or of tracks that are not described: these are noted one by one."""
        content, starts = np.frombuffer(self._data, np.uint8), np.array(self._starts)
        begins = starts + _HEADS_OF[content[starts + 1]]
        sizes = np.array(self._ends) - begins - 4
        if (sizes < 0).any():
            return False
        numbers, flags = content[begins], content[begins + 3]
        known = np.zeros(256, np.bool_)
        known[[0x80 | number for number in self._tracks if number < 0x80]] = True
        if (flags & 0x06).any() or not known[numbers].all():
            return False
        shown = (content[begins + 1].view(np.int8).astype(np.int64) << 8) | content[begins + 2]
        times, offsets = np.array(self._times) + shown, begins + (self._base + 4)
        for number in set(numbers.tobytes()):
            own, track = numbers == number, self._tracks[number & 0x7F]
            track.sizes.frombytes(sizes[own].tobytes())
            track.offsets.frombytes(offsets[own].tobytes())
            track.times.frombytes(times[own].tobytes())
            track.lasts.frombytes(bytes(8 * int(own.sum())))
            track.sync += (flags[own] >> 7).tobytes()
        return True


def read_cluster(
    data: bytes | memoryview,
    base: int,
    cluster: Element,
    tracks: dict[int, Track],
    unread: Unread | None = None,
    plain: PlainBlocks | None = None,
) -> int:
    """Note the frames of a cluster, and what is unread of it; gives the byte behind it. base: the byte of the file at
    which `data` begins. plain: takes its last plain blocks, which the caller notes.

    One of unknown size ends where an element begins that cannot stand inside.
    """
    unread, own = unread or Unread(), plain or PlainBlocks(data, base, tracks)
    at, time = cluster.content, 0
    limit = base + len(data)
    end = min(cluster.end, limit) if cluster.unknown else cluster.end
    if end > limit:
        raise MatroskaError(f"A cluster reaches {end - limit:,} bytes past what there is", cluster.start)
    while at < end:
        if data[at - base] == names.SIMPLE_BLOCK:
            at = base + own.follow(at - base, end - base, time)
            if at >= end:
                break
        element = header(data, at - base, end, base)
        identifier = element.identifier
        if cluster.unknown and identifier in ABOVE_CLUSTERS:
            break
        if element.end > end:
            raise MatroskaError(f"An element reaches {element.end - end:,} bytes past the cluster around it", at)
        if identifier == names.SIMPLE_BLOCK:
            own.note()
            _block(data, base, element, time, tracks, None, 0)
        elif identifier == names.BLOCK_GROUP:
            own.note()
            _group(data, base, element, time, tracks, unread)
        elif identifier == names.CLUSTER_TIMESTAMP:
            time = number_in(bytes(data[element.content - base : element.end - base]))
            if time >> 52:
                raise MatroskaError("A cluster states a time beyond all reason", at)
        long = identifier in _NUMBERS and element.end - element.content > _LONGEST_NUMBER
        if identifier not in _IN_CLUSTER or long:
            unread.note(element.start, element.end)
        at = element.end
    if plain is None:
        own.note()
    return at


def _group(
    data: bytes | memoryview, base: int, group: Element, time: int, tracks: dict[int, Track], unread: Unread
) -> None:
    at, block, alone, lasts = group.content, None, True, 0
    added, discarded = False, 0
    while at < group.end:
        element = header(data, at - base, group.end, base)
        if element.end > group.end:
            raise MatroskaError(f"An element reaches {element.end - group.end:,} bytes past the one around it", at)
        if element.identifier == names.BLOCK:
            block = element
        elif element.identifier == names.REFERENCE_BLOCK:
            alone = False
        elif element.identifier == names.BLOCK_ADDITIONS:
            added = True
        elif element.identifier == names.DISCARD_PADDING:
            discarded = int.from_bytes(data[element.content - base : element.end - base], "big", signed=True)
        elif element.identifier == names.BLOCK_DURATION:
            lasts = number_in(bytes(data[element.content - base : element.end - base]))
        elif element.identifier not in _IN_GROUP:
            unread.note(element.start, element.end)
        at = element.end
    if block is None:
        return
    track = _block(data, base, block, time, tracks, alone, lasts if lasts < 1 << 40 else 0)
    if track is not None:
        track.additions += added
        track.discarded = max(0, discarded)


def _block(
    data: bytes | memoryview,
    base: int,
    element: Element,
    time: int,
    tracks: dict[int, Track],
    sync: bool | None,
    lasts: int,
) -> Track | None:
    """Note the frames of a block; gives the track that they are of, if it is read."""
    at, end = element.content - base, element.end - base
    if end - at < 4 or not data[at]:
        raise MatroskaError("A block is too short", element.start)
    number = data[at] & 0x7F
    if not data[at] & 0x80:  # a track number of two bytes
        if not data[at] & 0x40 or end - at < 5:
            raise MatroskaError("A block names no track", element.start)
        number = (data[at] & 0x3F) << 8 | data[at + 1]
        at += 1
    track = tracks.get(number) or tracks.get(_NOT_DESCRIBED)
    if track is None:
        return None
    shown = data[at + 1] << 8 | data[at + 2]
    flags = data[at + 3]
    moment = time + shown - ((shown & 0x8000) << 1)
    alone = bool(flags & 0x80) if sync is None else sync
    at += 4
    if not flags & 0x06:
        track.sizes.append(end - at)
        track.offsets.append(base + at)
        track.times.append(moment)
        track.lasts.append(lasts)
        track.sync.append(alone)
        return track
    at, sizes = _laces(data, at, end, flags & 0x06, element.start)
    if len(sizes) > 1:
        track.laced.append((len(track.sizes), len(sizes)))
    for size in sizes:
        track.sizes.append(size)
        track.offsets.append(base + at)
        track.times.append(moment)
        track.lasts.append(lasts)
        track.sync.append(alone)
        at += size
    return track


def _laces(data: bytes | memoryview, at: int, end: int, kind: int, start: int) -> tuple[int, list[int]]:
    """Where the frames of a laced block begin, and their sizes."""
    if at >= end:
        raise MatroskaError("A laced block does not say how many frames it holds", start)
    count, at = data[at] + 1, at + 1
    sizes: list[int] = []
    if kind == 0x04:
        if (end - at) % count:
            raise MatroskaError("The frames of a block are not of one size, as it says", start)
        return at, [(end - at) // count] * count
    for index in range(count - 1):
        if kind == 0x02:
            size = 0
            while at < end and data[at] == 255:
                size, at = size + 255, at + 1
            if at >= end:
                raise MatroskaError("A laced block ends among its sizes", start)
            size, at = size + data[at], at + 1
        else:
            value, width = _number(data, at, end, start)
            at += width
            size = value if index == 0 else sizes[-1] + value - ((1 << 7 * width - 1) - 1)
        if size < 0:
            raise MatroskaError("A laced block holds a frame of less than nothing", start)
        sizes.append(size)
    last = end - at - sum(sizes)
    if last < 0:
        raise MatroskaError(f"The frames of a block reach {-last:,} bytes past it", start)
    return at, [*sizes, last]


def _number(data: bytes | memoryview, at: int, end: int, start: int) -> tuple[int, int]:
    """A variable-size integer and its width."""
    if at >= end or not data[at]:
        raise MatroskaError("A laced block states no size", start)
    width = 9 - data[at].bit_length()
    if at + width > end:
        raise MatroskaError("A laced block ends among its sizes", start)
    return int.from_bytes(data[at : at + width], "big") & (1 << 7 * width) - 1, width
