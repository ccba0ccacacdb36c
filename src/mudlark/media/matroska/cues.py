"""Where the clusters of a Matroska or WebM file are, by its cues (RFC 9559 §5.1.5)."""

import msgspec

from mudlark.media.matroska import names
from mudlark.media.matroska.ebml import MatroskaError, children, header, real_number

_MOST_CUES = 2_000_000


class CueList(msgspec.Struct, frozen=True):
    """places: byte of the file and time in seconds of each cluster that a cue names, in order. duration: seconds."""

    places: list[tuple[int, float]]
    duration: float | None


def read_cues(head: bytes, cues: bytes, base: int) -> CueList | None:
    """The clusters that cues name; None where there are none. head: how the file begins, as far as its first cluster or
    farther. cues: the element itself, which begins at byte `base`; where it is empty, it is looked for in the head.
    """
    size = 1 << 62
    first = header(head, 0, size)
    if first.identifier != names.EBML or first.end >= len(head):
        raise MatroskaError("This is not a Matroska file", 0)
    segment = header(head, first.end, size)
    if segment.identifier != names.SEGMENT:
        raise MatroskaError("There is no segment", first.end)
    scale, duration = 1_000_000, None
    at = segment.content
    while at < len(head) - 12:
        element = header(head, at, size)
        if element.identifier == names.CLUSTER or element.end > len(head):
            break
        if element.identifier == names.INFO:
            scale, duration = _info(head, element.content, element.end)
        elif element.identifier == names.CUES and not cues:
            cues, base = head[element.start : element.end], element.start
        at = element.end
    if not cues:
        return None
    whole = header(cues, 0, base + len(cues), base)
    if whole.identifier != names.CUES or whole.end > base + len(cues):
        raise MatroskaError("The cues are not where they are said to be", base)
    places: dict[int, float] = {}
    for point in children(cues, base, whole.content, whole.end):
        if point.identifier == names.CUE_POINT:
            time, place = _point(cues, base, point.content, point.end)
            if place is not None:
                places.setdefault(segment.content + place, time * scale / 1e9)
        if len(places) > _MOST_CUES:
            raise MatroskaError(f"There are more than {_MOST_CUES:,} cues", base)
    listed = sorted(places.items())
    return CueList(listed, duration * scale / 1e9 if duration else None)


def _info(data: bytes, start: int, end: int) -> tuple[int, float | None]:
    scale, duration = 1_000_000, None
    for element in children(data, 0, start, end):
        value = data[element.content : element.end]
        if element.identifier == names.TIMESTAMP_SCALE:
            scale = int.from_bytes(value, "big") or scale
        elif element.identifier == names.DURATION:
            duration = real_number(value)
    return scale, duration


def _point(data: bytes, base: int, start: int, end: int) -> tuple[int, int | None]:
    time, place = 0, None
    for element in children(data, base, start, end):
        value = data[element.content - base : element.end - base]
        if element.identifier == names.CUE_TIME:
            time = int.from_bytes(value, "big")
        elif element.identifier == names.CUE_TRACK_POSITIONS:
            for inner in children(data, base, element.content, element.end):
                if inner.identifier == names.CUE_CLUSTER_POSITION:
                    place = int.from_bytes(data[inner.content - base : inner.end - base], "big")
    return time, place
