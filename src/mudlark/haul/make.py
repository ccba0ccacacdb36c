"""Making one item: fetch, put together, verify, record, and give it its place.

Everything is made inside the store; nothing stands under its final name before it is verified.
"""

import asyncio
import platform
import shutil
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import aclosing
from pathlib import Path

from mudlark import __version__
from mudlark.archive.identity import Earlier
from mudlark.archive.naming import safe_name
from mudlark.archive.place import REPLACED, can_mend, conclude, mend, names_for, put
from mudlark.archive.provenance import (
    find_facts,
    keep_capture,
    keep_manifests,
    page_facts,
    request_facts,
    walk_facts,
)
from mudlark.archive.record import (
    FileFacts,
    Note,
    Record,
    SegmentCounts,
    SegmentFacts,
    Source,
    TrackFacts,
    to_json,
    without_access,
)
from mudlark.assemble.join import join, keep_pages
from mudlark.assemble.parts import Parts
from mudlark.assemble.write import Assembled, Part, assemble
from mudlark.errors import MudlarkError, NetworkError, StorageError
from mudlark.fetch.engine import Counts, Engine, Job, Outcome, Watch
from mudlark.fetch.store import Store, now
from mudlark.find.model import PLAYED
from mudlark.find.probe import KINDS
from mudlark.haul.beside import beside, fetch_beside
from mudlark.haul.order import HaulWatch, Item, Plan, State
from mudlark.haul.resolve import Found
from mudlark.haul.same import same_media
from mudlark.haul.title import is_alone, media_name, unreserved
from mudlark.manifest.model import Track
from mudlark.media.sniff import sniff
from mudlark.media.ts import TransportError, TransportReader, align
from mudlark.verify.content import PICTURES, check_pages
from mudlark.verify.fixity import digest
from mudlark.verify.media import Checked, check_file
from mudlark.verify.transfer import Promise
from mudlark.verify.verdict import WORTH, Problem, Report, Verdict
from mudlark.web.session import Session

_MOST_CONTENTS = 1_000  # names inside an archive that a record keeps


