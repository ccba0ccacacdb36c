"""Where the segments of a representation are: templates, timelines, lists, indexes (ISO/IEC 23009-1 §5.3.9).

Attributes of SegmentBase, SegmentList and SegmentTemplate hold for the levels below, one by one, until one of these
says otherwise (§5.3.9.1). Which of the three it is, the lowest level that has any decides.
"""

import math
from collections.abc import Sequence
from functools import partial

import msgspec
from msgspec.structs import replace

from mudlark.manifest.dash.document import Element, fail, first, local_name, number, own, span
from mudlark.manifest.dash.template import Template
from mudlark.manifest.model import IndexedFile, Initialization, Segment
from mudlark.manifest.sequences import Address, Run, Runs, StretchClock
from mudlark.web.address import resolve
from mudlark.web.resource import Resource, Span

KINDS = ("SegmentBase", "SegmentList", "SegmentTemplate")
MOST_SEGMENTS = 10_000_000  # of a representation in a Period
_MOST_ENTRIES = 2_000_000
_NEARLY = 1e-3  # of a segment: what is left of a stretch after the last whole one, and is nothing


class SegmentPlace(msgspec.Struct, frozen=True):
    """Where a representation stands: the addresses that references are relative to, and its stretch of the
    presentation. begin, length: seconds; length is None where nothing states it."""

    bases: tuple[str, ...]
    begin: float
    length: float | None
    stretch: int
    window: tuple[float, float] | None = None


class _Merged:
    """The segment information of a representation, with what it takes over from the levels above."""

    def __init__(self, levels: Sequence[Element]) -> None:
        nodes = [node for level in levels for node in own(level, *KINDS)]
        self.name = local_name(nodes[-1]) if nodes else ""
        self.nodes = [node for node in nodes if local_name(node) == self.name]

    @property
    def node(self) -> Element:
        return self.nodes[-1]

    def text(self, name: str) -> str | None:
        return next((node.get(name) for node in reversed(self.nodes) if node.get(name) is not None), None)

    def number(self, name: str) -> int | None:
        return next((number(node, name) for node in reversed(self.nodes) if node.get(name) is not None), None)

    def span(self, name: str) -> Span | None:
        found = next((span(node, name) for node in reversed(self.nodes) if node.get(name) is not None), None)
        return Span(*found) if found else None

    def child(self, name: str) -> Element | None:
        return next((child for node in reversed(self.nodes) if (child := first(node, name)) is not None), None)


def pieces_of(levels: Sequence[Element], place: SegmentPlace) -> Sequence[Segment] | IndexedFile:
    """The segments of a representation, the last of `levels` (Period, AdaptationSet, Representation)."""
    merged = _Merged(levels)
    representation = levels[-1]
    if not merged.name:
        return IndexedFile(_resource(place.bases, ""), None, None, place.begin, place.length, place.stretch, 0.0)
    timescale = merged.number("timescale")
    if timescale == 0:
        fail(merged.node, "has a timescale of 0.")
    end = place.begin + place.length if place.length is not None else None
    offset = merged.number("presentationTimeOffset") or 0
    clock = StretchClock(place.begin, end, timescale or 1, offset, place.stretch)
    if merged.name == "SegmentBase":
        init = _section(merged, place)
        index = merged.span("indexRange")
        shift = clock.shift
        return IndexedFile(_resource(place.bases, ""), index, init, place.begin, place.length, place.stretch, shift)
    if merged.name == "SegmentList":
        return _list(merged, place, clock)
    return _template(merged, representation, place, clock)


def _resource(bases: tuple[str, ...], reference: str, part: Span | None = None) -> Resource:
    """A reference at the first of its bases, and at the others as other addresses of the same bytes."""
    if not reference:
        return Resource(bases[0], part, others=bases[1:])
    addresses = [address for base in bases if (address := resolve(base, reference))]
    return Resource(addresses[0], part, others=tuple(dict.fromkeys(addresses[1:])))


