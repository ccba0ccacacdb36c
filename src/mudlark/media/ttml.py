"""TTML and its profile IMSC1: XML in, WebVTT cues out.

Follows TTML2 §8 (timing), §10 (styles, regions) and IMSC1.1, as far as WebVTT can say the same: words, lines, bold,
italics and underlining, colours of text where they are plain, and the place of a region. Pictures in place of text are
counted, not kept. Entities, document types and the network are off.
"""

import html
import re
from collections.abc import Iterator
from itertools import pairwise
from math import inf, isfinite

import msgspec
from lxml import etree
from msgspec.structs import replace

from mudlark.errors import FormatError
from mudlark.media.webvtt import Cue

_TT = "http://www.w3.org/ns/ttml"
_CLOCK = re.compile(r"(\d{2,6}):(\d{2}):(\d{2})(?:\.(\d{1,9})|:(\d{2,4})(?:\.\d+)?)?$", re.A)
_OFFSET = re.compile(r"(\d{1,12}(?:\.\d{1,9})?)(h|m|s|ms|f|t)$", re.A)
_UNITS = {"h": 3600.0, "m": 60.0, "s": 1.0, "ms": 0.001}
_COLOURS = frozenset(["white", "lime", "cyan", "red", "yellow", "magenta", "blue", "black"])  # classes of WebVTT §5.1
_DEEPEST = 50
_MOST_CUES, _MOST_MOMENTS = 500_000, 2_000  # of a text, and of one of its paragraphs
_ENDLESS = 5.0  # seconds at least that a cue without an end is shown
_PERCENT = re.compile(r"(-?\d{1,4}(?:\.\d{1,6})?)%\s+(-?\d{1,4}(?:\.\d{1,6})?)%$", re.A)


class TextRates(msgspec.Struct, frozen=True):
    """frame_rate: frames a second. tick_rate: ticks a second."""

    frame_rate: float
    tick_rate: float


class Texts(msgspec.Struct, frozen=True):
    """Cues on the document's own clock. pictures: cues that are pictures, which text cannot hold."""

    cues: tuple[Cue, ...]
    pictures: int = 0


