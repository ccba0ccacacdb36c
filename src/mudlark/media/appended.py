"""What was appended to a source buffer, as the byte stream formats of Media Source Extensions have it: sections that
describe tracks, and pieces of media, wherever the appends were cut.

ISO/IEC 14496-12 boxes (MSE byte stream format for ISO BMFF §3, §4), WebM elements (RFC 9559); transport streams and
packed sound have a piece an append. Raises FormatError on what is none of these, Refused on what is protected.
"""

from bisect import bisect_right
from collections.abc import Iterator, Sequence
from contextlib import suppress
from itertools import pairwise

import msgspec
import numpy as np

from mudlark.errors import FormatError
from mudlark.media.matroska import names
from mudlark.media.matroska.blocks import ABOVE_CLUSTERS
from mudlark.media.matroska.ebml import MatroskaError
from mudlark.media.matroska.ebml import header as element_at
from mudlark.media.matroska.read import described
from mudlark.media.mp4.boxes import Mp4Error, children
from mudlark.media.mp4.boxes import header as box_at
from mudlark.media.mp4.read import parse_movie
from mudlark.media.readers import READERS, container, reader_for
from mudlark.media.samples import Bytes, Format, Samples

_HEAD = 1 << 16  # bytes by which a form is known
_BOX_HEAD = 16
_ELEMENT_HEAD = 12
_OPENS = frozenset({"ftyp", "moov"})  # boxes of a section that describes tracks
GENERATED = frozenset({"adts", "mp3"})  # whose times the browser counts itself


class Piece(msgspec.Struct, frozen=True):
    """Bytes of media: from begin until end. section: of the bytes that describe its tracks, None if it does that
    itself. first, last: appends that it came with. form: of its bytes, as in `readers`."""

    begin: int
    end: int
    section: tuple[int, int] | None
    first: int
    last: int
    form: str


class Extent(msgspec.Struct, frozen=True):
    """What is in a piece, in seconds of its own clock. random: where its pictures can be begun with; any, for sound.
    formats: of its tracks."""

    begin: float
    end: float
    random: tuple[float, ...] | None
    formats: tuple[Format, ...] = msgspec.field(default=())


def pieces(data: Bytes, places: Sequence[int], resets: Sequence[int] = ()) -> Iterator[Piece]:
    """The pieces in all that was appended, in order. places: bytes at which the appends begin; resets: numbers of those
    before which the parser forgot what was unfinished. What is unfinished at the end is no piece."""
    bounds = [*sorted({0, *(places[number] for number in resets)}), len(data)]
    section: tuple[int, int] | None = None
    form = ""
    for begin, end in pairwise(bounds):
        if begin == end:
            continue
        found = _form_at(data, begin, end)
        if found in READERS:
            form, section = found, section if found == form else None
        elif form not in ("mp4", "matroska") or section is None:
            named = "bytes of no format that is known" if found == "unknown" else found.upper()
            raise FormatError(f"What was appended is {named}", begin)
        spans = _SPLITS.get(form, _as_appended)
        for start, stop, found_section in spans(data, begin, end, section, places):
            section = found_section
            first, last = bisect_right(places, start) - 1, bisect_right(places, stop - 1) - 1
            yield Piece(start, stop, section, first, last, form)


_Spans = Iterator[tuple[int, int, tuple[int, int] | None]]


def _boxes(data: Bytes, at: int, end: int, section: tuple[int, int] | None, _: Sequence[int]) -> _Spans:
    """Fragments, each with the boxes before it, and the section that holds for it."""
    opened: int | None = None  # where a section begins
    begun = at
    fragmented = False
    while at < end:
        if end - at < 8:
            return
        box = box_at(data[at : min(at + _BOX_HEAD, end)].tobytes(), at, end)
        if box.end > end:
            return
        if box.kind in _OPENS:
            opened = at if opened is None else opened
            if box.kind == "moov":
                section, opened = (opened, box.end), None
                reader_for("mp4").begin(data[slice(*section)].tobytes())  # which refuses what is protected
            begun, fragmented = box.end, False
        elif box.kind == "moof":
            fragmented = True
        elif box.kind == "mdat":
            if not fragmented:
                raise Mp4Error("Media was appended that no fragment describes", at)
            yield begun, box.end, section
            begun, fragmented = box.end, False
        at = box.end


