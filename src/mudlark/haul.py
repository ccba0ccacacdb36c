"""The one place that runs the steps of a haul in order: find, manifest, fetch, assemble, verify, record.

Nothing appears under its final name before it is verified: everything is made inside the store, and the finished
folder is moved into place in one step.
"""

import asyncio
import platform
import shutil
import time
from collections.abc import AsyncIterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import aclosing
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from mudlark import __version__
from mudlark.archive.assay import assay
from mudlark.archive.naming import folder_for, safe_name, title_for
from mudlark.archive.place import place
from mudlark.archive.provenance import (
    find_facts,
    keep_capture,
    keep_manifests,
    page_facts,
    request_facts,
    walk_facts,
)
from mudlark.archive.record import FileFacts, Record, SegmentCounts, SegmentFacts, Source, TrackFacts
from mudlark.assemble.join import join, keep_pages
from mudlark.assemble.parts import Parts
from mudlark.assemble.write import Assembled, Part, assemble
from mudlark.errors import MudlarkError, NetworkError, NothingFound, StorageError, UsageError
from mudlark.fetch.engine import Counts, Engine, Job, Outcome, Watch
from mudlark.fetch.store import Store, now
from mudlark.find.compare import best_guise
from mudlark.find.look import Looked, look
from mudlark.find.model import PLAYED, Find, Page
from mudlark.find.probe import KINDS
from mudlark.manifest import numbered
from mudlark.manifest.choose import highest
from mudlark.manifest.load import fill, load
from mudlark.manifest.model import Presentation, Track
from mudlark.media.sniff import right_extension, sniff
from mudlark.media.ts import TransportError, TransportReader, align
from mudlark.order import HaulWatch, Item, Order, Plan
from mudlark.verify.content import PICTURES, check_pages
from mudlark.verify.fixity import digest
from mudlark.verify.media import Checked, check_file
from mudlark.verify.transfer import Promise
from mudlark.verify.verdict import Problem, Report
from mudlark.web.address import file_part, shown, without_query
from mudlark.web.session import Changed, Session, along

if TYPE_CHECKING:
    from mudlark.web.listen import Heard

_DIED = frozenset({403, 404, 410})  # what a link answers that is no longer good
_MOST_CONTENTS = 1_000  # names inside an archive that a record keeps


@dataclass(slots=True)
class _Found:
    """The way from the target to the presentation. page: None if the target is no page. heard: what was listened to."""

    order: Order
    page: Page | None
    find: Find
    presentation: Presentation
    tracks: list[Track]
    heard: "Heard | None" = None

    @property
    def choice(self) -> str | None:
        """The find's address, if the user chose it."""
        return without_query(self.find.url) if self.page and self.order.choice.made else None

    @property
    def title(self) -> str:
        """The user's; else the server's; else a film is named for its page, other files for themselves."""
        given = self.presentation.filename or ""
        given = given.rpartition(".")[0] or given
        if self.order.title or safe_name(given):
            return self.order.title or given
        titled = self.page.title if self.page else None
        own = title_for(None, self.find.url, self.presentation.url, self.order.target)
        named_for_page = self.find.kind in PLAYED or self.find.members or own.startswith("From ")
        return titled if titled and named_for_page else own


async def haul(session: Session, order: Order, watch: HaulWatch | None = None) -> AsyncIterator[Item]:
    """Fetch what the target (a page, playlist or file) holds into new folders, one for each find chosen.

    When several finds are chosen, one that fails is told to the watch, and the others go on.
    """
    watch = watch or HaulWatch()
    watch.on_step("Looking")
    if order.guises:
        guise = await best_guise(session.connection, order.target, order.guises, order.means)
        async with Session(replace(session.connection, guise=guise)) as dressed:
            async for item in haul(dressed, replace(order, guises=()), watch):
                yield item
        return
    looked, finds = await _take(session, order, watch)
    if order.expect and len(finds) > 1:
        raise UsageError(f"One digest cannot be that of {len(finds)} files.", "Choose one with --nth or --match.")
    for find in finds:
        try:
            yield await _haul_living(session, order, looked, find, watch)
        except MudlarkError as problem:
            if len(finds) == 1:
                raise
            watch.on_failure(problem)