class Making:
    """One haul from plan to item. earlier: the item of the same source that is there already, and its verdict now."""

    def __init__(
        self,
        session: Session,
        found: Found,
        store: Store,
        watch: HaulWatch,
        started: str,
        earlier: Earlier | None,
        verdict: Verdict,
    ) -> None:
        self.session = session
        self.found = found
        self.expect = found.order.expect
        self.store = store
        self.watch = watch
        self.started = started
        self.earlier = earlier
        self.earlier_verdict = verdict
        self.report = Report()
        self.counts = Counts()
        self.facts: dict[tuple[str, int], SegmentFacts] = {}
        self.name = unreserved(safe_name(found.title) or "Untitled")
        self.plain = found.presentation.kind == "file"
        self.pictures = found.presentation.kind == "images"
        self.received = 0
        self.begun = time.monotonic()
        self.warned = False
        self.notes = list(found.notes)
        self.extra: list[FileFacts] = []

    async def run(self, name: str, state: State) -> Item:
        jobs = _in_time_order(self.found.tracks)
        planned = max((track.duration or 0.0 for track in self.found.tracks), default=0.0) or None
        self.watch.on_plan(Plan(self.found.title, self.found.presentation, self.found.tracks, len(jobs), planned))
        try:
            await asyncio.to_thread(shutil.rmtree, self.store.item, ignore_errors=True)
            self.store.item.mkdir(mode=0o755)
            heard = Watch(self.bytes_came, self.watch.on_outcome, self.watch.on_retry)
            engine = Engine(self.session, self.store, self.check, heard, self.counts)
            if self.pictures:
                media = await self.document(engine, jobs)
            else:
                media = [await (self.file(engine, jobs) if self.plain else self.film(engine, jobs, planned))]
            await self.beside(media[0])
            self.watch.on_step("Verifying")
            record = await asyncio.to_thread(self.verify, media, planned)
            if record.verdict == "broken":
                self.store.distrust((job.track, job.segment.number) for job in jobs)
                return Item(record, None, self.store.folder)
            item = await asyncio.to_thread(self.keep, record, name, state)
        except OSError as problem:
            raise StorageError(
                f"Cannot write into {self.store.folder}: {problem.strerror}.",
                "Make room; the same command goes on from here.",
            ) from problem
        if self.counts.missing:
            item.kept = self.store.folder
        else:
            await asyncio.to_thread(self.store.discard)
        return item

    def keep(self, record: Record, name: str, state: State) -> Item:
        """Give the finished item its place: a name of its own, or that of the item that it mends."""
        earlier, into = self.earlier, self.found.order.into
        intact = earlier is not None and self.earlier_verdict == earlier.record.verdict
        if earlier and state == "changed" and intact and same_media(earlier.record, record):
            return Item(earlier.record, earlier.folder, state="unchanged", by="its bytes, fetched anew")
        if earlier and state == "repaired":
            if _worth(record.verdict, record) <= _worth(self.earlier_verdict, earlier.record):
                return Item(earlier.record, earlier.folder, state="unchanged", by="what came now, which is no better")
            if can_mend(earlier.folder, earlier.record, record):
                return self.mend(earlier, record)
            state = "again"
        day = record.finished[:10] if earlier else None
        folder = put(self.store.item, to_json(record), into, names_for(name, day))
        return Item(record, folder, state=state)

    def mend(self, earlier: Earlier, record: Record) -> Item:
        moment = record.finished.replace(":", "")
        replaced = mend(self.store.item, record, earlier.folder, earlier.record, moment)
        if replaced:
            names = f"{', '.join(replaced[:5])}{' and others' if len(replaced) > 5 else ''}"
            record.notes.append(
                Note("replaced", f"The item was mended; it keeps {names} as before in {REPLACED}/{moment}.")
            )
        conclude(earlier.folder, to_json(record))
        return Item(record, earlier.folder, state="repaired")

    async def beside(self, media: Path) -> None:
        """Keep the subtitles and the poster that the page shows with the film."""
        wanted = beside(self.found.page, self.found.find)
        if wanted:
            self.watch.on_step("Fetching what stands beside it")
            files, problems, notes = await fetch_beside(self.session, wanted, media, self.store.item)
            self.extra += files
            self.report.problems += problems
            self.notes += notes

    def check(self, head: bytes) -> str | None:
        """What is wrong with a segment that begins so."""
        if self.plain:
            return None
        form = sniff(head)
        if self.pictures:
            return None if form in PICTURES else "something else than a picture"
        if form == "html":
            return "a web page where a segment was expected"
        if form in ("json", "xml", "hls", "dash"):
            return f"{form.upper()} where a segment was expected"
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
        found = self.found
        name = media_name(found.title, found.page, found.find, found.presentation, form, found.order.title)
        media = self.store.item / name
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
                    message = f"Page image {number} is the same as one before, and left out"
                    self.notes.append(Note("page-repeated", message))
                else:
                    leaves[outcome.row.sha256] = outcome.path
        if not leaves:
            raise NetworkError(
                f"None of {len(jobs)} page images could be fetched. {self.report.problems[0].message}",
                "If the links have expired, open the page anew and haul again.",
            )
        self.watch.on_step("Assembling")
        if missing := self.found.find.missing:
            numbers = ", ".join(map(str, missing[:20]))
            message = f"Number {numbers} of the series of page images is not on the page"
            self.report.problems.append(Problem("page-missing", message))
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
        if not self.report.problems and not self.report.proven:
            self.notes.append(Note("unproven", "It came as the server sent it; nothing proves that it is whole"))
        tracks = [TrackFacts.of(track) for track in checked.movie.tracks] if checked.movie else []
        ends = [track.presented(checked.movie.timescale)[1] for track in checked.movie.tracks] if checked.movie else []
        length = round(max(ends), 3) if ends else None
        self.compare_with_page(length)
        files = [FileFacts(str(main.relative_to(self.store.item)), "media", size, sha256)]
        files += [FileFacts(str(it.relative_to(self.store.item)), "media", *digest(it)) for it in media[1:]]
        files += self.extra
        source = self.source(files)
        counts = self.counts
        record = Record(
            title=self.found.title,
            verdict=self.report.verdict,
            problems=self.report.problems,
            started=self.started,
            finished=now(),
            source=source,
            duration=length,
            planned_duration=planned,
            tracks=tracks,
            files=files,
            segments=SegmentCounts(counts.planned, counts.fetched, counts.reused, counts.retried, counts.missing),
            segment_list=list(self.facts.values()),
            checks=self.report.checks,
            versions={"mudlark": __version__, "python": platform.python_version(), "system": platform.system()},
            contents=checked.contents[:_MOST_CONTENTS],
            notes=self.notes,
        )
        return record if self.found.order.keep_secrets else without_access(record)

    def compare_with_page(self, length: float | None) -> None:
        """Say where a film lasts much shorter or longer than its page states."""
        stated = self.found.page.duration if self.found.page else None
        if length and stated and _is_alone_on(self.found) and not 0.6 <= length / stated <= 1 / 0.6:
            message = (
                f"It lasts {length:.0f} s, and the page states {stated:.0f} s; it may be only a part, or something else"
            )
            self.notes.append(Note("length-stated", message))

    def source(self, files: list[FileFacts]) -> Source:
        """Where it came from; what is kept of that is added to the files."""
        item, found, page = self.store.item, self.found, self.found.page
        secrets = found.order.keep_secrets
        return Source(
            target=found.order.target,
            choice=found.choice,
            kind=found.presentation.kind,
            address=found.presentation.url,
            page=page_facts(page) if page else None,
            find=find_facts(found.find),
            capture=keep_capture(item, page, found.heard, found.order.means.har, files, keep_secrets=secrets),
            manifests=keep_manifests(item, found.presentation.documents, files, keep_secrets=secrets),
            walk=walk_facts(page) if page else [],
            request=request_facts(self.session, found.presentation.url, found.find),
            identity=found.key,
            validator=found.presentation.validator,
            modified=found.presentation.modified,
            length=found.presentation.length,
        )


def _is_alone_on(found: Found) -> bool:
    """True if what the page says of a film is meant of this one."""
    return found.page is not None and found.find.kind in PLAYED and is_alone(found.page, found.find)


def _worth(verdict: Verdict, record: Record) -> tuple[int, int]:
    """For comparing two items of one source: the better verdict, then the fewer segments missing."""
    return WORTH[verdict], -record.segments.missing


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
