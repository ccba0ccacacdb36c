"""Taking down what a page feeds to a player, and making an item of it: the page is opened once more and played to its
end, and what it appended goes into the store as the segments of a film."""

import asyncio
import json
import shutil
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.archive.layout import APPENDS
from mudlark.archive.record import FileFacts, Note, SegmentFacts, TapFacts
from mudlark.browser.options import Listening
from mudlark.browser.playout import PlayOut, PlayoutProgress
from mudlark.browser.tap import Tap, TappedBuffer, TappedSource
from mudlark.errors import FormatError, NothingFound, Refused
from mudlark.fetch.engine import section_name, source_of
from mudlark.fetch.place import Place
from mudlark.fetch.store import Fetched, checked
from mudlark.find.model import tap_in
from mudlark.hauling.film import make_film
from mudlark.hauling.order import RecordingState
from mudlark.hauling.work import Fetching, Made, Work
from mudlark.manifest.appended import Presented, Setting, codecs_in, holes, is_only_sound, presented
from mudlark.manifest.choose import Taken
from mudlark.manifest.live.broadcast import State
from mudlark.manifest.live.clock import SteadyClock
from mudlark.manifest.model import Initialization, Rendition, Segment
from mudlark.media.appended import GENERATED, Extent, Piece, extent, pieces
from mudlark.media.samples import Bytes
from mudlark.text import clock, size
from mudlark.verify.account import Problem
from mudlark.verify.fixity import digest
from mudlark.web.address import shown
from mudlark.web.resource import Resource

if TYPE_CHECKING:
    from mudlark.browser.listen import Recording

_LEAST_HOLE = 0.15  # seconds
_AT_ENDS = 0.35  # seconds that may be missing at the beginning and the end
_SETTLES = 0.5
_TELL = 1.0


class FedTrack(msgspec.Struct, frozen=True):
    """What came of one buffer."""

    buffer: TappedBuffer
    shown: list[Presented]
    unread: int = 0


async def take_down(work: Work) -> tuple[Work, Fetching]:
    """Play the page to its end, and keep what it appends; the work that is left then, and how that came."""
    target, order, store = work.target, work.target.order, work.store
    folder = store.path("appended", 0).parent
    for left in folder.glob("appended-*"):
        left.unlink()
    tap = Tap(folder, keep=True)
    listening = replace(order.means.listening or Listening(), scroll=False, settle=_SETTLES)
    named = tap_in(target.find.url)
    number = named[1] if named else 1
    play_out = PlayOut(tap, number, listening.at_most, order.span.length, order.span.until)
    play_out.on_progress = _Teller(work, play_out)
    try:
        recording = await _played(work, listening, play_out)
        source = play_out.source
        if tap.systems is not None:
            raise Refused(
                f"The player of {shown(order.target)} asks for the keys of {' and '.join(tap.systems)}.",
                "Mudlark does not fetch protected media.",
            )
        if source is None or not source.size:
            raise NothingFound(
                f"{shown(order.target)} fed nothing to a player.",
                "If something on it starts the film, name that with --press.",
            )
        voices = await asyncio.to_thread(tracks_fed, source)
    except Refused:
        await asyncio.to_thread(store.discard)
        raise
    finally:
        tap.close()
    taken = await asyncio.to_thread(_keep, work, source, voices)
    notes = [
        Note("tapped", f"It was taken down as the page fed it to its player, until {play_out.why or 'it was ended'}")
    ]
    facts = TapFacts(
        frame=source.frame,
        element=source.tag or "a player with an address of its own",
        browser=recording.browser,
        types=[voice.buffer.type for voice in voices],
        seconds=source.length,
        ended=source.ended,
    )
    _write(store.folder / APPENDS, source)
    problems = tuple(_problems(source, voices))
    if source.endless and not play_out.whole and not play_out.stop.is_set():
        problems += (Problem("hole", f"It ended before the page said that it was over: {play_out.why}"),)
    length = max((one.rendition.duration or 0.0 for one in taken), default=0.0)
    work.watch.on_step(f"{clock(length)} were taken down")
    done = replace(
        target, taken=taken, recording=recording, notes=(*target.notes, *notes), problems=problems, tap=facts
    )
    fetching = Fetching(work)
    fetching.came = source.size
    began = min((one.appends[0].time for one in source.buffers if one.appends), default=0.0)
    for one, voice in zip(taken, voices, strict=True):
        name = one.rendition.name
        for place, (segment, seen) in enumerate(zip(one.rendition.segments or (), voice.shown, strict=True)):
            sent = round(voice.buffer.appends[seen.piece.first].time - began, 3)
            fetching.facts[name, place] = SegmentFacts(name, place, segment.resource.url, sent=sent)
    return replace(work, target=done), fetching


