"""The one way to the network: every request of every command goes through a Session.

It sends addresses as they stand, the same identity with each request, decides at every hop of a redirect what goes
along, gives up on a stall, and turns what goes wrong into NetworkError (for good) or Passing (worth another try), with
words for people.
"""

import asyncio
import time
from collections.abc import AsyncIterator, Callable, Iterable, Mapping, Sequence
from contextlib import asynccontextmanager, suppress
from types import TracebackType
from typing import Any, Self
from urllib.parse import urlsplit

import msgspec
from msgspec.structs import replace

from mudlark.errors import NetworkError
from mudlark.web.address import shown
from mudlark.web.answer import HEAD, Content, Reply, ServedPart, part_of
from mudlark.web.complaint import status_error
from mudlark.web.connection import Connection
from mudlark.web.cookies import Cookie
from mudlark.web.disposition import filename
from mudlark.web.exchange import STOPPED, Errand, Exchange
from mudlark.web.lanes import Lanes
from mudlark.web.meter import Meter
from mudlark.web.observer import Observer, new_body, seen
from mudlark.web.origin import Origin, origin_of
from mudlark.web.passing import Backoff, Passing
from mudlark.web.redact import gives_access
from mudlark.web.redirects import Redirects
from mudlark.web.referrer import Referrer
from mudlark.web.requester import Leading, Requester
from mudlark.web.resource import Version
from mudlark.web.retry import persist
from mudlark.web.transport import HopAnswer, PackedForm, Transport, packed_form

LARGEST_TEXT = 20_000_000  # bytes of a page or manifest that are read at most
_LONGEST_TEXT = 120.0  # seconds that a page or manifest may take at most
_DRIP = 3  # times the stall, in which so few bytes come that it is no use
_LEAST = 1024  # bytes
_ERROR_PAGE = 5.0  # seconds that the page of an error may take, for those who keep it


class Changed(NetworkError):
    """The resource is not the one whose other parts were fetched."""

    code = "changed"


class _Asked(msgspec.Struct, frozen=True):
    """What a request wants, as `Session.open` has it."""

    span: tuple[int, int] | None
    version: Version | None
    first: bool
    or_whole: bool
    or_less: bool


class _Shared(msgspec.Struct):
    """What all variants of a session have in common: the way to the network, and what was learnt on it. home: origins
    of addresses that the user gave. led: those that redirects alone have led to. kept: answers that came another way.
    hints: what servers want to be told beside the usual."""

    transport: Transport
    lanes: Lanes
    meter: Meter | None
    home: set[Origin] = msgspec.field(default_factory=set)
    led: set[Origin] = msgspec.field(default_factory=set)
    kept: dict[str, Content] = msgspec.field(default_factory=dict)
    hints: dict[Origin, frozenset[str]] = msgspec.field(default_factory=dict)


class _Variant(msgspec.Struct, frozen=True):
    """requester: as whom it asks. observer: sees all exchanges. on_request: hears the row of each request."""

    requester: Requester
    observer: Observer | None = None
    on_request: Callable[[dict[str, Any]], None] | None = None


