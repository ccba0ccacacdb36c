"""Fetching all segments of a plan: concurrently, politely, again when one fails, from where it stopped last time.

Bytes are hashed and written in threads, off the event loop. A segment that fails for good does not stop the others;
many in a row do, because then it is the server or the network that is gone.
"""

import asyncio
from collections.abc import AsyncGenerator, Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mudlark.errors import NetworkError
from mudlark.fetch.store import Incoming, Row, Store, now
from mudlark.manifest.model import Segment
from mudlark.web.address import without_query
from mudlark.web.retry import Passing, persist
from mudlark.web.session import Answer, Changed, Session

_BLOCK = 1 << 20  # bytes collected before they go to a thread
_WRITERS = 4
_HOPELESS = 4  # failures for good in a row, without one success, that end the haul


@dataclass(frozen=True, slots=True)
class Job:
    """One segment to fetch, and the track it belongs to."""

    track: str
    segment: Segment

    @property
    def source(self) -> str:
        """What identifies the bytes: a token in the query may change between two runs, the path may not."""
        part = self.segment.byte_range
        place = f" {part.start}+{part.length} of {self.segment.validator or 'any'}" if part else ""
        return without_query(self.segment.url) + place


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
        loop = asyncio.get_running_loop()
        number = job.segment.number
        path = self.store.path(job.track, number)
        if self.store.row(job.track, number):
            row = await loop.run_in_executor(pool, self.store.usable, job.track, number, job.source)
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
            self._failed_in_a_row += 1
            if self._failed_in_a_row >= _HOPELESS and problem.status not in (404, 410):
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
        part = job.segment.byte_range
        span = (part.start, part.length) if part else None
        incoming = Incoming(path)
        try:
            async with self.session.open(job.segment.url, span=span, unless_changed=job.segment.validator) as answer:
                return await self._receive(answer, incoming, pool)
        except BaseException:
            await asyncio.shield(asyncio.get_running_loop().run_in_executor(pool, incoming.abandon))
            raise

    async def _receive(self, answer: Answer, incoming: Incoming, pool: ThreadPoolExecutor) -> tuple[int, str]:
        loop = asyncio.get_running_loop()
        chunks: list[bytes] = []
        held, checked = 0, False
        async for chunk in answer.chunks:
            self.watch.on_bytes(len(chunk))
            chunks.append(chunk)
            held += len(chunk)
            if held >= _BLOCK:
                checked = checked or self._passes(chunks, answer)
                await loop.run_in_executor(pool, incoming.write, chunks)
                chunks, held = [], 0
        checked = checked or self._passes(chunks, answer)

        def finish() -> str:
            incoming.write(chunks)
            return incoming.commit()

        return incoming.bytes + held, await loop.run_in_executor(pool, finish)

    def _passes(self, chunks: list[bytes], answer: Answer) -> bool:
        wrong = self.check(b"".join(chunks)[:65536] if len(chunks) > 1 else chunks[0][:65536] if chunks else b"")
        if wrong:
            raise Passing(f"{answer.url} sends {wrong}.", "The server may be in trouble; try again later.")
        return True
