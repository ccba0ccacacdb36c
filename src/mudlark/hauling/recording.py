"""Recording a broadcast: its segments come into the store while it runs, and a film that grows can be watched
meanwhile.

What is recorded is noted line by line in the store, so that a run that was killed goes on where it was. At the end the
presentation is one that is finished, with holes where something was missed, and is made into an item as any other.
"""

import asyncio
import os
from collections.abc import AsyncIterator
from contextlib import suppress
from pathlib import Path

import msgspec
from msgspec.structs import replace

from mudlark.archive.record import Note
from mudlark.assemble.film import Voice, assemble
from mudlark.assemble.growing import growing
from mudlark.assemble.parts import Parts, part_of
from mudlark.errors import MudlarkError
from mudlark.fetch.engine import Job, Outcome
from mudlark.fetch.store import Store
from mudlark.hauling.begun import note_begun
from mudlark.hauling.film import LARGEST, check_segment, voice_of
from mudlark.hauling.order import RecordingState
from mudlark.hauling.work import Fetching, Work
from mudlark.manifest.live.broadcast import Broadcast, EarlierRun, State, nothing_recorded
from mudlark.manifest.live.clock import SteadyClock
from mudlark.manifest.live.lists import lists_of
from mudlark.manifest.model import Rendition, Segment
from mudlark.plain import add_to_plain, read_plain
from mudlark.web.resource import Resource

_PATIENCE = 3.0  # targets for which a segment is asked for that is listed and not there
_USUAL = 4.0  # seconds


class _Line(msgspec.Struct):
    """One segment of the recording: as it was listed, and in its place; a gap where it is missing."""

    track: str
    number: int
    listed: Segment
    segment: Segment


_decoder = msgspec.json.Decoder(_Line)
_segment = msgspec.json.Decoder(Segment)
_LARGEST_JOURNAL = 2_000_000_000  # bytes: a segment takes some five hundred


class _Journal:
    """The lines of a recording, those of an earlier run included. Each is on the disk before the next; one that was cut
    off is lost alone, and is what the store has of its segment."""

    def __init__(self, store: Store) -> None:
        self._path = store.folder / "recording.jsonl"
        self._lines: dict[str, list[_Line]] = {}
        with suppress(FileNotFoundError):
            for text in read_plain(self._path, _LARGEST_JOURNAL).split(b"\n"):
                with suppress(ValueError, RecursionError):
                    self._note(_decoder.decode(text))
        for track, lines in self._lines.items():
            known = {line.number for line in lines}
            for row in store.rows(track):
                if row.plan and row.number not in known:
                    segment = _segment.decode(row.plan)
                    self._note(_Line(track, row.number, segment, segment))
            lines.sort(key=lambda line: line.number)

    def _note(self, line: _Line) -> None:
        self._lines.setdefault(line.track, []).append(line)

    def add(self, line: _Line) -> None:
        with add_to_plain(self._path, lines=True) as file:
            file.write(msgspec.json.encode(line) + b"\n")
            file.flush()
            os.fsync(file.fileno())
        self._note(line)

    def earlier(self) -> dict[str, EarlierRun]:
        """Where an earlier run has left off."""
        return {
            name: EarlierRun(
                last=lines[-1].listed,
                stretch=lines[-1].segment.stretch,
                count=lines[-1].number + 1,
                length=lines[-1].segment.begin + lines[-1].segment.duration,
            )
            for name, lines in self._lines.items()
        }

    def rendition(self, rendition: Rendition) -> Rendition:
        """A rendition with all that was recorded of it."""
        segments = tuple(line.segment for line in self._lines.get(rendition.name, ()))
        return replace(rendition, segments=segments, pieces=(), length=None)

    def __bool__(self) -> bool:
        return any(not line.segment.gap for lines in self._lines.values() for line in lines)


