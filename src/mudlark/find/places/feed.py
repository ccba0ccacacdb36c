"""Feeds, site maps and lists of tracks: what they enclose, entry by entry; and what any other XML names.

Follows RSS 2.0, Atom (RFC 4287), Media RSS, XSPF 1, and the video extension of the Sitemaps protocol. Entities,
document types and the network are off in the XML parser.
"""

import re
from itertools import islice

from lxml import etree
from msgspec.structs import replace

from mudlark.errors import FormatError
from mudlark.find.judge.kind import FAMILIES, is_segment, kind_by_extension, kind_by_key, kind_by_type
from mudlark.find.judge.quality import stated_height
from mudlark.find.model import Mention, Page
from mudlark.find.places.collect import Beside, Collector
from mudlark.find.places.hidden import is_rooted, looks_like_address
from mudlark.find.places.metadata import seconds
from mudlark.text import tidy, whole_number

_MEDIA = "{http://search.yahoo.com/mrss/}"
_ATOM = "{http://www.w3.org/2005/Atom}"
_VIDEO = "{http://www.google.com/schemas/sitemap-video/1.1}"
_PODCAST = "{http://www.itunes.com/dtds/podcast-1.0.dtd}"
_TRACK_LIST = "{http://xspf.org/ns/0/}"
_TRANSCRIPTS = "{https://podcastindex.org/namespace/1.0}"
_MOST_ENTRIES = 10_000
_MOST_ELEMENTS = 200_000


def read_xml(body: bytes, url: str) -> Page | None:
    """The finds of a feed or video site map, each labelled with its entry's title; those of other XML, if it has such,
    else None."""
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, recover=True)
    try:
        root = etree.fromstring(body, parser)
    except (etree.XMLSyntaxError, ValueError) as problem:
        raise FormatError(f"{url} is not well-formed XML: {problem}") from problem
    if root is None:
        return None
    entries = [*root.iter("item"), *root.iter(f"{_ATOM}entry"), *root.iter(f"{_VIDEO}video")]
    entries += root.iter(f"{_TRACK_LIST}track")
    is_feed = root.tag in ("rss", f"{_ATOM}feed")
    if not entries and not is_feed:
        return _named_anywhere(root, url)
    into = Collector("", url, url)
    into.page.title = _text(root, "channel/title", f"{_ATOM}title", f"{_TRACK_LIST}title")
    into.page.is_list = True
    for number, entry in enumerate(entries[:_MOST_ENTRIES], start=1):
        _entry(entry, f"{url} entry {number}", into)
    into.page.finds = into.finds()
    return into.page if into.page.finds or is_feed else _named_anywhere(root, url)


def _named_anywhere(root: etree._Element, url: str) -> Page | None:
    """Films and sounds in any element or attribute."""
    into = Collector("", url, url)
    for node in islice(root.iter(etree.Element), _MOST_ELEMENTS):
        for name, value in [(etree.QName(node).localname, node.text), *_attributes(node)]:
            text = (value or "").strip()
            if looks_like_address(text) or is_rooted(text):
                kind = kind_by_type(node.get("type") or node.get("MIMETYPE")) or kind_by_key(name, text)
                into.add(text, kind, "element", f"{name} in XML", 15, Beside(at=_line(node)))
    into.page.finds = [find for find in into.finds() if find.kind != "image" and not is_segment(find.url)]
    return into.page if into.page.finds else None


def _attributes(node: etree._Element) -> list[tuple[str, str]]:
    return [(str(name).rpartition("}")[2], str(value)) for name, value in node.attrib.items()]


def _text(entry: etree._Element, *names: str) -> str | None:
    for name in names:
        element = entry.find(name)
        if element is not None and element.text:
            return tidy(element.text)
    return None


def _entry(entry: etree._Element, item: str, into: Collector) -> None:
    label = _text(entry, "title", f"{_ATOM}title", f"{_MEDIA}title", f"{_VIDEO}title", f"{_TRACK_LIST}title")
    stated = seconds(_text(entry, f"{_PODCAST}duration", f"{_VIDEO}duration") or "")
    milliseconds = whole_number(_text(entry, f"{_TRACK_LIST}duration") or "")
    stated = milliseconds / 1000 if milliseconds else stated
    places = [(node.get("url"), node, "enclosure") for node in entry.iter("enclosure")]
    links = (node for node in entry.iter(f"{_ATOM}link") if node.get("rel") == "enclosure")
    places += [(node.get("href"), node, "enclosure") for node in links]
    places += [(node.get("url"), node, "media content") for node in entry.iter(f"{_MEDIA}content")]
    places += [(node.text, node, "video content") for node in entry.iter(f"{_VIDEO}content_loc")]
    places += [((node.text or "").strip(), node, "location") for node in entry.findall(f"{_TRACK_LIST}location")]
    for reference, node, where in places:
        medium = node.get("medium")
        kind = kind_by_type(node.get("type")) or FAMILIES.get(medium or "")
        kind = kind or ("video" if where == "video content" else None)
        beside = Beside(
            at=_line(node),
            label=label,
            group=item,
            item=item,
            declared=stated_height(node.get("height") or node.get("label")),
        )
        if mention := into.add(reference or "", kind, "feed", f"{where} of a feed entry", 30, beside):
            into.mentions[mention.url] = _with_facts(mention, node, stated)
    for node in (
        *entry.iter(f"{_MEDIA}thumbnail"),
        *entry.iter(f"{_VIDEO}thumbnail_loc"),
        *entry.iter(f"{_PODCAST}image"),
    ):
        reference = node.get("url") or node.get("href") or node.text or ""
        beside = Beside(at=_line(node), label=label, item=item, hint="thumbnail")
        into.add(reference, "image", "feed", "thumbnail of a feed entry", 1, beside)
    for tag, name in ((f"{_MEDIA}subTitle", "href"), (f"{_TRANSCRIPTS}transcript", "url")):
        for node in entry.iter(tag):
            kind = kind_by_type(node.get("type")) or kind_by_extension(node.get(name) or "")
            if kind == "subtitle":
                language = tidy(node.get("lang") or node.get("language"), 35)
                beside = Beside(at=_line(node), label=label, item=item, language=language)
                into.add(node.get(name) or "", kind, "feed", "subtitles of a feed entry", 1, beside)


def _line(node: etree._Element) -> str | None:
    return f"line {node.sourceline}" if node.sourceline else None


def _with_facts(mention: Mention, node: etree._Element, stated: float | None) -> Mention:
    length = node.get("length") or node.get("fileSize") or ""
    return replace(
        mention,
        bytes=int(length) if re.fullmatch("[0-9]{1,18}", length) and int(length) > 1 else None,
        type=node.get("type") or mention.type,
        duration=seconds(node.get("duration") or "") or stated,
    )
