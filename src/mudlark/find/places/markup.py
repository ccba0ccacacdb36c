"""Parsing the markup of pages that anybody may have written: within bounded time and memory, whatever it holds.

The parser follows HTML (§13.2), whose rules for elements that are left open make some small inputs very large: every
formatting element that stays open is opened again in each block, and what is nested is walked by recursion. So the
nesting is measured first, in one pass over the tags; what no page needs is read tag by tag instead.
"""

import re

import msgspec
from selectolax.lexbor import LexborHTMLParser

_TAG = re.compile(r"<(/?)([a-zA-Z][a-zA-Z0-9-]*)")
_VOID = frozenset(  # nothing can be inside of these
    [
        "area",
        "base",
        "br",
        "col",
        "embed",
        "frame",
        "hr",
        "image",
        "img",
        "input",
        "link",
        "meta",
        "param",
        "source",
        "track",
        "wbr",
    ]
)
_CLOSED_BY_THE_NEXT = frozenset(
    ["p", "li", "dt", "dd", "tr", "td", "th", "thead", "tbody", "tfoot", "option", "optgroup", "rp", "rt"]
)
_FORMATTING = frozenset(
    ["a", "b", "big", "code", "em", "font", "i", "nobr", "s", "small", "strike", "strong", "tt", "u"]
)
_DEEPEST = 400  # elements inside each other; pages that people read have fifty
_MOST_REOPENED = 200_000  # formatting elements that are opened again in some block
_MOST_PIECES = 2_000_000  # tags and attributes together; the tree takes some 200 bytes for each
_MOST_OPTIONS = 3_000  # of drop-downs that are left open; the parser's time grows with their square
_MOST_ATTRIBUTES = 1_000  # of one tag
_LONG_TAG = 20_000  # characters of a tag whose attributes are counted
_MOST_TAGS = 50_000  # that are read one by one
_WORTH_READING = (
    "video|audio|source|track|img|image|a|area|link|iframe|frame|embed|object|param|input|button|meta|base"
    "|form|select|option"
)
_ALONE = re.compile(rf"<(?:{_WORTH_READING})\b[^<>]{{0,20000}}>", re.I)
_WITH_TEXT = re.compile(r"<(script|style|title)\b[^<>]{0,5000}>(.*?)</\1", re.I | re.S)
UNREADABLE = (
    "Its markup is nested or crowded as no page needs; it was read tag by tag, and something may have been missed."
)


class Markup(msgspec.Struct, frozen=True):
    """A parsed page. reduced: it could not be parsed as it stands, and only its single tags are there."""

    tree: LexborHTMLParser
    reduced: bool = False


def parse(source: str) -> Markup:
    """The tree of a page or of a part of one."""
    if _is_sane(source):
        return Markup(LexborHTMLParser(source))
    return Markup(LexborHTMLParser(_tag_by_tag(source)), reduced=True)


def _is_sane(source: str) -> bool:
    """True if neither depth nor what is left open makes the tree much larger than the source."""
    if source.count("<") + source.count("=") > _MOST_PIECES:
        return False
    depth = formatting = reopened = options = 0
    for match in _TAG.finditer(source):
        end, name = match[1], match[2].lower()
        if name in _VOID:
            continue
        if name in _FORMATTING:
            formatting = max(0, formatting + (-1 if end else 1))
        if name == "option":
            options += -1 if end else 1
        if end:
            depth = max(0, depth - (name not in _CLOSED_BY_THE_NEXT))
            continue
        if name in _CLOSED_BY_THE_NEXT:
            reopened += formatting
        else:
            depth += 1
            reopened += formatting if name not in _FORMATTING else 0
        if depth > _DEEPEST or reopened > _MOST_REOPENED or options > _MOST_OPTIONS:
            return False
    return not any(tag.count("=") > _MOST_ATTRIBUTES for tag in _long_tags(source))


def _long_tags(source: str) -> list[str]:
    """Tags of unusual length, without the values of their attributes as far as those are quoted."""
    tags: list[str] = []
    at = 0
    while (begin := source.find("<", at)) >= 0:
        at = source.find("<", begin + 1)
        at = len(source) if at < 0 else at
        if at - begin > _LONG_TAG:
            tags.append(re.sub(r"=\s*(?:\"[^\"]*+\"|'[^']*+')", "=", source[begin:at]))
    return tags


def _tag_by_tag(source: str) -> str:
    """Scripts, styles and titles with their text, and single tags that may name media, one after the other."""
    parts: list[str] = []
    outside: list[str] = []
    at = 0
    for match in _bounded(source):
        parts.append(f"{match[0]}>")
        outside.append(source[at : match.start()])
        at = match.end()
    outside.append(source[at:])
    attributes = 0
    for text in outside:
        for match in _ALONE.finditer(text):
            name = match[0][1:8].split()[0].rstrip(">").lower()
            parts.append(match[0] if name in _VOID else f"{match[0]}</{name}>")
            attributes += match[0].count("=")
            if len(parts) >= _MOST_TAGS or attributes > _MOST_PIECES // 2:
                return "".join(parts)
    return "".join(parts)


def _bounded(source: str) -> list[re.Match[str]]:
    """Elements with text; an opening tag without its end is looked for once for each kind only."""
    ends = {name: source.lower().rfind(f"</{name}") for name in ("script", "style", "title")}
    tags: list[re.Match[str]] = []
    at = 0
    opening = re.compile(r"<(script|style|title)\b", re.I)
    while (match := opening.search(source, at)) and len(tags) < _MOST_TAGS:
        at = match.end()
        if match.start() < ends[match[1].lower()] and (whole := _WITH_TEXT.match(source, match.start())):
            tags.append(whole)
            at = whole.end()
    return tags
