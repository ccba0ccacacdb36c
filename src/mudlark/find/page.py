"""Looking through the source of a page: elements, metadata, JSON-LD and scripts, each find with where it stood.

Works on text alone. Addresses are resolved against `<base>`; only http and https count. What a place says about an
address (an extension, a type, the element around it) decides whether it is media at all.
"""

import re
from bisect import bisect_right
from collections.abc import Iterator
from typing import Any

import msgspec
from selectolax.lexbor import LexborHTMLParser, LexborNode

from mudlark.find.kind import kind_by_extension, kind_by_type
from mudlark.find.model import Evidence, Find, Kind, Page
from mudlark.find.script import literals
from mudlark.web.address import printable, resolve

MOST_FINDS = 20_000
_META_MEDIA: dict[str, tuple[Kind, int]] = {
    **{"og:video": ("video", 25), "og:video:url": ("video", 25), "og:video:secure_url": ("video", 25)},
    **{"og:audio": ("audio", 20), "og:audio:url": ("audio", 20), "og:audio:secure_url": ("audio", 20)},
    **{"og:image": ("image", 4), "og:image:url": ("image", 4), "og:image:secure_url": ("image", 4)},
    **{"twitter:player:stream": ("video", 25), "twitter:image": ("image", 4)},
}
_META_SAYS = {
    "title": ("og:title", "twitter:title", "dc.title", "dcterms.title"),
    "description": ("og:description", "twitter:description", "description", "dc.description", "dcterms.description"),
    "creator": ("author", "dc.creator", "dcterms.creator", "article:author"),
    "date": ("article:published_time", "dc.date", "dcterms.date", "date", "og:video:release_date"),
}
_META_DURATION = ("og:video:duration", "video:duration", "og:audio:duration", "duration")
_JSON_LD_MEDIA: dict[str, tuple[Kind, int]] = {
    **{"VideoObject": ("video", 25), "AudioObject": ("audio", 25), "ImageObject": ("image", 4)},
    **{"MediaObject": ("video", 20), "Clip": ("video", 20), "Movie": ("video", 20)},
}
_ELEMENTS: dict[str, tuple[tuple[str, Kind | None, str, int], ...]] = {
    "video": (("src", "video", "video element", 30), ("poster", "image", "poster of a video element", 3)),
    "audio": (("src", "audio", "audio element", 30),),
    "source": (("src", None, "source of a media element", 30),),
    "img": (("src", "image", "img element", 0),),
    "a": (("href", None, "link", 8),),
    "area": (("href", None, "link", 8),),
    "link": (("href", None, "link element", 5),),
}
_ISO_DURATION = re.compile(r"P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?$", re.I)


def seconds(text: str) -> float | None:
    """A duration as pages state it: ISO 8601 (PT1M30S), clock (1:30), or plain seconds."""
    text = text.strip()
    if match := _ISO_DURATION.match(text):
        days, hours, minutes, rest = (float(part or 0) for part in match.groups())
        return days * 86400 + hours * 3600 + minutes * 60 + rest or None
    try:
        total = 0.0
        for part in text.split(":"):
            total = total * 60 + float(part)
    except ValueError:
        return None
    return total if 0 < total < 1e7 else None


def read_page(source: str, url: str) -> Page:
    """Everything that the source of a page at `url` says."""
    return _Reader(source, url).read()


