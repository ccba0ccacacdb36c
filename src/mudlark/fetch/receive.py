"""Bodies from the network to the disk: checked while they come, gone on with where they broke off, and cut out of the
whole where a server sends no parts.

Bytes are hashed and written in threads, off the event loop.
"""

import asyncio
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from typing import Any, TypeVar

import msgspec
from msgspec.structs import replace

from mudlark.errors import NetworkError
from mudlark.fetch.incoming import Body, Incoming
from mudlark.fetch.place import Place
from mudlark.fetch.store import checked as body_at
from mudlark.web.address import shown
from mudlark.web.answer import Reply, part_of, strong
from mudlark.web.digest import stated_digests
from mudlark.web.exchange import Errand
from mudlark.web.passing import Passing
from mudlark.web.resource import Resource, Version
from mudlark.web.session import Changed, Session

T = TypeVar("T")
Check = Callable[[bytes], str | None]
_BLOCK = 1 << 20  # bytes collected before they go to a thread
_NOTED = 1 << 19  # the same of a part whose beginning is noted
_HEAD = 65536  # bytes by which a body is judged


class Timing(msgspec.Struct, frozen=True):
    """In which lane something came, when it was asked for and when it was there, in seconds of the monotonic clock, and
    the address that was asked."""

    lane: int | None
    sent: float
    ended: float
    url: str


class Arrived(msgspec.Struct, frozen=True):
    """A body that has come: what is left of it to be written, or where it is already. file: where it is, or will
    be."""

    file: Path
    incoming: Incoming | None = None
    rest: tuple[bytes, ...] = ()
    body: Body | None = None
    timing: Timing | None = None

    @property
    def bytes(self) -> int:
        """How many have come."""
        if self.body is not None:
            return self.body.length
        return (self.incoming.bytes if self.incoming else 0) + sum(map(len, self.rest))

    @property
    def is_small(self) -> bool:
        """True if it is all in memory, and stays there until many are written together."""
        return self.body is None and self.incoming is not None and self.incoming.stays_in_memory(self.bytes)

    def end(self) -> Body:
        """Write what is left. For a worker thread."""
        if self.body is not None:
            return self.body
        assert self.incoming
        return self.incoming.end(self.rest)

    def abandon(self) -> None:
        """Drop it. For a worker thread."""
        if self.incoming:
            self.incoming.abandon()


class Pot(msgspec.Struct):
    """Where one try of a body goes. check: says what is wrong with its first bytes, or None. at, hashed, apart: as
    `Incoming` has them. largest: bytes that it may have, if that is less than any may. on_written: hears of what is
    written of it before it has ended."""

    path: Path
    check: Check
    at: int | None = None
    hashed: bool = True
    apart: bool = False
    incoming: Incoming | None = None
    largest: int | None = None
    on_written: Callable[[Body], None] | None = None

    @property
    def bytes(self) -> int:
        """Bytes that have come."""
        return self.incoming.bytes if self.incoming else 0


class _BrokenOff(msgspec.Struct, frozen=True):
    """A body that broke off: what came of it, which version of its resource the rest must be of, where in that it
    begins, and how many bytes there are."""

    incoming: Incoming
    version: Version
    start: int
    length: int


