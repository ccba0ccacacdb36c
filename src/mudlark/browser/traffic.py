"""The traffic of a browser's context: every request of all pages, frames and workers, whatever becomes of them.

The driver tells of requests as the DevTools protocol reports them; each becomes one HAR entry. Bodies are kept of text
only. Also keeps watch over when something new was last asked for, which is how the end of a page's work is known.
"""

import asyncio
import re
import time
from collections import Counter
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qsl, urlsplit

import msgspec

from mudlark.browser.capture import LARGEST_BODY, is_text
from mudlark.browser.har import Entry, HarContent, HarResponse, Initiator, Pair, PostData, Request, Timings
from mudlark.text import whole_number

if TYPE_CHECKING:
    from playwright.async_api import BrowserContext, Page
    from playwright.async_api import Request as Asked
    from playwright.async_api import Response as Answered

_MOST = 50_000  # requests of one page
_REPEATS = 4  # after so many of one form, a request is nothing new
_PATIENCE = 10.0  # seconds a request may hang before it is no longer waited for
_ANSWERING = 6.0  # seconds the browser may take to say something
_DIGITS = re.compile(r"\d+")
_LARGEST_PIECE = 20_000_000  # bytes of what a script fetched that is looked into
_LARGEST_BODIES = 64_000_000  # bytes of all bodies together
_TELLING = re.compile(r"mpegurl|dash\+xml|json|html")
_NEVER_NEW = frozenset({"ping", "eventsource", "websocket", "beacon"})
_MEDIA = frozenset({"media", "ping", "eventsource", "websocket", "beacon"})


class _Exchange(msgspec.Struct):
    """One request while it is under way."""

    asked: "Asked"
    frame: str | None
    moment: float
    answered: "Answered | None" = None
    entry: Entry | None = None
    noting: bool = False


