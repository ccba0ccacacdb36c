"""Fetching all segments of a plan: concurrently, politely, again when one fails, from where it stopped last time.

A lane that has a body takes the next job at once; writing, flushing and noting it goes on beside, in groups. A segment
that fails for good does not stop the others; many in a row do, because then it is the server or the network that is
gone.
"""

import asyncio
import hashlib
import logging
import time
from collections.abc import AsyncGenerator, AsyncIterable, AsyncIterator, Awaitable, Callable, Iterable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from enum import Enum
from functools import partial
from pathlib import Path
from typing import Any, TypedDict, TypeVar
from urllib.parse import urlsplit

import msgspec
from msgspec.structs import replace

from mudlark.archive.identity import without_passing
from mudlark.errors import NetworkError
from mudlark.fetch.budget import Budget
from mudlark.fetch.incoming import Body
from mudlark.fetch.peers import Peers
from mudlark.fetch.place import Place
from mudlark.fetch.receive import Arrived, Check, Pot, Receiver, Timing, in_thread
from mudlark.fetch.store import Fetched, Store, StoredRow
from mudlark.fetch.tries import GONE, Tries
from mudlark.find.judge.expiry import expires_at
from mudlark.manifest.model import Cipher, Segment
from mudlark.media.sniff import sniff
from mudlark.web.address import shown
from mudlark.web.exchange import Errand, Way
from mudlark.web.redact import redacted
from mudlark.web.resource import Resource, Span
from mudlark.web.session import Changed, Session

_log = logging.getLogger(__name__)
_WRITERS = 4
_EXPIRED = frozenset({401, 403, 404, 410})
_NOT_YET = frozenset({None, 404, 410, 503})  # what a server says of a segment that is listed and not there, or nothing
_BUSY = frozenset({429, 503})
_KEY = 16  # bytes
_LARGEST_KEY = 65_536  # bytes of what is sent for a key
_LARGEST_SECTION = 64_000_000  # bytes of an initialization section
_NEAR = 2.0  # seconds before its stated end in which an address is not tried any more
_UNWRITTEN = 1  # bodies for each lane that wait to be written
_MISSED = "the server no longer had it when it was looked for"


class Layout(Enum):
    """How the store has what comes: small bodies together in a file; each in a file of its own; or all as parts of one
    file, each at the offset of its span."""

    SHARED = 1
    APART = 2
    WHOLE = 3


class Job(msgspec.Struct, frozen=True):
    """One segment to fetch, the rendition it belongs to, and its place in that, from 0. patience: seconds for which it
    is asked for again although the server says that it is not there, as it may be listed before it exists."""

    track: str
    number: int
    segment: Segment
    patience: float = 0.0

    @property
    def source(self) -> str:
        """What identifies the bytes."""
        return source_of(self.segment.resource)


def source_of(resource: Resource) -> str:
    """What identifies the bytes of a resource: its whole address, as keys and segments may differ in a token alone."""
    part = resource.span
    place = f" {part.start}+{part.length} of {resource.version.tag if resource.version else 'any'}" if part else ""
    return redacted(resource.url) + place


def is_alike(row: StoredRow, job: Job) -> bool:
    """True if what is there is of the same address as a job's segment, but for what is handed out anew each time, and
    of the same part and version, where these are known."""
    if row.source.partition(" ")[2] != job.source.partition(" ")[2]:
        return False
    return row.source == job.source or without_passing(row.url) == without_passing(job.segment.resource.url)


class Outcome(msgspec.Struct, frozen=True):
    """What became of a job. place is None if the segment could not be had; problem says why, status what the server
    answered. absent: nothing promised it, and it is not there. init: where its initialization section is; key,
    init_key: what decrypts it, and that section. timing: of the request that brought it.
    """

    job: Job
    place: Place | None
    row: StoredRow | None
    reused: bool = False
    problem: str | None = None
    status: int | None = None
    init: Place | None = None
    key: bytes | None = None
    init_key: bytes | None = None
    absent: bool = False
    timing: Timing | None = None


@dataclass  # whoever shows it inherits this, and is made in a way of its own
class Watch:
    """Who wants to know how it goes: bytes as they arrive, segments as they end, tries as they are repeated, and what
    else is done to have them."""

    on_bytes: Callable[[int], None] = lambda _size: None
    on_outcome: Callable[[Outcome], None] = lambda _outcome: None
    on_retry: Callable[[NetworkError], None] = lambda _problem: None