def _checked(element: Element, bases: tuple[str, ...], reference: str) -> str:
    if reference and not resolve(bases[0], reference):
        fail(element, f"points to {reference[:80]!r}, which is no address of the web.")
    return reference


def _section(merged: _Merged, place: SegmentPlace) -> Initialization | None:
    """The initialization section, where an element names one."""
    element = merged.child("Initialization")
    if element is None:
        return None
    part = span(element, "range")
    reference = _checked(element, place.bases, element.get("sourceURL") or "")
    return Initialization(_resource(place.bases, reference, Span(*part) if part else None))


def _template(merged: _Merged, representation: Element, place: SegmentPlace, clock: StretchClock) -> Runs:
    known = {"RepresentationID": representation.get("id") or "", "Bandwidth": number(representation, "bandwidth") or 0}
    init = _section(merged, place)
    if text := merged.text("initialization"):
        pattern = Template(text, known, merged.node)
        if pattern.names:
            fail(merged.node, f"names ${min(pattern.names)}$ in the address of an initialization section.")
        init = Initialization(_resource(place.bases, _checked(merged.node, place.bases, pattern.address(0, 0))))
    text = merged.text("media")
    if text is None:
        fail(merged.node, "has no @media.")
    media = Template(text, known, merged.node)
    _checked(merged.node, place.bases, media.address(0, 0))
    start = merged.number("startNumber")
    start = 1 if start is None else start
    timeline = merged.child("SegmentTimeline")
    if timeline is not None:
        runs = _runs(timeline, _until_now(clock, place), start)
        if "SubNumber" not in media.names:
            runs = [run if run.parts == 1 else replace(run, parts=1) for run in runs]
    else:
        runs = [_evenly(merged, clock, start) if place.window is None else _available(merged, clock, start, place)]
    count = sum(run.count * run.parts for run in runs)
    if count > 1 and not media.names:
        fail(merged.node, f"gives {count:,} segments one address: {text[:80]!r} has no identifier.")

    def address(number: int, time: int, part: int) -> Resource:
        return _resource(place.bases, media.address(number, time, part))

    return Runs(runs, clock, address, init)


def _evenly(merged: _Merged, clock: StretchClock, start: int, count: int | None = None) -> Run:
    """Segments of one duration, as many as the stretch (or its last number) has room for."""
    duration = merged.number("duration")
    last = merged.number("endNumber")
    if duration is None:
        if count is None and last is None:
            return Run(clock.offset, round(_ticks(clock) or 1) or 1, 1, start)
        count, duration = count or 1, round((_ticks(clock) or 1) / (count or 1)) or 1
    if duration == 0:
        fail(merged.node, "has segments of no duration.")
    if last is not None:
        count = max(0, last - start + 1)
    if count is None:
        length = _ticks(clock)
        if length is None:
            fail(merged.node, "says neither how many segments there are nor how long the Period lasts.")
        count = max(1, math.ceil(length / duration - _NEARLY))
    _bounded(merged.node, count)
    return Run(clock.offset, duration, count, start, reckoned=last is None)


def _until_now(clock: StretchClock, place: SegmentPlace) -> StretchClock:
    """The clock of a stretch that ends where its window does, if nothing else says where."""
    return replace(clock, end=place.begin + place.window[1]) if place.window and clock.end is None else clock


def _available(merged: _Merged, clock: StretchClock, start: int, place: SegmentPlace) -> Run:
    """The segments of one duration that are there by the clock alone (§A.3.2): whole ones, inside of the window."""
    assert place.window
    duration = merged.number("duration")
    if not duration:
        fail(merged.node, "states no duration, nor a timeline.")
    first, last = (seconds * clock.timescale / duration for seconds in place.window)
    begin, end = max(0, math.floor(first)), max(0, math.floor(last + _NEARLY))
    ticks, final = _ticks(clock), merged.number("endNumber")
    if ticks is not None and last * duration >= ticks:
        end = max(0, math.ceil(ticks / duration - _NEARLY))
    if final is not None:
        end = min(end, max(0, final - start + 1))
    count = max(0, end - begin)
    _bounded(merged.node, count)
    return Run(clock.offset + begin * duration, duration, count, start + begin)


