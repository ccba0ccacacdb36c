"""Fetching all segments of a plan: concurrently, politely, again when one fails, from where it stopped last time.

Bytes are hashed and written in threads, off the event loop. A segment that fails for good does not stop the others;
many in a row do, because then it is the server or the network that is gone.
"""

import asyncio
from collections.abc import AsyncGenerator, Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TypeVar

from mudlark.errors import NetworkError
from mudlark.fetch.store import Incoming, Row, Store, now
from mudlark.manifest.model import Segment
from mudlark.web.address import shown
from mudlark.web.retry import Passing, persist
from mudlark.web.secret import without_secrets
from mudlark.web.session import Answer, Changed, Session

_BLOCK = 1 << 20  # bytes collected before they go to a thread
_WRITERS = 4
_HOPELESS = 4  # failures for good in a row, without one success, that end the haul; what is gone is gone, and no sign
_GONE = frozenset({404, 410})


@dataclass(frozen=True, slots=True)
class Job:
    """One segment to fetch, and the track it belongs to."""

    track: str
    segment: Segment

    @property
    def source(self) -> str:
        """What identifies the bytes: a token in the address may change between two runs, nothing else may."""
        part = self.segment.byte_range
        place = f" {part.start}+{part.length} of {self.segment.validator or 'any'}" if part else ""
        return without_secrets(self.segment.url) + place


@dataclass(frozen=True, slots=True)
class Outcome:
    """What became of a job. path is None if the segment could not be had; problem says why, status what the server
    answered.
    """

    job: Job
    path: Path | None
    row: Row | None
    reused: bool = False
    problem: str | None = None
    status: int | None = None


@dataclass(slots=True)
class Watch:
    """Who wants to know how it goes: bytes as they arrive, segments as they end, tries as they are repeated."""

    on_bytes: Callable[[int], None] = lambda _size: None
    on_outcome: Callable[[Outcome], None] = lambda _outcome: None
    on_retry: Callable[[Passing], None] = lambda _problem: None


@dataclass(slots=True)
class Counts:
    """planned, fetched, reused and missing segments; retried: tries beyond the first."""

    planned: int = 0
    fetched: int = 0
    reused: int = 0
    retried: int = 0
    missing: int = 0


T = TypeVar("T")
Check = Callable[[bytes], str | None]