class _Document:
    def __init__(self, root: etree._Element, until: float | None) -> None:
        self.root = root
        self.until = until
        self.spans: dict[etree._Element, tuple[float, float | None]] = {}
        self.timing = TextRates(*_rates(root))
        self.styles = {_id(node): node for node in root.iter() if _name(node) == "style" and _id(node)}
        self.regions = {_id(node): node for node in root.iter() if _name(node) == "region" and _id(node)}
        self.cues: list[Cue] = []
        self.pictures = 0
        self.named: dict[str, dict[str, str]] = {}  # what the styles with names come to

    def read(self) -> Texts:
        body = next((node for node in self.root if _name(node) == "body"), None)
        if body is not None:
            self.walk(body, 0.0, None, None, {}, 0)
        # what has no end lasts as long as anything does (§8.2, §8.4)
        last = max((cue.end for cue in self.cues if isfinite(cue.end)), default=0.0)
        last = max([last, *(cue.begin + _ENDLESS for cue in self.cues if not isfinite(cue.end))])
        cues = (cue if isfinite(cue.end) else replace(cue, end=self.until or last) for cue in self.cues)
        return Texts(tuple(cue for cue in cues if cue.end > cue.begin), self.pictures)

    def walk(
        self,
        node: etree._Element,
        begin: float,
        end: float | None,
        region: str | None,
        style: dict[str, str],
        depth: int,
    ) -> None:
        """The cues of an element: times of what is inside count from its own begin (§8.2). style: what it inherits."""
        if depth > _DEEPEST:
            raise FormatError("Its elements are nested too deeply")
        begin, end = self.times(node, begin, end)
        region = node.get("region") or region
        style = style | self.style(node)
        if _name(node) == "p":
            self.paragraph(node, begin, end, region, style)
            return
        if any(_local(name) == "backgroundImage" for name in node.attrib) or _name(node) == "image":
            self.pictures += 1
        after = begin
        in_turn = node.get("timeContainer") == "seq"
        for child in node:
            if _name(child) in ("div", "p", "body", "image"):
                self.walk(child, after if in_turn else begin, end, region, style, depth + 1)
                if in_turn and (ended := self.times(child, after, end)[1]) is not None:
                    after = ended

    def times(self, node: etree._Element, begin: float, end: float | None) -> tuple[float, float | None]:
        """When an element is shown, inside of the time of the one around it."""
        own_begin, own_end, lasts = (self.seconds(node.get(name)) for name in ("begin", "end", "dur"))
        first = begin + (own_begin or 0.0)
        ends = [begin + own_end if own_end is not None else None, first + lasts if lasts is not None else None, end]
        stated = [one for one in ends if one is not None]
        return first, min(stated) if stated else None

    def seconds(self, text: str | None) -> float | None:
        if not text:
            return None
        text = text.strip()
        if match := _CLOCK.match(text):
            whole = int(match[1]) * 3600 + int(match[2]) * 60 + int(match[3])
            return whole + (float(f"0.{match[4]}") if match[4] else int(match[5] or 0) / self.timing.frame_rate)
        if match := _OFFSET.match(text):
            value, unit = float(match[1]), match[2]
            if unit == "f":
                return value / self.timing.frame_rate
            return value / self.timing.tick_rate if unit == "t" else value * _UNITS[unit]
        return None

    def paragraph(
        self, node: etree._Element, begin: float, end: float | None, region: str | None, style: dict[str, str]
    ) -> None:
        """A paragraph as cues: one for each time during which the same of it is shown (§8.2). Text beside spans with
        times of their own is shown as long as the paragraph is."""
        region = region or next((span.get("region") for span in node if span.get("region")), None)
        settings = self.settings(region)
        style = self.region_style(region) | style
        stop = inf if end is None else end
        self.spans = {}  # when each of this paragraph is there
        moments = {begin, stop, *(time for time in self.moments(node, begin, end, 0) if begin < time < stop)}
        if len(moments) > _MOST_MOMENTS:
            raise FormatError("A paragraph changes more often than any that is read")
        shown: Cue | None = None
        for first, last in pairwise(sorted(moments)):
            words = self.words(node, first, style, 0)
            for opening, closing in reversed(_marks({}, style)):
                words = f"{opening}{words}{closing}" if words.strip() else words
            words = "\n".join(line.strip() for line in words.strip("\n ").split("\n") if line.strip())
            if shown is not None and shown.text == words:
                shown = self.cues[-1] = replace(shown, end=last)
                continue
            shown = Cue(first, last, words, settings, _id(node)) if words else None
            if shown is not None:
                self.cues.append(shown)
            if len(self.cues) > _MOST_CUES:
                raise FormatError("There are more cues than any film can have")

    def moments(self, node: etree._Element, begin: float, end: float | None, depth: int) -> Iterator[float]:
        """When spans inside of an element appear and go."""
        if depth > _DEEPEST:
            raise FormatError("Its elements are nested too deeply")
        for child in node:
            if _name(child) == "span":
                first, last = self.spans[child] = self.times(child, begin, end)
                yield first
                if last is not None:
                    yield last
                yield from self.moments(child, first, last, depth + 1)

    def words(self, node: etree._Element, at: float, style: dict[str, str], depth: int) -> str:
        """What is shown of an element at a time, with its marks. Line breaks of the source are spaces, unless they are
        to be kept (xml:space). style: of the element, with what it inherits."""
        if depth > _DEEPEST:
            raise FormatError("Its elements are nested too deeply")
        kept = node.get("{http://www.w3.org/XML/1998/namespace}space") == "preserve"
        parts = [_text(node.text, kept)]
        for child in node:
            if _name(child) == "br":
                parts.append("\n")
            elif _name(child) == "span":
                first, last = self.spans[child]
                if first <= at and (last is None or at < last):
                    own = style | self.style(child)
                    text = self.words(child, at, own, depth + 1)
                    for opening, closing in reversed(_marks(style, own)):
                        text = f"{opening}{text}{closing}" if text.strip() else text
                    parts.append(text)
            parts.append(_text(child.tail, kept))
        text = "".join(parts)
        return text if kept else re.sub(" {2,}", " ", text)

    def region_style(self, region: str | None) -> dict[str, str]:
        """What is inherited from a region (§10.4.4.3): styles of text."""
        node = self.regions.get(region or "")
        if node is None:
            return {}
        style = self.style(node)
        for child in node:
            if _name(child) == "style":
                style |= self.style(child)
        return style

    def style(self, node: etree._Element, depth: int = 0) -> dict[str, str]:
        """The styles of an element itself and of those that it refers to. Each style with a name is worked out once;
        one that leads back to itself adds nothing there (TTML2 §8.4.1.3)."""
        style: dict[str, str] = {}
        if depth < _DEEPEST:
            for name in (node.get("style") or "").split():
                if name not in self.named and name in self.styles:
                    self.named[name] = {}
                    self.named[name] = self.style(self.styles[name], depth + 1)
                style |= self.named.get(name, {})
        return style | {_local(name): str(value) for name, value in node.attrib.items() if "#styling" in str(name)}

    def settings(self, region: str | None) -> str:
        """Where a region stands, as WebVTT settings: the line of its upper edge, or of its lower one."""
        if region not in self.regions:
            return ""
        style = self.region_style(region)
        origin, extent = (_PERCENT.match(style.get(name, "").strip()) for name in ("origin", "extent"))
        parts = []
        if origin:
            top, left = float(origin[2]), float(origin[1])
            high, wide = (float(extent[2]), float(extent[1])) if extent else (100 - top, 100 - left)
            align = style.get("displayAlign", "before")
            line = top if align == "before" else top + high / 2 if align == "center" else top + high
            place = {"before": "", "center": ",center"}.get(align, ",end")
            parts.append(f"line:{min(100.0, max(0.0, line)):g}%{place}")
            if 0 < wide < 100:
                parts.append(f"position:{min(100.0, max(0.0, left + wide / 2)):g}%")
                parts.append(f"size:{wide:g}%")
        alignment = {"left": "left", "start": "start", "right": "right", "end": "end"}.get(style.get("textAlign", ""))
        if alignment:
            parts.append(f"align:{alignment}")
        return " ".join(parts)


