"""Segmented subtitles put together: one text, on the film's clock.

A cue that stands in several segments is kept once. Segments with an X-TIMESTAMP-MAP are on the clock of the media
(RFC 8216 §3.5); those without are on whichever clock they fit: the presentation's, as most servers have it, or the
media's.
"""

from collections.abc import Iterable, Sequence

import msgspec

from mudlark.assemble.film import Part, Section
from mudlark.assemble.source import SectionReader
from mudlark.assemble.timeline import Timeline
from mudlark.media.mp4.text import TextReader
from mudlark.media.readers import container
from mudlark.media.webvtt import Cue, Subtitles, joined, parse, shifted, write

_WRAP = (1 << 33) / 90_000


class TextPart(msgspec.Struct, frozen=True):
    """A segment of subtitles: where it stands as promised, in which stretch, and what it says. offset: seconds from its
    clock to that of the stretch, where the manifest states them."""

    begin: float
    duration: float
    stretch: int
    text: Subtitles
    offset: float | None = None


class TextSource:
    """Reads segments of subtitles by what they are: WebVTT, TTML, or MP4 that holds one of these."""

    def __init__(self) -> None:
        self._source = SectionReader()
        self._reader: TextReader | None = None
        self._init: Section | None = None

    def part(self, part: Part) -> TextPart:
        """What a segment says. Raises FormatError on what is no subtitles."""
        assert part.place
        data = bytes(self._source.read(part.place, part.key, part.iv))
        return TextPart(part.begin, part.duration, part.stretch, self._read(data, part), part.offset)

    def _read(self, data: bytes, part: Part) -> Subtitles:
        form = container(data)
        if form == "ttml":
            from mudlark.media.ttml import parse_ttml  # its XML library is needed for nothing else

            return Subtitles(parse_ttml(data).cues)
        if form != "mp4":
            return parse(data)
        if self._reader is None:
            self._reader = TextReader()
        if part.init and part.init != self._init:
            self._reader.begin(self._source.whole(part.init.place, part.init.key, part.init.iv))
            self._init = part.init
        return Subtitles(tuple(self._reader.feed(data)))


def join(parts: Iterable[TextPart], timeline: Timeline, origin: float) -> tuple[bytes, int]:
    """The whole text and its number of cues. origin: when on the timeline's clock the film begins."""
    cues: dict[tuple[float, float, str, str], Cue] = {}
    blocks: dict[str, None] = {}
    stated, parts = False, list(parts)
    on_media = {stretch for stretch in {part.stretch for part in parts} if _on_media(parts, stretch, timeline, origin)}
    for part in parts:
        stated = stated or part.offset is not None
        blocks |= dict.fromkeys(part.text.blocks)
        for cue in shifted(part.text.cues, _shift(part, timeline, origin, on_media=part.stretch in on_media)):
            cues.setdefault((round(cue.begin, 2), round(cue.end, 2), cue.text, cue.settings), cue)
    whole = joined(cues.values()) if stated else tuple(cues.values())
    return write(Subtitles(tuple(whole), tuple(blocks))), len(whole)


def _on_media(parts: Sequence[TextPart], stretch: int, timeline: Timeline, origin: float) -> bool:
    """True if segments of a stretch that say nothing of their clock fit that of the media better than that of the
    presentation: by the seconds that their cues stand outside of the segments that hold them."""
    known = timeline.shift_of(stretch)
    if known is None:
        return False
    silent = [part for part in parts if part.stretch == stretch and part.offset is None and part.text.offset is None]
    return _outside(silent, known[0] - origin) < _outside(silent, 0.0)


def _outside(parts: Iterable[TextPart], shift: float) -> float:
    """Seconds that cues stand outside of their segments, if they are shifted so."""
    return sum(
        max(0.0, part.begin - cue.begin - shift) + max(0.0, cue.end + shift - part.begin - part.duration)
        for part in parts
        for cue in part.text.cues
    )


def _shift(part: TextPart, timeline: Timeline, origin: float, *, on_media: bool) -> float:
    """Seconds from the clock of a segment to the film's. on_media: one that does not say which is on that of the
    media."""
    read = part.text
    known = timeline.shift_of(part.stretch)
    if known is None:
        return 0.0
    shift, anchor = known
    if part.offset is not None:
        return part.offset + shift - origin
    if read.offset is not None:
        first = read.offset + (read.cues[0].begin if read.cues else 0.0)
        turns = round((anchor - first) / _WRAP) * _WRAP
        return read.offset + turns + shift - origin
    return shift - origin if on_media else 0.0
