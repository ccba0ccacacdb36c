"""The one way to the network: every request of every command goes through a Session.

It sends addresses as they stand, the same identity with each request, gives up on a stall, and turns what goes wrong
into NetworkError (for good) or Passing (worth another try), with words for people.
"""

import asyncio
import copy
import ssl
import time
from collections.abc import AsyncIterator, Callable, Iterable, Mapping, Sequence
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass, field
from types import TracebackType
from typing import Any, Self
from urllib.parse import urlsplit

import aiohttp
from yarl import URL

from mudlark.errors import NetworkError, StorageError, UsageError
from mudlark.text import whole_number
from mudlark.web.address import as_sent, shown
from mudlark.web.complaint import explain, status_error
from mudlark.web.connection import ENVIRONMENT, Connection
from mudlark.web.cookies import Cookie, read_cookies
from mudlark.web.disposition import filename
from mudlark.web.exchange import STOPPED, Errand, Exchange
from mudlark.web.guise import PLAIN
from mudlark.web.jar import CookieJar
from mudlark.web.lanes import Lanes
from mudlark.web.referrer import Referrer
from mudlark.web.retry import Passing, Patience, persist
from mudlark.web.secret import SECRET_FIELDS
from mudlark.web.witness import Witness, new_body, seen

HEAD = 64 * 1024  # bytes of an answer that tell what it is
LARGEST_TEXT = 20_000_000  # bytes of a page or manifest that are read at most
_LONGEST_TEXT = 120.0  # seconds that a page or manifest may take at most
_CHUNK = 256 * 1024
_DRIP = 3  # times the stall, in which so few bytes come that it is no use
_LEAST = 1024  # bytes
_ENDLESS_HEAD = 4096  # bytes of media without a stated length, which may come no faster than they are played
_ERROR_PAGE = 5.0  # seconds that the page of an error may take, for those who keep it
_FIELD = 256 * 1024  # longest header line: real pages send long cookies and policies


@dataclass(frozen=True, slots=True)
class Content:
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
    headers: Mapping[str, str] = field(default_factory=dict)


@dataclass(slots=True)
class Reply:
    """A response whose body is read in chunks."""

    url: str
    status: int
    type: str
    length: int | None
    headers: Mapping[str, str]
    filename: str | None
    chunks: AsyncIterator[bytes]
    exchange: Exchange | None = None


@dataclass(frozen=True, slots=True)
class Form:
    """What a form sends, and its media type."""

    body: bytes
    type: str


class Changed(NetworkError):
    """The resource is not the one whose other parts were fetched."""

    code = "changed"


class _Meter:
    """Keeps all lanes together under a number of bytes a second."""

    def __init__(self, rate: float) -> None:
        self._rate = rate
        self._free_at = time.monotonic()

    async def spend(self, size: int) -> float:
        """Wait as long as so many bytes take; gives the seconds."""
        now = time.monotonic()
        self._free_at = max(now, self._free_at) + size / self._rate
        wait = max(0.0, self._free_at - now)
        await asyncio.sleep(wait)
        return wait


@dataclass(frozen=True, slots=True)
class _Asked:
    """What a request wants, as `Session.open` has it."""

    span: tuple[int, int] | None
    unless_changed: str | None
    first: bool
    or_whole: bool
    or_less: bool


class _Response(aiohttp.ClientResponse):
    """A response that knows its peer, also when its connection serves another already."""

    peer: Any = None

    async def start(self, connection: aiohttp.connector.Connection) -> aiohttp.ClientResponse:
        self.peer = connection.transport.get_extra_info("peername") if connection.transport else None
        return await super().start(connection)


