"""`mudlark assay`: is it sound, and why."""

from pathlib import Path

import click
from rich.text import Text

from mudlark.archive.assay import Assay, assay
from mudlark.cli.options import json_option
from mudlark.cli.show import clock, console, emit_json, verdict

_MARK = {"passed": ("✓", "green"), "failed": ("✗", "red"), "skipped": ("·", "dim")}


@click.command(short_help="Verify items or media files.")
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path), metavar="PATH...")
@json_option
def command(paths: tuple[Path, ...], as_json: bool) -> None:
    """Verify items (checksums against their record, structure, timeline) or single MP4 files.

    PATH is an item's folder, a folder of items, or a media file.
    """
    found = [result for path in paths for result in assay(path)]
    if as_json:
        emit_json(
            "assay",
            items=[
                {
                    "path": str(result.path),
                    "title": result.title,
                    "verdict": result.verdict,
                    "duration": result.duration,
                    "tracks": result.tracks,
                    "checks": result.report.checks,
                    "problems": [{"code": p.code, "message": p.message} for p in result.report.problems],
                }
                for result in found
            ],
        )
    else:
        for number, result in enumerate(found):
            if number:
                click.echo()
            _show(result)
    if any(result.verdict != "sound" for result in found):
        click.get_current_context().exit(1)


def _show(result: Assay) -> None:
    out = console()
    line = verdict(result.verdict)
    line.append(f"  {result.title}", style="bold default")
    if result.duration:
        line.append(f"  {clock(result.duration)}", style="not bold default dim")
    out.print(line)
    out.print(Text(f"  {result.path}", style="dim"))
    for check in result.report.checks:
        mark, style = _MARK[check.outcome]
        out.print(
            Text.assemble("  ", (mark, style), f" {check.name:<15}", (check.detail, "" if style == "red" else "dim"))
        )
    told = {check.detail for check in result.report.checks}
    for problem in result.report.problems:
        if problem.message not in told:
            out.print(Text(f"  ! {problem.message}", style="yellow"))
