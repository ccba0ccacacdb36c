"""One request and its answer, over connections that are kept warm. Nothing is followed, and nothing tried again: what
the HTTP library makes of it ends here, in values and in words for people."""

import base64
import ssl
import zlib
from collections.abc import AsyncIterator, Iterator, Mapping, Sequence
from contextlib import asynccontextmanager
from typing import Any

import msgspec
from yarl import URL

from mudlark.errors import StorageError, UsageError
from mudlark.web.address import as_sent
from mudlark.web.answer import by_name, decoded
from mudlark.web.client import aiohttp
from mudlark.web.complaint import explain
from mudlark.web.connection import ENVIRONMENT, Connection
from mudlark.web.cookies import read_cookies
from mudlark.web.jar import CookieJar
from mudlark.web.origin import Origin, origin_of

_CHUNK = 256 * 1024
_UNDONE = ("gzip", "deflate")  # codings that the client undoes by itself
_ANY_HEAD = 32  # of gzip or of zlib
_FIELD = 256 * 1024  # longest header line: real pages send long cookies and policies


class _Response(aiohttp.ClientResponse):
    """A response that knows its peer, also when its connection serves another already."""

    peer: Any = None

    async def start(self, connection: aiohttp.connector.Connection) -> aiohttp.ClientResponse:
        self.peer = connection.transport.get_extra_info("peername") if connection.transport else None
        return await super().start(connection)


class PackedForm(msgspec.Struct, frozen=True):
    """What a form sends, and its media type."""

    body: bytes
    type: str


async def packed_form(fields: Sequence[tuple[str, str]], *, multipart: bool = False) -> PackedForm:
    """The fields of a form as they are sent."""
    form = aiohttp.FormData(default_to_multipart=multipart)
    for name, value in fields:
        form.add_field(name, value)
    payload = form()
    return PackedForm(await payload.as_bytes(), payload.headers["Content-Type"])


class HopAnswer:
    """The answer to one request, whose body has not been read. fields: in the order in which they came; headers: the
    same by lower-case name. sent: the fields of the request. version: of HTTP, as in the status line. peer: the address
    of the server or of the proxy; family: IPv4 or IPv6. url: as it was sent, without a log-in. length: of the body, as
    announced."""

    def __init__(self, address: str, response: aiohttp.ClientResponse, stall: float) -> None:
        self._response = response
        self._address, self._stall = address, stall
        self.url = str(response.url)
        self.method = response.method
        self.status = response.status
        self.reason = decoded(response.reason or "")
        self.version = f"HTTP/{response.version.major}.{response.version.minor}" if response.version else "HTTP/1.1"
        self.fields = [(decoded(name), decoded(value)) for name, value in response.raw_headers]
        self.headers = by_name(self.fields)
        self.sent = [(str(name), str(value)) for name, value in response.request_info.headers.items()]
        self.length = response.content_length
        peer = response.peer if isinstance(response, _Response) else None
        self.peer = str(peer[0]) if isinstance(peer, tuple) else None
        self.family = {2: "IPv4", 4: "IPv6"}.get(len(peer)) if isinstance(peer, tuple) else None

    async def chunks(self) -> AsyncIterator[bytes]:
        """The body as it comes, without its codings. Raises what `explain` makes of what goes wrong."""
        chunks, unpackers = self._response.content.iter_chunked(_CHUNK), _unpackers(self.headers)
        while True:
            try:
                chunk = await anext(chunks, None)
                if chunk is None and not all(unpacker.eof for unpacker in unpackers):
                    raise aiohttp.ClientPayloadError("its coding does not end where the body does")
            except (aiohttp.ClientError, TimeoutError, OSError) as problem:
                raise explain(self._address, problem, self._stall) from problem
            if chunk is None:
                return
            try:
                for part in _undone(chunk, unpackers):
                    yield part
            except zlib.error as problem:
                raise explain(self._address, aiohttp.ClientPayloadError(str(problem)), self._stall) from problem


def _undone(chunk: bytes, unpackers: Sequence[Any]) -> Iterator[bytes]:
    """A chunk without its codings, in parts that are no larger than a chunk may be, however much it unpacks to."""
    if not unpackers:
        yield chunk
        return
    first, part = unpackers[0], b""
    while chunk or len(part) == _CHUNK:
        part = first.decompress(chunk, _CHUNK)
        chunk = first.unconsumed_tail
        if first.unused_data:
            raise zlib.error("it goes on behind its end")
        if part:
            yield from _undone(part, unpackers[1:])