class Receiver(msgspec.Struct):
    """largest: bytes that one body may have, if there is a limit. wholes: gives names for files that are cut."""

    session: Session
    pool: ThreadPoolExecutor
    on_bytes: Callable[[int], None]
    largest: int | None
    name_whole: Callable[[int], Path]
    _wholes: dict[str, asyncio.Future[Path | None]] = msgspec.field(default_factory=dict)
    _wholes_begun: int = 0
    _unlike: dict[Path, str] = msgspec.field(default_factory=dict)
    _begun: dict[tuple[Path, int | None], _BrokenOff] = msgspec.field(default_factory=dict)

    async def fetch(self, resource: Resource, pot: Pot, errand: Errand) -> Arrived:
        """One try."""
        if resource.span and not resource.version:
            return await self._fetch_part(resource, pot, errand)
        if begun := self._begun.pop((pot.path, pot.at), None):
            with suppress(Changed):
                return await self._continue(begun, resource, pot, errand)
            await in_thread(self.pool, begun.incoming.abandon)
        span = (resource.span.start, resource.span.length) if resource.span else None
        async with self.session.open(resource.url, span=span, version=resource.version, errand=errand) as reply:
            return await self._receive(reply, pot)

    async def forget(self, pot: Pot) -> None:
        """Drop what came of a body that broke off, and is not gone on with."""
        if left := self._begun.pop((pot.path, pot.at), None):
            await in_thread(self.pool, left.incoming.abandon)

    async def _continue(self, begun: _BrokenOff, resource: Resource, pot: Pot, errand: Errand) -> Arrived:
        """What is missing of a body that broke off. Raises Changed where it is another one now, or cannot be had so."""
        have, url = begun.incoming.bytes, resource.url
        span = (begun.start + have, begun.length - have)
        async with self.session.open(url, span=span, version=begun.version, errand=errand) as reply:
            return await self._receive(reply, pot, begun=begun)

    async def _fetch_part(self, resource: Resource, pot: Pot, errand: Errand) -> Arrived:
        """A byte range of a playlist. Where the server ignores ranges, the resource is fetched once, whole, and cut:
        the first request finds out, the others for the same address wait for that."""
        part = resource.span
        assert part
        known = self._wholes.get(resource.url)
        if known is not None:
            whole = await asyncio.shield(known)
            if whole is not None:
                return await self._cut(whole, resource)
            if self._wholes.get(resource.url) is not known:  # the one that was to find out failed
                return await self._fetch_part(resource, pot, errand)
            async with self.session.open(resource.url, span=(part.start, part.length), errand=errand) as reply:
                return await self._receive(reply, pot)
        atomic_write = self._wholes[resource.url] = asyncio.get_running_loop().create_future()
        self._wholes_begun += 1
        whole = self.name_whole(self._wholes_begun)  # named now: others may begin before the answer comes
        try:
            async with self.session.open(
                resource.url, span=(part.start, part.length), or_whole=True, errand=errand
            ) as reply:
                if reply.status == 206:
                    atomic_write.set_result(None)
                    return await self._receive(reply, pot)
                arrived = await self._receive(reply, Pot(whole, lambda _head: None, hashed=False, apart=True))
                await in_thread(self.pool, _put, arrived)
                atomic_write.set_result(whole)
        finally:
            if not atomic_write.done():  # it failed: the next one finds out
                atomic_write.set_result(None)
                del self._wholes[resource.url]
        return await self._cut(whole, resource)

    async def _cut(self, whole: Path, resource: Resource) -> Arrived:
        """A part of a resource that is there whole."""
        part = resource.span
        assert part
        body = await in_thread(self.pool, lambda: body_at(Place(whole, part.start, part.length), hashed=True))
        if body.length != part.length:
            raise NetworkError(
                f"{shown(resource.url)} has {part.start + body.length:,} bytes; a list wants some up to {part.end:,}.",
                url=resource.url,
            )
        return Arrived(whole, body=body)

    async def _receive(self, reply: Reply, pot: Pot, *, begun: _BrokenOff | None = None) -> Arrived:
        """A body; what came of one that breaks off is kept, where the rest of it can be asked for (begun: what was),
        else dropped."""
        incoming = begun.incoming if begun else Incoming(pot.path, at=pot.at, hashed=pot.hashed, apart=pot.apart)
        pot.incoming = incoming
        begun = begun or _as_begun(incoming, reply, pot.at)
        try:
            rest = await self._write(reply, incoming, pot)
        except Passing:
            if begun and incoming.bytes:
                self._begun[pot.path, pot.at] = begun
            else:
                await in_thread(self.pool, incoming.abandon)
            raise
        except BaseException:
            await in_thread(self.pool, incoming.abandon)
            raise
        return await self._compared(reply, Arrived(pot.path, incoming, tuple(rest), timing=_timing(reply)))

    async def _write(self, reply: Reply, incoming: Incoming, pot: Pot) -> list[bytes]:
        """All but the last chunks, which are given back."""
        largest = min((limit for limit in (pot.largest, self.largest) if limit is not None), default=None)
        chunks: list[bytes] = []
        held = 0
        checked, block = incoming.bytes > 0, _NOTED if pot.on_written else _BLOCK
        try:
            async for chunk in reply.chunks:
                self.on_bytes(len(chunk))
                chunks.append(chunk)
                held += len(chunk)
                if largest is not None and incoming.bytes + held > largest:
                    raise NetworkError(
                        f"{shown(reply.url)} is larger than any segment or key ({largest:,} bytes).",
                        "If it is a film of its own, haul it by its address.",
                        url=reply.url,
                    )
                if held >= block:
                    checked = checked or _passes(chunks, reply, pot.check)
                    await self._put_down(incoming, chunks, pot)
                    chunks, held = [], 0
        except Passing:
            if chunks and (checked or pot.check(_head(chunks)) is None):
                await self._put_down(incoming, chunks, pot)
            raise
        if not checked:
            _passes(chunks, reply, pot.check)
        return chunks

    async def _put_down(self, incoming: Incoming, chunks: list[bytes], pot: Pot) -> None:
        await in_thread(self.pool, incoming.write, chunks)
        if pot.on_written:
            pot.on_written(incoming.beginning)

    async def _compared(self, reply: Reply, arrived: Arrived) -> Arrived:
        """Compared with the digest that the server states of what it sent, if it does (RFC 9530). Where the same bytes
        come twice, it is the digest that is wrong."""
        plain = reply.status == 200 and "content-encoding" not in reply.headers
        stated = stated_digests(reply.headers, whole=plain).get("sha256") if plain else None
        if stated is None:
            return arrived
        body = await in_thread(self.pool, arrived.end)
        if body.sha256 not in ("", stated) and self._unlike.get(arrived.file) != body.sha256:
            self._unlike[arrived.file] = body.sha256
            await in_thread(self.pool, arrived.abandon)
            raise Passing(f"{shown(reply.url)} sends other bytes than its digest says.", url=reply.url)
        return replace(arrived, body=body)