class _Preview(msgspec.Struct):
    """The film that grows; when it cannot be made, there is none."""

    path: Path
    parts: Parts
    running: "asyncio.Task[object]"

    def put(self, outcome: Outcome, number: int) -> None:
        if not self.running.done():
            self.parts.put(part_of(outcome, number))

    async def end(self) -> None:
        self.parts.end()
        await asyncio.gather(self.running, return_exceptions=True)
        self.path.unlink(missing_ok=True)


async def record(work: Work) -> tuple[Work, Fetching]:
    """Record until the broadcast ends, is as long as was wanted, or is ended by the user; the work that is left
    then, and how what was recorded came."""
    target, clock = work.target, SteadyClock()
    renditions = [one.rendition for one in target.taken]
    journal = _Journal(work.store)
    note_begun(work.store.folder, target)
    _, lists = lists_of(work.session, target.presentation, renditions, clock)
    preview = _start_preview(work)
    fetching = Fetching(work)

    def tell(state: State) -> None:
        work.watch.on_recording(
            RecordingState(target.title, state, clock.now(), preview.path, fetching.counts.retried, broadcast.stop.set)
        )

    broadcast = Broadcast(lists, target.order.span, clock, earlier=journal.earlier(), on_state=tell)
    live = target.presentation.live
    patience = _PATIENCE * ((live.target if live else None) or _USUAL)
    listed: dict[tuple[str, int], Segment] = {}

    async def jobs() -> AsyncIterator[Job]:
        async for arrival in broadcast.arrivals():
            listed[arrival.name, arrival.number] = arrival.listed
            yield Job(arrival.name, arrival.number, arrival.segment, patience)

    work.watch.on_step("Recording")
    tell(broadcast.state)
    numbers = {name: number for number, name in enumerate(_played(work))}
    try:
        async with fetching.outcomes(jobs(), check_segment, LARGEST, hopeful=True) as outcomes:
            async for outcome in outcomes:
                job = outcome.job
                segment = job.segment if outcome.place else _missing(job.segment)
                journal.add(_Line(job.track, job.number, listed.pop((job.track, job.number)), segment))
                if job.track in numbers:
                    preview.put(outcome, numbers[job.track])
    finally:
        await preview.end()
    if not journal:
        raise nothing_recorded(target.presentation.url)
    notes = [Note("recording-ended", f"The recording ended because {broadcast.state.why}")]
    if broadcast.state.restarts:
        notes.append(
            Note(
                "restarted",
                f"The source began anew {_often(broadcast.state.restarts)}; joined, with what was missed as a gap",
            )
        )
    return _recorded(replace(work, target=replace(target, notes=(*target.notes, *notes))), journal), fetching


def finished(work: Work) -> Work:
    """The work that is left of a recording that cannot be gone on with: its target is that of `begun`."""
    journal = _Journal(work.store)
    if not journal:
        raise nothing_recorded(work.target.presentation.url)
    return _recorded(work, journal)


def _recorded(work: Work, journal: _Journal) -> Work:
    taken = [replace(one, rendition=journal.rendition(one.rendition)) for one in work.target.taken]
    return replace(work, target=replace(work.target, taken=taken))


def _often(times: int) -> str:
    return "once" if times == 1 else f"{times} times"


def _missing(segment: Segment) -> Segment:
    return replace(segment, resource=Resource(""), gap=True, init=None, cipher=None)


def _played(work: Work) -> list[str]:
    return [one.rendition.name for one in work.target.taken if one.rendition.type != "subtitles"]


def _start_preview(work: Work) -> _Preview:
    """Assemble what comes, as it comes, into a film that can be opened while it grows."""
    parts = Parts()
    path = work.store.folder / "recording.mp4"
    voices: list[Voice] = [voice_of(one) for one in work.target.taken if one.rendition.type != "subtitles"]

    async def run() -> object:
        with suppress(MudlarkError):  # what cannot be put into such a film is still recorded
            return await asyncio.to_thread(assemble, parts, voices, path, 0.0, growing)
        return None

    return _Preview(path, parts, asyncio.create_task(run()))
