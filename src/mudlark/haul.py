"""The one place that runs the steps of a haul in order: find, manifest, fetch, assemble, verify, record.

Nothing appears under its final name before it is verified: everything is made inside the store, and the finished
folder is moved into place in one step.
"""

import asyncio
import os
import platform
import queue
import shutil
import threading
from collections.abc import Callable, Iterator
from contextlib import aclosing
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import urlsplit

from mudlark import __version__
from mudlark.archive.assay import assay
from mudlark.archive.naming import folder_for, safe_name, title_for
from mudlark.archive.record import (
    RECORD,
    EvidenceFacts,
    FileFacts,
    FindFacts,
    ManifestFacts,
    PageFacts,
    Record,
    RequestFacts,
    SegmentCounts,
    SegmentFacts,
    Source,
    TrackFacts,
    to_json,
)
from mudlark.assemble.write import Assembled, Part, assemble
from mudlark.errors import MudlarkError, NetworkError, StorageError
from mudlark.fetch.engine import Counts, Engine, Job, Outcome, Watch
from mudlark.fetch.store import Store, now
from mudlark.find.model import Find, Page
from mudlark.find.sift import best, sift_look
from mudlark.manifest.choose import highest
from mudlark.manifest.load import fill, open_presentation, wants_text
from mudlark.manifest.model import Presentation, Track
from mudlark.media.sniff import extension, sniff
from mudlark.media.ts import TransportError, TransportReader, align
from mudlark.verify.fixity import digest
from mudlark.verify.media import check_media
from mudlark.verify.verdict import Problem, Report, Verdict
from mudlark.web.session import Session

_SECRET = frozenset({"authorization", "cookie", "proxy-authorization"})


@dataclass(frozen=True, slots=True)
class Plan:
    """What is about to be fetched: for whoever watches."""

    title: str
    presentation: Presentation
    tracks: list[Track]
    segments: int
    duration: float | None


@dataclass(slots=True)
class HaulWatch(Watch):
    """A Watch that also hears of the plan and of the steps."""

    on_plan: Callable[[Plan], None] = lambda _plan: None
    on_step: Callable[[str], None] = lambda _step: None


@dataclass(slots=True)
class Item:
    """What a haul left. folder: None if nothing was fit for a final name. kept: where the unfinished work is."""

    record: Record
    folder: Path | None
    kept: Path | None = None
    already: bool = False

    @property
    def verdict(self) -> Verdict:
        return self.record.verdict


@dataclass(slots=True)
class _Found:
    """The way from the target to the presentation."""

    page: Page | None
    find: Find | None
    presentation: Presentation
    tracks: list[Track]
    title: str


async def haul(
    session: Session, target: str, into: Path, title: str | None = None, watch: HaulWatch | None = None
) -> Item:
    """Fetch what `target` (a page, playlist or file) holds into a new folder inside `into`."""
    watch = watch or HaulWatch()
    started = now()
    watch.on_step("Looking")
    found = await _find(session, target, title)
    _make_folder(into)
    folder, earlier = folder_for(into, found.title, target)
    if earlier and earlier.verdict == "sound" and assay(folder)[0].verdict == "sound":
        return Item(earlier, folder, already=True)
    with Store(into, target) as store:
        return await _Haul(session, target, found, store, watch, started).run(folder)


async def _find(session: Session, target: str, title: str | None) -> _Found:
    look = await session.look(target, wants_text)
    page = await sift_look(session, look)
    own = len(page.finds) == 1 and page.finds[0].url == look.url
    find = page.finds[0] if own else best(page)
    if not own:
        look = await session.look(find.url, wants_text)
    presentation = open_presentation(look)
    tracks = highest(presentation)
    await fill(session, presentation, tracks)
    name = title or title_for(None if own else page.title, target, presentation.url)
    return _Found(None if own else page, find, presentation, tracks, name)