def _timing(reply: Reply) -> Timing | None:
    exchange = reply.exchange
    sent = exchange.sent if exchange else None
    return None if exchange is None or sent is None else Timing(exchange.lane, sent, time.monotonic(), exchange.url)


def _put(arrived: Arrived) -> None:
    arrived.end()
    assert arrived.incoming
    arrived.incoming.flush()
    arrived.incoming.settle()


def _as_begun(incoming: Incoming, reply: Reply, at: int | None) -> _BrokenOff | None:
    """What is needed to ask for the rest of a body, should it break off (RFC 9110 §13.1.5, §14.2); None where that is
    not safe. at: where in its resource a part begins."""
    tag, length = strong(reply.headers.get("etag", "")), reply.length
    if "content-encoding" in reply.headers or tag is None or not length:
        return None
    part, modified = part_of(reply.headers), reply.headers.get("last-modified")
    if reply.status == 206:
        version = Version(tag, modified, part.total if part else None)
        return _BrokenOff(incoming, version, at, length) if at is not None else None
    ranges = reply.headers.get("accept-ranges", "").lower() == "bytes"
    version = Version(tag, modified, length)
    return _BrokenOff(incoming, version, 0, length) if reply.status == 200 and ranges else None


def _head(chunks: Sequence[bytes]) -> bytes:
    """The first bytes of what has come."""
    head = b""
    for chunk in chunks:
        head = head + chunk[: _HEAD - len(head)] if head else chunk[:_HEAD]
        if len(head) >= _HEAD:
            break
    return head


def _passes(chunks: Sequence[bytes], reply: Reply, check: Check) -> bool:
    wrong = check(_head(chunks))
    if wrong:
        raise Passing(f"{shown(reply.url)} sends {wrong}.", "The server may be in trouble; try again later.")
    return True


async def in_thread(pool: ThreadPoolExecutor, work: Callable[..., T], *given: Any) -> T:
    """What a thread gives. A thread cannot be stopped, so its end is awaited also when the task is cancelled: what
    comes after must not meet it still at work."""
    running = asyncio.get_running_loop().run_in_executor(pool, work, *given)
    try:
        return await asyncio.shield(running)
    except asyncio.CancelledError:
        while not running.done():
            with suppress(asyncio.CancelledError):
                await asyncio.wait([running])
        if not running.cancelled():
            running.exception()  # whoever cancelled has a reason of their own to tell
        raise
