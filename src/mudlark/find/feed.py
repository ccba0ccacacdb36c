"""Feeds and site maps: what they enclose, entry by entry.

Follows RSS 2.0, Atom (RFC 4287), Media RSS, and the video extension of the Sitemaps protocol. Entities, document types
and the network are off in the XML parser.
"""

from lxml import etree

from mudlark.errors import FormatError
from mudlark.find.collect import Collector
from mudlark.find.kind import FAMILIES, kind_by_type
from mudlark.find.metadata import seconds
from mudlark.find.model import Find, Page
from mudlark.web.address import tidy

_MEDIA = "{http://search.yahoo.com/mrss/}"
_ATOM = "{http://www.w3.org/2005/Atom}"
_VIDEO = "{http://www.google.com/schemas/sitemap-video/1.1}"
_PODCAST = "{http://www.itunes.com/dtds/podcast-1.0.dtd}"
_MOST_ENTRIES = 10_000


def read_feed(body: bytes, url: str) -> Page | None:
    """The finds of a feed or video site map; None if the XML is neither. Each is labelled with its entry's title."""
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, recover=True)
    try:
        root = etree.fromstring(body, parser)
    except (etree.XMLSyntaxError, ValueError) as problem:
        raise FormatError(f"{url} is not well-formed XML: {problem}") from problem
    if root is None:
        return None
    entries = [*root.iter("item"), *root.iter(f"{_ATOM}entry"), *root.iter(f"{_VIDEO}video")]
    if not entries and root.tag not in ("rss", f"{_ATOM}feed"):
        return None
    into = Collector("", url, url)
    title = root.find("channel/title") if root.tag == "rss" else root.find(f"{_ATOM}title")
    into.page.title = tidy(title.text) if title is not None else None
    for entry in entries[:_MOST_ENTRIES]:
        _entry(entry, into)
    into.page.finds = list(into.finds.values())
    return into.page


def _text(entry: etree._Element, *names: str) -> str | None:
    for name in names:
        found = entry.find(name)
        if found is not None and found.text:
            return tidy(found.text)
    return None


def _entry(entry: etree._Element, into: Collector) -> None:
    label = _text(entry, "title", f"{_ATOM}title", f"{_MEDIA}title", f"{_VIDEO}title")
    stated = seconds(_text(entry, f"{_PODCAST}duration", f"{_VIDEO}duration") or "")
    places = [(node.get("url"), node, "enclosure") for node in entry.iter("enclosure")]
    links = (node for node in entry.iter(f"{_ATOM}link") if node.get("rel") == "enclosure")
    places += [(node.get("href"), node, "enclosure") for node in links]
    places += [(node.get("url"), node, "media content") for node in entry.iter(f"{_MEDIA}content")]
    places += [(node.text, node, "video content") for node in entry.iter(f"{_VIDEO}content_loc")]
    for reference, node, where in places:
        type_ = node.get("type")
        medium = node.get("medium")
        kind = kind_by_type(type_) or FAMILIES.get(medium or "")
        kind = kind or ("video" if where == "video content" else None)
        at = f"line {node.sourceline}" if node.sourceline else None
        find = into.add(reference or "", kind, f"{where} of a feed entry", 30, at=at, label=label)
        if find:
            _facts(find, node, stated)
    for node in (*entry.iter(f"{_MEDIA}thumbnail"), *entry.iter(f"{_VIDEO}thumbnail_loc")):
        into.add(node.get("url") or node.text or "", "image", "thumbnail of a feed entry", 1, label=label)


def _facts(find: Find, node: etree._Element, stated: float | None) -> None:
    length = node.get("length") or node.get("fileSize") or ""
    find.bytes = int(length) if length.isdigit() and int(length) > 1 else None
    find.type = node.get("type") or find.type
    find.duration = seconds(node.get("duration") or "") or stated
