"""`mudlark assay`: is it sound, and why."""

import asyncio
from collections import Counter
from pathlib import Path
from typing import Literal

import click
from rich.console import Console
from rich.text import Text

from mudlark.archive.assay import Assay, assays
from mudlark.cli.command import Command, common_options, option
from mudlark.cli.options import play_option
from mudlark.cli.show import clock, complain, console, emit_json, manner, verdict
from mudlark.cli.steps import Steps
from mudlark.errors import MudlarkError, UsageError
from mudlark.text import printable
from mudlark.verify.verdict import WORTH

_MARK = {"passed": ("✓", "green"), "failed": ("✗", "bold red"), "skipped": ("·", "dim")}
_WIDEST = len("unproven")


@click.command(
    cls=Command,
    short_help="Verify items or media files.",
    examples=(
        ("Everything in a folder, at any depth:", "assay mudlark/"),
        ("One file, with every check that was made:", "assay --verbose film.mp4"),
        ("For a program:", "assay --json mudlark/"),
    ),
)
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="PATH...")
@play_option
@option("--browser", type=click.Path(dir_okay=False, path_type=Path), default=None, help="The browser to play it in.")
@common_options
def command(paths: tuple[Path, ...], play: Literal["some", "full"] | None, browser: Path | None, as_json: bool) -> None:
    """Verify items (checksums against their record, structure, timeline) or single media files.

    PATH is an item's folder, a folder with items and media files at any depth, or a media file. A good one takes one
    line; of the others all checks are listed, and with --verbose of all.
    """
    assayed: list[Assay] = []
    problems: list[MudlarkError] = []
    out = console()
    for path in paths:
        before = len(assayed)
        try:
            for result in assays(path):
                if play:
                    _play(result, play, browser)
                assayed.append(result)
                if not as_json:
                    _show(out, result, whole=manner.verbose or result.verdict != "sound")
            if len(assayed) == before:
                raise UsageError(
                    f"{path} holds no item and no media file, at no depth.", "Give an item's folder or a media file."
                )
        except MudlarkError as problem:
            problems.append(problem)
    if as_json:
        emit_json("assay", problems, items=[_data(result) for result in assayed])
    elif len(assayed) > 1:
        out.print()
        out.print(Text(_summary(assayed), style="bold"))
    if problems:
        for earlier in problems[:-1]:
            complain(earlier.what, earlier.advice)
        raise problems[-1]
    if any(result.verdict != "sound" for result in assayed):
        click.get_current_context().exit(1)


def _play(result: Assay, manner: Literal["some", "full"], browser: Path | None) -> None:
    """Have a browser play what an item or file holds; what is broken is not tried."""
    from mudlark.fetch.store import now
    from mudlark.playing.judge import facts_of, judge_played
    from mudlark.playing.play import PLAYABLE
    from mudlark.playing.play import play as played_in_browser

    for path, checked in result.media:
        if checked.form not in PLAYABLE or result.verdict == "broken":
            continue
        with Steps() as steps:
            steps.say(f"Playing {printable(path.name)} …")
            played = asyncio.run(played_in_browser(path, checked, manner, browser))
        judge_played(played, result.report)
        result.played = facts_of(played, now())


def _data(result: Assay) -> dict[str, object]:
    return {
        "path": str(result.path),
        "title": result.title,
        "verdict": result.verdict,
        "duration": result.duration,
        "tracks": result.tracks,
        "checks": result.report.checks,
        "problems": [
            {"code": p.code, "message": p.message, "at": p.at, "offset": p.offset} for p in result.report.problems
        ],
        "played": result.played,
    }


def _summary(assayed: list[Assay]) -> str:
    counts = Counter(result.verdict for result in assayed)
    return f"{len(assayed)} verified: " + ", ".join(f"{counts[word]} {word}" for word in WORTH if counts[word])


def _show(out: Console, result: Assay, *, whole: bool) -> None:
    line = verdict(result.verdict)
    line.append(" " * (_WIDEST - len(result.verdict)))
    line.append(f"  {result.title or result.path.name}", style="bold default")
    if result.duration:
        line.append(f"  {clock(result.duration)}", style="not bold default dim")
    line.append(f"  {result.path}", style="not bold default dim")
    out.print(line)
    if not whole:
        return
    for check in result.report.checks:
        mark, style = _MARK[check.outcome]
        detail = (check.detail, "" if check.outcome == "failed" else "dim")
        out.print(Text.assemble("  ", (mark, style), f" {check.name:<15}", detail))
    details = {check.detail for check in result.report.checks}
    for problem in result.report.problems:
        if problem.message not in details:
            out.print(Text(f"  ! {problem.message}", style="yellow"))
    if result.verdict == "unproven":
        out.print(Text("  ! Nothing proves that it is whole, and nothing looked wrong.", style="yellow"))
