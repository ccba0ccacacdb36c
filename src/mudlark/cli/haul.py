"""`mudlark haul`: the main job, with its progress on stderr."""

import asyncio
import time
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import click
from rich.progress import BarColumn, Progress, ProgressColumn, Task, TextColumn
from rich.text import Text

from mudlark.archive.record import Record
from mudlark.cli.options import connection, json_option, network_options
from mudlark.cli.show import bits, clock, console, emit_json, messages, size, verdict
from mudlark.errors import MudlarkError
from mudlark.fetch.engine import Outcome
from mudlark.haul import HaulWatch, Item, Plan, haul
from mudlark.web.retry import Passing
from mudlark.web.session import Session


@click.command(short_help="Fetch into a verified item.")
@click.argument("targets", nargs=-1, required=True, metavar="TARGET...")
@click.option(
    "--into",
    type=click.Path(file_okay=False, path_type=Path),
    required=True,
    metavar="DIR",
    help="Folder that takes the items.",
    envvar="MUDLARK_INTO",
)
@click.option("--title", default=None, help="Name of the item, instead of the page's title.")
@json_option
@network_options
def command(targets: tuple[str, ...], into: Path, title: str | None, as_json: bool, **network: Any) -> None:
    """Fetch what a page, a playlist or a direct file address holds, and leave a verified item.

    Takes the best find of a page and its highest rendition. Stopped half-way, the same command goes on from there.
    """
    items: list[Item] = []
    failures: list[MudlarkError] = []
    for target in targets:
        try:
            items.append(_one(target, into, title, network))
            if not as_json:
                _show(items[-1])
        except MudlarkError as problem:
            failures.append(problem)
            if problem is not failures[0] or len(targets) > 1:
                messages().print(f"mudlark: {target}: {problem}", markup=False)
    if as_json:
        emit_json("haul", items=[_as_data(item) for item in items])
    if failures:
        if len(targets) == 1:
            raise failures[0]
        click.get_current_context().exit(max(failure.exit_status for failure in failures))
    if any(item.verdict != "sound" for item in items):
        click.get_current_context().exit(1)


def _one(target: str, into: Path, title: str | None, network: dict[str, Any]) -> Item:
    async def work() -> Item:
        async with Session(connection(**network)) as session:
            return await haul(session, target, into, title, view)

    with _View() as view:
        try:
            return asyncio.run(work())
        except KeyboardInterrupt:
            view.stop()
            if view.done:
                messages().print(
                    f"mudlark: Interrupted; {view.done} of {view.planned} segments are kept.\n"
                    "         Run the same command again to go on from there.",
                    markup=False,
                )
                raise SystemExit(130) from None
            raise


class _View(HaulWatch):
    """Progress on stderr: a bar on a terminal, a line now and then elsewhere."""

    def __init__(self) -> None:
        super().__init__(self.bytes_came, self.outcome_came, self.retry_came, self.plan_came, self.step_came)
        self._console = messages()
        self._progress: Progress | None = None
        self._task: Any = None
        self._last = time.monotonic()
        self.done = self.planned = 0
        self._bytes = 0
        self._expected: float | None = None

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        self.stop()

    def stop(self) -> None:
        """Take the bar away."""
        if self._progress:
            self._progress.stop()
            self._progress = None

    def plan_came(self, plan: Plan) -> None:
        self.planned = plan.segments
        track = plan.tracks[0]
        facts = [f"{track.width}×{track.height}" if track.width else "", bits(track.bitrate) if track.bitrate else ""]
        facts += [clock(plan.duration) if plan.duration else ""]
        facts += [f"{plan.segments} segments" if plan.segments > 1 else "1 file"]
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
            self._console.print(f"{self.done} of {self.planned} segments, {size(self._bytes)}", markup=False)

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
        "source": record.source,
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
    if item.folder:
        media = next(file for file in record.files if file.role == "media")
        out.print(f"  file   {item.folder / media.path} ({size(media.bytes)})", markup=False)
        out.print(f"  record {item.folder / 'record.json'}", markup=False)
    else:
        out.print(f"  Nothing was put under a final name; what was fetched is in {item.kept}", markup=False)
    if item.kept and item.folder:
        out.print("  Run the same command again to try for what is missing.", markup=False)


def _show_checks(out: Any, record: Record) -> None:
    passed = sum(check.outcome == "passed" for check in record.checks)
    counts = record.segments
    told = f"{counts.planned} segments" if counts.planned > 1 else "1 file"
    parts = [f"{counts.fetched} fetched", f"{counts.reused} reused" if counts.reused else ""]
    parts += [
        f"{counts.retried} tried again" if counts.retried else "",
        f"{counts.missing} missing" if counts.missing else "",
    ]
    out.print(f"  {told}: {', '.join(part for part in parts if part)}; {passed} checks passed", markup=False)
    for problem in record.problems:
        out.print(Text(f"  ! {problem.message}", style="yellow"))
