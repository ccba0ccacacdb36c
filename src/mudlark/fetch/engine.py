"""Fetching all segments of a plan: concurrently, politely, again when one fails, from where it stopped last time.

Bytes are hashed and written in threads, off the event loop. A segment that fails for good does not stop the others;
many in a row do, because then it is the server or the network that is gone.
"""

import asyncio
import hashlib
import time
from collections.abc import AsyncGenerator, AsyncIterable, AsyncIterator, Awaitable, Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, TypedDict, TypeVar

import msgspec

from mudlark.errors import NetworkError
from mudlark.fetch.store import Incoming, Row, Store, now
from mudlark.manifest.model import Cipher, Segment
from mudlark.media.sniff import sniff
from mudlark.web.address import shown
from mudlark.web.resource import Resource
from mudlark.web.retry import Passing, persist
from mudlark.web.secret import without_secrets
from mudlark.web.session import Changed, Reply, Session

_BLOCK = 1 << 20  # bytes collected before they go to a thread
_WRITERS = 4
_HOPELESS = 4  # failures for good in a row, without one success, that end the haul; what is gone is gone, and no sign
_GONE = frozenset({404, 410})
_EXPIRED = frozenset({401, 403, 404, 410})
_NOT_YET = frozenset({None, 404, 410, 503})  # what a server says of a segment that is listed and not there, or nothing
_KEY = 16  # bytes
_MISSED = "the server no longer had it when it was looked for"


@dataclass(frozen=True, slots=True)
class Job:
    """One segment to fetch, the rendition it belongs to, and its place in that, from 0. patience: seconds for which it
    is asked for again although the server says that it is not there, as it may be listed before it exists."""

    track: str
    number: int
    segment: Segment
    patience: float = 0.0

    @property
    def source(self) -> str:
        """What identifies the bytes: a token in the address may change between two runs, nothing else may."""
        return source_of(self.segment.resource)