class Session:
    """Use as `async with Session(connection) as session`. lanes: those that it shares with other sessions, if any."""

    def __init__(self, connection: Connection | None = None, lanes: Lanes | None = None) -> None:
        self.connection = connection or Connection()
        self._meter = _Meter(self.connection.rate) if self.connection.rate else None
        self._secret = {name: value for name, value in self.connection.headers if name.lower() in SECRET_FIELDS}
        self._home: set[str] = set()
        self._kept: dict[str, Content] = {}
        self._hints: dict[str, frozenset[str]] = {}
        self.lanes = lanes or Lanes(self.connection.lanes, self.connection.gap)
        self._client: aiohttp.ClientSession | None = None
        self._jar: CookieJar | None = None
        self._proxy_errors: tuple[type[Exception], ...] = ()
        self._referrer: Referrer | None = None
        self._beside: dict[str, str] = {}
        self._witness: Witness | None = None
        self._told: Callable[[dict[str, Any]], None] | None = None

    def telling(self, told: Callable[[dict[str, Any]], None]) -> "Session":
        """This session, with the row of each request told to somebody."""
        session = copy.copy(self)
        session._told = told
        return session

    @property
    def told(self) -> Callable[[dict[str, Any]], None] | None:
        """Who is told the row of each request."""
        return self._told

    @property
    def witness(self) -> Witness | None:
        """Who is told of all exchanges."""
        return self._witness

    def witnessed(self, witness: Witness | None) -> "Session":
        """This session, with all exchanges told to somebody."""
        session = copy.copy(self)
        session._witness = witness
        return session

    def identity(self, address: str, *, page: bool = False) -> dict[str, str]:
        """The headers that say who asks, as a request for this address carries them. page: it may be one."""
        guise = self.connection.guise
        given = dict(self.connection.headers)
        asked_for = self._hints.get(urlsplit(address).netloc, frozenset())
        own = {"User-Agent": guise.user_agent, **guise.headers(address, asked_for)}
        if not page:
            own["Accept"] = "*/*"
        beside = dict(self._beside)
        if "Referer" not in beside and self._referrer and (value := self._referrer.for_request(address)):
            beside["Referer"] = value
        if guise != PLAIN:
            beside.pop("User-Agent", None)
        chosen = {name.lower() for name in given}
        return {name: value for name, value in {**own, **beside}.items() if name.lower() not in chosen} | given

    def behind(self, referrer: Referrer | None, headers: Mapping[str, str] | None = None) -> "Session":
        """This session, for what a document names: requests carry the Referer that its policy gives each address, and
        these headers too, unless the user gave others of the same name."""
        session = copy.copy(self)
        session._referrer = referrer
        session._beside = {name.title(): value for name, value in (headers or {}).items()}
        return session

    def remember(self, address: str, look: Content) -> None:
        """Have an answer at hand that came another way, for when the address is looked at."""
        self._kept[address] = look

    def remembers(self, address: str) -> bool:
        """True if the answer of an address is at hand."""
        return address in self._kept

    def take_cookies(self, cookies: Iterable[Cookie]) -> None:
        """Hold cookies that a browser was given."""
        assert self._jar is not None, "a session is used inside `async with`"
        for cookie in cookies:
            self._jar.put(cookie)

    def at_home(self, address: str) -> None:
        """Note an address that the user gave: secret headers are sent to its host, and to no other."""
        self._home.add(urlsplit(address).netloc.lower())

    async def __aenter__(self) -> Self:
        context: ssl.SSLContext | bool = True
        if self.connection.trust:
            try:
                context = ssl.create_default_context(cafile=self.connection.trust)
            except OSError as problem:
                raise StorageError(f"Cannot read the certificates in {self.connection.trust}: {problem}.") from problem
        self._jar = CookieJar()
        if self.connection.cookie_file:
            self.take_cookies(read_cookies(self.connection.cookie_file))
        self._client = aiohttp.ClientSession(
            connector=self._connector(context),
            cookie_jar=self._jar,
            timeout=aiohttp.ClientTimeout(
                total=None, connect=None, sock_connect=self.connection.stall, sock_read=self.connection.stall
            ),
            requote_redirect_url=False,
            response_class=_Response,
            trust_env=self.connection.proxy == ENVIRONMENT and not self.connection.socks,
            max_line_size=_FIELD,
            max_field_size=_FIELD,
            read_bufsize=_CHUNK,
        )
        return self

    def _connector(self, context: ssl.SSLContext | bool) -> aiohttp.TCPConnector:
        """Connections that are kept warm; addresses of both families are raced (RFC 8305)."""
        if self.connection.reach and (self.connection.socks or self.connection.any_proxy):
            raise UsageError(
                "Behind a proxy it cannot be told where a name leads, so nothing is asked for a record's sake.",
                "Leave out --proxy, or haul the item again with the command that made it.",
            )
        if proxy := self.connection.socks:
            from aiohttp_socks import ProxyConnectionError, ProxyConnector, ProxyError, ProxyTimeoutError  # few need it

            self._proxy_errors = (ProxyConnectionError, ProxyError, ProxyTimeoutError)
            return ProxyConnector.from_url(proxy, limit=0, ssl=context)
        if self.connection.reach:
            from mudlark.web.bounded import BoundedConnector  # few need it

            return BoundedConnector(self.connection.reach, limit=0, ssl=context)
        return aiohttp.TCPConnector(limit=0, ssl=context)

    async def __aexit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        if self._client:
            await self._client.close()

    async def look(
        self,
        address: str,
        wants_all: Callable[[bytes, str], bool] = lambda _head, _type: False,
    ) -> Content:
        """See what is at an address: the head of the body, or all of it (bounded) if `wants_all(head, type)`.

        Statuses of 400 and above are raised as NetworkError.
        """
        if address in self._kept:
            return self._kept[address]

        async def attempt() -> Content:
            async with _in_time(address), self.open(address, compressed=True) as answer:
                body = bytearray()
                whole: bool | None = None
                async for chunk in answer.chunks:
                    body += chunk
                    if whole is None and len(body) >= _enough(answer):
                        whole = wants_all(bytes(body), answer.type)
                    if whole is False:
                        return _look(answer, bytes(body), complete=False)
                    if len(body) > LARGEST_TEXT:
                        raise NetworkError(
                            f"{shown(address)} sends more than {LARGEST_TEXT // 1_000_000} MB of text.",
                            "That is no page or manifest; if it is a media file, give its own address.",
                        )
                return _look(answer, bytes(body), complete=True)

        return await persist(attempt, self.connection.patience)

    async def send(self, address: str, fields: Sequence[tuple[str, str]], *, multipart: bool = False) -> Content:
        """What an address answers to a form that is sent to it (POST). Not repeated: it may have had its effect."""
        form = aiohttp.FormData(default_to_multipart=multipart)
        for name, value in fields:
            form.add_field(name, value)
        payload = form()
        sent = Form(await payload.as_bytes(), payload.headers["Content-Type"])
        body = bytearray()
        async with _in_time(address), self.open(address, compressed=True, form=sent) as answer:
            async for chunk in answer.chunks:
                body += chunk
                if len(body) > LARGEST_TEXT:
                    return _look(answer, bytes(body[:HEAD]), complete=False)
        return _look(answer, bytes(body), complete=True)

    async def glance(self, address: str, *, patient: bool = False) -> Content:
        """The first few kilobytes of an address, asked for as a part, so that little more is sent.

        patient: try as often as the connection allows, because everything depends on it.
        """
        if address in self._kept:
            return self._kept[address]

        async def attempt() -> Content:
            body = bytearray()
            async with _in_time(address), self.open(address, first=HEAD) as answer:
                async for chunk in answer.chunks:
                    body += chunk
                    if len(body) >= _enough(answer):
                        break
                return _look(answer, bytes(body), complete=answer.length is not None and len(body) >= answer.length)

        patience = self.connection.patience
        return await persist(attempt, patience if patient else Patience(tries=min(2, patience.tries), first=0.2))

    @asynccontextmanager
    async def open(
        self,
        address: str,
        *,
        span: tuple[int, int] | None = None,
        unless_changed: str | None = None,
        first: int | None = None,
        compressed: bool = False,
        form: Form | None = None,
        or_whole: bool = False,
        or_less: bool = False,
        errand: Errand | None = None,
    ) -> AsyncIterator[Reply]:
        """One request, not repeated. span: first byte and number of bytes wanted, which must be served as such.

        unless_changed: the validator that the resource must still have (RFC 9110 §13.1.5, If-Range).
        first: that many bytes are enough, but all of them are taken too. form: to be sent (POST).
        errand: what it is for; with one it waits for a lane, and tells how well the server serves.
        or_whole: a server that ignores the span may send the whole resource instead, with status 200. or_less: the
        resource may end inside of the span.

        Raises Passing or NetworkError for statuses of 400 and above and for everything that goes wrong on the way,
        a body that is shorter than announced included. What the caller raises inside passes as it is.
        """
        headers = {
            name: value for name, value in self.identity(address, page=compressed).items() if name not in self._secret
        }
        if form:
            headers["Content-Type"] = form.type
        headers |= {"Accept-Encoding": "gzip, deflate" if compressed else "identity", "Cache-Control": "no-cache"}
        if urlsplit(address).netloc.lower() in self._home:
            headers |= self._secret
        if span:
            headers["Range"] = f"bytes={span[0]}-{span[0] + span[1] - 1}"
            if unless_changed:
                headers["If-Range"] = unless_changed
        elif first:
            headers["Range"] = f"bytes=0-{first - 1}"
        host = urlsplit(address).netloc.lower()
        exchange = Exchange(address, errand, headers.get("Range"))
        try:
            async with self._lane(host, exchange), self._ask(exchange, headers, form) as response:
                yield self._reply(
                    exchange, response, _Asked(span, unless_changed, first is not None, or_whole, or_less)
                )
        except asyncio.CancelledError:
            exchange.problem = exchange.problem or STOPPED
            raise
        except BaseException as problem:
            exchange.problem = exchange.problem or str(problem) or type(problem).__name__
            if errand and isinstance(problem, Passing) and problem.crowded and exchange.sent is not None:
                self.lanes.pace(host).crowded(exchange.sent, time.monotonic(), problem.retry_after)
            raise
        finally:
            exchange.log(self._told)

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
    async def _ask(
        self, exchange: Exchange, headers: Mapping[str, str], form: Form | None
    ) -> AsyncIterator[aiohttp.ClientResponse]:
        """Send a request; gives the response once its header is there."""
        assert self._client, "a session is used inside `async with`"
        address, moment = exchange.url, time.time()
        exchange.sent = time.monotonic()
        broken: tuple[type[Exception], ...] = (aiohttp.ClientError, TimeoutError, OSError, ValueError)
        broken += self._proxy_errors
        try:
            response = await self._client.request(
                "POST" if form else "GET",
                URL(as_sent(address), encoded=True),
                headers=headers,
                data=form.body if form else None,
                proxy=self.connection.http_proxy,
            )
        except broken as problem:
            raise explain(address, problem, self.connection.stall) from problem
        async with response:
            exchange.first, exchange.status = time.monotonic(), response.status
            exchange.family = _family(response)
            if wanted := response.headers.get("Accept-CH"):  # client hints for the requests after this one (RFC 8942)
                names = (name.strip().lower() for name in wanted.split(","))
                self._hints[urlsplit(address).netloc] = frozenset(names)
            if self._witness is None:
                yield response
                return
            exchange.copy = new_body()
            cut = "disconnect"
            try:
                yield response
                cut = "length"  # if it is cut: whoever asked had enough
            finally:
                await self._testify(self._witness, exchange, response, moment, form, cut)

    async def _testify(
        self,
        witness: Witness,
        exchange: Exchange,
        response: aiohttp.ClientResponse,
        moment: float,
        form: Form | None,
        cut: str,
    ) -> None:
        """Tell of an exchange and of the redirects that led to it. cut: why its body is not whole, if it is not."""
        assert exchange.copy
        if response.status >= 400:  # its body is read for nobody else
            with suppress(aiohttp.ClientError, TimeoutError, OSError):
                async with asyncio.timeout(_ERROR_PAGE):
                    exchange.copy.write(await response.content.read(HEAD))
                    exchange.whole = response.content.at_eof()
        peer = _peer(response)
        for earlier in response.history:
            await witness(seen(earlier, moment, new_body(), "unspecified", peer, b""))
        empty = response.content_length == 0 or response.status in (204, 304)
        missing = None if exchange.whole or empty else cut
        await witness(seen(response, moment, exchange.copy, missing, peer, form.body if form else b""))

    def _reply(self, exchange: Exchange, response: aiohttp.ClientResponse, asked: _Asked) -> Reply:
        """What the header of a response promises. Raises NetworkError where that is not what was asked for."""
        address, span = exchange.url, asked.span
        if response.status >= 400 and not (asked.first and response.status == 416):
            raise status_error(address, response)
        if span and asked.unless_changed and response.status == 200:
            raise Changed(f"{shown(address)} has changed on the server since it was first asked for.", url=address)
        served = span is not None and response.status == 206
        if span and not served and not (asked.or_whole and response.status == 200):
            raise NetworkError(
                f"{shown(address)} does not serve byte ranges, which the manifest asks for.",
                status=response.status,
                url=address,
            )
        headers = {name.lower(): value for name, value in response.headers.items()}
        if span and served:
            _insist_on_part(address, span, headers)
        return Reply(
            str(response.url),
            response.status,
            response.headers.get("Content-Type", ""),
            response.content_length,
            headers,
            filename(response.headers.get("Content-Disposition")),
            self._chunks(exchange, response, span[1] if span and served and not asked.or_less else None),
            exchange,
        )

    async def _chunks(
        self, exchange: Exchange, response: aiohttp.ClientResponse, wanted: int | None
    ) -> AsyncIterator[bytes]:
        """The body, with its length checked against what was announced. One that only drips is given up."""
        address, stall = exchange.url, self.connection.stall
        plain = "Content-Encoding" not in response.headers
        announced = wanted if wanted is not None else response.content_length if plain else None
        chunks = response.content.iter_chunked(_CHUNK)
        since, before = time.monotonic(), 0
        while True:
            try:
                chunk = await anext(chunks, None)
            except (aiohttp.ClientError, TimeoutError, OSError) as problem:
                raise explain(address, problem, stall) from problem
            if chunk is None:
                break
            exchange.bytes += len(chunk)
            if announced is not None and exchange.bytes > announced:
                break
            if (now := time.monotonic()) - since > _DRIP * stall:
                if exchange.bytes - before < _LEAST:
                    raise Passing(f"{shown(address)} sends next to nothing.", crowded=True, url=address)
                since, before = now, exchange.bytes
            if self._meter:
                since += await self._meter.spend(len(chunk))
            if exchange.copy:
                exchange.copy.write(chunk)
            yield chunk
        if announced is not None and exchange.bytes != announced:
            what = "ended after" if exchange.bytes < announced else "sends more than"
            raise Passing(
                f"{shown(address)} {what} {min(exchange.bytes, announced):,} of {announced:,} bytes.", url=address
            )
        exchange.whole = True


