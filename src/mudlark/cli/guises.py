"""`mudlark guises`: what a page gives to whom."""

import asyncio
import csv
import shlex
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from mudlark.archive.listing import cell, written
from mudlark.atomic import refuse_existing
from mudlark.cli.command import Command, common_options, option, replace_option
from mudlark.cli.config import own_guises
from mudlark.cli.options import Network, addresses, guise_names, listening, listening_options, network_options
from mudlark.cli.show import columns, console, emit_json
from mudlark.cli.steps import Steps
from mudlark.errors import NetworkError
from mudlark.find.compare import Compared, Comparison, GuiseResult, compare
from mudlark.find.look import Means
from mudlark.find.model import PLAYED
from mudlark.text import printable, size
from mudlark.web.address import shown
from mudlark.web.guise import Guise, built_in, choose

_KEPT = PLAYED | {"document", "package"}


@click.command(
    cls=Command,
    short_help="What a page gives to whom.",
    examples=(
        ("Who gets what from a page?", "guises https://museum.example/field-guide"),
        ("Only two of them, in a real browser:", "guises URL --as phone-a --as desktop-b --listen"),
        ("The guises there are:", "guises"),
    ),
)
@click.argument("url", metavar="[URL]", required=False)
@option(
    "--as",
    "names",
    multiple=True,
    metavar="NAME",
    shell_complete=guise_names,
    help="Only as this guise; repeatable. Without it, as all.",
)
@option("--listen", is_flag=True, help="Compare in a real browser: some pages decide in a script.")
@option(
    "--at-once",
    type=click.IntRange(1, 16),
    default=1,
    show_default=True,
    metavar="N",
    help="Guises that ask at the same time.",
)
@option(
    "--csv", "table", type=click.Path(dir_okay=False, path_type=Path), metavar="FILE", help="Write the matrix here."
)
@option("--most", type=click.IntRange(1), default=30, show_default=True, help="Finds listed.")
@listening_options
@network_options
@replace_option
@common_options
def command(
    url: str | None,
    names: tuple[str, ...],
    listen: bool,
    at_once: int,
    table: Path | None,
    most: int,
    replace: bool,
    as_json: bool,
    network: Network,
    **given: Any,
) -> None:
    """Ask for a page as each of the guises, and show which finds appear under which.

    Without an address, lists the guises there are. What only some get comes first, with the plainest guise that gets
    it and the command that hauls it.
    """
    own = own_guises()
    known = {**built_in(), **own}
    guises = [choose(name, own) for name in names] or list(known.values())
    if url is None:
        _show_guises(guises, as_json)
        return
    if table:
        refuse_existing(table, "--csv", replace)
    address = addresses((url,))[0]
    options = listening(given)
    means = Means(options) if listen else Means()
    with Steps() as steps:
        work = compare(network.connection(), address, guises, means, at_once=at_once, tell=steps.say)
        comparison = asyncio.run(work)
    shared_pictures = [row for row in comparison.rows if row.find.kind not in _KEPT and comparison.is_shared(row)]
    comparison.rows = [row for row in comparison.rows if row not in shared_pictures]
    if table:
        _write(comparison, table, replace)
    problems = (
        [] if comparison.asked else [NetworkError(f"No guise gets an answer from {shown(address)}.", url=address)]
    )
    if as_json:
        emit_json(
            "guises",
            problems,
            url=address,
            differs=comparison.differs,
            guises=[_seen_data(result) for result in comparison.result],
            finds=[_row_data(comparison, row, listen) for row in comparison.rows],
        )
    else:
        _show(comparison, most, listen)
    if problems:
        raise problems[0]


def haul_command(comparison: Comparison, row: Compared, listen: bool) -> str:
    """What hauls a find as the plainest guise that gets it."""
    parts = ["mudlark", "haul", comparison.url, "--guise", row.plainest]
    parts += ["--listen"] if listen else []
    others = [other for other in comparison.rows if other is not row and row.plainest in other.guises]
    if others:
        parts += ["--match", row.find.url.partition("?")[0].rpartition("/")[2] or row.find.url]
    return shlex.join(parts)


def _show_guises(guises: list[Guise], as_json: bool) -> None:
    if as_json:
        emit_json("guises", guises=[_guise_data(guise) for guise in guises])
        return
    out = console()
    width = max(len(guise.name) for guise in guises)
    for guise in guises:
        out.print(Text(f"{guise.name:<{width}}  ", style="bold").append(guise.about, style="not bold"))
        out.print(Text(f"{'':<{width}}  {guise.user_agent}", style="dim"))


