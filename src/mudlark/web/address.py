"""Addresses: made absolute, sent as they stand, shown safely.

Signed links break when a client rewrites them, so nothing that is legal is touched: only characters that may not stand
in a URI (RFC 3986 §2) are percent-encoded.
"""

import re
from functools import lru_cache
from urllib.parse import quote, unquote, urldefrag, urljoin, urlsplit, urlunsplit

from mudlark.errors import UsageError
from mudlark.text import printable
from mudlark.web.redact import redacted

_LEGAL = "%/:?#[]@!$&'()*+,;=~-._"
_SIMPLE_PATH = re.compile(r"/[\w!$%&'()*+,.:;=@~-][^#\\]*$", re.A)
_SIMPLE_NAME = re.compile(r"[\w!$%&'()*+,;=@~-][\w!$%&'()*+,.;=@~/-]*(?:\?[^#\\]*)?$", re.A)
_SIMPLE_ADDRESS = re.compile(r"https?://[a-z0-9.-]+(?::\d{1,4})?/[\w!$%&'()*+,.:;=@~/-]*(?:\?[^#\\]*)?$", re.A)
_CONTROL = re.compile(r"[\x00-\x1f\x7f]")


def resolve(base: str, reference: str) -> str | None:
    """The absolute http(s) address of a reference on a page, without fragment; None for any other scheme."""
    cleaned = (reference if reference.isprintable() else _CONTROL.sub("", reference)).strip()
    if not cleaned:
        return None
    if "/." not in cleaned:  # most references are simple, and lists have a hundred thousand of them
        if _SIMPLE_PATH.match(cleaned):
            return _origin(base) + cleaned
        if _SIMPLE_NAME.match(cleaned) and (folder := _folder(base)):
            return folder + cleaned
        if _SIMPLE_ADDRESS.match(cleaned):
            return cleaned
    try:
        absolute, _ = urldefrag(urljoin(base, cleaned))
        parts = urlsplit(absolute)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            return None
        _ = parts.port
        if not parts.hostname.isascii():
            parts.hostname.encode("idna")
    except ValueError:
        return None
    return absolute


@lru_cache(64)
def _origin(base: str) -> str:
    parts = urlsplit(base)
    return f"{parts.scheme}://{parts.netloc}"


@lru_cache(64)
def _folder(base: str) -> str:
    """Where names beside a base stand; empty for a base that is not as simple as that."""
    parts = urlsplit(base)
    if "/." in parts.path or parts.scheme not in ("http", "https"):
        return ""
    return f"{parts.scheme}://{parts.netloc}{parts.path.rpartition('/')[0]}/"


def as_sent(address: str) -> str:
    """The address as it goes over the wire: illegal characters encoded, everything else as it stands."""
    try:
        parts = urlsplit(address)
        host = parts.hostname
        if parts.scheme not in ("http", "https") or not host:
            raise UsageError(
                f"{printable(redacted(address))!r} is not a web address.",
                "Give one that begins with http:// or https://.",
            )
        netloc, _ = parts.netloc, parts.port
        if not host.isascii():
            netloc = netloc.replace(host, host.encode("idna").decode("ascii"))
        parts = parts._replace(netloc=netloc, fragment="")
    except (ValueError, UnicodeError) as problem:
        raise UsageError(
            f"{printable(redacted(address))!r} is not a web address: {problem}.", "Check it for a typing mistake."
        ) from None
    return quote(urlunsplit(parts), safe=_LEGAL, errors="surrogateescape")


def shown(address: str) -> str:
    """An address in a message: without its secrets, whole if short, else with its middle left out."""
    text = printable(redacted(address))
    return text if len(text) <= 120 else f"{text[:80]}…{text[-36:]}"


def file_part(address: str) -> str:
    """The last part of the path, decoded: `tide%20mill.mp4` gives `tide mill.mp4`."""
    path = address.partition("#")[0].partition("?")[0].partition("://")[2]
    return unquote(path.rpartition("/")[2]) if "/" in path else ""


def host_of(address: str) -> str:
    """The host, and the port where one is named; empty where there is none that can be read."""
    try:
        return urlsplit(address).netloc.rpartition("@")[2]
    except ValueError:
        return ""


def without_query(address: str) -> str:
    """The address up to its query: what stays the same when a token in it is made anew."""
    return urlunsplit(urlsplit(address)._replace(query="", fragment=""))


_PASTED = re.compile(r"https?:(?:\\?/){2}[^\s<>\"'`{}|^\x00-\x1f]+", re.I)
_PAIRS = {")": "(", "]": "[", "}": "{"}


_SPACED = re.compile(r"""https?://[^\s"'<>]*/[^\s"'<>/.]*+(?: [^\s"'<>(){}|/]+)+\.[A-Za-z0-9]{2,5}""", re.I)


def pasted(text: str) -> tuple[str, str | None]:
    """The address in a line copied from a console or terminal, and what was left out of the line (None if nothing).

    Quotes, brackets, request methods, protocol versions and escaped slashes around an address are no part of it. A file
    whose name has spaces is one address.
    """
    match = _PASTED.search(text)
    if not match or _SPACED.fullmatch(text.strip()):
        return text.strip(), None
    address = match[0].replace("\\/", "/").rstrip("\\")
    while address and address[-1] in ",;.)]}":
        last = address[-1]
        if last in _PAIRS and address.count(last) <= address.count(_PAIRS[last]):
            break
        address = address[:-1]
    if address == text.strip():
        return address, None
    rest = printable(text.replace(match[0], "…", 1))
    return address, rest if len(rest) <= 80 else f"{rest[:79]}…"