class _Haul:
    """One haul from plan to item."""

    def __init__(
        self, session: Session, target: str, found: _Found, store: Store, watch: HaulWatch, started: str
    ) -> None:
        self.session = session
        self.target = target
        self.found = found
        self.store = store
        self.watch = watch
        self.started = started
        self.report = Report()
        self.counts = Counts()
        self.facts: dict[tuple[str, int], SegmentFacts] = {}
        self.name = safe_name(found.title) or "Untitled"
        self.plain = found.presentation.kind == "file"

    async def run(self, folder: Path) -> Item:
        jobs = _in_time_order(self.found.tracks)
        planned = max((track.duration or 0.0 for track in self.found.tracks), default=0.0) or None
        self.watch.on_plan(Plan(self.found.title, self.found.presentation, self.found.tracks, len(jobs), planned))
        shutil.rmtree(self.store.item, ignore_errors=True)
        try:
            self.store.item.mkdir()
            engine = Engine(self.session, self.store, self.check, self.watch, self.counts)
            media = await (self.file(engine, jobs) if self.plain else self.film(engine, jobs, planned))
            self.watch.on_step("Verifying")
            tracks, duration = await asyncio.to_thread(self.verify, media, planned)
            record = self.record(media, tracks, duration, planned)
            if record.verdict == "broken":
                return Item(record, None, self.store.folder)
            self.place(record, folder)
        except OSError as problem:
            raise StorageError(
                f"Cannot write into {self.store.folder}: {problem.strerror}.",
                "Make room; the same command goes on from here.",
            ) from problem
        if self.counts.missing:
            return Item(record, folder, self.store.folder)
        self.store.discard()
        return Item(record, folder)

    def check(self, head: bytes) -> str | None:
        """What is wrong with a segment that begins so."""
        if self.plain:
            return None
        form = sniff(head)
        if form in ("html", "json", "xml", "hls", "dash"):
            return f"{ {'html': 'a web page'}.get(form, form.upper()) } where a segment was expected"
        try:
            align(head)
        except TransportError:
            return "bytes that are not an MPEG transport stream"
        return None

    def note(self, outcome: Outcome) -> None:
        """Keep what the record says of a segment."""
        job, row = outcome.job, outcome.row
        part = job.segment.byte_range
        facts = SegmentFacts(job.track, job.segment.number, job.segment.url, job.segment.duration)
        facts.byte_range = (part.start, part.length) if part else None
        if row:
            facts.bytes, facts.sha256, facts.fetched, facts.tries = row.bytes, row.sha256, row.fetched, row.tries
        else:
            facts.problem = outcome.problem
        self.facts[job.track, job.segment.number] = facts

    async def file(self, engine: Engine, jobs: list[Job]) -> Path:
        """A plain file: its one segment is the media file."""
        self.watch.on_step("Fetching")
        async for outcome in engine.run(jobs):
            self.note(outcome)
            if outcome.path is None:
                raise NetworkError(outcome.problem or "The file could not be fetched.")
            with outcome.path.open("rb") as source:
                form = sniff(source.read(65536))
            media = self.store.item / (self.name + (extension(form) or Path(urlsplit(jobs[0].segment.url).path).suffix))
            _link(outcome.path, media)
        return media

    async def film(self, engine: Engine, jobs: list[Job], planned: float | None) -> Path:
        """Segments: assembled in a thread while the later ones are still being fetched."""
        self.watch.on_step("Fetching")
        media = self.store.item / f"{self.name}.mp4"
        parts = _Parts()
        work = asyncio.create_task(asyncio.to_thread(assemble, parts, TransportReader, media, planned or 0.0))
        failures: list[str] = []
        try:
            async with aclosing(engine.run(jobs)) as outcomes:
                async for outcome in outcomes:
                    self.note(outcome)
                    if outcome.path is None:
                        failures.append(outcome.problem or "")
                    if work.done():  # it cannot go on: the reason comes with its result
                        break
                    parts.put(_part(outcome, self.found.tracks))
            parts.end()
            self.watch.on_step("Assembling")
            assembled = await work
        except BaseException:
            parts.stop()
            await asyncio.gather(work, return_exceptions=True)
            raise
        self.judge(assembled, failures)
        return media

    def judge(self, assembled: Assembled, failures: list[str]) -> None:
        """Turn what was missing, unreadable or mended into problems; nothing at all is a failure."""
        if not assembled.segments:
            if assembled.unreadable:
                part, problem = assembled.unreadable[0]
                raise MudlarkError(
                    f"Segment {part.number + 1} cannot be read: {problem.what}",
                    "The server sent something else than it promised.",
                )
            raise NetworkError(
                f"None of {self.counts.planned} segments could be fetched. The first: {failures[0]}",
                "If the link has expired, open the page anew and haul again.",
            )
        begin: dict[str, float] = {}
        for facts in self.facts.values():
            since = begin.get(facts.track, 0.0)
            begin[facts.track] = since + facts.duration
            if facts.problem:
                place = f"{since:.1f}–{since + facts.duration:.1f} s"
                message = f"Segment {facts.number + 1} ({place}) is missing: {facts.problem}"
                self.report.problems.append(Problem("segment-missing", message))
        for part, problem in assembled.unreadable:
            self.report.problems.append(
                Problem("segment-unreadable", f"Segment {part.number + 1} cannot be read: {problem.what}")
            )
        self.report.problems += [Problem("loss", note) for note in assembled.notes]

    def verify(self, media: Path, planned: float | None) -> tuple[list[TrackFacts], float | None]:
        movie = check_media(media, planned, self.report)
        if movie is None:
            return [], None
        ends = [track.presented(movie.timescale)[1] for track in movie.tracks]
        return [TrackFacts.of(track) for track in movie.tracks], round(max(ends, default=0.0), 3)

    def record(self, media: Path, tracks: list[TrackFacts], duration: float | None, planned: float | None) -> Record:
        size, sha256 = digest(media)
        files = [FileFacts(media.name, "media", size, sha256)]
        manifests = []
        for number, document in enumerate(self.found.presentation.documents, start=1):
            name = f"manifest/{number:02d}-{safe_name(Path(urlsplit(document.url).path).name) or 'manifest.m3u8'}"
            path = self.store.item / name
            path.parent.mkdir(exist_ok=True)
            path.write_bytes(document.body)
            files.append(FileFacts(name, "manifest", *digest(path)))
            manifests.append(ManifestFacts(document.url, name, files[-1].sha256))
        if self.found.page and self.found.page.duration and duration:
            stated = self.found.page.duration
            self.report.skipped("page-duration", f"the page states {stated:.2f} s, the file lasts {duration:.2f} s")
        counts = self.counts
        return Record(
            title=self.found.title,
            verdict=self.report.verdict,
            problems=self.report.problems,
            started=self.started,
            finished=now(),
            source=self.source(manifests),
            duration=duration,
            planned_duration=planned,
            tracks=tracks,
            files=files,
            segments=SegmentCounts(counts.planned, counts.fetched, counts.reused, counts.retried, counts.missing),
            segment_list=list(self.facts.values()),
            checks=self.report.checks,
            versions={"mudlark": __version__, "python": platform.python_version(), "system": platform.system()},
        )

    def source(self, manifests: list[ManifestFacts]) -> Source:
        page, find = self.found.page, self.found.find
        headers = {
            name: "(left out)" if name.lower() in _SECRET else value for name, value in self.session.identity.items()
        }
        return Source(
            target=self.target,
            address=self.found.presentation.url,
            page=PageFacts(page.url, page.title, page.description, page.creator, page.date, page.duration)
            if page
            else None,
            find=_find_facts(find) if find else None,
            manifests=manifests,
            request=RequestFacts(self.session.connection.guise.name, headers),
        )

    def place(self, record: Record, folder: Path) -> None:
        """Make the item durable and give it its name in one step; an earlier item of the same target gives way."""
        path = self.store.item / RECORD
        path.write_bytes(to_json(record))
        for file in self.store.item.rglob("*"):
            if file.is_file():
                _make_durable(file)
        earlier = self.store.folder / "earlier"
        if folder.exists():
            folder.rename(earlier)
        try:
            self.store.item.rename(folder)
        except OSError:
            if earlier.exists():
                earlier.rename(folder)
            raise
        shutil.rmtree(earlier, ignore_errors=True)