class Counts(msgspec.Struct):
    """planned, fetched, reused and missing segments; retried: tries beyond the first. elsewhere: those, and sections
    and keys, that came from another of their addresses than the first. renewed: those whose links had expired, and were
    asked for anew. raced: those that were so slow that they were asked for twice at once.
    """

    planned: int = 0
    fetched: int = 0
    reused: int = 0
    retried: int = 0
    missing: int = 0
    elsewhere: int = 0
    renewed: int = 0
    raced: int = 0


T = TypeVar("T")


class _Beside(TypedDict, total=False):
    init: Place
    key: bytes
    init_key: bytes


@dataclass(slots=True)
class Engine:
    """Fetches jobs into a store. check: says what is wrong with the first bytes of a body, or None. largest: bytes that
    one body may have, if there is a limit. hopeful: no trouble ends it. renew: gives a segment whose address no longer
    serves under the one that it has now.
    """

    session: Session
    store: Store
    check: Check
    watch: Watch = field(default_factory=Watch)
    counts: Counts = field(default_factory=Counts)
    largest: int | None = None
    hopeful: bool = False
    renew: Callable[[Job], Awaitable[Segment | None]] | None = None
    layout: Layout = Layout.SHARED
    _budget: Budget = field(init=False)
    _peers: Peers = field(default_factory=Peers)
    _sections: dict[Resource, asyncio.Task[Place]] = field(default_factory=dict)
    _preferred: dict[tuple[str, ...], int] = field(default_factory=dict)
    _racing: int = 0

    def __post_init__(self) -> None:
        self._budget = Budget(self.hopeful)

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
                await line.one(*taken)

        with ThreadPoolExecutor(_WRITERS, "mudlark-write") as pool:
            whole = partial(self.store.path, "whole")
            receiver = Receiver(self.session, pool, self.watch.on_bytes, self.largest, whole)
            line = _Line(self, receiver, pool, asyncio.Semaphore(_UNWRITTEN * lanes))
            noting = asyncio.create_task(line.note())
            tasks = [asyncio.create_task(feed()), noting, *(asyncio.create_task(lane()) for _ in range(lanes))]
            try:
                while (result := await _while_running(results.get(), tasks)) is not None:
                    yield await _while_running(result, tasks)
            finally:
                moving = [task for task in (*tasks, *self._sections.values()) if task is not noting]
                for task in moving:
                    task.cancel()
                await asyncio.gather(*moving, return_exceptions=True)
                await line.end()  # what has come is kept
                noting.cancel()
                await asyncio.gather(noting, return_exceptions=True)