def _elements(data: Bytes, at: int, end: int, section: tuple[int, int] | None, _: Sequence[int]) -> _Spans:
    """Clusters, and the section that holds for them."""
    opened = at
    while at < end:
        try:
            element = element_at(data[at : at + _ELEMENT_HEAD].tobytes(), 0, end - at, at)
        except MatroskaError:
            if end - at < _ELEMENT_HEAD:
                return  # a header that is cut off
            raise
        if element.identifier == names.CLUSTER:
            if section is None or section[0] < opened <= at:
                section = (opened, at) if opened < at else section
            stop = _cluster_end(data, element.content, end) if element.unknown else element.end
            if stop is None or stop > end:
                return
            yield at, stop, section
            at = opened = stop
        elif element.identifier == names.EBML:
            opened, section = at, None
            at = element.end
        elif element.identifier == names.SEGMENT:
            at = element.content
        else:
            at = element.end


def _cluster_end(data: Bytes, at: int, end: int) -> int | None:
    """Where a cluster of unknown size ends: at what cannot stand in it, or at the end of all."""
    while at < end:
        try:
            element = element_at(data[at : at + _ELEMENT_HEAD].tobytes(), 0, end - at, at)
        except MatroskaError:
            return None
        if element.identifier in ABOVE_CLUSTERS:
            return at
        if element.end > end:
            return None
        at = element.end
    return end


def _as_appended(data: Bytes, at: int, end: int, section: tuple[int, int] | None, places: Sequence[int]) -> _Spans:
    """Append by append; one that does not begin as the first does goes on with what was before it."""
    form = _form_at(data, at, end)
    begins = sorted({place for place in places if at < place < end and _form_at(data, place, end) == form})
    yield from ((start, stop, None) for start, stop in pairwise([at, *begins, end]))


def _form_at(data: Bytes, at: int, end: int) -> str:
    return container(data[at : min(end, at + _HEAD)].tobytes())


_SPLITS = {"mp4": _boxes, "matroska": _elements}


def refuse_protected(section: bytes) -> None:
    """Raises Refused if a section describes tracks that are protected; what cannot be read tells nothing."""
    with suppress(FormatError):
        reader_for(container(section)).begin(section)


def formats_in(section: bytes) -> list[Format]:
    """The formats of the tracks that a section describes; none where it cannot be read. Raises Refused for protected
    ones."""
    form = container(section)
    with suppress(FormatError):
        if form == "matroska":
            return described(section, len(section))[1]
        if form == "mp4":
            index = next(box for box in children(section, 0, 0, len(section)) if box.kind == "moov")
            return [track.format for track in parse_movie(section[index.start : index.end], fragments=True).tracks]
    return []


def extent(data: Bytes, piece: Piece) -> Extent | None:
    """When a piece begins and ends, by its own clock; None if there is nothing in it."""
    reader = reader_for(piece.form)
    reader.begin(data[slice(*piece.section)].tobytes() if piece.section else None)
    batch = [one.kept() for one in reader.feed(memoryview(data[piece.begin : piece.end].data))]
    batch = [one for one in [*batch, *reader.flush()] if len(one)]
    if not batch:
        return None
    pictures = [one for one in batch if one.format.type == "video"]
    ruling = pictures or batch
    begin = min(int(one.pts.min()) / one.format.timescale for one in ruling)
    end = max(_end(one) for one in ruling)
    random = None
    if pictures:
        random = tuple(float(at) for one in pictures for at in np.sort(one.pts[one.sync]) / one.format.timescale)
    return Extent(begin, end, random, tuple({one.track: one.format for one in batch}.values()))


def _end(samples: Samples) -> float:
    """When the last of some samples is over, as far as they tell."""
    steps = np.diff(np.sort(samples.pts))
    usual = float(np.median(steps)) if len(steps) else samples.usual
    return float(samples.pts.max() + usual) / samples.format.timescale
