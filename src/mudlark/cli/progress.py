"""Progress of a haul on stderr: one line that fits any width, or a plain line now and then where nobody watches."""

import asyncio
import shutil
import signal
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

from rich.console import Console
from rich.live import Live
from rich.text import Text

from mudlark.cli.show import bits, messages
from mudlark.cli.steps import OnScreen, Steps
from mudlark.errors import MudlarkError, NetworkError
from mudlark.fetch.engine import Outcome
from mudlark.hauling.order import HaulWatch, Plan, RecordingState
from mudlark.text import clock, counted, size

UNITS = {
    "hls": "segments",
    "dash": "segments",
    "series": "segments",
    "tap": "pieces",
    "file": "parts",
    "images": "page images",
    "stream": "parts",
}
_EVERY = 10.0  # seconds between plain lines
_WINDOW = 8.0  # seconds over which the speed is measured
_LEAST_BAR, _MOST_BAR = 6, 30


class Gauge:
    """How far something is, how fast, and how long it will take; from bytes where the whole is known or can be
    estimated from the pieces that are there."""

    def __init__(self, planned: int, total: int | None, clock_now: float) -> None:
        self.planned = planned
        self.total = total
        self.done = 0
        self.bytes = 0
        self.retries = 0
        self._whole_bytes = 0
        self._moments: deque[tuple[float, int]] = deque([(clock_now, 0)])
        self._left: float | None = None
        self._left_at = clock_now

    def bytes_came(self, count: int, now: float) -> None:
        self.bytes += count
        if now - self._moments[-1][0] >= 0.2:
            self._moments.append((now, self.bytes))
        while len(self._moments) > 2 and now - self._moments[0][0] > _WINDOW:
            self._moments.popleft()

    def piece_came(self, size_of_it: int, reused: bool) -> None:
        self.done += 1
        self._whole_bytes += size_of_it
        if reused:
            self.bytes += size_of_it

    @property
    def estimate(self) -> float | None:
        """Bytes in all: as known, else as the pieces so far let expect."""
        if self.total is not None:
            return float(self.total)
        return self._whole_bytes / self.done * self.planned if self.done else None

    @property
    def share(self) -> float:
        """From 0 to 1."""
        whole = self.estimate
        if not whole:
            return self.done / self.planned if self.planned else 0.0
        return min(
            1.0, max(self.bytes / whole if self.done < self.planned else 1.0, self.done / max(1, self.planned) * 0.5)
        )

    def rate(self, now: float) -> float:
        """Bytes a second, over the last seconds."""
        since, there = self._moments[0]
        return (self.bytes - there) / (now - since) if now - since > 0.3 else 0.0

    def left(self, now: float) -> float | None:
        """Seconds still to go, eased so that it does not leap; None while nothing can be said."""
        whole, rate = self.estimate, self.rate(now)
        if not whole or rate <= 0:
            return None
        fresh = max(0.0, whole - self.bytes) / rate
        if self._left is None:
            self._left, self._left_at = fresh, now
        else:
            passed = now - self._left_at
            weight = min(1.0, passed / 3)
            self._left, self._left_at = max(0.0, self._left - passed) * (1 - weight) + fresh * weight, now
        return self._left