@dataclass(slots=True)
class Engine:
    """Fetches jobs into a store. check: says what is wrong with the first bytes of a body, or None."""

    session: Session
    store: Store
    check: Check
    watch: Watch = field(default_factory=Watch)
    counts: Counts = field(default_factory=Counts)
    _failed_in_a_row: int = 0
    _wholes: dict[str, asyncio.Future[Path | None]] = field(default_factory=dict)

    async def run(self, jobs: Sequence[Job]) -> AsyncGenerator[Outcome]:
        """Outcomes in the order of the jobs, each as soon as it and all before it are there."""
        self.counts.planned = len(jobs)
        results: list[asyncio.Future[Outcome]] = [asyncio.get_running_loop().create_future() for _ in jobs]
        waiting = iter(enumerate(jobs))

        async def lane() -> None:
            for index, job in waiting:
                results[index].set_result(await self._one(job, pool))

        with ThreadPoolExecutor(_WRITERS, "mudlark-write") as pool:
            lanes = [asyncio.create_task(lane()) for _ in range(min(self.session.connection.lanes, len(jobs)))]
            try:
                for result in results:
                    while not result.done():
                        for task in lanes:
                            if task.done() and (problem := task.exception()):
                                raise problem
                        running: list[asyncio.Future[Any]] = [task for task in lanes if not task.done()]
                        await asyncio.wait([result, *running], return_when=asyncio.FIRST_COMPLETED)
                    yield result.result()
            finally:
                for task in lanes:
                    task.cancel()
                await asyncio.gather(*lanes, return_exceptions=True)

    async def _one(self, job: Job, pool: ThreadPoolExecutor) -> Outcome:
        number = job.segment.number
        path = self.store.path(job.track, number)
        if self.store.row(job.track, number):
            row = await _in_thread(pool, self.store.usable, job.track, number, job.source)
            if row:
                self.counts.reused += 1
                return self._tell(Outcome(job, path, row, reused=True))
        tries = 0

        async def attempt() -> tuple[int, str]:
            nonlocal tries
            tries += 1
            return await self._fetch(job, path, pool)

        try:
            size, digest = await persist(attempt, self.session.connection.patience, self._retry)
        except Changed:
            raise
        except NetworkError as problem:
            if problem.status not in _GONE:
                self._failed_in_a_row += 1
                if self._failed_in_a_row >= _HOPELESS:
                    raise
            self.counts.missing += 1
            return self._tell(Outcome(job, None, None, problem=problem.what, status=problem.status))
        self._failed_in_a_row = 0
        self.counts.fetched += 1
        row = Row(job.track, number, job.source, job.segment.url, size, digest, tries, now())
        self.store.add([row])
        return self._tell(Outcome(job, path, row))

    def _retry(self, problem: Passing) -> None:
        self.counts.retried += 1
        self.watch.on_retry(problem)

    def _tell(self, outcome: Outcome) -> Outcome:
        self.watch.on_outcome(outcome)
        return outcome

    async def _fetch(self, job: Job, path: Path, pool: ThreadPoolExecutor) -> tuple[int, str]:
        """One try: the body into its file; gives bytes and digest."""
        segment = job.segment
        if segment.byte_range and not segment.validator:
            return await self._fetch_part(segment, path, pool)
        span = (segment.byte_range.start, segment.byte_range.length) if segment.byte_range else None
        async with self.session.open(segment.url, span=span, unless_changed=segment.validator) as answer:
            return await self._receive(answer, path, pool)

    async def _fetch_part(self, segment: Segment, path: Path, pool: ThreadPoolExecutor) -> tuple[int, str]:
        """A byte range of a playlist. Where the server ignores ranges, the resource is fetched once, whole, and cut:
        the first request finds out, the others for the same address wait for that."""
        part = segment.byte_range
        assert part
        known = self._wholes.get(segment.url)
        if known is not None:
            whole = await asyncio.shield(known)
            if whole is not None:
                return await self._cut(whole, segment, path, pool)
            if self._wholes.get(segment.url) is not known:  # the one that was to find out failed
                return await self._fetch_part(segment, path, pool)
            async with self.session.open(segment.url, span=(part.start, part.length)) as answer:
                return await self._receive(answer, path, pool)
        found = self._wholes[segment.url] = asyncio.get_running_loop().create_future()
        try:
            async with self.session.open(segment.url, span=(part.start, part.length), or_whole=True) as answer:
                if answer.status == 206:
                    found.set_result(None)
                    return await self._receive(answer, path, pool)
                whole = self.store.path("whole", len(self._wholes))
                await self._receive(answer, whole, pool, checked=True)
                found.set_result(whole)
        finally:
            if not found.done():  # it failed: the next one finds out
                found.set_result(None)
                del self._wholes[segment.url]
        return await self._cut(whole, segment, path, pool)

    async def _cut(self, whole: Path, segment: Segment, path: Path, pool: ThreadPoolExecutor) -> tuple[int, str]:
        """A part of a resource that is there whole, as a file of its own."""
        part = segment.byte_range
        assert part

        def cut() -> tuple[int, str]:
            incoming = Incoming(path)
            try:
                with whole.open("rb") as file:
                    file.seek(part.start)
                    data = file.read(part.length)
                if len(data) != part.length:
                    size, end = whole.stat().st_size, part.start + part.length
                    raise NetworkError(
                        f"{shown(segment.url)} is {size:,} bytes; the playlist wants some up to {end:,}.",
                        url=segment.url,
                    )
                incoming.write([data])
                return len(data), incoming.commit()
            except BaseException:
                incoming.abandon()
                raise

        return await _in_thread(pool, cut)

    async def _receive(
        self, answer: Answer, path: Path, pool: ThreadPoolExecutor, *, checked: bool = False
    ) -> tuple[int, str]:
        """A body into a file; what came of one that fails is dropped. checked: any beginning will do."""
        incoming = Incoming(path)
        try:
            return await self._write(answer, incoming, pool, checked)
        except BaseException:
            await _in_thread(pool, incoming.abandon)
            raise

    async def _write(
        self, answer: Answer, incoming: Incoming, pool: ThreadPoolExecutor, checked: bool
    ) -> tuple[int, str]:
        chunks: list[bytes] = []
        held = 0
        async for chunk in answer.chunks:
            self.watch.on_bytes(len(chunk))
            chunks.append(chunk)
            held += len(chunk)
            if held >= _BLOCK:
                checked = checked or self._passes(chunks, answer)
                await _in_thread(pool, incoming.write, chunks)
                chunks, held = [], 0
        if not checked:
            self._passes(chunks, answer)

        def finish() -> str:
            incoming.write(chunks)
            return incoming.commit()

        return incoming.bytes + held, await _in_thread(pool, finish)

    def _passes(self, chunks: list[bytes], answer: Answer) -> bool:
        wrong = self.check(b"".join(chunks)[:65536] if len(chunks) > 1 else chunks[0][:65536] if chunks else b"")
        if wrong:
            raise Passing(f"{shown(answer.url)} sends {wrong}.", "The server may be in trouble; try again later.")
        return True


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