def _unpackers(headers: Mapping[str, str]) -> list[Any]:
    """What undoes the codings of a body, the last first, where the client leaves it as it is: old names of codings, or
    several of them (RFC 9110 §8.4)."""
    stated = headers.get("content-encoding", "").lower()
    names = [name for one in stated.split(",") if (name := one.strip()) not in ("", "identity")]
    if stated.strip() in _UNDONE or not set(names) <= {"gzip", "x-gzip", "deflate"}:
        return []
    return [zlib.decompressobj(zlib.MAX_WBITS | _ANY_HEAD) for _ in names]


class Transport:
    """Use as `async with Transport(connection) as transport`."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._client: aiohttp.ClientSession | None = None
        self._broken: tuple[type[Exception], ...] = (aiohttp.ClientError, TimeoutError, OSError, ValueError)
        self._context: ssl.SSLContext | None = None
        self._logins: dict[Origin, str] = {}  # that addresses had, which hold for all of their origin (§2.2)
        self.jar: CookieJar | None = None

    async def __aenter__(self) -> "Transport":
        connection = self._connection
        if connection.trust or connection.any_proxy:  # which may be asked by TLS, too
            self._trusted()
        self.jar = CookieJar()
        for cookie in read_cookies(connection.cookie_file) if connection.cookie_file else ():
            self.jar.put(cookie)
        stall = connection.patience
        self._client = aiohttp.ClientSession(
            connector=self._connector(),
            cookie_jar=self.jar,
            timeout=aiohttp.ClientTimeout(total=None, connect=None, sock_connect=stall, sock_read=stall),
            response_class=_Response,
            trust_env=connection.proxy == ENVIRONMENT and not connection.socks,
            max_line_size=_FIELD,
            max_field_size=_FIELD,
            read_bufsize=_CHUNK,
        )
        return self

    async def __aexit__(self, *_: object) -> None:
        if self._client:
            await self._client.close()

    def _trusted(self) -> ssl.SSLContext:
        """Whom TLS trusts, read when it is first needed."""
        if self._context is None:
            try:
                self._context = ssl.create_default_context(cafile=self._connection.trust)
            except OSError as problem:
                what = f"Cannot read the certificates in {self._connection.trust}: {problem}."
                raise StorageError(what) from problem
            self._context.set_alpn_protocols(("http/1.1",))
        return self._context

    def _connector(self) -> aiohttp.TCPConnector:
        """Connections that are kept warm; addresses of both families are raced (RFC 8305)."""
        connection = self._connection
        if connection.reach and (connection.socks or connection.any_proxy):
            raise UsageError(
                "Behind a proxy it cannot be told where a name leads, so nothing is asked for a record's sake.",
                "Leave out --proxy, or haul the item again with the command that made it.",
            )
        if proxy := connection.socks:
            from aiohttp_socks import ProxyConnectionError, ProxyConnector, ProxyError, ProxyTimeoutError  # few need it

            self._broken += (ProxyConnectionError, ProxyError, ProxyTimeoutError)
            return ProxyConnector.from_url(proxy, limit=0)
        if connection.reach:
            from mudlark.web.bounded import BoundedConnector  # few need it

            return BoundedConnector(connection.reach, limit=0)
        return aiohttp.TCPConnector(limit=0)

    @asynccontextmanager
    async def send(self, address: str, headers: Mapping[str, str], form: PackedForm | None) -> AsyncIterator[HopAnswer]:
        """Send a request (POST if there is a form to be sent); gives the answer once its header is there."""
        assert self._client, "a transport is used inside `async with`"
        url, origin = URL(as_sent(address), encoded=True), origin_of(address)
        if url.user is not None or url.password is not None:  # in UTF-8 (RFC 7617 §2.1), which the library has not
            login = f"{url.user or ''}:{url.password or ''}".encode()
            self._logins.setdefault(origin, f"Basic {base64.b64encode(login).decode()}")
            url = url.with_user(None)
        if origin in self._logins and not any(name.lower() == "authorization" for name in headers):
            headers = {**headers, "Authorization": self._logins[origin]}
        try:
            response = await self._client.request(
                "POST" if form else "GET",
                url,
                headers=headers,
                data=form.body if form else None,
                ssl=self._trusted() if address.lower().startswith("https:") or self._context else True,
                proxy=self._connection.http_proxy,
                allow_redirects=False,
            )
        except self._broken as problem:
            raise explain(address, problem, self._connection.patience) from problem
        async with response:
            yield HopAnswer(address, response, self._connection.patience)
