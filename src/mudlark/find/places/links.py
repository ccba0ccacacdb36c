"""The links of any page as a list: those that a pattern means, else the largest group of one shape.

The shape of an address is its path with numbers and its last part left open. Menus, heads and feet of pages are no part
of a list unless a pattern means them.
"""

import re
from collections import defaultdict
from fnmatch import fnmatchcase
from urllib.parse import urlsplit

import msgspec
from selectolax.lexbor import LexborNode

from mudlark.find.judge.kind import kind_by_extension
from mudlark.find.judge.quality import is_telling
from mudlark.find.model import PLAYED, ListEntry, Page
from mudlark.find.places.markup import parse
from mudlark.text import tidy
from mudlark.web.address import file_part, resolve

_FEWEST = 3
_MOST = 20_000
_APART = frozenset({"nav", "header", "footer", "aside"})
_ROW = frozenset({"tr", "li", "dd", "p"})
_SAYS_NOTHING = 4  # characters of a link's words, as of "here" or an arrow: what is around it is its title then
_NO_PAGES = frozenset({"image", "subtitle"})
_NO_ADDRESS = re.compile(r"\.(?:css|js|ico|woff2?|xml|rss|atom)$", re.I)
_SORTED = re.compile(r"\?C=[NMSD][;&]O=[AD]$")  # the same folder in another order, as web servers list it


class LinkList(msgspec.Struct, frozen=True):
    """entries: each address once, in the order of the page. shape: what their addresses have in common; empty where a
    pattern chose them."""

    entries: list[ListEntry]
    shape: str = ""


def links_in(source: str, url: str, pattern: str | None = None) -> LinkList:
    """The links of a page's markup. pattern: a glob on address or words, in whatever case."""
    found: dict[str, ListEntry] = {}
    groups: dict[str, list[str]] = defaultdict(list)
    for node in parse(source).tree.css("a[href]")[:_MOST]:
        target = (resolve(url, node.attributes.get("href") or "") or "").partition("#")[0]
        if not target or target == url.partition("#")[0] or target in found:
            continue
        title = _title(node)
        if pattern is not None:
            if _means(pattern, target) or _means(pattern, title):
                found[target] = ListEntry(title=title or target, url=target)
        elif not (
            _is_apart(node)
            or kind_by_extension(target) in _NO_PAGES
            or _NO_ADDRESS.search(target)
            or _SORTED.search(target)
            or (target.endswith("/") and url.startswith(target))  # the folder above
        ):
            found[target] = ListEntry(title=title or target, url=target)
            groups[_shape(target, url)].append(target)
    if pattern is not None:
        return LinkList(list(found.values()))
    shape, largest = max(groups.items(), key=lambda group: len(group[1]), default=("", []))
    if 2 * sum(kind_by_extension(target) is not None for target in largest) > len(largest):  # media, however few
        largest = [target for target in largest if not target.endswith("/")]  # folders are lists of their own
    elif len(largest) < _FEWEST:
        return LinkList([])
    return LinkList([found[target] for target in largest], shape)


def links_of(page: Page) -> list[ListEntry]:
    """The entries of a page, else its links of one shape."""
    return page.entries or page.links or links_in(page.received.decode("utf-8", "replace"), page.url).entries


def listed_by(page: Page) -> list[ListEntry]:
    """What a page lists: entries, else links of one shape, else its finds."""
    if links := links_of(page):
        return links
    kept = [find for find in page.finds if find.role not in ("segment", "advert")]
    return [
        ListEntry(find.label or file_part(find.url), find.url, media=find.url, duration=find.duration, date=page.date)
        for find in kept
        if find.kind in PLAYED or find.kind == "document"
    ]


def _means(pattern: str, text: str) -> bool:
    whole = pattern if any(sign in pattern for sign in "*?[") else f"*{pattern}*"
    return fnmatchcase(text.casefold(), whole.casefold())


def _is_apart(node: LexborNode) -> bool:
    at = node.parent
    while at is not None:
        if at.tag in _APART:
            return True
        at = at.parent
    return False


def _title(node: LexborNode) -> str:
    """The words of a link; of one that says nothing itself, those of its row."""
    words = tidy(node.text(separator=" ")) or tidy(node.attributes.get("title")) or ""
    if is_telling(words):
        return words
    at = node.parent
    while at is not None and at.tag not in _ROW:
        at = at.parent
    around = (tidy(at.text(separator=" "), 300) or "") if at is not None else ""
    rest = tidy(around.replace(words, "", 1)) or ""
    return rest if is_telling(rest) or (len(words) <= _SAYS_NOTHING and rest) else words


def _shape(target: str, base: str) -> str:
    parts = urlsplit(target)
    above = re.sub(r"\d+", "#", parts.path.rpartition("/")[0])
    names = ",".join(sorted(pair.partition("=")[0] for pair in parts.query.split("&") if pair))
    host = "" if parts.netloc == urlsplit(base).netloc else parts.netloc
    return f"{host}{above}/*{f'?{names}' if names else ''}"
