"""A capture: what a browser asked for and got while a page was open, as far as finding media needs it.

Made from HAR entries, whether they come from a file or straight from the browser, so there is one way to read them.
Bodies are kept only of what is text (manifests, JSON, pages) and small enough.
"""

from collections.abc import Iterable
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from mudlark.browser.har import Entry, HarContent, HarFile, Initiator, OpenedPage, Pair, View
from mudlark.text import whole_number
from mudlark.web.address import resolve
from mudlark.web.cookies import Cookie

if TYPE_CHECKING:
    from mudlark.media.samples import Format

_LONGEST_ADDRESS = 16_384
LARGEST_BODY = 8_000_000  # bytes of one body that are kept
_LARGEST_ALL = 128_000_000  # bytes of all bodies together
_SENT = frozenset({"referer", "origin", "user-agent"})
_CAME = frozenset(
    {"content-type", "content-length", "content-range", "content-disposition", "content-encoding", "etag"}
)
_TEXTS = ("text/", "application/json", "application/xml", "application/dash+xml", "application/xhtml+xml")
_NO_TEXTS = ("text/css",)


class CapturedExchange(msgspec.Struct):
    """A request and its answer. number: its place in the capture. type: media type without parameters.

    resource: what kind of request the browser says it was (media, xhr, image, document …), empty if it does not say.
    frame: address of the frame that made it. sent and came: the header fields that matter, by lower-case name.
    received: transferred bytes. size: bytes of the whole resource, if known. location: where it redirects, in full.
    started: Unix time. failure: why nothing (more) came.
    """

    number: int
    url: str
    method: str
    status: int
    type: str
    resource: str
    frame: str | None
    initiator: Initiator | None
    sent: dict[str, str]
    came: dict[str, str]
    location: str | None = None
    body: bytes | None = None
    received: int | None = None
    size: int | None = None
    started: float | None = None
    failure: str | None = None
    page: str | None = None


class Tapped(msgspec.Struct, frozen=True):
    """What a page fed to a player in pieces. number: by size. frame: its address. types: of its buffers, with codecs.
    length: seconds, None while unknown or without end. systems: key systems that protect it. readable: addresses of
    media that scripts fetched meanwhile. formats: of its tracks, as far as they are described."""

    number: int
    frame: str
    types: tuple[str, ...]
    appends: int
    size: int
    length: float | None = None
    systems: tuple[str, ...] = ()
    readable: tuple[str, ...] = ()
    formats: "tuple[Format, ...]" = ()


class Capture(msgspec.Struct):
    """All exchanges of one page. views: the frames as they stood at the end (empty if the browser did not keep them).

    origin: where the capture comes from, in words. notes: what happened, and what could not be read of its file.
    cookies: those that the browser held at the end; never written anywhere. tapped: what players were fed in pieces,
    the most first; only_tapped: nothing else is wanted.
    """

    url: str
    title: str | None
    exchanges: list[CapturedExchange]
    views: list[View] = msgspec.field(default_factory=list)
    notes: list[str] = msgspec.field(default_factory=list)
    origin: str = ""
    cookies: list[Cookie] = msgspec.field(default_factory=list)
    tapped: list[Tapped] = msgspec.field(default_factory=list)
    only_tapped: bool = False


def capture_of(page: OpenedPage | None, entries: Iterable[Entry], origin: str, url: str | None = None) -> Capture:
    """The capture of one page. url: of the page; else that of the first document asked for."""
    notes = list(page.notes) if page and isinstance(page.notes, list) else []
    exchanges, room, dropped, useless = [], _LARGEST_ALL, 0, 0
    for number, entry in enumerate(entries, start=1):
        exchange = _exchange(number, entry)
        if exchange is None:
            useless += 1
            continue
        if exchange.body is not None:
            room -= len(exchange.body)
            if room < 0:
                exchange.body = None
                dropped += 1
        exchanges.append(exchange)
    views = [view for view in page.views if _usable(view.url)] if page and isinstance(page.views, list) else []
    if dropped:
        notes.append(f"{dropped:,} answers of text beyond {_LARGEST_ALL // 1_000_000} MB were not looked through.")
    if useless:
        notes.append(f"{useless:,} requests have no address of the web, and were passed over.")
    url = url or _page_address(exchanges, page, views)
    title = (views[0].title if views else None) or (page.title if page else None)
    if title and title.startswith(("http://", "https://")):  # some browsers give the address for a title
        title = None
    return Capture(url, title or None, exchanges, views, notes, origin)