def _find_facts(find: Find) -> FindFacts:
    evidence = [EvidenceFacts(evidence.where, evidence.at) for evidence in find.evidence]
    return FindFacts(find.url, find.kind, find.role, find.score, find.reasons, evidence)


class _Parts:
    """Hands parts from the event loop to the assembling thread, in order."""

    def __init__(self) -> None:
        self._queue: queue.SimpleQueue[Part | None] = queue.SimpleQueue()
        self._stopped = threading.Event()

    def put(self, part: Part) -> None:
        self._queue.put(part)

    def end(self) -> None:
        self._queue.put(None)

    def stop(self) -> None:
        """End early: what was assembled so far will be thrown away."""
        self._stopped.set()
        self._queue.put(None)

    def __iter__(self) -> Iterator[Part]:
        while (part := self._queue.get()) is not None and not self._stopped.is_set():
            yield part


def _in_time_order(tracks: list[Track]) -> list[Job]:
    """The segments of all tracks by the time at which they play."""
    timed = []
    for index, track in enumerate(tracks):
        begin = 0.0
        for segment in track.segments or []:
            timed.append((begin, index, Job(track.name, segment)))
            begin += segment.duration
    return [job for _, _, job in sorted(timed, key=lambda entry: entry[:2])]


def _part(outcome: Outcome, tracks: list[Track]) -> Part:
    segment = outcome.job.segment
    rendition = next(index for index, track in enumerate(tracks) if track.name == outcome.job.track)
    return Part(rendition, segment.number, segment.duration, outcome.path, segment.discontinuity)


def _make_folder(into: Path) -> None:
    """The target folder exists and takes files; found out before anything is fetched."""
    try:
        into.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise StorageError(
            f"Cannot make the folder {into}: {problem.strerror}.", "Choose another with --into."
        ) from problem


def _link(source: Path, target: Path) -> None:
    """Give a file a second name; a copy where the file system has no links."""
    try:
        target.hardlink_to(source)
    except OSError:
        shutil.copyfile(source, target)


def _make_durable(path: Path) -> None:
    with path.open("rb+") as file:
        os.fsync(file.fileno())
