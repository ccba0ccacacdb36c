"""What a page says of itself: meta elements, microdata, RDFa and JSON-LD.

Follows the Open Graph protocol, HTML §5 (microdata), RDFa Lite 1.1, JSON-LD 1.1 and the vocabulary of schema.org.
"""

import re
from collections.abc import Iterator
from typing import Any

from selectolax.lexbor import LexborHTMLParser, LexborNode

from mudlark.find.judge.kind import kind_by_extension, kind_by_type
from mudlark.find.model import Hint, Kind
from mudlark.find.places.collect import Beside, Collector
from mudlark.find.places.embedded import embedded_json
from mudlark.find.places.hidden import looks_like_address
from mudlark.text import tidy, whole_number

_META_MEDIA: dict[str, tuple[Kind, int]] = {
    "og:video": ("video", 25),
    "og:video:url": ("video", 25),
    "og:video:secure_url": ("video", 25),
    "og:audio": ("audio", 20),
    "og:audio:url": ("audio", 20),
    "og:audio:secure_url": ("audio", 20),
    "og:image": ("image", 12),
    "og:image:url": ("image", 12),
    "og:image:secure_url": ("image", 12),
    "twitter:player:stream": ("video", 25),
    "twitter:image": ("image", 8),
    "thumbnailurl": ("image", 2),
    "contenturl": ("video", 22),
}
_LONGEST_STATED = 1e7  # seconds: a hundred days
_LONGEST_TEXT = 100  # characters of a stated duration
_MOST_PROPERTIES = 2_000
_PAGES = frozenset({"text/html", "application/xhtml+xml"})
_META_FRAMES = ("twitter:player", "embedurl")
_META_SAYS = {
    "title": ("og:title", "twitter:title", "dc.title", "dcterms.title"),
    "description": ("og:description", "twitter:description", "description", "dc.description", "dcterms.description"),
    "creator": ("author", "dc.creator", "dcterms.creator", "article:author"),
    "date": ("article:published_time", "dc.date", "dcterms.date", "date", "uploaddate", "og:video:release_date"),
}
_META_DURATION = ("og:video:duration", "video:duration", "og:audio:duration", "duration")
_THINGS: dict[str, tuple[Kind, int]] = {
    "VideoObject": ("video", 25),
    "AudioObject": ("audio", 25),
    "ImageObject": ("image", 4),
    "MediaObject": ("video", 20),
    "Clip": ("video", 20),
    "Movie": ("video", 20),
    "PodcastEpisode": ("audio", 20),
}
_ISO_DURATION = re.compile(r"P(?:(\d+)D)?(?:T(?:(\d+)H)?(?:(\d+)M)?(?:(\d+(?:\.\d+)?)S)?)?$", re.I)


def seconds(text: str) -> float | None:
    """A duration as pages state it: ISO 8601 (PT1M30S), clock (1:30), or plain seconds."""
    text = text.strip()[:_LONGEST_TEXT]
    if match := _ISO_DURATION.match(text):
        days, hours, minutes, rest = (float(part or 0) for part in match.groups())
        total = days * 86400 + hours * 3600 + minutes * 60 + rest
        return total if 0 < total < _LONGEST_STATED else None
    try:
        total = 0.0
        for part in text.split(":"):
            total = total * 60 + float(part)
    except ValueError:
        return None
    return total if 0 < total < _LONGEST_STATED else None


def read_metadata(tree: LexborHTMLParser, into: Collector) -> None:
    """JSON-LD first, as it says the most; then meta elements; then properties on other elements."""
    for node in tree.css('script[type="application/ld+json"]'):
        for thing in objects(embedded_json(node.text())):
            _thing(thing, into)
    _meta_elements(tree, into)
    for node in tree.css("[itemprop],[property]")[:_MOST_PROPERTIES]:
        if node.tag != "meta":
            _property(node, into)
    page = into.page
    page.title = page.title or _own_title(_text_of(tree, "title"), _text_of(tree, "h1"))


def _own_title(title: str | None, heading: str | None) -> str | None:
    """The page's title without the name of the site, where the heading shows which part of it is the page's own."""
    if title and heading and heading != title and heading in re.split(r"(?<!\s)\s+[·|–—:»/-]\s+", title):
        return heading
    return title or heading


def _text_of(tree: LexborHTMLParser, selector: str) -> str | None:
    node = tree.css_first(selector)
    return tidy(node.text()) if node else None