def _guise_data(guise: Guise) -> dict[str, Any]:
    hints = {name: value for name, value in guise.hint_fields().items() if value != '""'}
    return {
        "name": guise.name,
        "about": guise.about,
        "user_agent": guise.user_agent,
        "accept": guise.accept,
        "language": guise.language,
        "platform": guise.platform,
        "viewport": guise.viewport,
        "scale": guise.scale,
        "touch": guise.touch,
        "mobile": guise.mobile,
        "hints": hints,
    }


def _show(comparison: Comparison, most: int, listen: bool) -> None:
    out = console()
    title = next((result.title for result in comparison.result if result.title), "Untitled page")
    out.print(Text(title, style="bold"))
    answer = "differs by who asks" if comparison.differs else "is the same for all"
    out.print(Text(f"{printable(comparison.url)} {answer}", style="dim"))
    if vary := sorted({name for result in comparison.result for name in (*result.vary, *result.hints)}):
        out.print(Text(f"The server says that its answer depends on: {', '.join(vary)}", style="dim"))
    out.print()
    lines = list(columns([_heading(), *(_cells(result) for result in comparison.result)], right=(1, 2, 3)))
    out.print(Text(lines[0], style="dim"))
    for result, line in zip(comparison.result, lines[1:], strict=True):
        out.print(Text(line, style="yellow" if result.problem else ""))
    out.print()
    for row in comparison.rows[:most]:
        only = not comparison.is_shared(row)
        head = Text(f"{row.find.kind}, {row.find.role}: ", style="bold" if only else "dim")
        out.print(head.append(_who(comparison, row), style="bold green" if only else "not bold"))
        out.print(Text(f"  {printable(row.find.url)}", style="cyan" if only else ""))
        if only:
            out.print(Text(f"  {haul_command(comparison, row, listen)}", style="dim"))
    if len(comparison.rows) > most:
        out.print(
            Text(
                f"  … and {len(comparison.rows) - most} more; see them with --most {len(comparison.rows)}", style="dim"
            )
        )
    if not comparison.rows:
        out.print("No guise gets any media.", markup=False)


def _who(comparison: Comparison, row: Compared) -> str:
    """Who gets a find; the shorter of the two lists."""
    without = [result.guise.name for result in comparison.result if result.page and result.guise.name not in row.guises]
    if not without:
        return f"as all {comparison.asked}"
    if len(without) < len(row.guises):
        return f"not as {', '.join(without)}"
    return f"only as {', '.join(row.guises)}"


def _heading() -> tuple[str, ...]:
    return ("guise", "status", "page", "finds", "title or what happened")


def _cells(result: GuiseResult) -> tuple[str, ...]:
    count = str(sum(find.kind in _KEPT for find in result.page.finds)) if result.page else "–"
    answer = result.problem or result.title or "–"
    if result.final:
        answer = f"led to {printable(result.final)}: {answer}"
    return result.guise.name, str(result.status or "–"), size(result.bytes), count, printable(answer)


def _seen_data(result: GuiseResult) -> dict[str, Any]:
    return {
        "name": result.guise.name,
        "status": result.status,
        "final": result.final,
        "title": result.title,
        "bytes": result.bytes,
        "vary": result.vary,
        "accept_ch": result.hints,
        "challenge": result.challenge,
        "problem": result.problem,
        "finds": len(result.page.finds) if result.page else None,
    }


def _row_data(comparison: Comparison, row: Compared, listen: bool) -> dict[str, Any]:
    return {
        "url": row.find.url,
        "kind": row.find.kind,
        "role": row.find.role,
        "label": row.find.label,
        "guises": row.guises,
        "all": comparison.is_shared(row),
        "plainest": row.plainest,
        "command": haul_command(comparison, row, listen),
    }


def _write(comparison: Comparison, path: Path, replace: bool) -> None:
    """The matrix: a find a line, a guise a column."""
    names = [result.guise.name for result in comparison.result]
    with written(path, replace=replace) as file:
        out = csv.writer(file)
        out.writerow(["find", "kind", "role", *names])
        for row in comparison.rows:
            got = ["yes" if name in row.guises else "" for name in names]
            out.writerow([cell(row.find.url), row.find.kind, row.find.role, *got])