def _ticks(clock: StretchClock) -> float | None:
    """The length of the stretch in ticks."""
    return (clock.end - clock.begin) * clock.timescale if clock.end is not None else None


def _bounded(element: Element, count: int) -> None:
    if count > MOST_SEGMENTS:
        fail(element, f"promises {count:,} segments, more than any presentation has.")


def _runs(timeline: Element, clock: StretchClock, start: int) -> list[Run]:
    """The entries of a timeline (§5.3.9.6) as runs; what begins behind the end of the stretch is not presented."""
    length = _ticks(clock)
    end = clock.offset + length if length is not None else None
    entries = list(own(timeline, "S"))
    if not entries:
        fail(timeline, "has no entries.")
    if len(entries) > _MOST_ENTRIES:
        fail(timeline, f"has {len(entries):,} entries, more than any presentation has.")
    runs: list[Run] = []
    time, following, total = 0, start, 0
    for at, entry in enumerate(entries):
        stated = number(entry, "t")
        time = time if stated is None else stated
        lasts = number(entry, "d")
        if not lasts:
            fail(entry, "has no duration (@d).")
        repeat = _repeat(entry)
        if repeat < 0:
            until = number(entries[at + 1], "t") if at + 1 < len(entries) else end
            if until is None:
                fail(entry, "is repeated until an end (@r) that nothing states.")
            count = max(0, math.ceil((until - time) / lasts - _NEARLY))
        else:
            count = repeat + 1
        if end is not None and time + count * lasts > end:
            count = min(count, max(0, math.ceil((end - time) / lasts - _NEARLY)))
        numbered = number(entry, "n")
        following = following if numbered is None else numbered
        parts = number(entry, "k") or 1
        total += count * parts
        if total > MOST_SEGMENTS:
            _bounded(entry, total)
        if count:
            runs.append(Run(time, lasts, count, following, parts, reckoned=repeat < 0))
        time += count * lasts
        following += count
    return runs


def _repeat(entry: Element) -> int:
    stated = entry.get("r")
    if stated is None:
        return 0
    text = stated.strip()
    digits = text.removeprefix("-")
    if not (digits.isascii() and digits.isdigit() and len(digits) < 20):
        fail(entry, f"has {text[:40]!r} for @r, which is no number.")
    return int(text)


def _list(merged: _Merged, place: SegmentPlace, clock: StretchClock) -> Runs:
    urls = [url for node in merged.nodes[-1:] for url in own(node, "SegmentURL")]
    if not urls:
        urls = [url for node in merged.nodes for url in own(node, "SegmentURL")]
    if not urls:
        fail(merged.node, "lists no segments.")
    if len(urls) > _MOST_ENTRIES:
        fail(merged.node, f"lists {len(urls):,} segments, more than any presentation has.")
    resources = []
    for url in urls:
        part = span(url, "mediaRange")
        reference = _checked(url, place.bases, url.get("media") or "")
        resources.append(_resource(place.bases, reference, Span(*part) if part else None))
    start = merged.number("startNumber")
    start = 1 if start is None else start
    timeline = merged.child("SegmentTimeline")
    runs = _runs(timeline, clock, start) if timeline is not None else [_evenly(merged, clock, start, len(resources))]
    promised = sum(run.count for run in runs)
    if promised > len(resources):
        runs = _cut(runs, len(resources))
    address: Address = partial(_listed, resources, runs[0].number if runs else start)
    return Runs(
        [Run(run.time, run.duration, run.count, run.number) for run in runs], clock, address, _section(merged, place)
    )


def _listed(resources: Sequence[Resource], first_number: int, number: int, _time: int, _part: int) -> Resource:
    return resources[number - first_number]


def _cut(runs: Sequence[Run], most: int) -> list[Run]:
    """The first so many segments."""
    kept = []
    for run in runs:
        count = min(run.count, most)
        most -= count
        if count:
            kept.append(Run(run.time, run.duration, count, run.number))
    return kept
