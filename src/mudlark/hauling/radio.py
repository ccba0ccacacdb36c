"""Making an item of an endless body: its bytes as they come, and its titles as a list with times.

Where it breaks off it is asked for again; what was missed is said. The file can be played while it grows.
"""

import asyncio
import time
from collections.abc import AsyncIterator, Callable, Iterable
from contextlib import suppress
from pathlib import Path

import numpy as np

from mudlark.archive.record import FileFacts, Note
from mudlark.assemble.join import second_name
from mudlark.errors import NetworkError, StorageError, UsageError
from mudlark.hauling.begun import note_begun
from mudlark.hauling.order import RecordingState
from mudlark.hauling.tape import Tape
from mudlark.hauling.work import Fetching, Made, Work
from mudlark.manifest.live.broadcast import State, nothing_recorded
from mudlark.manifest.live.clock import SteadyClock
from mudlark.manifest.live.pace import Airtime
from mudlark.manifest.radio import LISTS, Splice, Titles
from mudlark.media.matroska.read import last_whole_element
from mudlark.media.movie import reader_of
from mudlark.media.mp4.fragments import last_whole_fragment
from mudlark.media.samples import Bytes
from mudlark.media.sniff import right_extension
from mudlark.media.sound.framed import Syntax, frames
from mudlark.media.sound.packed import SYNTAXES, sound_within
from mudlark.media.ts_packets import PACKET
from mudlark.media.webvtt import Cue, Subtitles, write
from mudlark.text import tidy
from mudlark.verify.account import END, Account, Problem
from mudlark.verify.fixity import digest
from mudlark.verify.media import form_of
from mudlark.web.address import file_part

_WINDOW = 32 << 20  # bytes of a file that are looked through at once
_WAITS = (1.0, 2.0, 5.0, 10.0, 30.0)  # seconds before it is asked for again
_GIVE_UP = 600.0
_LONGEST_AWAY = 60.0  # seconds of which a server may still have the sound when it is asked again
_NEARLY = 1.0  # seconds that may be missing at the end
_TELL = 1.0
_PADDING = 4  # bytes by which frames of one rate differ
_OPENING = 4096  # bytes that tell whether a body begins anew


async def make_radio(work: Work, fetching: Fetching) -> Made:
    """Record until it is as long as was wanted, or is ended by the user; on from where an earlier run was."""
    order, clock = work.target.order, SteadyClock()
    if work.target.presentation.live is None:  # it is over, and was begun by an earlier run
        with Tape(work.store.folder) as tape:
            if not tape.size:
                raise nothing_recorded(work.target.presentation.url)
        return await asyncio.to_thread(_made, work, tape, None)
    note_begun(work.store.folder, work.target)
    if isinstance(order.span.begin, float) and order.span.begin < clock.now():
        raise UsageError("Radio cannot be recorded from a time in the past.", "Leave --from out.")
    tape = Tape(work.store.folder)
    state, stop = State(), asyncio.Event()

    def tell() -> None:
        state.length = tape.recorded(clock.now())
        state.gaps, state.missed = len(tape.gaps), sum(seconds for _, seconds in tape.gaps)
        work.watch.on_recording(
            RecordingState(work.target.title, state, clock.now(), tape.path, len(tape.gaps), stop.set)
        )

    tell()
    if isinstance(order.span.begin, float):
        with suppress(TimeoutError):
            await asyncio.wait_for(stop.wait(), order.span.begin - clock.now())
    work.watch.on_step("Recording")
    with tape:
        if tape.resumed:
            work.store.retain()
            work.watch.on_warning(f"An earlier run has recorded {tape.size / 1e6:.1f} MB; this one goes on with it.")
        running = asyncio.create_task(_record(work, tape, clock, tell))
        ending = asyncio.create_task(_until(order.span, tape, clock, stop))
        try:
            await asyncio.wait((running, ending), return_when=asyncio.FIRST_COMPLETED)
        finally:
            for task in (running, ending):
                task.cancel()
            results = await asyncio.gather(running, ending, return_exceptions=True)
        if tape.lost_at and clock.now() - tape.lost_at > _NEARLY and not isinstance(results[0], Exception):
            tape.gap(tape.lost_at, clock.now())
    if isinstance(results[0], StorageError) or (isinstance(results[0], Exception) and not tape.size):
        raise results[0]
    if not tape.size:
        raise nothing_recorded(work.target.presentation.url)
    return await asyncio.to_thread(_made, work, tape, results[0])