class HaulProgress(OnScreen, HaulWatch):
    """Use as `with HaulProgress(failures, steps) as progress`. failures: takes what went wrong with single finds."""

    def __init__(self, failures: list[MudlarkError], steps: Steps) -> None:
        super().__init__(
            self.bytes_came,
            self.outcome_came,
            self.retry_came,
            self.plan_came,
            self.step_came,
            failures.append,
            self.warning_came,
            self.recording_came,
            steps,
        )
        self._steps = steps
        self._console = messages()
        self._live: Live | None = None
        self._last = time.monotonic()
        self._step = "Fetching"
        self.unit = "segments"
        self.gauge = Gauge(0, None, self._last)
        self._recording: RecordingState | None = None
        self._ends: dict[Path, Callable[[], None]] = {}

    @property
    def done(self) -> int:
        """Pieces that are there."""
        return self.gauge.done

    @property
    def planned(self) -> int:
        """Pieces in all."""
        return self.gauge.planned

    def stop(self) -> None:
        """Take the line away."""
        if self._live:
            self._live.stop()
            self._live = None

    def plan_came(self, plan: Plan) -> None:
        self.stop()
        self._steps.stop()
        self.gauge = Gauge(plan.segments, plan.presentation.facts.length, time.monotonic())
        tiled = any(picture.tiles for picture in plan.presentation.pictures)
        self.unit = "tiles" if tiled else UNITS[plan.presentation.kind]
        self._recording = None
        if plan.presentation.kind == "stream":
            self._console.print(Text(plan.title, style="bold"))
            return
        track = plan.renditions[0]
        facts = [f"{track.width}×{track.height}" if track.width else "", bits(track.bitrate) if track.bitrate else ""]
        facts += [clock(plan.duration) if plan.duration else ""]
        facts += [size(plan.presentation.facts.length) if plan.presentation.facts.length else ""]
        facts += [f"{plan.segments} {self.unit}" if plan.segments > 1 else "1 file"]
        self._console.print(Text(plan.title, style="bold"))
        self._console.print(Text(", ".join(fact for fact in facts if fact), style="dim"))
        if self._console.is_terminal and not self._console.quiet:
            self._live = Live(self, console=self._console, refresh_per_second=4, transient=True)
            self._live.start()

    def recording_came(self, state: RecordingState) -> None:
        """How a recording goes: shown in place of the bar, or now and then as a line."""
        if state.film not in self._ends:
            self._steps.stop()
            self._console.print(Text(state.title, style="bold"))
            words = f" What is there already can be played: {state.film}" if state.playable else ""
            self._console.print(Text(f"Recording.{words}", style="dim"))
            if not self._ends:
                self._console.print(Text("Ctrl-C ends the recording, and makes an item of it.", style="dim"))
                self._end_by_key()
            self._ends[state.film] = state.end
            if self._console.is_terminal and not self._console.quiet and self._live is None:
                self._live = Live(self, console=self._console, refresh_per_second=4, transient=True)
                self._live.start()
        self._recording = state
        now = time.monotonic()
        if self._live is None and not self._console.is_terminal and now - self._last > _EVERY:
            self._last = now
            self._console.print(recording_line(state, self.gauge.bytes), markup=False)

    def _end_by_key(self) -> None:
        """The first Ctrl-C ends the recording; a second one leaves at once."""

        def ended() -> None:
            loop.remove_signal_handler(signal.SIGINT)
            self.warning_came("Ending the recording. Ctrl-C once more leaves at once; the same command goes on then.")
            for end in self._ends.values():
                end()

        loop = asyncio.get_running_loop()
        with suppress(NotImplementedError, RuntimeError, ValueError):  # where there are no such signals
            loop.add_signal_handler(signal.SIGINT, ended)

    def __rich_console__(self, console: Console, _options: Any) -> Any:
        if self._recording:
            yield Text(recording_line(self._recording, self.gauge.bytes), no_wrap=True, overflow="ellipsis")
            return
        yield line(self.gauge, self._step, self.unit, console.width - 1, time.monotonic())

    def step_came(self, step: str) -> None:
        self._step = step
        if self._console.is_terminal:
            if self._live is None:
                self._steps.say(f"{step} …")
        elif self.planned:
            self._console.print(f"{step} …", markup=False)

    def bytes_came(self, count: int) -> None:
        now = time.monotonic()
        self.gauge.bytes_came(count, now)
        if self._live is None and not self._console.is_terminal and now - self._last > _EVERY:
            self._last = now
            self._console.print(plain_line(self.gauge, self.unit, now), markup=False)

    def outcome_came(self, outcome: Outcome) -> None:
        if outcome.row is not None:
            self.gauge.piece_came(outcome.row.bytes, outcome.reused)

    def warning_came(self, text: str) -> None:
        self._console.print(Text(f"! {text}", style="yellow"))

    def retry_came(self, problem: NetworkError) -> None:
        self.gauge.retries += 1
        if self._live is None:
            self._console.print(Text(f"Trying again: {problem.what}", style="dim"))


def line(gauge: Gauge, step: str, unit: str, width: int, now: float) -> Text:
    """The facts that fit the width, the most important first."""
    left = gauge.left(now)
    facts = [f"{gauge.share:4.0%}", f"{size(gauge.rate(now))}/s", f"{clock(left) if left is not None else '–'} left"]
    facts += [f"{gauge.retries} tried again"] if gauge.retries else []
    facts += [f"{gauge.done} of {gauge.planned} {unit}"] if gauge.planned > 1 else []
    facts += [size(gauge.bytes)]
    text = f"{step} "
    while len(facts) > 1 and len(text) + len("  ".join(facts)) > width - _LEAST_BAR - 1:
        facts.pop()
    words = "  ".join(facts)
    room = min(_MOST_BAR, width - len(text) - len(words) - 1)
    text_line = Text(text, no_wrap=True, overflow="ellipsis")
    if room >= _LEAST_BAR:
        filled = round(gauge.share * room)
        text_line.append("━" * filled, style="cyan").append("━" * (room - filled), style="dim").append(" ")
    text_line.append(words)
    text_line.truncate(width)
    return text_line


def recording_line(recording: RecordingState, received: int) -> str:
    """Time of day, length so far, bytes, how far behind, what was missed, and how long the disk will do."""
    state = recording.state
    facts = [time.strftime("%H:%M:%S", time.localtime(recording.now)), f"{clock(state.length)} recorded"]
    facts.append(size(received))
    facts += [f"{state.behind:.0f} s behind"] if state.behind is not None else []
    facts += [f"{counted(state.gaps, 'gap')} of {state.missed:.0f} s"] if state.gaps else []
    facts += [f"{recording.retries} tried again"] if recording.retries else []
    with suppress(OSError):
        free = shutil.disk_usage(recording.film.parent).free
        if received and state.length:
            facts.append(f"room for {free / (2 * received / state.length) / 3600:.0f} h")
    return "  ".join(facts)


def plain_line(gauge: Gauge, unit: str, now: float) -> str:
    """The same for those who read it later."""
    left = gauge.left(now)
    parts = [f"{gauge.share:.0%}", f"{gauge.done} of {gauge.planned} {unit}" if gauge.planned > 1 else ""]
    parts += [size(gauge.bytes), f"{size(gauge.rate(now))}/s", f"{clock(left)} left" if left is not None else ""]
    parts += [f"{gauge.retries} tried again" if gauge.retries else ""]
    return ", ".join(one for one in parts if one)