async def _played(work: Work, listening: Listening, play_out: PlayOut) -> "Recording":
    from mudlark.browser.listen import listen

    return await listen(work.target.order.target, listening, work.session.connection, work.watch.listening, play_out)


class _Teller:
    """Tells whoever watches how it goes."""

    def __init__(self, work: Work, play_out: PlayOut) -> None:
        self._work = work
        self._play_out = play_out
        self._clock = SteadyClock()
        self._began = self._clock.now()
        self._told = 0.0
        self._bytes = 0

    def __call__(self, progress: PlayoutProgress) -> None:
        work, now = self._work, self._clock.now()
        work.watch.on_bytes(progress.size - self._bytes)
        self._bytes = progress.size
        if now - self._told < _TELL:
            return
        self._told = now
        if progress.endless or progress.length is None:
            state = State(length=progress.covered)
            film = work.store.folder / "recording.mp4"
            end = self._play_out.stop.set
            work.watch.on_recording(RecordingState(work.target.title, state, now, film, 0, end, playable=False))
            return
        left = (progress.length - progress.covered) * (now - self._began) / max(0.1, progress.covered)
        words = f"{clock(progress.covered)} of {clock(progress.length)}, {size(progress.size)}, {clock(left)} left"
        work.watch.on_step(f"Playing to the end: {words}")


def tracks_fed(source: TappedSource) -> list[FedTrack]:
    """What a viewer has seen of each buffer. Raises FormatError if nothing of any can be read, Refused for what is
    protected."""
    voices, problem = [], None
    for buffer in source.buffers:
        if not buffer.size:
            continue
        try:
            voices.append(_fed(buffer))
        except FormatError as wrong:
            problem = problem or wrong
    voices = [voice for voice in voices if voice.shown]
    if not voices:
        words = f": {problem.what}" if problem else "."
        raise FormatError(f"Nothing that was appended is media that can be read{words}")
    return voices


def _fed(buffer: TappedBuffer) -> FedTrack:
    data: Bytes = np.memmap(buffer.file, np.uint8, "r")
    appends = buffer.appends
    resets = [number for number, append in enumerate(appends) if append.anew]
    found: list[tuple[Piece, Extent, Setting]] = []
    unread = 0
    for piece in pieces(data, [append.place for append in appends], resets):
        try:
            seen = extent(data, piece)
        except FormatError:
            unread += 1
            continue
        if seen:
            first = appends[piece.first]
            offset = first.offset
            if first.mode == "sequence":  # the browser sets it as the piece is taken in
                settled = appends[piece.last].settled
                offset = first.offset if settled is None else settled
            found.append((piece, seen, Setting(offset, first.window)))
    return FedTrack(buffer, presented(found), unread)