class _Line(msgspec.Struct):
    """One run of an engine: from a job to its outcome."""

    engine: Engine
    receiver: Receiver
    pool: ThreadPoolExecutor
    room: asyncio.Semaphore
    _writing: set[asyncio.Task[None]] = msgspec.field(default_factory=set)
    _group: list[tuple[Callable[[], Fetched], asyncio.Future[StoredRow]]] = msgspec.field(default_factory=list)
    _beginnings: dict[int, Fetched] = msgspec.field(default_factory=dict)
    _there: asyncio.Event = msgspec.field(default_factory=asyncio.Event)
    _proof: asyncio.Future[bool] | None = None
    _noting: asyncio.Task[None] | None = None

    async def one(self, job: Job, result: asyncio.Future[Outcome]) -> None:
        """Have a job done. Its result may come later, when it is written; then the lane is free already."""
        engine, segment = self.engine, job.segment
        if segment.gap:
            engine.counts.missing += 1
            words = "the playlist says that it is not there (EXT-X-GAP)"
            return self._tell(result, Outcome(job, None, None, problem=words if segment.resource.url else _MISSED))
        try:
            beside = await self._beside(segment)
        except NetworkError as problem:
            return self._missing(job, result, problem)
        key = job.track, job.number
        if engine.store.row(*key):
            row = await in_thread(self.pool, engine.store.usable, *key, job.source)
            sample = None if row else self._alike(job)
            proof = self._proof
            if sample and proof is None:
                return await self._prove(job, result, beside, sample)
            if sample and proof is not None:
                good = await asyncio.shield(proof)
                row = await in_thread(self.pool, engine.store.usable, *key, sample.source) if good else None
            if row:
                engine.counts.reused += 1
                return self._tell(result, Outcome(job, engine.store.place(row), row, reused=True, **beside))
        return await self._bring(job, result, beside)

    def _alike(self, job: Job) -> StoredRow | None:
        """What is there of a segment whose address was another in nothing but what is handed out anew each time."""
        row = self.engine.store.row(job.track, job.number)
        return row if row and is_alike(row, job) else None

    async def _prove(self, job: Job, result: asyncio.Future[Outcome], beside: _Beside, sample: StoredRow) -> None:
        """Fetch the first of the segments that are alike once more: if it is the same byte for byte, so are they."""
        proof = self._proof = asyncio.get_running_loop().create_future()
        try:
            await self._bring(job, result, beside)
            outcome = await asyncio.shield(result)
            proof.set_result(outcome.row is not None and outcome.row.check == sample.check)
        finally:
            if not proof.done():
                proof.set_result(False)

    async def _bring(self, job: Job, result: asyncio.Future[Outcome], beside: _Beside) -> None:
        """Fetch a segment, and have it written."""
        try:
            arrived, tries = await self._get_patiently(job)
        except Changed:
            raise
        except NetworkError as problem:
            return self._missing(job, result, problem)
        await self.room.acquire()
        writing = asyncio.create_task(self._write(job, arrived, tries, beside, result))
        self._writing.add(writing)
        writing.add_done_callback(self._written)
        return None

    def _written(self, task: asyncio.Task[None]) -> None:
        self._writing.discard(task)
        self.room.release()

    async def _write(
        self, job: Job, arrived: Arrived, tries: int, beside: _Beside, result: asyncio.Future[Outcome]
    ) -> None:
        try:
            row = await self._keep(job.track, job.number, job.segment.resource, arrived, tries, _plan(job.segment))
        except BaseException as problem:
            _fail(result, problem)
            return
        self.engine.counts.fetched += 1
        self._tell(result, Outcome(job, self.engine.store.place(row), row, timing=arrived.timing, **beside))

    async def _keep(
        self, track: str, number: int, resource: Resource, arrived: Arrived, tries: int, plan: str = ""
    ) -> StoredRow:
        """Have something written and noted, together with what else has come meanwhile."""
        if not arrived.is_small:
            arrived = replace(arrived, body=await in_thread(self.pool, arrived.end))

        def fetched() -> Fetched:
            source, body = source_of(resource), arrived.end()
            return Fetched(track, number, source, resource.url, tries, body, arrived.file, arrived.incoming, plan)

        noted: asyncio.Future[StoredRow] = asyncio.get_running_loop().create_future()
        self._group.append((fetched, noted))
        self._there.set()
        return await noted

    async def note(self) -> None:
        """Note what is written, group by group, until cancelled."""
        while True:
            await self._there.wait()
            self._there.clear()
            group, self._group = self._group, []
            try:
                rows = await in_thread(self.pool, self._keep_group, [fetched for fetched, _ in group])
            except Exception as problem:
                for _, noted in group:
                    _fail(noted, problem)
                continue
            for (_, noted), row in zip(group, rows, strict=True):
                if not noted.done():
                    noted.set_result(row)

    def _keep_group(self, group: list[Callable[[], Fetched]]) -> list[StoredRow]:
        return self.engine.store.keep([fetched() for fetched in group])

    def _begun(self, job: Job, path: Path, body: Body) -> None:
        """Have the beginning of a part noted: a run that goes on from here asks for the rest alone."""
        assert job.segment.resource.span
        span = Span(job.segment.resource.span.start, body.length)
        segment = replace(job.segment, resource=replace(job.segment.resource, span=span))
        begun = replace(job, segment=segment)
        self._beginnings[job.number] = Fetched(
            job.track, job.number, begun.source, segment.resource.url, 1, body, path, plan=_plan(segment)
        )
        if self._noting is None or self._noting.done():
            self._noting = asyncio.create_task(self._note_beginnings())

    async def _note_beginnings(self) -> None:
        """Note them without waiting for what is made durable."""
        while self._beginnings:
            begun, self._beginnings = list(self._beginnings.values()), {}
            await in_thread(self.pool, self.engine.store.begin, begun)

    async def end(self) -> None:
        """Wait for what is being written."""
        await asyncio.gather(*self._writing, *([self._noting] if self._noting else ()), return_exceptions=True)

    def _missing(self, job: Job, result: asyncio.Future[Outcome], problem: NetworkError) -> None:
        """A segment that cannot be had; when many in a row cannot, it is the server that is gone."""
        if job.segment.rest and problem.status in GONE:
            self.engine.counts.planned -= 1
            result.set_result(Outcome(job, None, None, absent=True))
            return
        if problem.status not in GONE:
            self.engine._budget.gave_up(problem)
        self.engine.counts.missing += 1
        self._tell(result, Outcome(job, None, None, problem=problem.what, status=problem.status))

    def _tell(self, result: asyncio.Future[Outcome], outcome: Outcome) -> None:
        self.engine.watch.on_outcome(outcome)
        if not result.done():
            result.set_result(outcome)

    async def _get_patiently(self, job: Job) -> tuple[Arrived, int]:
        """A segment, asked for again as long as the job has patience, and under another address when its own has
        expired; and the number of tries."""
        begun, tries, listed = time.monotonic(), 0, job
        if self.engine.renew and _ends_soon(job.segment.resource.url):
            job = await self._renewed(job) or job
        while True:
            try:
                arrived, count = await self._get(job, "first" if job is listed else "renewed")
                self.engine.counts.renewed += job is not listed
                return arrived, tries + count
            except Changed:
                raise
            except NetworkError as problem:
                if self.engine.renew and problem.status in _EXPIRED and (fresh := await self._renewed(job)):
                    job = fresh
                    continue
                if time.monotonic() - begun >= job.patience or problem.status not in _NOT_YET:
                    raise
                self.engine.counts.retried += 1
            await asyncio.sleep(min(1.0, job.patience / 4))

    async def _renewed(self, job: Job) -> Job | None:
        """The job under the address that its segment has now."""
        assert self.engine.renew
        segment = await self.engine.renew(job)
        if segment is None:
            return None
        _note("link renewed", segment.resource.url, f"{job.track} {job.number}")
        return replace(job, segment=segment)

    async def _get(self, job: Job, way: Way) -> tuple[Arrived, int]:
        engine, segment = self.engine, job.segment
        resource, whole = segment.resource, engine.layout is Layout.WHOLE
        path = engine.store.path("file", 0) if whole else engine.store.path(job.track, job.number)
        pot = Pot(
            path,
            engine.check if segment.cipher is None else _no_page,
            at=resource.span.start if whole and resource.span else None,
            hashed=not whole,
            apart=engine.layout is Layout.APART,
            on_written=partial(self._begun, job, path) if whole and resource.span else None,
        )
        looks = 1 if segment.rest or job.patience else 2
        return await self._ask(resource, pot, Errand(f"{job.track} {job.number}", way=way), looks, races=not whole)

    async def _ask(
        self, resource: Resource, pot: Pot, wanted: Errand, looks: int = 2, *, races: bool = False
    ) -> tuple[Arrived, int]:
        """A resource from whichever of its addresses gives it, and the number of tries. The one that served last is
        asked first. wanted: the errand of the first try."""
        engine = self.engine
        addresses = [msgspec.structs.replace(resource, url=url) for url in (resource.url, *resource.others)]
        places = tuple(one.url.rpartition("/")[0] for one in addresses)
        tries = Tries(len(addresses), engine._preferred.get(places, 0), engine.session.connection.backoff, looks=looks)
        came_before = engine._budget.good
        while turn := tries.next():
            index, wait = turn
            await asyncio.sleep(wait)
            spare = (index + 1) % len(addresses)
            errand = replace(wanted, attempt=tries.count, way=wanted.way if index == 0 else "elsewhere")
            try:
                if races:
                    arrived, index = await self._race(addresses, index, spare, pot, errand)
                else:
                    arrived = await self.receiver.fetch(addresses[index], replace(pot), errand)
            except Changed:
                raise
            except NetworkError as problem:
                free = problem.status in _BUSY and engine._budget.good > came_before
                came_before = engine._budget.good
                again = tries.failed(index, problem, free=free)
                engine._budget.failed(problem, time.monotonic())
                if again:
                    engine.counts.retried += 1
                    _note("trying again", problem.url or resource.url, wanted.name, problem.what)
                    engine.watch.on_retry(problem)
                continue
            engine._budget.succeeded()
            engine._preferred[places] = index
            if index > 0:
                engine.counts.elsewhere += 1
                _note("from another address", addresses[index].url, wanted.name)
            return arrived, tries.count
        await self.receiver.forget(pot)
        raise tries.problem

    async def _race(
        self, addresses: Sequence[Resource], index: int, spare: int, pot: Pot, errand: Errand
    ) -> tuple[Arrived, int]:
        """One try; when it takes much longer than its peers, a second one beside it, elsewhere if there is an
        elsewhere. Gives what came first, and the index of its address."""
        engine, peers, begun = self.engine, self.engine._peers, time.monotonic()
        pots = [replace(pot), replace(pot)]
        first = asyncio.create_task(self.receiver.fetch(addresses[index], pots[0], errand))
        second: asyncio.Task[Arrived] | None = None
        winner: asyncio.Task[Arrived] | None = None
        try:
            while second is None and not first.done():
                await asyncio.wait([first], timeout=peers.long)
                slow = not first.done() and peers.slow(time.monotonic() - begun, pots[0].bytes)
                if slow and engine._racing < max(1, engine.session.connection.lanes // 4):
                    engine._racing += 1
                    engine.counts.raced += 1
                    _log.info(
                        "slow, asked twice",
                        extra={"facts": {"url": redacted(addresses[spare].url), "for": errand.name}},
                    )
                    again = Errand(errand.name, errand.attempt + 1, "raced")
                    second = asyncio.create_task(self.receiver.fetch(addresses[spare], pots[1], again))
            winner = first if second is None else await _first_good(first, second)
            arrived = winner.result()
            peers.took(time.monotonic() - begun, arrived.bytes)
            return arrived, index if winner is first else spare
        finally:
            engine._racing -= second is not None
            await self._leave([task for task in (first, second) if task and task is not winner])

    async def _leave(self, losers: Sequence[asyncio.Task[Arrived]]) -> None:
        """Drop what is not needed any more."""
        for task in losers:
            task.cancel()
        for left in await asyncio.gather(*losers, return_exceptions=True):
            if isinstance(left, Arrived):
                await in_thread(self.pool, left.abandon)

    async def _beside(self, segment: Segment) -> _Beside:
        """What a segment cannot be read without: its initialization section, and keys."""
        beside: _Beside = {}
        if segment.init:
            beside["init"] = await self._section(segment.init.resource, encrypted=segment.init.cipher is not None)
            if segment.init.cipher:
                beside["init_key"] = await self._key(segment.init.cipher)
        if segment.cipher:
            beside["key"] = await self._key(segment.cipher)
        return beside

    async def _key(self, cipher: Cipher) -> bytes:
        key = (await self._section(cipher.key, encrypted=True, largest=_LARGEST_KEY)).read()
        if len(key) != _KEY:
            raise NetworkError(
                f"The key {shown(cipher.key.url)} is {len(key):,} bytes long, not {_KEY}.",
                "The link may have expired or need a log-in.",
                url=cipher.key.url,
            )
        return key

    async def _section(self, resource: Resource, *, encrypted: bool, largest: int = _LARGEST_SECTION) -> Place:
        """Something small that many segments need: fetched once, and kept in the store."""
        sections = self.engine._sections
        if resource not in sections:
            sections[resource] = asyncio.create_task(self._get_section(resource, encrypted, largest))
        return await asyncio.shield(sections[resource])

    async def _get_section(self, resource: Resource, encrypted: bool, largest: int) -> Place:
        store, name = self.engine.store, section_name(resource)
        row = await in_thread(self.pool, store.usable, name, 0, source_of(resource))
        if row is None:
            check = _no_page if encrypted else self.engine.check
            pot = Pot(store.path(name, 0), check, largest=largest)
            arrived, tries = await self._ask(resource, pot, Errand(name))
            row = await self._keep(name, 0, resource, arrived, tries)
        return store.place(row)


def _plan(segment: Segment) -> str:
    return msgspec.json.encode(segment).decode()


def _fail(future: asyncio.Future[Any], problem: BaseException) -> None:
    """Whoever waits for it gets the problem; if nobody does any more, it needs no other word."""
    if not future.done():
        future.set_exception(problem)
        future.exception()


def _note(event: str, url: str, name: str, why: str | None = None) -> None:
    """Into the log."""
    _log.info(event, extra={"facts": {"url": redacted(url), "for": name, "why": why and redacted(why)}})


def section_name(resource: Resource) -> str:
    """The track under which the store has a section or key."""
    return f"section-{hashlib.sha256(source_of(resource).encode()).hexdigest()[:12]}"


def _ends_soon(address: str) -> bool:
    """True if an address says that it will not serve any more."""
    if not urlsplit(address).query:
        return False
    now = time.time()
    ends = expires_at(address, now)
    return ends is not None and ends - now < _NEAR


def _no_page(head: bytes) -> str | None:
    """What is wrong with something that is encrypted, or a key: it may be anything but a page."""
    return "a web page where encrypted media was expected" if sniff(head) == "html" else None


async def _first_good(*tasks: asyncio.Task[Arrived]) -> asyncio.Task[Arrived]:
    """The first of them that gives something; the first of all if none does."""
    waiting = set(tasks)
    while waiting:
        done, waiting = await asyncio.wait(waiting, return_when=asyncio.FIRST_COMPLETED)
        for task in done:
            if task.exception() is None:
                return task
    return tasks[0]


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