async def _take(session: Session, order: Order, watch: HaulWatch) -> tuple[Looked, list[Find]]:
    """The page and the finds chosen of it; where answers led to links that are dead already, the walk is made again."""
    for last in (False, False, True):
        looked = await look(session, order.target, order.means, watch=watch.listening)
        page = looked.page
        if page.itself and not order.choice.made:
            return looked, page.finds[:1]
        try:
            return looked, order.choice.take(page)
        except NothingFound:
            if last or not order.means.answers or not any(find.status in _DIED for find in page.finds):
                raise
    raise AssertionError


async def _haul_living(session: Session, order: Order, looked: Looked, find: Find, watch: HaulWatch) -> Item:
    """One find; when its link has died and answers led to it, the walk is made again, and goes on where it was."""
    for last in (False, False, True):
        try:
            if not order.means.answers or not _expired(find):
                with along(find.sent):
                    return await _haul_find(session, order, looked, find, watch)
        except NetworkError as problem:
            if last or not order.means.answers or problem.status not in _DIED:
                raise
        watch.on_step("Answering again")
        looked = await look(session, order.target, order.means, watch=watch.listening)
        find = _same(find, looked.page) or order.choice.take(looked.page)[0]
    raise NetworkError(f"{shown(find.url)} has died before it could be fetched.", "Its links live very shortly.")


def _expired(find: Find) -> bool:
    return find.expires is not None and find.expires <= time.time()


def _same(find: Find, page: Page) -> Find | None:
    """The find of another walk that is this one, whatever its query is now."""
    return next((other for other in page.finds if without_query(other.url) == without_query(find.url)), None)


async def _haul_find(session: Session, order: Order, looked: Looked, find: Find, watch: HaulWatch) -> Item:
    """One find; when it changes on the server while it is fetched, it is fetched anew, once."""
    started = now()
    for last in (False, True):
        presentation = await _presentation(session, find)
        tracks = highest(presentation)
        await fill(session, presentation, tracks)
        page = None if looked.page.itself else looked.page
        found = _Found(order, page, find, presentation, tracks, looked.heard)
        try:
            return await _haul_found(session, found, watch, started)
        except Changed:
            if last:
                raise
    raise AssertionError


async def _presentation(session: Session, find: Find) -> Presentation:
    """What a find promises."""
    if not find.members:
        return await load(session, find.url)
    return numbered.images(find.members) if find.kind == "image" else await numbered.series(session, find.members)


async def _haul_found(session: Session, found: _Found, watch: HaulWatch, started: str) -> Item:
    order = found.order
    _make_folder(order.into)
    folder, earlier = folder_for(order.into, found.title, order.target, found.find.url if found.page else None)
    if earlier and earlier.verdict == "sound" and assay(folder)[0].verdict == "sound" and _expected(earlier, order):
        return Item(earlier, folder, already=True)
    key = order.target if found.choice is None else f"{order.target} {found.choice}"
    with Store(order.into, key) as store:
        return await _Haul(session, found, store, watch, started).run(folder)


def _expected(record: Record, order: Order) -> bool:
    """True if an item that is there already has the digest and the form that the user expects."""
    media = [file for file in record.files if file.role == "media"]
    if record.source.kind == "images" and order.as_images == any(file.path.endswith(".pdf") for file in media):
        return False
    return order.expect is None or any(file.sha256 == order.expect for file in media)