class _Reader:
    def __init__(self, source: str, url: str) -> None:
        self.source = source
        self.page = Page(url)
        self.tree = LexborHTMLParser(source)
        self.finds: dict[str, Find] = {}
        self.cursors: dict[str, int] = {}
        self.breaks = [match.start() for match in re.finditer("\n", source)]
        node = self.tree.css_first("base[href]")
        self.base = (node and resolve(url, node.attributes.get("href") or "")) or url

    def read(self) -> Page:
        self.metadata()
        for tag, rules in _ELEMENTS.items():
            for node in self.tree.css(tag):
                for attribute, kind, where, weight in rules:
                    self.element(node, attribute, kind, where, weight)
        for node in self.tree.css("script"):
            self.script(node)
        if not self.page.title:
            self.page.title = self.text_of("title") or self.text_of("h1")
        self.page.finds = list(self.finds.values())
        return self.page

    def text_of(self, selector: str) -> str | None:
        node = self.tree.css_first(selector)
        return tidy(node.text()) if node else None

    def line(self, snippet: str, tag: str) -> str | None:
        """The line of the source on which a snippet stands inside a tag. Elements of one tag come in the page's order,
        so the search goes on from the last one; an address written with entities is not found."""
        at = self.cursors.get(tag, 0) - 1
        while snippet and (at := self.source.find(snippet, at + 1)) >= 0:
            opening = self.source.rfind("<", 0, at) + 1
            if self.source[opening : opening + len(tag)].lower() == tag:
                self.cursors[tag] = at
                return self.line_at(at)
        return None

    def line_at(self, position: int) -> str:
        """The line of a position in the source."""
        return f"line {bisect_right(self.breaks, position) + 1}"

    def add(self, reference: str, kind: Kind | None, evidence: Evidence, label: str | None = None) -> None:
        """Note a reference if it is media; `kind` is what the place says of it, overruled by a telling extension."""
        url = resolve(self.base, reference)
        if url is None:
            return
        by_name = kind_by_extension(url)
        told = by_name if by_name and (kind is None or kind in ("video", "audio")) else kind
        if told is None or (url not in self.finds and len(self.finds) >= MOST_FINDS):
            return
        find = self.finds.setdefault(url, Find(url, told))
        find.label = find.label or label
        if evidence not in find.evidence:
            find.evidence.append(evidence)

    def element(self, node: LexborNode, attribute: str, kind: Kind | None, where: str, weight: int) -> None:
        value = node.attributes.get(attribute)
        if not value:
            return
        if node.tag == "link" and (node.attributes.get("rel") or "").lower() not in (
            "preload",
            "alternate",
            "enclosure",
        ):
            return
        told = kind
        if node.tag in ("source", "a", "link"):
            told = kind_by_type(node.attributes.get("type"))
        if node.tag == "source" and told is None and kind_by_extension(value) is None:
            parent = node.parent.tag if node.parent else ""
            told = {"video": "video", "audio": "audio", "picture": "image"}.get(parent or "")  # type: ignore[assignment]
        label = tidy(node.text()) if node.tag == "a" else tidy(node.attributes.get("alt") or "")
        self.add(value, told, Evidence(where, self.line(value, node.tag or ""), weight), label)

    def metadata(self) -> None:
        """`<meta>` by name, property or itemprop; JSON-LD blocks come first, as they say the most."""
        for node in self.tree.css('script[type="application/ld+json"]'):
            self.linked_data(node.text())
        said: dict[str, str] = {}
        for node in self.tree.css("meta[content]"):
            attributes = node.attributes
            name = (attributes.get("property") or attributes.get("name") or attributes.get("itemprop") or "").lower()
            content = attributes.get("content") or ""
            said.setdefault(name, content)
            if name in _META_MEDIA:
                kind, weight = _META_MEDIA[name]
                self.add(content, kind, Evidence(f"metadata {name}", self.line(content, "meta"), weight))
        for attribute, names in _META_SAYS.items():
            if not getattr(self.page, attribute):
                value = next((tidy(said[name]) for name in names if said.get(name)), None)
                setattr(self.page, attribute, value)
        stated = (seconds(said[name]) for name in _META_DURATION if name in said)
        self.page.duration = self.page.duration or next((value for value in stated if value), None)

    def linked_data(self, text: str) -> None:
        """A block of JSON-LD, however deep its objects are nested."""
        try:
            data = msgspec.json.decode(text)
        except (msgspec.DecodeError, RecursionError):
            return
        for thing in _objects(data):
            types = thing.get("@type")
            for type_ in types if isinstance(types, list) else [types]:
                if isinstance(type_, str) and type_ in _JSON_LD_MEDIA:
                    self.media_object(thing, type_)

    def media_object(self, thing: dict[str, Any], type_: str) -> None:
        kind, weight = _JSON_LD_MEDIA[type_]
        told = kind_by_type(_text(thing.get("encodingFormat"))) or kind
        for key in ("contentUrl", "contentURL", "url"):
            reference = _text(thing.get(key))
            if reference and (key != "url" or kind_by_extension(reference)):
                self.add(reference, told, Evidence(f"JSON-LD {type_} {key}", self.line(reference, "script"), weight))
        thumbnail = thing.get("thumbnailUrl")
        for reference in thumbnail if isinstance(thumbnail, list) else [thumbnail]:
            if isinstance(reference, str):
                self.add(
                    reference, "image", Evidence(f"JSON-LD {type_} thumbnailUrl", self.line(reference, "script"), 2)
                )
        if kind in ("video", "audio"):
            self.page.title = self.page.title or tidy(_text(thing.get("name")) or "")
            self.page.description = self.page.description or tidy(_text(thing.get("description")) or "")
            self.page.date = self.page.date or tidy(_text(thing.get("uploadDate")) or "")
            self.page.duration = self.page.duration or seconds(_text(thing.get("duration")) or "")

    def script(self, node: LexborNode) -> None:
        if node.attributes.get("src") or node.attributes.get("type") == "application/ld+json":
            return
        text = node.text()
        begin = self.source.find(text, self.cursors.get("script text", 0)) if text else -1
        self.cursors["script text"] = max(begin, 0)
        for literal in literals(text):
            line = self.line_at(begin + literal.position) if begin >= 0 else None
            self.add(literal.text, kind_by_extension(literal.text), Evidence("script string", line, 15))


def tidy(text: str) -> str | None:
    """One line of printable text, or None."""
    return " ".join(printable(text).split()) or None


def _text(value: object) -> str | None:
    return value if isinstance(value, str) else None


def _objects(data: object) -> Iterator[dict[str, Any]]:
    """All objects inside decoded JSON, outer ones first."""
    waiting = [data]
    while waiting:
        item = waiting.pop(0)
        if isinstance(item, dict):
            yield item
            waiting.extend(item.values())
        elif isinstance(item, list):
            waiting.extend(item)