async def _until(span: Airtime, tape: Tape, clock: SteadyClock, stop: asyncio.Event) -> None:
    """Returns when the recording is long enough, or is ended."""
    while not stop.is_set():
        long_enough = span.length is not None and tape.recorded(clock.now()) >= span.length
        if long_enough or (span.until is not None and clock.now() >= span.until):
            return
        with suppress(TimeoutError):
            await asyncio.wait_for(stop.wait(), 0.2)


async def _record(work: Work, tape: Tape, clock: SteadyClock, tell: Callable[[], None]) -> None:
    """Take what comes, again and again where it breaks off."""
    failures, tried_since = 0, clock.now()
    session = work.session.behind(work.target.find.mention.referrer, {"icy-metadata": "1"})
    url = work.target.presentation.url
    told = 0.0
    listed = work.target.find.url.partition("?")[0].lower().endswith(LISTS)  # which is how radio is told of
    while True:
        away = clock.now() - tape.lost_at if tape.lost_at else 0.0
        last = tape.end() if away < _LONGEST_AWAY else b""
        rate, wavers = _rate(last)
        splice = Splice(last, tape.lost_at, rate, wavers=wavers)
        try:
            async with session.open(url) as reply:
                every = reply.headers.get("icy-metaint", "0")
                titles = Titles(int(every) if every.isascii() and every.isdigit() and len(every) < 8 else 0)
                endless = listed or any(name.lower().startswith("icy-") for name in reply.headers)
                anew = not endless and tape.size > 0
                async for chunk in reply.chunks if not anew else _from_opening(reply.chunks):
                    now = clock.now()
                    if anew and tape.begins_with(chunk[:_OPENING]):
                        tape.lost_at = 0.0
                        return  # what begins anew with the same bytes is a file, and is there already
                    anew = False
                    for part in titles.split(chunk):
                        _take(splice.take(part, now), splice, tape, now)
                    work.store.retain()
                    work.watch.on_bytes(len(chunk))
                    if now - told > _TELL:
                        told = now
                        tell()
                if not endless and reply.headers.get("transfer-encoding", "").lower() == "chunked":
                    return  # which says where it ends, and did
        except NetworkError:
            if not tape.size:
                raise
            if tape.lost_at and clock.now() - max(tape.lost_at, tried_since) > _GIVE_UP:
                raise
        finally:
            _take(splice.release(), splice, tape, clock.now())
        failures = failures + 1 if tape.lost_at else 0
        tape.lost_at = tape.lost_at or tape.last or clock.now()
        await asyncio.sleep(_WAITS[min(failures, len(_WAITS) - 1)])


def _take(parts: Iterable[bytes | str], splice: Splice, tape: Tape, now: float) -> None:
    """Record what is new."""
    for part in parts:
        if tape.lost_at and not splice.joined:
            tape.gap(tape.lost_at, splice.since or now)
        tape.lost_at = 0.0
        if isinstance(part, str):
            tape.title(part, now)
        else:
            tape.came(part, now)


def _rate(sound: bytes) -> tuple[float, bool]:
    """Bytes per second, by the frames, and whether these differ by more than padding; 0 of sound that has none of its
    own. What has pages or packets instead is never the same twice, as they have numbers."""
    syntax = SYNTAXES.get(sound_within(sound) or "")
    if syntax is None:
        return 0.0, False
    stream = np.frombuffer(sound, np.uint8)
    layout = frames(stream, syntax)
    first = int(layout.positions[0])
    format = syntax.format(sound[first : first + syntax.header])
    rate = float(layout.lengths.mean()) * format.timescale / format.sample_duration
    return rate, int(layout.lengths.max() - layout.lengths.min()) > _PADDING