class _Haul:
    """One haul from plan to item."""

    def __init__(self, session: Session, found: _Found, store: Store, watch: HaulWatch, started: str) -> None:
        self.session = session
        self.found = found
        self.expect = found.order.expect
        self.store = store
        self.watch = watch
        self.started = started
        self.report = Report()
        self.counts = Counts()
        self.facts: dict[tuple[str, int], SegmentFacts] = {}
        self.name = safe_name(found.title) or "Untitled"
        self.plain = found.presentation.kind == "file"
        self.pictures = found.presentation.kind == "images"
        self.received = 0
        self.begun = time.monotonic()
        self.warned = False

    async def run(self, folder: Path) -> Item:
        jobs = _in_time_order(self.found.tracks)
        planned = max((track.duration or 0.0 for track in self.found.tracks), default=0.0) or None
        self.watch.on_plan(Plan(self.found.title, self.found.presentation, self.found.tracks, len(jobs), planned))
        shutil.rmtree(self.store.item, ignore_errors=True)
        try:
            self.store.item.mkdir()
            heard = Watch(self.bytes_came, self.watch.on_outcome, self.watch.on_retry)
            engine = Engine(self.session, self.store, self.check, heard, self.counts)
            if self.pictures:
                media = await self.document(engine, jobs)
            else:
                media = [await (self.file(engine, jobs) if self.plain else self.film(engine, jobs, planned))]
            self.watch.on_step("Verifying")
            record = await asyncio.to_thread(self.verify, media, planned)
            if record.verdict == "broken":
                self.store.distrust((job.track, job.segment.number) for job in jobs)
                return Item(record, None, self.store.folder)
            place(self.store.item, record, folder, self.store.folder / "earlier")
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
        if self.pictures:
            return None if form in PICTURES else "something else than a picture"
        if form in ("html", "json", "xml", "hls", "dash"):
            return f"{ {'html': 'a web page'}.get(form, form.upper()) } where a segment was expected"
        try:
            align(head)
        except TransportError:
            return "bytes that are not an MPEG transport stream"
        return None

    def bytes_came(self, count: int) -> None:
        self.received += count
        self.watch.on_bytes(count)
        self.mind_expiry()

    def mind_expiry(self) -> None:
        """Warn, once, when the link will not live until everything is fetched at the speed seen so far."""
        expires, since = self.found.find.expires, time.monotonic() - self.begun
        length = self.found.presentation.length
        if expires is None or self.warned or since < 1.0:
            return
        share = self.received / length if length else len(self.facts) / max(1, self.counts.planned)
        left, lives = since * (1 - share) / share if share else 0.0, expires - time.time()
        if left > lives:
            self.warned = True
            self.watch.on_warning(
                f"The link lives {max(0.0, lives):.0f} s more, and fetching needs about {left:.0f} s."
            )

    def note(self, outcome: Outcome) -> None:
        """Keep what the record says of a segment."""
        if outcome.reused and outcome.row:
            self.received += outcome.row.bytes
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
        """A plain file: its parts are joined."""
        self.watch.on_step("Fetching")
        parts: list[Path] = []
        async with aclosing(engine.run(jobs)) as outcomes:
            async for outcome in outcomes:
                self.note(outcome)
                if outcome.path is None:
                    raise NetworkError(
                        outcome.problem or "The file could not be fetched.",
                        "The same command goes on from here.",
                        outcome.status,
                    )
                parts.append(outcome.path)
        with parts[0].open("rb") as source:
            form = sniff(source.read(65536))
        named = Path(self.found.presentation.filename or file_part(jobs[0].segment.url)).suffix
        if not named and form == "mp4" and self.found.find.kind == "audio":
            named = ".m4a"
        media = self.store.item / (self.name + right_extension(form, named))
        await asyncio.to_thread(join, parts, media)
        return media

    async def document(self, engine: Engine, jobs: list[Job]) -> list[Path]:
        """Page images: bound into one PDF, or kept as they are; none twice."""
        self.watch.on_step("Fetching")
        leaves: dict[str, Path] = {}
        async with aclosing(engine.run(jobs)) as outcomes:
            async for outcome in outcomes:
                self.note(outcome)
                number = outcome.job.segment.number + 1
                if outcome.path is None or outcome.row is None:
                    message = f"Page image {number} is missing: {outcome.problem}"
                    self.report.problems.append(Problem("page-missing", message))
                elif outcome.row.sha256 in leaves:
                    self.report.skipped("pages", f"page image {number} is the same as one before, and left out")
                else:
                    leaves[outcome.row.sha256] = outcome.path
        if not leaves:
            raise NetworkError(
                f"None of {len(jobs)} page images could be fetched. {self.report.problems[0].message}",
                "If the links have expired, open the page anew and haul again.",
            )
        self.watch.on_step("Assembling")
        if missing := self.found.find.missing:
            said = f"number {', '.join(map(str, missing[:20]))} of the series is not on the page"
            self.report.skipped("pages", said)
        await asyncio.to_thread(check_pages, list(leaves.values()), self.report)
        if self.found.order.as_images:
            return await asyncio.to_thread(keep_pages, list(leaves.values()), self.store.item / "pages")
        from mudlark.assemble.bind import bind  # its image library is slow to load, and films need none

        media = self.store.item / f"{self.name}.pdf"
        await asyncio.to_thread(bind, list(leaves.values()), media, self.found.title)
        return [media]

    async def film(self, engine: Engine, jobs: list[Job], planned: float | None) -> Path:
        """Segments: assembled in a thread while the later ones are still being fetched."""
        self.watch.on_step("Fetching")
        media = self.store.item / f"{self.name}.mp4"
        parts = Parts()
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
        unreadable = [(self.found.tracks[part.rendition].name, part.number) for part, _ in assembled.unreadable]
        self.store.distrust(unreadable)
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
                when = f"{since:.1f}–{since + facts.duration:.1f} s"
                message = f"Segment {facts.number + 1} ({when}) is missing: {facts.problem}"
                self.report.problems.append(Problem("segment-missing", message))
        for part, problem in assembled.unreadable:
            self.report.problems.append(
                Problem("segment-unreadable", f"Segment {part.number + 1} cannot be read: {problem.what}")
            )
        self.report.problems += [Problem("loss", note) for note in assembled.notes]

    def verify(self, media: list[Path], planned: float | None) -> Record:
        """Look into the finished files, and make the record."""
        main = media[0]
        with ThreadPoolExecutor(1, "mudlark-digest") as beside:
            hashing = beside.submit(digest, main)
            checked = check_file(main, planned, self.report) if len(media) == 1 else Checked("images")
            size, sha256 = hashing.result()
        if self.plain:
            promised = self.found.presentation
            Promise(promised.length, promised.digests, self.expect).check(main, size, sha256, self.report)
        if self.found.find.kind in PLAYED and not self.pictures and checked.form not in KINDS:
            what = "unknown bytes" if checked.form == "unknown" else checked.form.upper()
            self.report.failed("content", "no-media", f"A film or sound was promised; {what} came", grave=True)
        tracks = [TrackFacts.of(track) for track in checked.movie.tracks] if checked.movie else []
        ends = [track.presented(checked.movie.timescale)[1] for track in checked.movie.tracks] if checked.movie else []
        files = [FileFacts(str(main.relative_to(self.store.item)), "media", size, sha256)]
        files += [FileFacts(str(it.relative_to(self.store.item)), "media", *digest(it)) for it in media[1:]]
        source = self.source(files)
        counts = self.counts
        return Record(
            title=self.found.title,
            verdict=self.report.verdict,
            problems=self.report.problems,
            started=self.started,
            finished=now(),
            source=source,
            duration=round(max(ends), 3) if ends else None,
            planned_duration=planned,
            tracks=tracks,
            files=files,
            segments=SegmentCounts(counts.planned, counts.fetched, counts.reused, counts.retried, counts.missing),
            segment_list=list(self.facts.values()),
            checks=self.report.checks,
            versions={"mudlark": __version__, "python": platform.python_version(), "system": platform.system()},
            contents=checked.contents[:_MOST_CONTENTS],
        )

    def source(self, files: list[FileFacts]) -> Source:
        """Where it came from; what is kept of that is added to the files."""
        item, found, page = self.store.item, self.found, self.found.page
        return Source(
            target=found.order.target,
            choice=found.choice,
            kind=found.presentation.kind,
            address=found.presentation.url,
            page=page_facts(page) if page else None,
            find=find_facts(found.find),
            capture=keep_capture(item, page, found.heard, found.order.means.har, files),
            manifests=keep_manifests(item, found.presentation.documents, files),
            walk=walk_facts(page) if page else [],
            request=request_facts(self.session, found.presentation.url, found.find),
        )


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