def source_of(resource: Resource) -> str:
    """What identifies the bytes of a resource."""
    part = resource.span
    place = f" {part.start}+{part.length} of {resource.validator or 'any'}" if part else ""
    return without_secrets(resource.url) + place


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of a job. path is None if the segment could not be had; problem says why, status what the server
    answered. absent: nothing promised it, and it is not there. init: where its initialization section is; key,
    init_key: what decrypts it, and that section.
    """

    job: Job
    path: Path | None
    row: Row | None
    reused: bool = False
    problem: str | None = None
    status: int | None = None
    init: Path | None = None
    key: bytes | None = None
    init_key: bytes | None = None
    absent: bool = False


@dataclass(slots=True)
class Watch:
    """Who wants to know how it goes: bytes as they arrive, segments as they end, tries as they are repeated."""

    on_bytes: Callable[[int], None] = lambda _size: None
    on_outcome: Callable[[Outcome], None] = lambda _outcome: None
    on_retry: Callable[[Passing], None] = lambda _problem: None


@dataclass(slots=True)
class Counts:
    """planned, fetched, reused and missing segments; retried: tries beyond the first. elsewhere: those that came from
    another of their addresses than the first. renewed: those whose links had expired, and were asked for anew.
    """

    planned: int = 0
    fetched: int = 0
    reused: int = 0
    retried: int = 0
    missing: int = 0
    elsewhere: int = 0
    renewed: int = 0


T = TypeVar("T")
Check = Callable[[bytes], str | None]


class _Beside(TypedDict, total=False):
    init: Path
    key: bytes
    init_key: bytes


@dataclass(slots=True)
class Engine:
    """Fetches jobs into a store. check: says what is wrong with the first bytes of a body, or None. largest: bytes that
    one body may have, if there is a limit. hopeful: many failures in a row do not end it.
    quick: what comes becomes part of something that is hashed. renew: gives a segment whose address no longer serves
    under the one that it has now.
    """

    session: Session
    store: Store
    check: Check
    watch: Watch = field(default_factory=Watch)
    counts: Counts = field(default_factory=Counts)
    largest: int | None = None
    hopeful: bool = False
    renew: Callable[[Job], Awaitable[Segment | None]] | None = None
    quick: bool = False
    _failed_in_a_row: int = 0
    _wholes: dict[str, asyncio.Future[Path | None]] = field(default_factory=dict)
    _wholes_begun: int = 0
    _sections: dict[Resource, asyncio.Task[Path]] = field(default_factory=dict)
    _preferred: dict[tuple[str, ...], int] = field(default_factory=dict)
    _begun: "dict[Path, _Begun]" = field(default_factory=dict)

    async def run(self, jobs: Iterable[Job] | AsyncIterable[Job]) -> AsyncGenerator[Outcome]:
        """Outcomes in the order of the jobs, each as soon as it and all before it are there."""
        lanes = self.session.connection.lanes
        waiting: asyncio.Queue[tuple[Job, asyncio.Future[Outcome]] | None] = asyncio.Queue(lanes)
        results: asyncio.Queue[asyncio.Future[Outcome] | None] = asyncio.Queue()

        async def feed() -> None:
            async for job in _each(jobs):
                self.counts.planned += 1
                result: asyncio.Future[Outcome] = asyncio.get_running_loop().create_future()
                await results.put(result)
                await waiting.put((job, result))
            await results.put(None)
            for _ in range(lanes):
                await waiting.put(None)

        async def lane() -> None:
            while (taken := await waiting.get()) is not None:
                job, result = taken
                result.set_result(await self._one(job, pool))

        with ThreadPoolExecutor(_WRITERS, "mudlark-write") as pool:
            tasks = [asyncio.create_task(feed()), *(asyncio.create_task(lane()) for _ in range(lanes))]
            try:
                while (result := await _while_running(results.get(), tasks)) is not None:
                    yield await _while_running(result, tasks)
            finally:
                for task in (*tasks, *self._sections.values()):
                    task.cancel()
                await asyncio.gather(*tasks, *self._sections.values(), return_exceptions=True)

    async def _one(self, job: Job, pool: ThreadPoolExecutor) -> Outcome:
        number, segment = job.number, job.segment
        if segment.gap:
            self.counts.missing += 1
            words = "the playlist says that it is not there (EXT-X-GAP)"
            return self._tell(Outcome(job, None, None, problem=words if segment.resource.url else _MISSED))
        try:
            beside = await self._beside(segment, pool)
        except NetworkError as problem:
            return self._missing(job, problem)
        path = self.store.path(job.track, number)
        if self.store.row(job.track, number):
            row = await _in_thread(pool, self.store.usable, job.track, number, job.source)
            if row:
                self.counts.reused += 1
                return self._tell(Outcome(job, path, row, reused=True, **beside))
        try:
            size, digest, tries = await self._get_patiently(job, path, pool)
        except Changed:
            raise
        except NetworkError as problem:
            return self._missing(job, problem)
        self._failed_in_a_row = 0
        self.counts.fetched += 1
        plan = msgspec.json.encode(segment).decode()
        row = Row(job.track, number, job.source, segment.resource.url, size, digest, tries, now(), plan)
        self.store.add([row])
        return self._tell(Outcome(job, path, row, **beside))

    def _missing(self, job: Job, problem: NetworkError) -> Outcome:
        """A segment that cannot be had; when many in a row cannot, it is the server that is gone."""
        if job.segment.rest and problem.status in _GONE:
            self.counts.planned -= 1
            return Outcome(job, None, None, absent=True)
        if problem.status not in _GONE and not self.hopeful:
            self._failed_in_a_row += 1
            if self._failed_in_a_row >= _HOPELESS:
                raise problem
        self.counts.missing += 1
        return self._tell(Outcome(job, None, None, problem=problem.what, status=problem.status))

    async def _get_patiently(self, job: Job, path: Path, pool: ThreadPoolExecutor) -> tuple[int, str, int]:
        """A segment, asked for again as long as the job has patience."""
        segment, begun = job.segment, time.monotonic()
        while True:
            try:
                return await self._get(segment.resource, path, pool, encrypted=segment.cipher is not None)
            except Changed:
                raise
            except NetworkError as problem:
                if self.renew and problem.status in _EXPIRED and (fresh := await self._renewed(job)):
                    job, segment = fresh, fresh.segment
                    continue
                if time.monotonic() - begun >= job.patience or problem.status not in _NOT_YET:
                    raise
                self.counts.retried += 1
            await asyncio.sleep(min(1.0, job.patience / 4))

    async def _renewed(self, job: Job) -> Job | None:
        """The job under the address that its segment has now."""
        assert self.renew
        segment = await self.renew(job)
        if segment is None:
            return None
        self.counts.renewed += 1
        return replace(job, segment=segment)

    async def _get(
        self, resource: Resource, path: Path, pool: ThreadPoolExecutor, *, encrypted: bool
    ) -> tuple[int, str, int]:
        """A resource from whichever of its addresses gives it: bytes, digest and number of tries. The one that worked
        last is asked first."""
        addresses = (resource.url, *resource.others)
        places = tuple(address.rpartition("/")[0] for address in addresses)
        best = self._preferred.get(places, 0)
        order = [best, *(index for index in range(len(addresses)) if index != best)]
        tries = 0
        failed: NetworkError | None = None
        for index in order:

            async def attempt(url: str = addresses[index]) -> tuple[int, str]:
                nonlocal tries
                tries += 1
                return await self._fetch(msgspec.structs.replace(resource, url=url), path, pool, encrypted)

            try:
                size, digest = await persist(attempt, self.session.connection.patience, self._retry)
            except Changed:
                raise
            except NetworkError as problem:
                failed = failed or problem
                continue
            self._preferred[places] = index
            self.counts.elsewhere += index > 0
            return size, digest, tries
        if left := self._begun.pop(path, None):
            await _in_thread(pool, left.incoming.abandon)
        assert failed is not None
        raise failed

    async def _beside(self, segment: Segment, pool: ThreadPoolExecutor) -> "_Beside":
        """What a segment cannot be read without: its initialization section, and keys."""
        parts_beside: _Beside = {}
        if segment.init:
            parts_beside["init"] = await self._section(
                segment.init.resource, pool, encrypted=segment.init.cipher is not None
            )
            if segment.init.cipher:
                parts_beside["init_key"] = await self._key(segment.init.cipher, pool)
        if segment.cipher:
            parts_beside["key"] = await self._key(segment.cipher, pool)
        return parts_beside

    async def _key(self, cipher: Cipher, pool: ThreadPoolExecutor) -> bytes:
        path = await self._section(cipher.key, pool, encrypted=True)
        key = path.read_bytes()
        if len(key) != _KEY:
            raise NetworkError(
                f"The key {shown(cipher.key.url)} is {len(key):,} bytes long, not {_KEY}.",
                "The link may have expired or need a log-in.",
                url=cipher.key.url,
            )
        return key

    async def _section(self, resource: Resource, pool: ThreadPoolExecutor, *, encrypted: bool) -> Path:
        """Something small that many segments need: fetched once, and kept in the store."""
        if resource not in self._sections:
            self._sections[resource] = asyncio.create_task(self._get_section(resource, pool, encrypted))
        return await asyncio.shield(self._sections[resource])

    async def _get_section(self, resource: Resource, pool: ThreadPoolExecutor, encrypted: bool) -> Path:
        source = source_of(resource)
        name = section_name(resource)
        path = self.store.path(name, 0)
        if not await _in_thread(pool, self.store.usable, name, 0, source):
            size, digest, tries = await self._get(resource, path, pool, encrypted=encrypted)
            self.store.add([Row(name, 0, source, resource.url, size, digest, tries, now())])
        return path

    def _retry(self, problem: Passing) -> None:
        self.counts.retried += 1
        self.watch.on_retry(problem)

    def _tell(self, outcome: Outcome) -> Outcome:
        self.watch.on_outcome(outcome)
        return outcome

    async def _fetch(
        self, resource: Resource, path: Path, pool: ThreadPoolExecutor, encrypted: bool
    ) -> tuple[int, str]:
        """One try: the body into its file; gives bytes and digest."""
        check = _no_page if encrypted else self.check
        if resource.span and not resource.validator:
            return await self._fetch_part(resource, path, pool, check)
        if begun := self._begun.pop(path, None):
            with suppress(Changed):
                return await self._continue(begun, resource.url, pool, check)
            await _in_thread(pool, begun.incoming.abandon)
        span = (resource.span.start, resource.span.length) if resource.span else None
        async with self.session.open(resource.url, span=span, unless_changed=resource.validator) as reply:
            return await self._receive(reply, path, pool, check)

    async def _continue(self, begun: "_Begun", url: str, pool: ThreadPoolExecutor, check: Check) -> tuple[int, str]:
        """What is missing of a body that broke off. Raises Changed where it is another one now, or cannot be had so."""
        have = begun.incoming.bytes
        async with self.session.open(
            url, span=(have, begun.total - have), unless_changed=begun.tag, or_whole=True
        ) as reply:
            if not reply.headers.get("content-range", "").startswith(f"bytes {have}-"):
                raise Changed(f"{shown(url)} sends another part than was asked for.", url=url)
            return await self._receive(reply, begun.incoming.path, pool, check, begun=begun)

    async def _fetch_part(
        self, resource: Resource, path: Path, pool: ThreadPoolExecutor, check: Check
    ) -> tuple[int, str]:
        """A byte range of a playlist. Where the server ignores ranges, the resource is fetched once, whole, and cut:
        the first request finds out, the others for the same address wait for that."""
        part = resource.span
        assert part
        known = self._wholes.get(resource.url)
        if known is not None:
            whole = await asyncio.shield(known)
            if whole is not None:
                return await self._cut(whole, resource, path, pool)
            if self._wholes.get(resource.url) is not known:  # the one that was to find out failed
                return await self._fetch_part(resource, path, pool, check)
            async with self.session.open(resource.url, span=(part.start, part.length)) as reply:
                return await self._receive(reply, path, pool, check)
        whole_file = self._wholes[resource.url] = asyncio.get_running_loop().create_future()
        self._wholes_begun += 1
        whole = self.store.path("whole", self._wholes_begun)  # named now: others may begin before the answer comes
        try:
            async with self.session.open(resource.url, span=(part.start, part.length), or_whole=True) as reply:
                if reply.status == 206:
                    whole_file.set_result(None)
                    return await self._receive(reply, path, pool, check)
                await self._receive(reply, whole, pool, check, checked=True)
                whole_file.set_result(whole)
        finally:
            if not whole_file.done():  # it failed: the next one finds out
                whole_file.set_result(None)
                del self._wholes[resource.url]
        return await self._cut(whole, resource, path, pool)

    async def _cut(self, whole: Path, resource: Resource, path: Path, pool: ThreadPoolExecutor) -> tuple[int, str]:
        """A part of a resource that is there whole, as a file of its own."""
        part = resource.span
        assert part

        def cut() -> tuple[int, str]:
            incoming = Incoming(path, quick=self.quick)
            try:
                with whole.open("rb") as file:
                    file.seek(part.start)
                    data = file.read(part.length)
                if len(data) != part.length:
                    size, end = whole.stat().st_size, part.start + part.length
                    raise NetworkError(
                        f"{shown(resource.url)} is {size:,} bytes; the playlist wants some up to {end:,}.",
                        url=resource.url,
                    )
                incoming.write([data])
                return len(data), incoming.commit()
            except BaseException:
                incoming.abandon()
                raise

        return await _in_thread(pool, cut)

    async def _receive(
        self,
        reply: Reply,
        path: Path,
        pool: ThreadPoolExecutor,
        check: Check,
        *,
        checked: bool = False,
        begun: "_Begun | None" = None,
    ) -> tuple[int, str]:
        """A body into a file; what came of one that breaks off is kept, where the rest of it can be asked for (begun:
        what was), else dropped. checked: any beginning will do."""
        incoming = begun.incoming if begun else Incoming(path, quick=self.quick)
        begun = begun or _as_begun(incoming, reply)
        try:
            return await self._write(reply, incoming, pool, check, checked or incoming.bytes > 0)
        except Passing:
            if begun and incoming.bytes:
                self._begun[path] = begun
            else:
                await _in_thread(pool, incoming.abandon)
            raise
        except BaseException:
            await _in_thread(pool, incoming.abandon)
            raise

    async def _write(
        self, reply: Reply, incoming: Incoming, pool: ThreadPoolExecutor, check: Check, checked: bool
    ) -> tuple[int, str]:
        chunks: list[bytes] = []
        held = 0
        try:
            async for chunk in reply.chunks:
                self.watch.on_bytes(len(chunk))
                chunks.append(chunk)
                held += len(chunk)
                if self.largest is not None and incoming.bytes + held > self.largest:
                    raise NetworkError(
                        f"{shown(reply.url)} is larger than any segment ({self.largest:,} bytes).",
                        "If it is a film of its own, haul it by its address.",
                        url=reply.url,
                    )
                if held >= _BLOCK:
                    checked = checked or _passes(chunks, reply, check)
                    await _in_thread(pool, incoming.write, chunks)
                    chunks, held = [], 0
        except Passing:
            if chunks and (checked or check(b"".join(chunks)[:65536]) is None):
                await _in_thread(pool, incoming.write, chunks)
            raise
        if not checked:
            _passes(chunks, reply, check)

        def finish() -> str:
            incoming.write(chunks)
            return incoming.commit()

        return incoming.bytes + held, await _in_thread(pool, finish)


@dataclass(frozen=True, slots=True)
class _Begun:
    """A body that broke off: what came of it, the entity tag that the rest must have, and how many bytes there are."""

    incoming: Incoming
    tag: str
    total: int


def _as_begun(incoming: Incoming, reply: Reply) -> _Begun | None:
    """What is needed to ask for the rest of a body, should it break off (RFC 9110 §13.1.5, §14.2); None where that is
    not safe."""
    tag, length = reply.headers.get("etag", ""), reply.length
    safe = reply.status == 200 and "content-encoding" not in reply.headers
    ranges = reply.headers.get("accept-ranges", "").lower() == "bytes"
    return _Begun(incoming, tag, length) if safe and ranges and tag.startswith('"') and length else None


def section_name(resource: Resource) -> str:
    """The track under which the store has a section or key."""
    return f"section-{hashlib.sha256(source_of(resource).encode()).hexdigest()[:12]}"


def _passes(chunks: list[bytes], reply: Reply, check: Check) -> bool:
    wrong = check(b"".join(chunks)[:65536] if len(chunks) > 1 else chunks[0][:65536] if chunks else b"")
    if wrong:
        raise Passing(f"{shown(reply.url)} sends {wrong}.", "The server may be in trouble; try again later.")
    return True


def _no_page(head: bytes) -> str | None:
    """What is wrong with something that is encrypted, or a key: it may be anything but a page."""
    return "a web page where encrypted media was expected" if sniff(head) == "html" else None


async def _each(jobs: Iterable[Job] | AsyncIterable[Job]) -> AsyncIterator[Job]:
    if isinstance(jobs, AsyncIterable):
        async for job in jobs:
            yield job
    else:
        for job in jobs:
            yield job


async def _while_running(wanted: Awaitable[T], tasks: Sequence[asyncio.Task[None]]) -> T:
    """What is awaited, unless one of the tasks fails first."""
    waiting = asyncio.ensure_future(wanted)
    while not waiting.done():
        for task in tasks:
            if task.done() and (problem := task.exception()):
                waiting.cancel()
                raise problem
        running: list[asyncio.Future[Any]] = [task for task in tasks if not task.done()]
        await asyncio.wait([waiting, *running], return_when=asyncio.FIRST_COMPLETED)
    return waiting.result()


async def _in_thread(pool: ThreadPoolExecutor, work: Callable[..., T], *given: Any) -> T:
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
