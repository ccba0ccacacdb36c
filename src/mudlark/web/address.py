"""Addresses: made absolute, sent as they stand, shown safely.

Signed links break when a client rewrites them, so nothing that is legal is touched: only characters that may not stand
in a URI (RFC 3986 §2) are percent-encoded.
"""

import re
import unicodedata
from pathlib import PurePosixPath
from urllib.parse import quote, unquote, urldefrag, urljoin, urlsplit, urlunsplit

from mudlark.errors import UsageError

_LEGAL = "%/:?#[]@!$&'()*+,;=~-._"
_CONTROL = re.compile(r"[\x00-\x1f\x7f]")


def resolve(base: str, reference: str) -> str | None:
    """The absolute http(s) address of a reference on a page, without fragment; None for any other scheme."""
    cleaned = _CONTROL.sub("", reference).strip()
    if not cleaned:
        return None
    try:
        absolute, _ = urldefrag(urljoin(base, cleaned))
        parts = urlsplit(absolute)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            return None
        _ = parts.port
    except ValueError:
        return None
    return absolute


def as_sent(address: str) -> str:
    """The address as it goes over the wire: illegal characters encoded, everything else as it stands."""
    try:
        parts = urlsplit(address)
        host = parts.hostname
        if parts.scheme not in ("http", "https") or not host:
            raise UsageError(
                f"{printable(address)!r} is not a web address.", "Give one that begins with http:// or https://."
            )
        netloc = parts.netloc
        if not host.isascii():
            netloc = netloc.replace(host, host.encode("idna").decode("ascii"))
        parts = parts._replace(netloc=netloc, fragment="")
    except (ValueError, UnicodeError) as problem:
        raise UsageError(
            f"{printable(address)!r} is not a web address: {problem}.", "Check it for a typing mistake."
        ) from None
    return quote(urlunsplit(parts), safe=_LEGAL)


def printable(text: str) -> str:
    """Text from outside without control characters, safe for a terminal."""
    return "".join(" " if unicodedata.category(char) in ("Cc", "Cf", "Zl", "Zp") else char for char in text).strip()


def file_part(address: str) -> str:
    """The last part of the path, decoded: `tide%20mill.mp4` gives `tide mill.mp4`."""
    return PurePosixPath(unquote(urlsplit(address).path)).name


def without_query(address: str) -> str:
    """The address up to its query: what stays the same when a token in it is made anew."""
    return urlunsplit(urlsplit(address)._replace(query="", fragment=""))
