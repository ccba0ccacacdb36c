"""What the makers of items share: one haul as a value, how its pieces are fetched, and what a maker leaves."""

import time
from collections.abc import AsyncIterable, AsyncIterator, Iterable, Iterator
from contextlib import aclosing, asynccontextmanager
from heapq import merge
from pathlib import Path

import msgspec
from msgspec.structs import replace

from mudlark.archive.identity import Earlier
from mudlark.archive.naming import safe_name
from mudlark.archive.record import FileFacts, Note, SegmentFacts
from mudlark.archive.requests import RequestLog
from mudlark.archive.warc import Exchanges
from mudlark.assemble.film import CodedFrames
from mudlark.fetch.engine import Counts, Engine, Job, Layout, Outcome, Watch
from mudlark.fetch.receive import Check
from mudlark.fetch.store import Store
from mudlark.hauling.order import HaulWatch
from mudlark.hauling.renew import Renewal
from mudlark.hauling.resolve import Target
from mudlark.hauling.title import unreserved
from mudlark.manifest.model import Rendition
from mudlark.media.samples import Event
from mudlark.verify.account import Account, Problem, Verdict
from mudlark.web.address import as_sent
from mudlark.web.session import Session


class Work(msgspec.Struct, frozen=True):
    """One haul from plan to item. earlier: the item of the same source that is there already, and its verdict now.
    exchanges: where all of them are written, if that is wanted. requests: where their rows are."""

    session: Session
    target: Target
    store: Store
    watch: HaulWatch
    started: str
    earlier: Earlier | None
    earlier_verdict: Verdict
    exchanges: Exchanges | None = None
    requests: RequestLog | None = None

    @property
    def name(self) -> str:
        """What files of the item are called, without their extensions."""
        return unreserved(safe_name(self.target.title) or "Untitled")


class Made(msgspec.Struct, frozen=True):
    """What a maker left in the store's item: the media, what stands beside it, and what there is to say of them.

    frames: the coded frames of each track as they were read from the segments, in the order of the file's tracks.
    events: what messages among the media say. digest: bytes and SHA-256 of the media, where they were hashed as they
    came. account: of what the maker has verified itself.
    """

    media: tuple[Path, ...]
    beside: tuple[FileFacts, ...] = ()
    problems: tuple[Problem, ...] = ()
    notes: tuple[Note, ...] = ()
    frames: tuple[CodedFrames, ...] = ()
    events: tuple[Event, ...] = ()
    digest: tuple[int, str] | None = None
    account: Account = msgspec.field(default_factory=Account)


