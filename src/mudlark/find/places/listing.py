"""Index pages: entries that look alike, each leading to a page of its own, with what the list says of it.

An entry is the largest part of the page that holds one link only. What the page's own JSON answers say of the same
entry (media, duration, date) is added.
"""

import re
from collections import defaultdict
from typing import Any

from selectolax.lexbor import LexborNode

from mudlark.browser.capture import Capture
from mudlark.find.judge.kind import kind_by_extension
from mudlark.find.model import PLAYED, ListEntry
from mudlark.find.places.hidden import decode_json
from mudlark.find.places.markup import parse
from mudlark.find.places.metadata import objects, seconds
from mudlark.text import tidy
from mudlark.web.address import resolve

_FEWEST = 4
_MOST = 20_000
_HIGHEST = 8  # elements above a link that may belong to its entry
_DATE = re.compile(r"\b(\d{4}-\d{2}-\d{2}|\d{1,2} (?:[A-Z][a-z]{2,8}) \d{4}|[A-Z][a-z]{2,8} \d{1,2}, \d{4})\b")
_CLOCK = re.compile(r"(?<![\d:-])(?:(\d{1,2}):)?(\d{1,2}):(\d{2})(?![\d:-])")
_MINUTES = re.compile(r"\b(\d{1,3})\s?(?:min(?:utes?|s)?)\b", re.I)
_TITLES = ("h1", "h2", "h3", "h4", "h5", "h6", "[itemprop=name]", "[class*=title]", "strong")


def read_listing(capture: Capture) -> list[ListEntry]:
    """The entries that the page lists, in its order; empty if it is no index page."""
    sources = [(view.source, view.url) for view in capture.views if view.source]
    if not sources:
        sources = [
            (e.body.decode("utf-8", "replace"), e.url) for e in capture.exchanges if e.body and e.type == "text/html"
        ]
    listed = [entries_in(source, url) for source, url in sources]
    entries = max(listed, key=len, default=[])
    return _enriched(entries, capture) if entries else []


def entries_in(source: str, url: str) -> list[ListEntry]:
    """The entries of one page's markup."""
    tree = parse(source).tree
    links: list[tuple[LexborNode, str]] = []
    for node in tree.css("a[href]")[:_MOST]:
        target = resolve(url, node.attributes.get("href") or "")
        if target and target != url and kind_by_extension(target) not in ("image", "subtitle"):
            links.append((node, target))
    containers: dict[str, dict[str, LexborNode]] = defaultdict(dict)
    known: dict[int, frozenset[str | None]] = {}
    for node, target in links:
        container = _container(node, target, url, known)
        if container is not None:
            containers[_form(container)].setdefault(target, container)
    best = max(containers.values(), key=lambda group: (_richness(group), len(group)), default={})
    if not _richness(best):
        return []
    entries = [_entry(container, target, url) for target, container in best.items()]
    return [entry for entry in entries if entry]


def _container(link: LexborNode, target: str, base: str, known: dict[int, frozenset[str | None]]) -> LexborNode | None:
    """The highest element above a link in which no link leads elsewhere. known: where the links in an element lead,
    looked up once for each."""
    best = None
    node = link.parent
    for _ in range(_HIGHEST):
        if node is None or node.tag in ("body", "html", "main", "nav", "header", "footer", None):
            break
        inside = known.get(node.mem_id)
        if inside is None:
            inside = frozenset(resolve(base, a.attributes.get("href") or "") for a in node.css("a[href]")[:12])
            known[node.mem_id] = inside
        if inside - {target}:
            break
        best, node = node, node.parent
    return best


def _form(node: LexborNode) -> str:
    """What entries of one list have in common: their element, its classes, and those above it."""
    parts: list[str] = []
    at: LexborNode | None = node
    while at is not None and at.tag not in ("html", None) and len(parts) < 6:
        parts.append(f"{at.tag}.{re.sub(r'[0-9]+', '', at.attributes.get('class') or '')}")
        at = at.parent
    return "/".join(parts)