def _insist_on_part(address: str, span: tuple[int, int], headers: Mapping[str, str]) -> None:
    """Raises Passing where a part is not the one that was asked for (RFC 9110 §14.4), or cannot be told."""
    unit, _, place = headers.get("content-range", "").partition(" ")
    begin = place.partition("-")[0]
    if unit == "bytes" and begin.isdigit() and int(begin) != span[0]:
        raise Passing(f"{shown(address)} sends another part than was asked for.", url=address)
    if headers.get("content-encoding", "identity").lower() != "identity":
        raise Passing(f"{shown(address)} sends a part that is compressed, and cannot be joined.", url=address)


def _family(response: aiohttp.ClientResponse) -> str | None:
    """Over which kind of address a response comes."""
    peer = response.peer if isinstance(response, _Response) else None
    return {2: "IPv4", 4: "IPv6"}.get(len(peer)) if isinstance(peer, tuple) else None


def _peer(response: aiohttp.ClientResponse) -> str | None:
    """The address of the server, or of the proxy, that a response comes from."""
    peer = response.peer if isinstance(response, _Response) else None
    return str(peer[0]) if isinstance(peer, tuple) else None


def _enough(reply: Reply) -> int:
    """Bytes that tell what an answer is."""
    return _ENDLESS_HEAD if reply.length is None and reply.type.startswith(("audio/", "video/")) else HEAD