def _marks(around: dict[str, str], style: dict[str, str]) -> list[tuple[str, str]]:
    """The marks of a style where that of what is around it does not say the same already, outermost first."""

    def has(name: str, *values: str) -> bool:
        return style.get(name) in values and around.get(name) not in values

    marks = []
    colour = style.get("color", "").lower()
    if colour in _COLOURS and colour not in ("white", around.get("color", "").lower()):
        marks.append((f"<c.{colour}>", "</c>"))
    if has("textDecoration", "underline"):
        marks.append(("<u>", "</u>"))
    if has("fontWeight", "bold"):
        marks.append(("<b>", "</b>"))
    if has("fontStyle", "italic", "oblique"):
        marks.append(("<i>", "</i>"))
    return marks


def parse_ttml(data: bytes, until: float | None = None) -> Texts:
    """The cues of a document. until: the second at which it is over, if that is known: what states no end lasts until
    then. Raises FormatError on what is none."""
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True, remove_pis=True
    )
    try:
        root = etree.fromstring(data.strip(b"\0"), parser)
    except (etree.XMLSyntaxError, ValueError) as problem:
        raise FormatError(f"This is not well-formed XML: {problem}") from problem
    if root is None or _name(root) != "tt":
        raise FormatError("This is not TTML: its root element is not tt")
    return _Document(root, until).read()


def _rates(root: etree._Element) -> tuple[float, float]:
    """Frames and ticks a second (TTML2 §7.2.3, §7.2.12)."""
    values = {_local(name): str(value).strip() for name, value in root.attrib.items()}

    def positive(name: str) -> float:
        text = values.get(name, "")
        return float(text) if re.fullmatch(r"\d{1,10}", text, re.A) and int(text) else 0.0

    frames = positive("frameRate") or 30.0
    match = re.fullmatch(r"(\d{1,6})\s+(\d{1,6})", values.get("frameRateMultiplier", ""), re.A)
    if match and int(match[1]) and int(match[2]):
        frames *= int(match[1]) / int(match[2])
    ticks = positive("tickRate") or (frames if positive("frameRate") else 1.0)
    return frames, ticks


def _text(text: str | None, kept: bool) -> str:
    words = html.escape(text or "", quote=False)
    return words if kept else re.sub(r"\s+", " ", words)


def _name(node: etree._Element) -> str:
    return _local(node.tag) if isinstance(node.tag, str) else ""


def _local(name: str | bytes) -> str:
    return str(name).rpartition("}")[2]


def _id(node: etree._Element) -> str:
    return node.get("{http://www.w3.org/XML/1998/namespace}id") or node.get("id") or ""