def _richness(group: dict[str, LexborNode]) -> int:
    """How much a list says: its entries times what the first ones hold beside a link. A menu has only links."""
    if len(group) < _FEWEST:
        return 0
    some = list(group.values())[:5]
    facts = sum(bool(n.css_first("img")) + bool(n.css_first("time")) + (len(n.text(strip=True)) > 60) for n in some)
    facts += sum(bool(_CLOCK.search(n.text())) + bool(n.css_first("h1,h2,h3,h4,h5,h6")) for n in some)
    return len(group) * facts // len(some)


def _entry(node: LexborNode, target: str, base: str) -> ListEntry | None:
    text = tidy(node.text(separator=" "), 2000) or ""
    title = _title(node)
    if not title:
        return None
    described = max((tidy(p.text(separator=" "), 600) or "" for p in node.css("p, [class*=desc]")), key=len, default="")
    picture = node.css_first("img")
    cover = picture and (picture.attributes.get("src") or picture.attributes.get("data-src"))
    moment = node.css_first("time")
    stated = moment.attributes.get("datetime") or moment.text(strip=True) if moment else None
    stated_date = _DATE.search(text)
    date = stated if stated and not stated.startswith("P") else stated_date[1] if stated_date else None
    return ListEntry(
        title=title,
        url=target,
        description=described if described and described != title else None,
        media=_media(node, target, base),
        cover=resolve(base, cover) if cover else None,
        duration=_length(stated if stated and stated.startswith("P") else text),
        date=tidy(date, 40),
    )


def _title(node: LexborNode) -> str | None:
    for selector in _TITLES:
        if (stated_date := node.css_first(selector)) and (text := tidy(stated_date.text(separator=" "))):
            return text
    for link in node.css("a"):
        if text := tidy(link.text(separator=" ")) or tidy(link.attributes.get("title")):
            return text
    picture = node.css_first("img")
    return tidy(picture.attributes.get("alt")) if picture else None


def _media(node: LexborNode, target: str, base: str) -> str | None:
    """The media that an entry names itself."""
    if kind_by_extension(target) in PLAYED:
        return target
    for element in node.css("video[src], audio[src], source[src]"):
        if stated_date := resolve(base, element.attributes.get("src") or ""):
            return stated_date
    for element in (node, *node.css("*")):
        for name, value in element.attributes.items():
            if name.startswith("data-") and value and kind_by_extension(value) in PLAYED:
                return resolve(base, value)
    return None


def _length(text: str) -> float | None:
    """Seconds, stated as 1:02:03, as minutes, or as ISO 8601."""
    if text.startswith("P"):
        return seconds(text)
    if clock := _CLOCK.search(text):
        return seconds(clock[0])
    match = _MINUTES.search(text)
    return float(match[1]) * 60 if match else None


def _enriched(entries: list[ListEntry], capture: Capture) -> list[ListEntry]:
    """Add what JSON answers say of an entry: an object that names its title or its page."""
    known: dict[str, dict[str, Any]] = {}
    base = capture.url
    for exchange in capture.exchanges:
        if exchange.body and "json" in exchange.type:
            for item in objects(decode_json(exchange.body.decode("utf-8", "replace"))):
                for value in item.values():
                    if isinstance(value, str) and 2 < len(value) < 500:
                        known.setdefault(resolve(base, value) or value, item)
                        known.setdefault(value, item)
    return [_with(entry, known.get(entry.url) or known.get(entry.title), base) for entry in entries]


def _with(entry: ListEntry, item: dict[str, Any] | None, base: str) -> ListEntry:
    if not item:
        return entry
    texts = [value for value in item.values() if isinstance(value, str)]
    media = next((resolve(base, text) for text in texts if kind_by_extension(text) in PLAYED and "/" in text), None)
    number = next((v for k, v in item.items() if "duration" in k.lower() and isinstance(v, int | float)), None)
    return ListEntry(
        entry.title,
        entry.url,
        entry.description,
        entry.media or media,
        entry.cover,
        entry.duration if entry.duration is not None else float(number) if number else None,
        entry.date,
    )