class Session:
    """Use as `async with Session(connection) as session`. lanes: those that it shares with other sessions, if any.
    Variants of it (`behind`, `observed`, `noting`) are sessions as well, by the same way to the network."""

    def __init__(self, connection: Connection | None = None, lanes: Lanes | None = None) -> None:
        self.connection = connection or Connection()
        self._shared = _Shared(
            Transport(self.connection),
            lanes or Lanes(self.connection.lanes, self.connection.gap),
            Meter(self.connection.rate) if self.connection.rate else None,
        )
        self._variant = _Variant(Requester(self.connection))

    def _varied(self, variant: _Variant) -> "Session":
        session = Session.__new__(Session)
        session.connection, session._shared, session._variant = self.connection, self._shared, variant
        return session

    def noting(self, on_request: Callable[[dict[str, Any]], None]) -> "Session":
        """This session, with the row of each request given to somebody."""
        return self._varied(replace(self._variant, on_request=on_request))

    @property
    def on_request(self) -> Callable[[dict[str, Any]], None] | None:
        """Who is given the row of each request."""
        return self._variant.on_request

    def observed(self, observer: Observer | None) -> "Session":
        """This session, with all exchanges shown to an observer."""
        return self._varied(replace(self._variant, observer=observer))

    @property
    def observer(self) -> Observer | None:
        """Who is shown all exchanges."""
        return self._variant.observer

    @property
    def lanes(self) -> Lanes:
        """By which its requests go."""
        return self._shared.lanes

    def behind(self, referrer: Referrer | None, headers: Mapping[str, str] | None = None) -> "Session":
        """This session, for what a document names: requests carry the Referer that its policy gives each address, and
        these headers too, unless the user gave others of the same name."""
        return self._varied(replace(self._variant, requester=self._variant.requester.behind(referrer, headers or {})))

    def identity(self, address: str, *, page: bool = False) -> dict[str, str]:
        """The headers that say who asks, as a request for this address carries them. page: it may be one."""
        hints = self._shared.hints.get(origin_of(address), ())
        return self._variant.requester.fields(address, self._leading(address), page=page, hints=hints)

    def _leading(self, address: str, *, led: bool = False) -> Leading:
        origin = origin_of(address)
        home = origin in self._shared.home
        return Leading(home and not led, led, origin in self._shared.led and not home)

    def remember(self, address: str, look: Content) -> None:
        """Have an answer at hand that came another way, for when the address is looked at."""
        self._shared.kept[address] = look

    def remembers(self, address: str) -> bool:
        """True if the answer of an address is at hand."""
        return address in self._shared.kept

    def take_cookies(self, cookies: Iterable[Cookie]) -> None:
        """Hold cookies that a browser was given."""
        assert self._shared.transport.jar is not None, "a session is used inside `async with`"
        for cookie in cookies:
            self._shared.transport.jar.put(cookie)

    def at_home(self, address: str) -> None:
        """Note an address that the user gave: what gives access is sent to its origin, and to no other."""
        self._shared.home.add(origin_of(address))

    async def __aenter__(self) -> Self:
        await self._shared.transport.__aenter__()
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self._shared.transport.__aexit__(kind, problem, trace)

    async def look(
        self,
        address: str,
        wants_all: Callable[[bytes, str], bool] = lambda _head, _type: False,
    ) -> Content:
        """See what is at an address: the head of the body, or all of it (bounded) if `wants_all(head, type)`.

        Statuses of 400 and above are raised as NetworkError.
        """
        if address in self._shared.kept:
            return self._shared.kept[address]

        async def attempt() -> Content:
            async with _in_time(address), self.open(address, compressed=True) as answer:
                body = bytearray()
                whole: bool | None = None
                async for chunk in answer.chunks:
                    body += chunk
                    if whole is None and len(body) >= answer.enough:
                        whole = wants_all(bytes(body), answer.type)
                    if whole is False:
                        return answer.content(bytes(body), complete=False)
                    if len(body) > LARGEST_TEXT:
                        raise NetworkError(
                            f"{shown(address)} sends more than {LARGEST_TEXT // 1_000_000} MB of text.",
                            "That is no page or manifest; if it is a media file, give its own address.",
                        )
                return answer.content(bytes(body), complete=True)

        return await persist(attempt, self.connection.backoff)

    async def send(self, address: str, fields: Sequence[tuple[str, str]], *, multipart: bool = False) -> Content:
        """What an address answers to a form that is sent to it (POST). Not repeated: it may have had its effect."""
        sent = await packed_form(fields, multipart=multipart)
        body = bytearray()
        async with _in_time(address), self.open(address, compressed=True, form=sent) as answer:
            async for chunk in answer.chunks:
                body += chunk
                if len(body) > LARGEST_TEXT:
                    return answer.content(bytes(body[:HEAD]), complete=False)
        return answer.content(bytes(body), complete=True)

    async def glance(self, address: str, *, patient: bool = False) -> Content:
        """The first few kilobytes of an address, asked for as a part, so that little more is sent.

        patient: try as often as the connection allows, because everything depends on it.
        """
        if address in self._shared.kept:
            return self._shared.kept[address]

        async def attempt() -> Content:
            async with _in_time(address):
                part = await self._beginning(address, HEAD)
                refused = part.status == 416 and part.headers.get("content-range", "").strip() != "bytes */0"
                return await self._beginning(address) if refused else part  # which knows of no parts

        backoff = self.connection.backoff
        return await persist(attempt, backoff if patient else Backoff(tries=min(2, backoff.tries), first=0.2))

    async def _beginning(self, address: str, first: int | None = None) -> Content:
        """The first few kilobytes. first: as `open` takes it."""
        body = bytearray()
        async with self.open(address, first=first) as answer:
            async for chunk in answer.chunks:
                body += chunk
                if len(body) >= answer.enough:
                    break
            return answer.content(bytes(body), complete=answer.length is not None and len(body) >= answer.length)

    @asynccontextmanager
    async def open(
        self,
        address: str,
        *,
        span: tuple[int, int] | None = None,
        version: Version | None = None,
        first: int | None = None,
        compressed: bool = False,
        form: PackedForm | None = None,
        or_whole: bool = False,
        or_less: bool = False,
        errand: Errand | None = None,
    ) -> AsyncIterator[Reply]:
        """One request, not repeated. span: first byte and number of bytes wanted, which must be served as such.

        version: that the resource must still be (RFC 9110 §13.1.5, If-Range); compared with what is answered as well,
        as there are servers that ignore what they are asked.
        first: that many bytes are enough, but all of them are taken too. form: to be sent (POST).
        errand: what it is for; with one it waits for a lane, and tells how well the server serves.
        or_whole: a server that ignores the span may send the whole resource instead, with status 200. or_less: the
        resource may end inside of the span.

        Raises Passing or NetworkError for statuses of 400 and above and for everything that goes wrong on the way,
        a body that is shorter than announced included. What the caller raises inside passes as it is.
        """
        wanted = {"Accept-Encoding": "gzip, deflate" if compressed else "identity", "Cache-Control": "no-cache"}
        if span:
            wanted["Range"] = f"bytes={span[0]}-{span[0] + span[1] - 1}"
            if version:
                wanted["If-Range"] = version.tag
        elif first:
            wanted["Range"] = f"bytes=0-{first - 1}"
        host = urlsplit(address).netloc.lower()
        exchange = Exchange(address, errand, wanted.get("Range"))
        asked = _Asked(span, version, first is not None, or_whole, or_less)
        try:
            async with self._lane(host, exchange), self._follow(exchange, wanted, form, page=compressed) as answer:
                yield self._reply(exchange, answer, asked)
        except asyncio.CancelledError:
            exchange.problem = exchange.problem or STOPPED
            raise
        except BaseException as problem:
            exchange.problem = exchange.problem or str(problem) or type(problem).__name__
            if errand and isinstance(problem, Passing) and problem.crowded and exchange.sent is not None:
                self.lanes.pace(host).crowded(exchange.sent, time.monotonic(), problem.retry_after)
            raise
        finally:
            exchange.log(self.on_request)

    @asynccontextmanager
    async def _lane(self, host: str, exchange: Exchange) -> AsyncIterator[None]:
        if exchange.errand is None:
            await self.lanes.turn(host)
            yield
            return
        async with self.lanes.take(host) as exchange.lane:
            yield
            if exchange.sent is not None and exchange.first is not None:
                self.lanes.pace(host).served(exchange.sent, exchange.first, time.monotonic(), exchange.bytes)

    @asynccontextmanager
    async def _follow(
        self, exchange: Exchange, wanted: Mapping[str, str], form: PackedForm | None, *, page: bool
    ) -> AsyncIterator[HopAnswer]:
        """Send a request, and follow where it is led; gives the answer at the end of the way once its header is there.
        wanted: fields that say what is asked for."""
        way, requester, shared, observer = Redirects(exchange.url), self._variant.requester, self._shared, self.observer
        exchange.sent = time.monotonic()
        while True:
            address, moment = way.address, time.time()
            origin = origin_of(address)
            own = requester.fields(
                address, self._leading(address, led=way.led), page=page, hints=shared.hints.get(origin, ())
            )
            about = {"Content-Type": form.type} if form else {}
            async with shared.transport.send(address, {**own, **about, **wanted}, form) as answer:
                exchange.first, exchange.status, exchange.family = time.monotonic(), answer.status, answer.family
                if hints := answer.headers.get("accept-ch"):  # for the requests after this one (RFC 8942)
                    shared.hints[origin] = frozenset(name.strip().lower() for name in hints.split(","))
                if not way.follow(answer.status, answer.headers):
                    async with self._observed(exchange, answer, moment, form):
                        yield answer
                    return
                if observer:
                    await observer(seen(answer, moment, new_body(), "unspecified", form.body if form else b""))
            form = form if way.keeps_form else None
            requester = requester.redirected(answer.headers.get("referrer-policy"))
            if way.led:
                shared.led.add(origin_of(way.address))

    @asynccontextmanager
    async def _observed(
        self, exchange: Exchange, answer: HopAnswer, moment: float, form: PackedForm | None
    ) -> AsyncIterator[None]:
        """Show an exchange to the observer, if there is one, once its body is read."""
        observer = self.observer
        if observer is None:
            yield
            return
        copy = exchange.copy = new_body()
        cut = "disconnect"
        try:
            yield
            cut = "length"  # if it is cut: whoever asked had enough
        finally:
            if answer.status >= 400:  # its body is read for nobody else
                with suppress(NetworkError, TimeoutError):
                    async with asyncio.timeout(_ERROR_PAGE):
                        async for chunk in answer.chunks():
                            copy.write(chunk[: HEAD - copy.tell()])
                            if copy.tell() >= HEAD:
                                break
                        else:
                            exchange.whole = True
            empty = answer.length == 0 or answer.status in (204, 304)
            missing = None if exchange.whole or empty else cut
            await observer(seen(answer, moment, copy, missing, form.body if form else b""))

    def _reply(self, exchange: Exchange, answer: HopAnswer, asked: _Asked) -> Reply:
        """What the header of a response promises. Raises NetworkError where that is not what was asked for."""
        address, span = exchange.url, asked.span
        if answer.status >= 400 and not (asked.first and answer.status == 416):
            problem = status_error(address, answer.status, answer.reason, answer.headers)
            led = origin_of(answer.url) != origin_of(address)
            if led and answer.status in (401, 403) and any(gives_access(name) for name, _ in self.connection.headers):
                problem.advice = (
                    "What gives access stays at the origin that it was given for; "
                    f"give the address that this one leads to: {shown(answer.url)}"
                )
            raise problem
        if span and asked.version and answer.status == 200:
            raise _changed(address)
        served = span is not None and answer.status == 206
        if span and not served and not (asked.or_whole and answer.status == 200):
            raise NetworkError(
                f"{shown(address)} does not serve byte ranges, which the manifest asks for.",
                status=answer.status,
                url=address,
            )
        if served:
            _insist_on_part(address, asked, answer.headers)
        return Reply(
            answer.url,
            answer.status,
            answer.headers.get("content-type", ""),
            answer.length,
            answer.headers,
            filename(answer.headers.get("content-disposition")),
            self._chunks(exchange, answer, span[1] if span and served and not asked.or_less else None),
            exchange,
        )

    async def _chunks(self, exchange: Exchange, answer: HopAnswer, wanted: int | None) -> AsyncIterator[bytes]:
        """The body, with its length checked against what was announced. One that only drips is given up."""
        address, stall, meter = exchange.url, self.connection.patience, self._shared.meter
        plain = "content-encoding" not in answer.headers
        announced = wanted if wanted is not None else answer.length if plain else None
        since, before = time.monotonic(), 0
        async for chunk in answer.chunks():
            exchange.bytes += len(chunk)
            if announced is not None and exchange.bytes > announced:
                break
            if (now := time.monotonic()) - since > _DRIP * stall:
                if exchange.bytes - before < _LEAST:
                    raise Passing(f"{shown(address)} sends next to nothing.", crowded=True, url=address)
                since, before = now, exchange.bytes
            if meter:
                since += await meter.spend(len(chunk))
            if exchange.copy:
                exchange.copy.write(chunk)
            yield chunk
        if announced is not None and exchange.bytes != announced:
            what = "ended after" if exchange.bytes < announced else "sends more than"
            raise Passing(
                f"{shown(address)} {what} {min(exchange.bytes, announced):,} of {announced:,} bytes.", url=address
            )
        exchange.whole = True


