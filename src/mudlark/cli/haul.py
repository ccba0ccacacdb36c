"""`mudlark haul`: the main job, with its progress on stderr."""

import asyncio
import re
import time
from pathlib import Path
from typing import Any

import click
from rich.progress import BarColumn, Progress, ProgressColumn, Task, TextColumn
from rich.text import Text

from mudlark.archive.record import Record
from mudlark.cli.config import own_guises
from mudlark.cli.options import addresses, connection, json_option, means, means_options, network_options
from mudlark.cli.show import bits, clock, console, emit_json, messages, size, verdict
from mudlark.cli.steps import OnScreen, Steps
from mudlark.errors import MudlarkError, Refused, UsageError
from mudlark.fetch.engine import Outcome
from mudlark.find.look import Means
from mudlark.find.questions import ANY
from mudlark.find.select import Choice
from mudlark.haul import haul
from mudlark.order import HaulWatch, Item, Order, Plan
from mudlark.web.address import printable
from mudlark.web.guise import PLAIN, Guise, built_in
from mudlark.web.retry import Passing
from mudlark.web.session import Session

_UNITS = {"hls": "segments", "series": "segments", "file": "parts", "images": "page images"}


@click.command(short_help="Fetch into a verified item.")
@click.argument("targets", nargs=-1, metavar="TARGET...")
@click.option(
    "--into",
    type=click.Path(file_okay=False, path_type=Path),
    required=True,
    metavar="DIR",
    help="Folder that takes the items.",
    envvar="MUDLARK_INTO",
)
@click.option("--title", default=None, help="Name of the item, instead of the page's title.")
@click.option("--nth", type=click.IntRange(1), default=None, metavar="N", help="Take find number N of `mudlark sift`.")
@click.option("--match", default=None, metavar="TEXT", help="Take the best find with this text in address or label.")
@click.option("--all", "every", is_flag=True, help="Take all main finds, or all that match.")
@click.option("--expect", default=None, metavar="sha256:HEX", help="The digest that the file must have.")
@click.option("--series", is_flag=True, help="Where there is no playlist, take a series of numbered segments.")
@click.option(
    "--as",
    "form",
    type=click.Choice(["pdf", "images"]),
    default="pdf",
    show_default=True,
    help="Page images: bound into one PDF, or kept as they are.",
)
@means_options
@json_option
@network_options
def command(
    targets: tuple[str, ...],
    into: Path,
    title: str | None,
    nth: int | None,
    match: str | None,
    every: bool,
    expect: str | None,
    series: bool,
    form: str,
    as_json: bool,
    **given: Any,
) -> None:
    """Fetch what a page, a playlist or a direct file address holds, and leave a verified item.

    Takes the best find of a page and its highest rendition. Stopped half-way, the same command goes on from there.
    """
    choice, digest, way = Choice(nth, match, every, series), _digest(expect), means(given)
    if any(answer.value == ANY for answer in way.answers):
        raise UsageError("haul takes one way through the questions.", "See all of them with `mudlark sift`.")
    guises: tuple[Guise, ...] = ()
    if given["guise"] == "all":
        guises, given["guise"] = tuple({**built_in(), **own_guises()}.values()), PLAIN.name
    if not targets and way.har is None:
        raise UsageError("There is nothing to haul.", "Give the address of a page, playlist or file, or --har FILE.")
    items: list[Item] = []
    failures: list[MudlarkError] = []
    told: list[dict[str, Any]] = []
    for target in addresses(targets) or [_only_page(way)]:
        problems: list[MudlarkError] = []
        try:
            order = Order(target, into, choice, title, digest, way, form == "images", guises)
            for item in _haul(order, given, problems):
                items.append(item)
                told.append(_as_data(item))
                if not as_json:
                    _show(item)
        except MudlarkError as problem:
            problems.append(problem)
        failures += problems
        told += [_as_failure(target, problem) for problem in problems]
    if as_json:
        emit_json("haul", items=told)
    if failures:
        for failure in failures[:-1]:
            messages().print(f"mudlark: {failure}", markup=False)
        raise failures[-1]
    if any(item.verdict != "sound" for item in items):
        click.get_current_context().exit(1)