def _keep(work: Work, source: TappedSource, voices: Sequence[FedTrack]) -> list[Taken]:
    """Note the pieces in the store as segments that are there; gives the renditions that they make."""
    taken = []
    for number, voice in enumerate(voices, start=1):
        name, file = f"b{number}", voice.buffer.file
        segments, kept, sections = [], list[Fetched](), dict[tuple[int, int], Resource]()
        for place, one in enumerate(voice.shown):
            init = None
            if one.piece.section:
                if one.piece.section not in sections:
                    resource = Resource(f"appended:{number}/section-{len(sections) + 1}")
                    sections[one.piece.section] = resource
                    kept.append(_fetched(file, section_name(resource), 0, resource, one.piece.section))
                init = Initialization(sections[one.piece.section])
            resource = Resource(f"appended:{number}/{one.piece.first + 1}-{one.piece.begin}")
            segment = Segment(
                sequence=place,
                resource=resource,
                begin=one.begin,
                duration=one.end - one.begin,
                init=init,
                offset=None if one.piece.form in GENERATED else one.shift,
                shown=None if one.whole else (one.begin, one.end),
            )
            segments.append(segment)
            fetched = _fetched(file, name, place, resource, (one.piece.begin, one.piece.end))
            kept.append(replace(fetched, plan=msgspec.json.encode(segment).decode()))
        work.store.keep(kept)
        sound = is_only_sound(voice.buffer.type)
        rendition = Rendition(
            name=name,
            type="audio" if sound else "video",
            url=work.target.find.url,
            codecs=codecs_in(voice.buffer.type),
            segments=tuple(segments),
            length=None if source.endless else source.length,
            precision=_AT_ENDS / max(1, len(segments)),
        )
        taken.append(Taken(rendition, frozenset({"audio"}) if sound else frozenset({"video", "audio"})))
    return taken


def _fetched(file: Path, track: str, number: int, resource: Resource, span: tuple[int, int]) -> Fetched:
    body = checked(Place(file, span[0], span[1] - span[0]), hashed=True)
    return Fetched(track, number, source_of(resource), resource.url, 1, body, file)


def _problems(source: TappedSource, voices: Sequence[FedTrack]) -> list[Problem]:
    problems = []
    for voice in voices:
        what = "sound" if is_only_sound(voice.buffer.type) else "picture"
        for begin, end in holes(voice.shown, None if source.endless else source.length, _LEAST_HOLE):
            at_ends = begin == 0.0 or (source.length is not None and end >= source.length - 0.01)
            if source.endless and begin == 0.0:
                continue
            if end - begin > (_AT_ENDS if at_ends else _LEAST_HOLE):
                words = f"The page fed no {what} from {begin:.1f} s to {end:.1f} s"
                problems.append(Problem("hole", words, at=round(begin, 3)))
        if voice.unread:
            problems.append(Problem("segment-unreadable", f"{voice.unread} pieces of the {what} cannot be read"))
    for buffer in source.buffers:
        if not buffer.size:
            words = f"The page opened a buffer for {buffer.type.partition(';')[0]}, and fed nothing to it"
            problems.append(Problem("hole", words))
    if not source.endless and source.length is None:
        problems.append(Problem("hole", "The page did not say how long it is; nobody knows whether this is all of it"))
    return problems


def _write(path: Path, source: TappedSource) -> None:
    """Every append in the order in which they came, a line each."""
    rows = [
        {"buffer": buffer.number, "append": number, **msgspec.to_builtins(append)}
        for buffer in source.buffers
        for number, append in enumerate(buffer.appends, start=1)
    ]
    rows.sort(key=lambda row: row["time"])
    with path.open("w", encoding="utf-8") as file:
        file.writelines(json.dumps(row) + "\n" for row in rows)


async def make_tapped(work: Work, fetching: Fetching) -> Made:
    """The film of what was taken down."""
    made = await make_film(work, fetching)
    path = work.store.item / APPENDS
    await asyncio.to_thread(shutil.copyfile, work.store.folder / APPENDS, path)
    beside = (*made.beside, FileFacts(APPENDS, "appends", *await asyncio.to_thread(digest, path)))
    return replace(made, beside=beside, problems=(*made.problems, *work.target.problems))