@asynccontextmanager
async def _in_time(address: str) -> AsyncIterator[None]:
    """Bounds how long text may take; a server that sends a byte now and then is no stall."""
    try:
        async with asyncio.timeout(_LONGEST_TEXT):
            yield
    except TimeoutError as problem:
        raise NetworkError(f"{shown(address)} did not finish within {_LONGEST_TEXT:.0f} s.") from problem


def _look(reply: Reply, body: bytes, *, complete: bool) -> Content:
    headers = reply.headers
    length, ranges = reply.length, headers.get("accept-ranges", "").lower() == "bytes"
    if reply.status == 206:
        total = headers.get("content-range", "").rpartition("/")[2]
        length, ranges = whole_number(total), True
    if "content-encoding" in headers:
        length = len(body) if complete else None
    tag = headers.get("etag", "")
    return Content(
        reply.url,
        reply.status,
        *_type(reply.type),
        length,
        body,
        complete,
        ranges,
        tag if tag.startswith('"') else None,
        reply.filename,
        headers,
    )


def _type(header: str) -> tuple[str, str | None]:
    """The media type and the charset of a Content-Type header (RFC 9110 §8.3)."""
    kind, _, parameters = header.partition(";")
    charset = None
    for parameter in parameters.split(";"):
        name, _, value = parameter.partition("=")
        if name.strip().lower() == "charset":
            charset = value.strip().strip("\"'") or None
    return kind.strip().lower(), charset
