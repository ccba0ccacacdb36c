"""What servers answer, as values: header fields decoded once, parts and validators as they are stated.

Follows RFC 9110: fields (§5), validators (§8.8), media types (§8.3), parts (§14.4).
"""

import re
from collections.abc import AsyncIterator, Iterable, Mapping

import msgspec

from mudlark.text import text_of, whole_number
from mudlark.web.exchange import Exchange

HEAD = 64 * 1024  # bytes of an answer that tell what it is
_ENDLESS_HEAD = 4096  # bytes of media without a stated length, which may come no faster than they are played
_PART = re.compile(r"bytes (\d{1,19})-(\d{1,19})/(\d{1,19}|\*)", re.I | re.A)
_LISTS = frozenset(  # fields of which several lines are one list (§5.3)
    {
        *(
            "accept-ch",
            "accept-ranges",
            "allow",
            "cache-control",
            "content-digest",
            "content-encoding",
            "digest",
            "link",
        ),
        *("repr-digest", "transfer-encoding", "vary", "via", "referrer-policy", "www-authenticate"),
    }
)


class Content(msgspec.Struct, frozen=True):
    """What an address answers: final address after redirects, status, type, length, and the first bytes.

    body: all bytes if they were asked for or few; otherwise only the head. complete: whether body is all there is.
    length: of the whole resource, also if only its beginning was sent. ranges: whether parts of it can be asked for.
    validator: a strong entity tag (RFC 9110 §8.8.3), if the server gives one. headers: by lower-case name.
    """

    url: str
    status: int
    type: str
    charset: str | None
    length: int | None
    body: bytes
    complete: bool
    ranges: bool = False
    validator: str | None = None
    filename: str | None = None
    headers: Mapping[str, str] = msgspec.field(default_factory=dict)


class Reply(msgspec.Struct):
    """A response whose body is read in chunks."""

    url: str
    status: int
    type: str
    length: int | None
    headers: Mapping[str, str]
    filename: str | None
    chunks: AsyncIterator[bytes]
    exchange: Exchange | None = None

    @property
    def enough(self) -> int:
        """Bytes that tell what it is."""
        return _ENDLESS_HEAD if self.length is None and self.type.startswith(("audio/", "video/")) else HEAD

    def content(self, body: bytes, *, complete: bool) -> Content:
        """It as a value, with what was read of it."""
        headers, length = self.headers, self.length
        ranges = headers.get("accept-ranges", "").lower() == "bytes"
        if self.status == 206:
            part = part_of(headers)
            length, ranges = part.total if part else None, part is not None
        if "content-encoding" in headers:
            length = len(body) if complete else None
        return Content(
            self.url,
            self.status,
            *_type(self.type),
            length,
            body,
            complete,
            ranges,
            strong(headers.get("etag", "")),
            self.filename,
            headers,
        )


class ServedPart(msgspec.Struct, frozen=True):
    """Which bytes of a resource an answer holds. total: bytes of all of it, None if that is not stated."""

    first: int
    last: int
    total: int | None


def decoded(field: bytes | str) -> str:
    """A header field as text: UTF-8 if it is that, else Latin-1 (§5.5). A text is one that a client has read, with what
    is no UTF-8 escaped in it."""
    return text_of(field.encode("utf-8", "surrogateescape") if isinstance(field, str) else field)


def by_name(fields: Iterable[tuple[str, str]]) -> dict[str, str]:
    """Fields by lower-case name: lists joined, of any other the first."""
    named: dict[str, str] = {}
    for name, value in fields:
        lower = name.lower()
        if lower not in named:
            named[lower] = value
        elif lower in _LISTS:
            named[lower] += f", {value}"
    return named


def part_of(headers: Mapping[str, str]) -> ServedPart | None:
    """The part that an answer says it is; None if it does not say, or what cannot be."""
    stated = _PART.fullmatch(headers.get("content-range", "").strip())
    if stated is None or int(stated[1]) > int(stated[2]):
        return None
    total = whole_number(stated[3])
    return ServedPart(int(stated[1]), int(stated[2]), total) if total is None or int(stated[2]) < total else None


def strong(tag: str) -> str | None:
    """An entity tag that is the same only for the same bytes, and can be sent back as it came; None for any other."""
    return tag if tag.startswith('"') and tag.isascii() else None


def _type(header: str) -> tuple[str, str | None]:
    """The media type and the charset of a Content-Type header."""
    kind, _, parameters = header.partition(";")
    charset = None
    for parameter in parameters.split(";"):
        name, _, value = parameter.partition("=")
        if name.strip().lower() == "charset":
            charset = value.strip().strip("\"'") or None
    return kind.strip().lower(), charset