def _insist_on_part(address: str, asked: _Asked, headers: Mapping[str, str]) -> None:
    """Raises Passing where a part is not the one that was asked for (RFC 9110 §14.4), or cannot be told; Changed where
    it is one of another resource than the parts before (§15.3.7.3)."""
    part, span = part_of(headers), asked.span
    assert span
    if part is None:
        raise Passing(f"{shown(address)} sends a part, and does not say which (Content-Range).", url=address)
    if part.first != span[0] or (part.last != sum(span) - 1 and not asked.or_less):
        raise Passing(f"{shown(address)} sends another part than was asked for.", url=address)
    if headers.get("content-encoding", "identity").lower() != "identity":
        raise Passing(f"{shown(address)} sends a part that is compressed, and cannot be joined.", url=address)
    if asked.version and not _is_of(asked.version, headers, part):
        raise _changed(address)


def _is_of(version: Version, headers: Mapping[str, str], part: ServedPart) -> bool:
    """False if an answer says that it is of another version. An entity tag says more than a date."""
    if version.total is not None and part.total is not None and part.total != version.total:
        return False
    if "etag" in headers:
        return headers["etag"] == version.tag
    modified = headers.get("last-modified")
    return modified is None or version.modified is None or modified == version.modified


def _changed(address: str) -> Changed:
    return Changed(f"{shown(address)} has changed on the server since it was first asked for.", url=address)


@asynccontextmanager
async def _in_time(address: str) -> AsyncIterator[None]:
    """Bounds how long text may take; a server that sends a byte now and then is no stall."""
    try:
        async with asyncio.timeout(_LONGEST_TEXT):
            yield
    except TimeoutError as problem:
        raise NetworkError(f"{shown(address)} did not finish within {_LONGEST_TEXT:.0f} s.") from problem