def read_captures(path: Path) -> list[Capture]:
    """The captures in a HAR file, one for each page that it speaks of and that asked for something."""
    file = HarFile(path)
    pages = {page.id: page for page in file.pages()}
    only = next(iter(pages)) if len(pages) == 1 else None
    by_page: dict[str | None, list[CapturedExchange]] = {}
    whole = capture_of(None, file.entries(), path.name)
    for exchange in whole.exchanges:
        by_page.setdefault(exchange.page if exchange.page in pages else only, []).append(exchange)
    captures = []
    for name, exchanges in by_page.items():
        made = capture_of(pages.get(name or ""), (), path.name, "-")
        made.exchanges = exchanges
        made.notes += whole.notes
        if file.unreadable:
            made.notes.append(f"{file.unreadable:,} entries of {path.name} cannot be read, and were passed over.")
        if file.cut:
            made.notes.append(f"{path.name} breaks off after {len(whole.exchanges):,} requests; those are used.")
        made.url = _page_address(exchanges, pages.get(name or ""), made.views)
        captures.append(made)
    return captures


def _page_address(exchanges: list[CapturedExchange], page: OpenedPage | None, views: list[View]) -> str:
    """Of the page: as it stood at the end, else the first document that came, else what the page is called."""
    if views:
        return views[0].url
    for exchange in exchanges:
        if exchange.type in ("text/html", "application/xhtml+xml") and not exchange.location and exchange.status == 200:
            return exchange.url
    if page and page.title and (address := _usable(page.title)):
        return address
    return exchanges[0].url if exchanges else ""


def _usable(url: str) -> str | None:
    """An address from a file that anybody may have written, as it is used; None if it is none of the web."""
    start = "blob:" if url.startswith("blob:") else ""
    rest = url.removeprefix(start)
    if not rest.isprintable():  # surrogates among others, which cannot be sent
        return None
    resolved = resolve(rest, rest) if len(rest) <= _LONGEST_ADDRESS else None
    return start + resolved if resolved else None


def _exchange(number: int, entry: Entry) -> CapturedExchange | None:
    request, response = entry.request, entry.response
    url = _usable(request.url)
    if url is None:
        return None
    came = _chosen(response.headers, _CAME)
    media_type = (came.get("content-type") or response.content.mime_type or "").partition(";")[0].strip().lower()
    sent = _chosen(request.headers, _SENT)
    return CapturedExchange(
        number=number,
        url=url,
        method=request.method.upper(),
        status=_status(response.status),
        type="" if media_type == "x-unknown" else media_type,
        resource=entry.resource_type.lower() if isinstance(entry.resource_type, str) else "",
        frame=_usable(entry.frame) if isinstance(entry.frame, str) else None,
        initiator=entry.initiator if isinstance(entry.initiator, Initiator) else None,
        sent=sent,
        came=came,
        location=resolve(url, response.redirect_url) if response.redirect_url else None,
        body=_text_body(response.content, media_type, request.url),
        received=_positive(response.body_size),
        size=_whole_size(came, response.content, _status(response.status)),
        started=_moment(entry.started_date_time),
        failure=(entry.failure or None) if isinstance(entry.failure, str) else None,
        page=entry.pageref if isinstance(entry.pageref, str) else None,
    )


def _status(stated: float | None) -> int:
    """A status as it can be meant, else 0: none."""
    return round(stated) if stated is not None and 0 < stated < 1_000 else 0


def _chosen(headers: list[Pair], names: frozenset[str]) -> dict[str, str]:
    return {
        header.name.lower(): header.value
        for header in headers
        if header.name.lower() in names and header.value.isprintable()
    }


def is_text(media_type: str, url: str) -> bool:
    """True if a body of that type may name media: manifests, JSON, pages, subtitles; not style sheets or scripts."""
    if media_type.startswith(_NO_TEXTS) or "javascript" in media_type:
        return False
    path = url.partition("?")[0].lower()
    return (
        media_type.startswith(_TEXTS)
        or "mpegurl" in media_type
        or media_type.endswith(("+json", "+xml"))
        or path.endswith((".m3u8", ".mpd", ".json", ".vtt", ".srt"))
    ) and media_type != "image/svg+xml"


def _text_body(content: HarContent, media_type: str, url: str) -> bytes | None:
    if not isinstance(content.text, str) or not is_text(media_type, url) or len(content.text) > 2 * LARGEST_BODY:
        return None
    body = content.body()
    return body if body and len(body) <= LARGEST_BODY else None


def _whole_size(came: dict[str, str], content: HarContent, status: int) -> int | None:
    """Of the resource: the total of a Content-Range, the Content-Length of a whole answer, else the decoded body."""
    total = came.get("content-range", "").rpartition("/")[2]
    if (stated := whole_number(total)) is not None:
        return stated
    length = whole_number(came.get("content-length", ""))
    if status == 200 and length is not None and "content-encoding" not in came:
        return length
    return _positive(content.size) if status == 200 else None


def _positive(number: float | None) -> int | None:
    return round(number) if number is not None and 0 < number < 1 << 60 else None


def _moment(text: str) -> float | None:
    try:
        return datetime.fromisoformat(text).timestamp()
    except (ValueError, OverflowError):
        return None