class Fetching:
    """The segments of a haul while they are fetched: counts, facts for the record, and a warning when the link will not
    live long enough. recording: the fetching that brought them while they were broadcast. received: bytes that are
    there; came: of these, by way of the network."""

    def __init__(self, work: Work, recording: "Fetching | None" = None) -> None:
        self.work = work
        self.counts = Counts()
        self.facts: dict[tuple[str, int], SegmentFacts] = {}
        self.received = 0
        self.came = 0
        self._recorded: dict[tuple[str, int], SegmentFacts] = {}
        self._begun = self._last = time.monotonic()
        self._warned = False
        self._reused = 0
        if recording:
            self.counts = replace(recording.counts, planned=0, fetched=0, reused=0, missing=0)
            self.came, self._recorded = recording.came, recording.facts
            self._begun, self._last = recording._begun, recording._last

    @asynccontextmanager
    async def outcomes(
        self,
        jobs: Iterable[Job] | AsyncIterable[Job],
        check: Check,
        largest: int | None = None,
        *,
        hopeful: bool = False,
        layout: Layout = Layout.SHARED,
    ) -> AsyncIterator[AsyncIterator[Outcome]]:
        """Outcomes in the order of the jobs; nothing is fetched any more once they are left. largest: bytes of one of
        them, if there is a limit. hopeful: many failures in a row do not end it. layout: how the store has them."""
        watch = self.work.watch
        hearing = Watch(self._bytes_came, watch.on_outcome, watch.on_retry)
        renew = Renewal(self.work.session, self.work.target)
        engine = Engine(
            self.work.session, self.work.store, check, hearing, self.counts, largest, hopeful, renew, layout
        )
        async with aclosing(engine.run(jobs)) as outcomes:
            yield self._noted(outcomes)

    async def _noted(self, outcomes: AsyncIterator[Outcome]) -> AsyncIterator[Outcome]:
        async for outcome in outcomes:
            if not outcome.absent:
                self._note(outcome)
                yield outcome

    def begin_again(self, doubtful: int) -> None:
        """All is gone through once more, for the sake of so many that came and were no good."""
        self._reused = self.counts.reused
        retried = self.counts.retried + doubtful
        self.counts = replace(self.counts, planned=0, fetched=0, reused=0, missing=0, retried=retried)
        self.facts.clear()

    def went_again(self) -> None:
        """What was fetched the first time counts as fetched."""
        counts = self.counts
        counts.reused = min(self._reused, counts.reused)
        counts.fetched = counts.planned - counts.missing - counts.reused

    def _note(self, outcome: Outcome) -> None:
        """Keep what the record says of a segment."""
        if outcome.reused and outcome.row:
            self.received += outcome.row.bytes
        job, row = outcome.job, outcome.row
        recorded = self._recorded.get((job.track, job.number)) if outcome.reused else None
        if recorded:
            self.counts.reused -= 1
            self.counts.fetched += 1
        part = job.segment.resource.span
        facts = SegmentFacts(job.track, job.number, job.segment.resource.url, job.segment.duration)
        facts.byte_range = (part.start, part.length) if part else None
        facts.moment, facts.stretch = job.segment.moment, job.segment.stretch
        if row:
            facts.bytes, facts.fetched, facts.tries = row.bytes, row.fetched, row.tries
            facts.sha256 = row.sha256 or None
            if timing := outcome.timing:
                facts.lane, facts.sent = timing.lane, round(timing.sent - self._begun, 3)
                facts.took = round(timing.ended - timing.sent, 3)
                facts.came_from = timing.url if timing.url != as_sent(facts.url) else None
            elif recorded:
                facts.lane, facts.sent, facts.took = recorded.lane, recorded.sent, recorded.took
                facts.came_from = recorded.came_from
        else:
            facts.problem = outcome.problem
        self.facts[job.track, job.number] = facts

    @property
    def seconds(self) -> float:
        """From the beginning to the last byte that came."""
        return self._last - self._begun

    def _bytes_came(self, count: int) -> None:
        self.received += count
        self.came += count
        self._last = time.monotonic()
        self.work.watch.on_bytes(count)
        self._mind_expiry()

    def _mind_expiry(self) -> None:
        """Warn, once, when the link will not live until everything is fetched at the speed seen so far."""
        target = self.work.target
        expires, since = target.find.response.expires, time.monotonic() - self._begun
        length = target.presentation.facts.length
        if expires is None or self._warned or since < 1.0:
            return
        share = self.received / length if length else len(self.facts) / max(1, self.counts.planned)
        left, lives = since * (1 - share) / share if share else 0.0, expires - time.time()
        if left > lives:
            self._warned = True
            self.work.watch.on_warning(
                f"The link lives {max(0.0, lives):.0f} s more, and fetching needs about {left:.0f} s."
            )


def jobs_of(work: Work) -> Iterator[Job]:
    """The segments of all renditions that are taken, stretch by stretch, by the time at which they play; made as they
    are asked for. Those of one rendition stand in that order already."""
    renditions = [taken.rendition for taken in work.target.taken]
    yield from merge(*map(_jobs, renditions), key=lambda job: (job.segment.stretch, job.segment.begin))


def _jobs(rendition: Rendition) -> Iterator[Job]:
    for number, segment in enumerate(rendition.segments or ()):
        yield Job(rendition.name, number, segment)