def _only_page(way: Means) -> str:
    """The page of a capture, if it has one only."""
    from mudlark.web.capture import read_captures

    assert way.har
    pages = [capture.url for capture in read_captures(way.har)]
    if len(pages) != 1:
        raise UsageError(f"{way.har} holds {len(pages)} pages.", f"Give the address of one: {', '.join(pages[:5])}")
    return pages[0]


def _digest(text: str | None) -> str | None:
    """The hexadecimal part of `sha256:…`."""
    if text is None:
        return None
    match = re.fullmatch(r"sha256:([0-9a-fA-F]{64})", text.strip())
    if not match:
        raise UsageError(f"{text!r} is no digest.", "Write it as sha256: and 64 hexadecimal digits.")
    return match[1].lower()


def _haul(order: Order, network: dict[str, Any], failures: list[MudlarkError]) -> list[Item]:
    items: list[Item] = []

    async def work() -> None:
        async with Session(connection(**network)) as session:
            items.extend([item async for item in haul(session, order, view)])

    with Steps() as steps, _View(failures, steps) as view:
        try:
            asyncio.run(work())
        except KeyboardInterrupt:
            view.stop()
            if view.done:
                messages().print(
                    f"mudlark: Interrupted; {view.done} of {view.planned} {view.unit} are kept.\n"
                    "         Run the same command again to go on from there.",
                    markup=False,
                )
                raise SystemExit(130) from None
            raise
    return items


class _View(OnScreen, HaulWatch):
    """Progress on stderr: a bar on a terminal, a line now and then elsewhere."""

    def __init__(self, failures: list[MudlarkError], steps: Steps) -> None:
        super().__init__(
            self.bytes_came,
            self.outcome_came,
            self.retry_came,
            self.plan_came,
            self.step_came,
            failures.append,
            self.warning_came,
            steps,
        )
        self._steps = steps
        self._console = messages()
        self._progress: Progress | None = None
        self._task: Any = None
        self._last = time.monotonic()
        self.done = self.planned = 0
        self.unit = "segments"
        self._bytes = 0

    def stop(self) -> None:
        """Take the bar away."""
        if self._progress:
            self._progress.stop()
            self._progress = None

    def plan_came(self, plan: Plan) -> None:
        self.stop()
        self._steps.stop()
        self.planned, self.done, self._bytes = plan.segments, 0, 0
        self.unit = _UNITS[plan.presentation.kind]
        track = plan.tracks[0]
        facts = [f"{track.width}×{track.height}" if track.width else "", bits(track.bitrate) if track.bitrate else ""]
        facts += [clock(plan.duration) if plan.duration else ""]
        facts += [size(plan.presentation.length) if plan.presentation.length else ""]
        facts += [f"{plan.segments} {self.unit}" if plan.segments > 1 else "1 file"]
        self._console.print(Text(plan.title, style="bold"))
        self._console.print(Text(", ".join(fact for fact in facts if fact), style="dim"))
        if self._console.is_terminal:
            self._progress = Progress(
                TextColumn("{task.description:<11}"),
                BarColumn(30, "dim", "cyan", "green"),
                _Facts(self),
                console=self._console,
                transient=True,
            )
            self._task = self._progress.add_task("Fetching", total=plan.segments)
            self._progress.start()

    def step_came(self, step: str) -> None:
        if self._progress:
            self._progress.update(self._task, description=step)
        elif not self._console.is_terminal and self.planned:
            self._console.print(f"{step} …", markup=False)

    def bytes_came(self, count: int) -> None:
        self._bytes += count

    def outcome_came(self, outcome: Outcome) -> None:
        self.done += outcome.path is not None
        if self._progress:
            self._progress.update(self._task, completed=self.done)
        elif not self._console.is_terminal and time.monotonic() - self._last > 10:
            self._last = time.monotonic()
            self._console.print(f"{self.done} of {self.planned} {self.unit}, {size(self._bytes)}", markup=False)

    def warning_came(self, text: str) -> None:
        self._console.print(Text(f"! {text}", style="yellow"))

    def retry_came(self, problem: Passing) -> None:
        self._console.print(Text(f"Trying again: {problem.what}", style="dim"))


