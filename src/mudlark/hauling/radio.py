"""Making an item of an endless body: its bytes as they come, and its titles as a list with times.

Where it breaks off it is asked for again; what was missed is said. The file can be played while it grows.
"""

import asyncio
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from mudlark.archive.record import FileFacts, Note
from mudlark.errors import NetworkError, UsageError
from mudlark.hauling.order import RecordingState
from mudlark.hauling.work import Fetching, Made, Work
from mudlark.manifest.live.broadcast import State, nothing_recorded
from mudlark.manifest.radio import Titles
from mudlark.media.samples import Bytes
from mudlark.media.sniff import right_extension, sniff
from mudlark.media.sound.adts import ADTS
from mudlark.media.sound.framed import Syntax, frames
from mudlark.media.sound.mpeg_audio import MPEG_AUDIO
from mudlark.media.webvtt import Cue, Subtitles, write
from mudlark.text import tidy
from mudlark.verify.fixity import digest
from mudlark.verify.verdict import Problem

_FRAMED: dict[str, Syntax] = {"mp3": MPEG_AUDIO, "adts": ADTS}
_WINDOW = 32 << 20  # bytes of a file that are looked through at once
_WAITS = (1.0, 2.0, 5.0, 10.0, 30.0)  # seconds before it is asked for again
_GIVE_UP = 600.0
_TELL = 1.0


@dataclass(slots=True)
class _Tape:
    """What came. titles: each with the byte at which it began. gaps: seconds since 1970 and how long."""

    path: Path
    bytes: int = 0
    form: str = ""
    begun: float = 0.0
    titles: list[tuple[int, str]] = field(default_factory=list)
    gaps: list[tuple[float, float]] = field(default_factory=list)


async def make_radio(work: Work, fetching: Fetching) -> Made:
    """Record until it is as long as was wanted, or is ended by the user."""
    order = work.target.order
    if isinstance(order.span.begin, float) and order.span.begin < time.time():
        raise UsageError("Radio cannot be recorded from a time in the past.", "Leave --from out.")
    tape = _Tape(work.store.item / "tape")
    state, stop = State(), asyncio.Event()

    def tell() -> None:
        state.length = time.time() - tape.begun if tape.begun else 0.0
        state.gaps, state.missed = len(tape.gaps), sum(seconds for _, seconds in tape.gaps)
        work.watch.on_recording(
            RecordingState(work.target.title, state, time.time(), tape.path, len(tape.gaps), stop.set)
        )

    tell()
    if isinstance(order.span.begin, float):
        with suppress(TimeoutError):
            await asyncio.wait_for(stop.wait(), order.span.begin - time.time())
    work.watch.on_step("Recording")
    running = asyncio.create_task(_record(work, tape, tell))
    ending = asyncio.create_task(_until(work, tape, stop))
    try:
        await asyncio.wait((running, ending), return_when=asyncio.FIRST_COMPLETED)
    finally:
        for task in (running, ending):
            task.cancel()
        results = await asyncio.gather(running, ending, return_exceptions=True)
    if isinstance(results[0], Exception) and not tape.bytes:
        raise results[0]
    if not tape.bytes:
        raise nothing_recorded(work.target.presentation.url)
    return await asyncio.to_thread(_made, work, tape, results[0])


async def _until(work: Work, tape: _Tape, stop: asyncio.Event) -> None:
    """Returns when the recording is long enough, or is ended."""
    span = work.target.order.span
    while not stop.is_set():
        long_enough = span.length is not None and tape.begun and time.time() - tape.begun >= span.length
        if long_enough or (span.until is not None and time.time() >= span.until):
            return
        with suppress(TimeoutError):
            await asyncio.wait_for(stop.wait(), 0.2)


async def _record(work: Work, tape: _Tape, tell: Callable[[], None]) -> None:
    """Take what comes, again and again where it breaks off."""
    failures, lost_at = 0, 0.0
    session = work.session.behind(work.target.find.mention.referrer, {"icy-metadata": "1"})
    url = work.target.presentation.url
    with tape.path.open("wb") as file:
        while True:
            try:
                async with session.open(url) as reply:
                    every = reply.headers.get("icy-metaint", "0")
                    titles = Titles(int(every) if every.isascii() and every.isdigit() and len(every) < 8 else 0)
                    told = 0.0
                    async for chunk in reply.chunks:
                        now = time.time()
                        if lost_at:
                            tape.gaps.append((lost_at, now - lost_at))
                        failures, lost_at = 0, 0.0
                        tape.begun = tape.begun or now
                        for part in titles.split(chunk):
                            if isinstance(part, str):
                                tape.titles.append((tape.bytes, part))
                            else:
                                file.write(part)
                                tape.bytes += len(part)
                        work.watch.on_bytes(len(chunk))
                        if now - told > _TELL:
                            file.flush()
                            told = now
                            tell()
            except NetworkError:
                if not tape.bytes:
                    raise
                if lost_at and time.time() - lost_at > _GIVE_UP:
                    raise
            lost_at = lost_at or time.time()
            await asyncio.sleep(_WAITS[min(failures, len(_WAITS) - 1)])
            failures += 1


def _made(work: Work, tape: _Tape, problem: object) -> Made:
    with tape.path.open("rb") as file:
        tape.form = sniff(file.read(65536))
    media = tape.path.with_name(work.name + right_extension(tape.form, "" if tape.form != "unknown" else ".audio"))
    tape.path.rename(media)
    seconds = _Seconds(media, tape)
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
    return Made((media,), tuple(beside), tuple(problems), tuple(notes))


def _cues(tape: _Tape, seconds: "_Seconds") -> list[Cue]:
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

    def __init__(self, path: Path, tape: _Tape) -> None:
        self._size = max(1, tape.bytes)
        syntax = _FRAMED.get(tape.form)
        self._places = np.zeros(0, np.int64)
        self.total = max(0.1, time.time() - tape.begun)
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