def _meta_elements(tree: LexborHTMLParser, into: Collector) -> None:
    metadata: dict[str, str] = {}
    named: list[tuple[str, str]] = []
    for node in tree.css("meta[content]"):
        attributes = node.attributes
        name = (attributes.get("property") or attributes.get("name") or attributes.get("itemprop") or "").lower()
        content = attributes.get("content") or ""
        metadata.setdefault(name, content)
        named.append((name, content))
    video_type = metadata.get("og:video:type", "").partition(";")[0].strip().lower()
    for name, content in named:
        if name in _META_FRAMES:
            into.add_frame(content, f"metadata {name}")
        elif name in _META_MEDIA and _is_address(content):
            kind, weight = _META_MEDIA[name]
            pages = name.startswith("og:video") and kind_by_extension(content) is None
            if pages and video_type in (*_PAGES, ""):
                into.add_frame(content, f"metadata {name}")
            if not pages or video_type not in _PAGES:
                into.add(content, kind, "metadata", f"metadata {name}", weight, Beside(tag="meta", hint=_hint(name)))
    page = into.page
    for attribute, names in _META_SAYS.items():
        if not getattr(page, attribute):
            setattr(page, attribute, next((tidy(metadata[name]) for name in names if metadata.get(name)), None))
    stated = (seconds(metadata[name]) for name in _META_DURATION if name in metadata)
    page.duration = page.duration or next((value for value in stated if value), None)
    width, height = (whole_number(metadata.get(f"og:video:{side}", "")) for side in ("width", "height"))
    if width and height:
        page.dimensions = (width, height)


def _is_address(text: str) -> bool:
    """True if a stated address is one at all, and no identifier."""
    return looks_like_address(text) or text.startswith(("/", "./", "../")) or kind_by_extension(text) is not None


def _hint(name: str) -> Hint | None:
    """What metadata makes of a picture."""
    if name.startswith("thumbnail"):
        return "thumbnail"
    return "poster" if name.endswith("image") or ":image" in name else None


def _property(node: LexborNode, into: Collector) -> None:
    """Microdata and RDFa on visible elements."""
    attributes = node.attributes
    name = (attributes.get("itemprop") or attributes.get("property") or "").rpartition(":")[2].lower()
    value = next((attributes[key] for key in ("content", "href", "src", "datetime") if attributes.get(key)), None)
    value = value or (node.text() if name in ("name", "duration", "creator", "author") else "")
    if not value:
        return
    page, sort = into.page, "itemprop" if "itemprop" in attributes else "property"
    if name in ("contenturl", "thumbnailurl"):
        kind, weight = _META_MEDIA[name]
        where = f"{sort} {name} of {node.tag} element"
        if _is_address(value):
            into.add(value, kind, "metadata", where, weight, Beside(tag=node.tag, hint=_hint(name)))
    elif name == "embedurl":
        into.add_frame(value, f"{sort} embedURL")
    elif name == "duration":
        page.duration = page.duration or seconds(value)
    elif name in ("creator", "author"):
        page.creator = page.creator or tidy(value)
    elif name == "uploaddate":
        page.date = page.date or tidy(value)


def _thing(thing: dict[str, Any], into: Collector) -> None:
    """An object of JSON-LD that describes media."""
    types = thing.get("@type")
    type_ = next(
        (t for t in (types if isinstance(types, list) else [types]) if isinstance(t, str) and t in _THINGS), None
    )
    if type_ is None:
        return
    kind, weight = _THINGS[type_]
    stated = kind_by_type(_text(thing.get("encodingFormat"))) or kind
    item = f"{into.page.url} JSON-LD {len(into.mentions)}"
    language = tidy(_text(thing.get("inLanguage")), 35)
    for key in ("contentUrl", "contentURL", "url"):
        for named in _strings(thing.get(key)):
            if _is_address(named) and (key != "url" or kind_by_extension(named)):
                beside = Beside(tag="script", item=item, language=language)
                into.add(named, stated, "json-ld", f"JSON-LD {type_} {key}", weight, beside)
    for coded in objects(thing.get("encoding")):
        named = _text(coded.get("contentUrl")) or ""
        if _is_address(named) and coded.get("@type") is None:
            where, beside = f"JSON-LD {type_} encoding", Beside(tag="script", item=item, language=language)
            sort = kind_by_type(_text(coded.get("encodingFormat"))) or kind
            into.add(named, sort, "json-ld", where, weight, beside)
    for picture in _strings(thing.get("thumbnailUrl")):
        beside = Beside(tag="script", item=item, hint="thumbnail")
        into.add(picture, "image", "json-ld", f"JSON-LD {type_} thumbnailUrl", 2, beside)
    for key in ("embedUrl", "embedURL"):
        if reference := _text(thing.get(key)):
            into.add_frame(reference, f"JSON-LD {type_} {key}")
    if kind == "image":
        return
    page = into.page
    page.title = page.title or tidy(_text(thing.get("name")))
    page.description = page.description or tidy(_text(thing.get("description")))
    page.date = page.date or tidy(_text(thing.get("uploadDate")))
    page.duration = page.duration or seconds(_text(thing.get("duration")) or "")
    creator = thing.get("creator") or thing.get("author")
    page.creator = page.creator or tidy(_text(creator.get("name") if isinstance(creator, dict) else creator))


def _text(value: object) -> str | None:
    return value if isinstance(value, str) else None


def _strings(value: object) -> list[str]:
    return [item for item in (value if isinstance(value, list) else [value]) if isinstance(item, str)]


def objects(data: object) -> Iterator[dict[str, Any]]:
    """All objects inside decoded JSON, outer ones first."""
    waiting = [data]
    at = 0
    while at < len(waiting):
        item = waiting[at]
        at += 1
        if isinstance(item, dict):
            yield item
            waiting.extend(item.values())
        elif isinstance(item, list):
            waiting.extend(item)