@dataclass  # the browser's library sets attributes on whoever hears of its events
class Traffic:
    """Attach to a context before its first page. count: requests so far. news_at: when something new was asked for."""

    count: int = 0
    news_at: float = 0.0
    _exchanges: "dict[Asked, _Exchange]" = field(default_factory=dict)
    _pending: "dict[Asked, float]" = field(default_factory=dict)
    _forms: Counter[str] = field(default_factory=Counter)
    _initiators: dict[str, Initiator] = field(default_factory=dict)
    _tasks: set[asyncio.Task[None]] = field(default_factory=set)
    _room: int = _LARGEST_BODIES
    _gate: asyncio.Semaphore = field(default_factory=lambda: asyncio.Semaphore(16))

    def attach(self, context: "BrowserContext") -> None:
        """Hear of every request from now on."""
        self.news_at = time.monotonic()
        context.on("request", self._on_request)
        context.on("response", self._on_response)
        context.on("requestfinished", self._on_end)
        context.on("requestfailed", self._on_end)

    async def follow(self, page: "Page") -> None:
        """Hear also who makes the requests of a page, and keep it from its cache; what cannot be told is left out."""
        with suppress(Exception):
            session = await page.context.new_cdp_session(page)
            session.on("Network.requestWillBeSent", self._on_initiator)
            await session.send("Network.enable")
            await session.send("Network.setCacheDisabled", {"cacheDisabled": True})

    def quiet_for(self) -> float:
        """Seconds since something new was asked for, or 0 while such a request is being answered."""
        now = time.monotonic()
        if any(now - since < _PATIENCE and not _abandoned(asked) for asked, since in self._pending.items()):
            return 0.0
        return now - self.news_at

    def forget(self, url: str) -> None:
        """No longer wait for a request, as when it has become a download."""
        for asked in [asked for asked in self._pending if asked.url == url]:
            del self._pending[asked]

    async def entries(self, patience: float = _ANSWERING) -> list[Entry]:
        """All that was heard, in the order in which it was asked; unfinished ones as far as they came.

        patience: seconds that the browser has for what it still has to say.
        """
        late = [exchange for exchange in self._exchanges.values() if exchange.entry is None and not exchange.noting]
        tasks = {*self._tasks, *(asyncio.create_task(self._note(exchange)) for exchange in late)}
        if tasks:
            await asyncio.wait(tasks, timeout=patience)
            for task in tasks:
                task.cancel()
            await asyncio.gather(*tasks, return_exceptions=True)
        return [exchange.entry or _bare(exchange) for exchange in self._exchanges.values()]

    async def fetched(self, most: int) -> list[tuple[str, bytes]]:
        """What scripts fetched that is no text: the addresses of the first few, and the bytes that came."""
        found = list[tuple[str, bytes]]()
        for exchange in list(self._exchanges.values()):
            answered = exchange.answered
            if len(found) >= most:
                break
            if answered is None or exchange.asked.resource_type not in ("fetch", "xhr"):
                continue
            length = whole_number(answered.headers.get("content-length", "0")) or 0
            kind = answered.headers.get("content-type", "").partition(";")[0].strip().lower()
            wanted = answered.status in (200, 206) and length <= _LARGEST_PIECE and not is_text(kind, answered.url)
            if wanted and (body := await _soon(answered.body(), None)):
                found.append((answered.url, body))
        return found

    def _on_request(self, asked: "Asked") -> None:
        if not asked.url.startswith(("http:", "https:", "blob:")):
            return
        self.count += 1
        if len(self._exchanges) >= _MOST:
            return
        now = time.monotonic()
        self._exchanges[asked] = _Exchange(asked, _frame_of(asked), time.time())
        kind = asked.resource_type
        if kind not in _MEDIA:
            self._pending[asked] = now
        form = _DIGITS.sub("#", asked.url.partition("?")[0])
        self._forms[form] += 1
        if kind not in _NEVER_NEW and (kind == "image" or self._forms[form] <= _REPEATS):
            self.news_at = now

    def _on_response(self, answered: "Answered") -> None:
        if exchange := self._exchanges.get(answered.request):
            exchange.answered = answered

    def _on_end(self, asked: "Asked") -> None:
        self._pending.pop(asked, None)
        if exchange := self._exchanges.get(asked):
            exchange.noting = True
            task = asyncio.create_task(self._note(exchange))
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)

    def _on_initiator(self, event: dict[str, Any]) -> None:
        initiator = event.get("initiator", {})
        frames = initiator.get("stack", {}).get("callFrames") or [{}]
        url = initiator.get("url") or frames[0].get("url")
        line = initiator.get("lineNumber", frames[0].get("lineNumber"))
        self._initiators.setdefault(
            event["request"]["url"], Initiator(initiator.get("type", "other"), url or None, line)
        )

    async def _note(self, exchange: _Exchange) -> None:
        async with self._gate:
            with suppress(Exception):  # whatever the driver cannot tell any more stays unknown
                exchange.entry = await asyncio.wait_for(self._entry(exchange), 2 * _ANSWERING)
        if exchange.entry is None:
            exchange.entry = _bare(exchange)

    async def _entry(self, exchange: _Exchange) -> Entry:
        asked, answered = exchange.asked, exchange.answered
        entry = _bare(exchange)
        entry.initiator = self._initiators.get(asked.url, msgspec.UNSET)
        entry.failure = asked.failure or msgspec.UNSET
        entry.request.headers = _pairs(await _soon(asked.headers_array(), []))
        if (posted := asked.post_data_buffer) is not None:
            entry.request.body_size = len(posted)
            entry.request.post_data = _posted(posted, asked.headers.get("content-type", ""))
        if answered is None:
            return entry
        response = entry.response
        response.headers = _pairs(await _soon(answered.headers_array(), []))
        came = {pair.name.lower(): pair.value for pair in response.headers}
        response.redirect_url = came.get("location", "") if 300 <= answered.status < 400 else ""
        entry.request.http_version = response.http_version = await _soon(answered.http_version(), "")
        response.content.mime_type = came.get("content-type", "x-unknown")
        if (place := await _soon(answered.server_addr(), None)) and place["ipAddress"]:
            entry.server_ip_address = place["ipAddress"].strip("[]")
        if asked.timing["responseEnd"] < 0:
            return entry  # still coming: its sizes are not known
        entry.timings, entry.time = _timings(asked.timing)
        if sizes := await _soon(asked.sizes(), None):
            transferred = sizes["responseBodySize"]
            response.body_size = transferred if transferred >= 0 else -1
            if "content-encoding" not in came:
                response.content.size = response.body_size
            response.headers_size = sizes["responseHeadersSize"]
            entry.request.headers_size = sizes["requestHeadersSize"]
        await self._keep_body(answered, response, came)
        return entry

    async def _keep_body(self, answered: "Answered", response: HarResponse, came: dict[str, str]) -> None:
        """Take over a body of text while there is room, the last half of it for what names media.

        A long one only counts for its size.
        """
        kind = (response.content.mime_type or "").partition(";")[0].strip().lower()
        length = whole_number(came.get("content-length", "0")) or 0
        if not is_text(kind, answered.url) or length > LARGEST_BODY or answered.status >= 300:
            return
        if self._room < length or (self._room < _LARGEST_BODIES // 2 and not _TELLING.search(kind)):
            return
        if (body := await _soon(answered.body(), None)) is None:
            return
        response.content.size = len(body)
        if len(body) <= min(LARGEST_BODY, self._room):
            self._room -= len(body)
            _fill_text(response.content, body)


def _pairs(headers: list[Any]) -> list[Pair]:
    return [Pair(header["name"], header["value"]) for header in headers]


def _fill_text(content: HarContent, body: bytes) -> None:
    try:
        content.text = body.decode("utf-8")
    except UnicodeDecodeError:
        import base64

        content.text, content.encoding = base64.b64encode(body).decode("ascii"), "base64"


def _posted(body: bytes, kind: str) -> PostData:
    """What a request carried, as far as it is text and not long; a form may hold a password, so it is left out."""
    if "form" in kind or len(body) > 10_000:
        return PostData(kind, "")
    return PostData(kind, body.decode("utf-8", "replace"))


def _bare(exchange: _Exchange) -> Entry:
    """An entry with what is known without asking."""
    asked, answered = exchange.asked, exchange.answered
    query = [{"name": name, "value": value} for name, value in parse_qsl(urlsplit(asked.url).query, True)]
    return Entry(
        started_date_time=stamp(exchange.moment),
        request=Request(asked.method, asked.url, query_string=query),
        response=HarResponse(answered.status if answered else 0, answered.status_text if answered else ""),
        pageref="page_1",
        resource_type=asked.resource_type,
        frame=exchange.frame if exchange.frame else msgspec.UNSET,
    )


def _abandoned(asked: "Asked") -> bool:
    """True if the window that asked is closed."""
    try:
        return asked.frame.page.is_closed()
    except Exception:  # a service worker has no window
        return False


def _frame_of(asked: "Asked") -> str | None:
    """The address of the frame that asks; a frame that is being opened asks for itself."""
    try:
        frame = asked.frame
        if asked.is_navigation_request():
            frame = frame.parent_frame or frame
        while not frame.url.startswith(("http:", "https:")) and frame.parent_frame:
            frame = frame.parent_frame
        return frame.url if frame.url.startswith(("http:", "https:")) else None
    except Exception:  # a service worker has no frame
        return None


def _timings(moments: Any) -> tuple[Timings, float]:
    """HAR's phases out of the moments that the browser states (milliseconds from the start, -1 for what was not)."""

    def span(start: str, end: str) -> float:
        return round(moments[end] - moments[start], 3) if moments[start] >= 0 and moments[end] >= 0 else -1

    sent = max(moments["requestStart"], 0.0)
    phases = Timings(
        blocked=-1,
        dns=span("domainLookupStart", "domainLookupEnd"),
        connect=span("connectStart", "connectEnd"),
        ssl=span("secureConnectionStart", "connectEnd"),
        send=0,
        wait=round(max(moments["responseStart"] - sent, 0.0), 3),
        receive=max(span("responseStart", "responseEnd"), 0.0),
    )
    return phases, round(max(moments["responseEnd"], 0.0), 3)


async def _soon(question: Any, otherwise: Any) -> Any:
    """What the browser says, unless it cannot or does not answer."""
    try:
        return await asyncio.wait_for(question, _ANSWERING)
    except Exception:
        return otherwise


def stamp(moment: float) -> str:
    """A Unix time as HAR states it (ISO 8601, milliseconds, UTC)."""
    return datetime.fromtimestamp(moment, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
