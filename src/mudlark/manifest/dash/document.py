"""The XML of a media presentation description: read safely, and asked for what stands in it.

Entities, document types and the network are off. An MPD is known by its root element, whatever its prefix; elements of
other namespaces are passed over. What is wrong is said with its line and element.
"""

import re
from collections.abc import Iterator
from datetime import datetime
from typing import NoReturn

from lxml import etree

from mudlark.errors import ManifestError
from mudlark.manifest.compressed import uncompressed

Element = etree._Element
_DURATION = re.compile(
    r"P(?:(\d{1,4})Y)?(?:(\d{1,5})M)?(?:(\d{1,6})D)?(?:T(?:(\d{1,8})H)?(?:(\d{1,9})M)?(?:(\d{1,12}(?:\.\d{0,12})?)S)?)?$",
    re.A,
)
_MOMENT = re.compile(r"(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d)(\.\d{1,9})?(Z|[+-]\d\d:\d\d)?$", re.A)
_UNITS = (365 * 86_400, 30 * 86_400, 86_400, 3_600, 60)  # seconds of a year, month, day, hour, minute
_LARGEST_NUMBER = (1 << 63) - 1
XLINK = "{http://www.w3.org/1999/xlink}href"
TO_NOTHING = "urn:mpeg:dash:resolve-to-zero:2013"


def parse_document(body: bytes, url: str) -> Element:
    """The root element of an MPD."""
    root = parse_xml(uncompressed(body, url), url)
    if root is None or local_name(root) != "MPD":
        raise ManifestError(f"{url} is no DASH manifest: its root element is not MPD.")
    return root


def parse_fragment(body: bytes, url: str, namespace: str) -> list[Element]:
    """The elements of a remote part of an MPD (§5.5.3), which has no root of its own."""
    text = re.sub(rb"^\s*<\?xml[^>]*\?>", b"", body.removeprefix(b"\xef\xbb\xbf"))
    root = parse_xml(b'<part xmlns="' + namespace.encode() + b'">' + text + b"</part>", url)
    return [child for child in root if isinstance(child.tag, str)] if root is not None else []


def parse_xml(body: bytes, url: str) -> Element | None:
    """The root element of any XML."""
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True, remove_pis=True
    )
    try:
        return etree.fromstring(body, parser)
    except (etree.XMLSyntaxError, ValueError) as problem:
        raise ManifestError(f"{url} is not well-formed XML: {problem}.") from problem


def local_name(element: Element) -> str:
    """An element's name without its namespace."""
    tag = element.tag
    return tag.rpartition("}")[2] if isinstance(tag, str) else ""


def namespace_of(element: Element) -> str:
    """An element's namespace, empty if it has none."""
    tag = element.tag
    return tag[1:].partition("}")[0] if isinstance(tag, str) and tag.startswith("{") else ""


def own(parent: Element, *names: str) -> Iterator[Element]:
    """The children of these names in the parent's own namespace."""
    space = namespace_of(parent)
    return parent.iterchildren(*(f"{{{space}}}{name}" if space else name for name in names))


def first(parent: Element, name: str) -> Element | None:
    """The first child of a name."""
    return next(own(parent, name), None)


def fail(element: Element, what: str, url: str = "") -> NoReturn:
    """Raise what is wrong with an element."""
    place = f"line {element.sourceline}: " if element.sourceline else ""
    raise ManifestError(f"{url}{' ' if url else ''}{place}<{local_name(element)}> {what}")


def duration(element: Element, name: str) -> float | None:
    """A duration of XML Schema in seconds; None if it is not stated. One that is beyond all reason is no statement."""
    text = element.get(name)
    if text is None:
        return None
    match = _DURATION.match(text.strip())
    if not match or not any(match.groups()):
        fail(element, f"has {text[:40]!r} for @{name}, which is no duration.")
    whole = sum(int(value or 0) * unit for value, unit in zip(match.groups()[:5], _UNITS, strict=True))
    seconds = whole + float(match[6] or 0)
    return seconds if seconds < 1e10 else None


def moment(element: Element, name: str) -> float | None:
    """A date and time in seconds since 1970 (UTC, where no zone is stated); None if it is not stated."""
    text = element.get(name)
    if text is None:
        return None
    seconds = read_moment(text)
    if seconds is None:
        fail(element, f"has {text[:40]!r} for @{name}, which is no date and time.")
    return seconds


def read_moment(text: str) -> float | None:
    """A date and time of XML Schema in seconds since 1970; None if it is none."""
    match = _MOMENT.match(text.strip())
    if match is None:
        return None
    try:
        stated = datetime.fromisoformat(f"{match[1]}{(match[3] or '+00:00').replace('Z', '+00:00')}")
    except ValueError:
        return None
    return stated.timestamp() + float(match[2] or 0)


def number(element: Element, name: str) -> int | None:
    """An unsigned number; None if it is not stated."""
    text = element.get(name)
    if text is None:
        return None
    if len(text) < 19 and text.isascii() and text.isdigit():  # as nearly all are, and there may be a million
        return int(text)
    text = text.strip()
    if not re.fullmatch(r"\+?\d{1,19}", text, re.A) or int(text) > _LARGEST_NUMBER:
        fail(element, f"has {text[:40]!r} for @{name}, which is no number.")
    return int(text)


def span(element: Element, name: str) -> tuple[int, int] | None:
    """A byte range as first byte and number of bytes."""
    text = element.get(name)
    if text is None:
        return None
    match = re.fullmatch(r"\s*(\d{1,18})-(\d{1,18})\s*", text, re.A)
    if not match or int(match[2]) < int(match[1]):
        fail(element, f"has {text[:40]!r} for @{name}, which is no range of bytes.")
    return int(match[1]), int(match[2]) - int(match[1]) + 1


def ratio(text: str | None) -> float | None:
    """A frame rate: a number, or two with a stroke between them."""
    match = re.fullmatch(r"\s*(\d{1,9}(?:\.\d{1,9})?)(?:/(\d{1,9}))?\s*", text or "", re.A)
    if not match or (match[2] and not int(match[2])):
        return None
    return float(match[1]) / int(match[2] or 1) or None
