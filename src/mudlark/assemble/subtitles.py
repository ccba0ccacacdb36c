"""Segmented subtitles put together: one text, on the film's clock.

A cue that stands in several segments is kept once. Segments with an X-TIMESTAMP-MAP are on the clock of the media
(RFC 8216 §3.5); those without are on whichever clock they fit: the presentation's, as most servers have it, or the
media's.
"""

from collections.abc import Iterable
from dataclasses import dataclass

from mudlark.assemble.timeline import Timeline
from mudlark.media.webvtt import Cue, Subtitles, parse, shifted, write

_WRAP = (1 << 33) / 90_000
_SLACK = 10.0  # seconds that a cue may stand outside of its segment


@dataclass(frozen=True, slots=True)
class TextPart:
    """A segment of subtitles: where it stands as promised, in which stretch, and its bytes."""

    begin: float
    duration: float
    stretch: int
    data: bytes


def join(parts: Iterable[TextPart], timeline: Timeline, origin: float) -> tuple[bytes, int]:
    """The whole text and its number of cues. origin: when on the timeline's clock the film begins.

    Raises FormatError on a segment that is no WebVTT.
    """
    cues: dict[tuple[float, float, str, str], Cue] = {}
    blocks: dict[str, None] = {}
    for part in parts:
        read = parse(part.data)
        blocks |= dict.fromkeys(read.blocks)
        for cue in shifted(read.cues, _shift(part, read, timeline, origin)):
            cues.setdefault((round(cue.begin, 2), round(cue.end, 2), cue.text, cue.settings), cue)
    return write(Subtitles(tuple(cues.values()), tuple(blocks))), len(cues)


def _shift(part: TextPart, read: Subtitles, timeline: Timeline, origin: float) -> float:
    """Seconds from the clock of a segment to the film's."""
    known = timeline.shift_of(part.stretch)
    if known is None:
        return 0.0
    shift, anchor = known
    if read.offset is not None:
        first = read.offset + (read.cues[0].begin if read.cues else 0.0)
        turns = round((anchor - first) / _WRAP) * _WRAP
        return read.offset + turns + shift - origin
    middle = read.cues[len(read.cues) // 2].begin if read.cues else 0.0
    by_media = shift - origin
    on_presentation = abs(middle - part.begin) <= part.duration + _SLACK
    on_media = abs(middle + by_media - part.begin) <= part.duration + _SLACK
    return by_media if on_media and not on_presentation else 0.0