class _Facts(ProgressColumn):
    """Segments, bytes, speed and time left. The time left follows from segments, as sizes are not known beforehand."""

    max_refresh = 0.25

    def __init__(self, view: _View) -> None:
        super().__init__()
        self._view = view

    def render(self, task: Task) -> Text:
        elapsed = task.elapsed or 0.001
        done, total = int(task.completed), int(task.total or 0)
        left = clock((total - done) * elapsed / done) if done else "–"
        came = self._view._bytes
        return Text(f"{done}/{total}  {size(came)}  {size(came / elapsed)}/s  {left} left")


def _as_data(item: Item) -> dict[str, Any]:
    record = item.record
    return {
        "verdict": record.verdict,
        "title": record.title,
        "folder": str(item.folder) if item.folder else None,
        "kept": str(item.kept) if item.kept else None,
        "already": item.already,
        "files": record.files if item.folder else [],
        "duration": record.duration,
        "tracks": record.tracks,
        "segments": record.segments,
        "problems": [{"code": p.code, "message": p.message} for p in record.problems],
        "checks": record.checks,
        "contents": record.contents,
        "source": record.source,
    }


def _as_failure(target: str, problem: MudlarkError) -> dict[str, Any]:
    """A haul that left nothing, in the shape of those that did."""
    code = re.sub(r"(?<!^)(?=[A-Z])", "-", type(problem).__name__.removesuffix("Error")).lower()
    return {
        "verdict": "refused" if isinstance(problem, Refused) else "failed",
        "title": None,
        "folder": None,
        "kept": None,
        "already": False,
        "files": [],
        "duration": None,
        "tracks": [],
        "segments": None,
        "problems": [{"code": code, "message": str(problem)}],
        "checks": [],
        "contents": [],
        "source": {"target": target},
    }


def _show(item: Item) -> None:
    out = console()
    record = item.record
    line = verdict(record.verdict)
    line.append(f"  {record.title}", style="bold default")
    if item.already:
        line.append("  was hauled before; its files are unchanged", style="not bold default")
    out.print(line)
    for track in record.tracks:
        what = f"{track.width}×{track.height}, {track.frame_rate:g} frames/s" if track.width else ""
        what = what or f"{track.channels} channels, {track.sample_rate} Hz"
        out.print(
            f"  {track.type:<7}{track.codec}, {what}, {bits(track.bitrate)}, {clock(track.duration)}", markup=False
        )
    _show_checks(out, record)
    if record.contents:
        inside = [f"{printable(name)} ({size(count)})" for name, count in record.contents[:5]]
        more = f" and {len(record.contents) - 5} more" if len(record.contents) > 5 else ""
        out.print(f"  inside {', '.join(inside)}{more}", markup=False)
    if item.folder:
        media = [file for file in record.files if file.role == "media"]
        more = f" and {len(media) - 1} more" if len(media) > 1 else ""
        total = size(sum(file.bytes for file in media))
        out.print(f"  file   {item.folder / media[0].path}{more} ({total})", markup=False)
        out.print(f"  record {item.folder / 'record.json'}", markup=False)
    else:
        out.print(f"  Nothing was put under a final name; what was fetched is in {item.kept}", markup=False)
    if item.kept and item.folder:
        out.print("  Run the same command again to try for what is missing.", markup=False)


def _show_checks(out: Any, record: Record) -> None:
    passed = sum(check.outcome == "passed" for check in record.checks)
    counts = record.segments
    unit = _UNITS[record.source.kind]
    told = f"{counts.planned} {unit}" if counts.planned > 1 else "1 file"
    parts = [f"{counts.fetched} fetched", f"{counts.reused} reused" if counts.reused else ""]
    parts += [
        f"{counts.retried} tried again" if counts.retried else "",
        f"{counts.missing} missing" if counts.missing else "",
    ]
    out.print(f"  {told}: {', '.join(part for part in parts if part)}; {passed} checks passed", markup=False)
    for check in record.checks:
        if check.name == "pages" and check.outcome == "skipped":
            out.print(Text(f"  ! {check.detail}", style="yellow"))
    for problem in record.problems:
        out.print(Text(f"  ! {problem.message}", style="yellow"))