async def _from_opening(chunks: AsyncIterator[bytes]) -> AsyncIterator[bytes]:
    """The same chunks, the first of them long enough to tell whether a body begins anew, if it is that long."""
    opening = b""
    try:
        async for chunk in chunks:
            if len(opening) < _OPENING:
                opening += chunk
                if len(opening) >= _OPENING:
                    yield opening
            else:
                yield chunk
    except NetworkError:
        if 0 < len(opening) < _OPENING:
            yield opening
        raise
    if 0 < len(opening) < _OPENING:
        yield opening


def _made(work: Work, tape: Tape, problem: object) -> Made:
    form = form_of(tape.path)
    if not tape.gaps:
        _trim(tape, form)
    named = Path(file_part(work.target.presentation.url)).suffix
    media = work.store.item / (work.name + right_extension(form, named if form != "unknown" else ".audio"))
    second_name(tape.path, media)
    seconds = _Seconds(media, tape, form)
    notes = [
        Note("recording-began", time.strftime("The recording began at %Y-%m-%dT%H:%M:%SZ", time.gmtime(tape.begun)))
    ]
    problems = [
        Problem("radio-gap", f"{length:.0f} s are missing from {time.strftime('%H:%M:%S', time.gmtime(at))} UTC on")
        for at, length in tape.gaps
    ]
    if isinstance(problem, NetworkError):
        problems.append(Problem("radio-gap", f"It broke off, and did not come back: {problem.what}"))
    beside = []
    if cues := _cues(tape, seconds):
        path = media.with_name(f"{work.name}.titles.vtt")
        path.write_bytes(write(Subtitles(tuple(cues))))
        beside.append(FileFacts(path.name, "titles", *digest(path)))
    account = Account()
    if not problems:
        account.passed(END, "it was recorded until it was ended here, and nothing is missing")
    return Made((media,), tuple(beside), tuple(problems), tuple(notes), account=account)


def _trim(tape: Tape, form: str) -> None:
    """Leave out the last packet, element or fragment of a film, of which only a part has come when it was ended."""
    with tape.path.open("r+b") as file:
        if form == "ts":
            whole = tape.size // PACKET * PACKET
        elif form == "matroska":
            whole = last_whole_element(reader_of(file), tape.size)
        elif form == "mp4":
            whole = last_whole_fragment(reader_of(file), tape.size)
        else:
            return
        file.truncate(whole)
    tape.size = whole


def _cues(tape: Tape, seconds: "_Seconds") -> list[Cue]:
    """Titles with the times at which they are on."""
    begins = [(seconds.at(place), title) for place, title in tape.titles]
    cues = []
    for number, (begin, title) in enumerate(begins):
        if number and begins[number - 1][1] == title:
            continue
        end = next((later for later, other in begins[number + 1 :] if other != title), seconds.total)
        words = tidy(title) or title
        if end > begin:
            cues.append(Cue(begin, end, words.replace("&", "&amp;").replace("<", "&lt;")))
    return cues


class _Seconds:
    """From bytes of a file to seconds: by its frames where it has such, else as if all bytes were alike."""

    def __init__(self, path: Path, tape: Tape, form: str) -> None:
        self._size = max(1, tape.size)
        syntax = SYNTAXES.get(form)
        self._places = np.zeros(0, np.int64)
        self.total = max(0.1, tape.length)
        if syntax is not None:
            self._read(path, syntax)

    def _read(self, path: Path, syntax: Syntax) -> None:
        places = []
        data: Bytes = np.memmap(path, np.uint8, "r")
        at, frame = 0, 0.0
        while at < len(data):
            window = np.array(data[at : at + _WINDOW])
            layout = frames(window, syntax)
            if not len(layout.positions):
                break
            if not frame:
                first = int(layout.positions[0])
                format = syntax.format(window[first : first + syntax.header].tobytes())
                frame = format.sample_duration / format.timescale
            places.append(layout.positions + at)
            at += max(1, int(layout.rest))
            if len(window) < _WINDOW:
                break
        if places and frame:
            self._places = np.concatenate(places)
            self._frame = frame
            self.total = len(self._places) * frame

    def at(self, place: int) -> float:
        """When a byte is heard."""
        if len(self._places):
            return float(np.searchsorted(self._places, place)) * self._frame
        return self.total * place / self._size
