"""Addresses inside other text: percent-encoded, in base64, in JSON, in the parameters of another address.

Every decoding is tried once on what another one gave, so that JSON in a percent-encoded attribute is still read.
"""

import base64
import binascii
import re
from collections.abc import Iterator
from typing import Any
from urllib.parse import parse_qsl, unquote, urljoin, urlsplit

import msgspec

from mudlark.find.judge.kind import kind_by_extension, kind_of_sent

_BASE64 = re.compile(r"^[A-Za-z0-9+/_-]{16,}={0,2}$")
_ABSOLUTE = re.compile(r"^(?:https?:)?//[^\s<>\"'{}|\\^`]+$", re.I)
_RELATIVE = re.compile(r"^\.{0,2}/?[^\s<>\"'{}|\\^`:;,()]*\.[A-Za-z0-9]{2,5}(?:[?#]\S*)?$")
_ROOTED = re.compile(r"(?:(?:https?:)?//|\.{0,2}/)[^\s<>\"'{}|\\^`]{1,8000}", re.I)
ANYWHERE = re.compile(r"https?:(?:\\?/){2}[^\s<>\"'`{}|^]+", re.I)
_ENCODED = re.compile(r"(?:https?)?%(?:2f|3a|7b|5b)", re.I)  # how an encoded address or JSON begins
_BLANK = re.compile(r"\s")
_LONGEST = 1 << 20
_LONGEST_ADDRESS = 8192
_DEEPEST = 3
_LONGEST_PATH = 400  # characters of a path inside JSON that are kept while it is walked


def looks_like_address(text: str) -> bool:
    """True if a whole string may be an absolute address, or a relative one with an extension."""
    if len(text) >= _LONGEST_ADDRESS or _BLANK.search(text):
        return False  # found out first: what has no blank is matched in one go
    return bool(_ABSOLUTE.match(text) or _RELATIVE.match(text))


def is_rooted(text: str) -> bool:
    """True if a string begins as an address does that needs no guessing, and may be one."""
    return bool(_ROOTED.fullmatch(text))


def from_base64(text: str) -> str | None:
    """What a string in base64 (either alphabet) decodes to, if that is an address or JSON."""
    if not _BASE64.match(text):
        return None
    padded = text.rstrip("=").replace("-", "+").replace("_", "/")
    try:
        decoded = base64.b64decode(padded + "=" * (-len(padded) % 4), validate=True).decode("utf-8")
    except (binascii.Error, UnicodeDecodeError):
        return None
    return decoded if looks_like_address(decoded) or decoded[:1] in "{[" else None


Object = dict[str, Any]


def strings_in(data: Any, path: str = "") -> Iterator[tuple[str, str]]:
    """All strings inside decoded JSON with the path to each, like `sources[0].file`."""
    return ((string, at) for string, at, _ in strings_with_objects(data, path))


def strings_with_objects(data: Any, path: str = "") -> Iterator[tuple[str, str, Object]]:
    """The same, each also with the object that it is a value of (or that its list is a value of)."""
    waiting: list[tuple[Any, str, Object]] = [(data, path, {})]
    while waiting:
        item, at, around = waiting.pop()
        if isinstance(item, str):
            yield item, at, around
            continue
        if len(at) > _LONGEST_PATH:
            at = f"…{at[-_LONGEST_PATH // 2 :]}"
        if isinstance(item, dict):
            waiting.extend((value, f"{at}.{key}" if at else str(key), item) for key, value in reversed(item.items()))
        elif isinstance(item, list):
            waiting.extend((value, f"{at}[{index}]", around) for index, value in reversed(list(enumerate(item))))


def decode_json(text: str) -> Any:
    """Decoded JSON, or None."""
    try:
        return msgspec.json.decode(text)
    except (ValueError, RecursionError):
        return None


def addresses(text: str, depth: int = 0) -> Iterator[tuple[str, str]]:
    """Addresses that a string is or hides, each with how it was hidden (empty if it was not)."""
    text = text.strip()
    if not text or len(text) > _LONGEST or depth > _DEEPEST:
        return
    if text[0] in "{[":
        for string, path in strings_in(decode_json(text)):
            for address, how in addresses(string, depth + 1):
                yield address, f"JSON {path}" + (f", {how}" if how else "")
        return
    if _ENCODED.match(text):
        for address, how in addresses(unquote(text), depth + 1):
            yield address, "percent-encoded" + (f", {how}" if how else "")
    elif looks_like_address(text):
        yield text, ""
        if "=" in text:
            yield from parameters(text)
    elif decoded := from_base64(text):
        for address, how in addresses(decoded, depth + 1):
            yield address, "base64" + (f", {how}" if how else "")


def parameters(address: str) -> Iterator[tuple[str, str]]:
    """Addresses given to another address in its query or fragment."""
    if "=" not in address and "#" not in address:
        return
    try:
        parts = urlsplit(address)
    except ValueError:  # brackets that are no host
        return
    if _ABSOLUTE.match(parts.fragment):
        yield parts.fragment, "fragment"
    for name, value in (*parse_qsl(parts.query), *parse_qsl(parts.fragment)):
        text = from_base64(value) or value
        if not looks_like_address(text):
            continue
        if "/" in text:
            yield text, f"parameter {name}"
        elif kind_by_extension(text) and not (kind_by_extension(address) or kind_of_sent(address)):
            yield urljoin(address, text), f"parameter {name}"  # of a player, beside it
