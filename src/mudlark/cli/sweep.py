"""`mudlark sweep`: a whole list, item by item."""

import asyncio
import sys
import time
from pathlib import Path
from typing import Any, Literal

import click
from click.shell_completion import CompletionItem
from rich.text import Text

from mudlark.cli.command import Command, common_options, option
from mudlark.cli.options import (
    Network,
    filter_options,
    into_option,
    keeping,
    keeping_options,
    listening,
    network_options,
    wanted,
)
from mudlark.cli.options import listening_options as browser_options
from mudlark.cli.report import need_libraries, report_at_the_end
from mudlark.cli.show import complain, emit_json, messages, numbers
from mudlark.cli.spans import seconds_in
from mudlark.cli.steps import Steps
from mudlark.cli.swept import SweepRun, SweepTask, say_what_is_done
from mudlark.cli.wishes import wish, wish_options
from mudlark.errors import MudlarkError, UsageError
from mudlark.find.look import Means
from mudlark.find.select import Choice
from mudlark.hauling.order import Order
from mudlark.hauling.title import columns_in
from mudlark.sweeping.gather import Gatherer, Gathering
from mudlark.sweeping.journal import Journal
from mudlark.sweeping.rows import ListRow
from mudlark.sweeping.run import Chosen
from mudlark.text import clock, counted, visible
from mudlark.web.address import as_sent
from mudlark.web.redact import redacted
from mudlark.web.session import Session

_LARGEST_INPUT = 200_000_000  # bytes


def _files(_ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[CompletionItem]:
    """A list is mostly a file."""
    return [CompletionItem(incomplete, type="file")]


@click.command(
    cls=Command,
    short_help="Haul a whole list.",
    examples=(
        ("Every talk that an index page lists:", "sweep https://museum.example/talks --into talks"),
        ("A spreadsheet that a colleague sent, three items at once:", "sweep films.csv --at-once 3"),
        ("What failed the last time, once more:", "sweep films.csv --again-failed"),
        ("Every night, and silent unless something is new or wrong:", "sweep films.csv --quiet --give-up 7"),
    ),
)
@click.argument("source", metavar="LIST", shell_complete=_files)
@into_option
@option("--at-once", type=click.IntRange(1, 32), default=2, show_default=True, help="Items side by side.")
@option("--only", default=None, metavar="ROWS|TEXT", help="Only these rows (3,7-9), or those with this text in them.")
@option("--most", type=click.IntRange(1), default=None, metavar="N", help="At most so many rows this time.")
@option("--again-failed", is_flag=True, help="Only rows that were tried before, and of which nothing good came.")
@option("--refresh", is_flag=True, help="Ask again also for what is sound: has it changed, is it gone?")
@option(
    "--give-up",
    type=click.IntRange(1),
    default=None,
    metavar="N",
    help="Set rows aside of which nothing good came in N runs in a row.",
)
@option("--links", default=None, metavar="PATTERN", help="Of a page: these links, by address or words (*/film/*).")
@option(
    "--name-from",
    default=None,
    metavar="COLUMN",
    help="Name items by this column of the list, or a pattern ('{shelfmark} {title}').",
)
@option("--ignore-robots", is_flag=True, help="Read index pages also where their host asks programs not to.")
@option("--cluster", default=None, metavar="ADDRESS", help="On the workers of this Dask scheduler, or local:4.")
@option(
    "--every",
    default=None,
    metavar="TIME",
    help="Look at the list again and again (6h), and take what is new; with --json, a line each time.",
)
@option("--plan", is_flag=True, help="Show the rows, and fetch nothing.")
@option("--listen", is_flag=True, help="Open the page of each row in a real browser, too.", group="Choosing")
@option("--all", "every_find", is_flag=True, group="Choosing", help="Take all main finds of each row.")
@keeping_options
@option(
    "--container",
    type=click.Choice(["mp4", "mkv"]),
    help="What films are put into; else what their media came in, or what holds all of it.",
)
@wish_options
@filter_options
@browser_options
@network_options
@common_options
def command(
    source: str,
    into: Path,
    at_once: int,
    only: str | None,
    most: int | None,
    again_failed: bool,
    refresh: bool,
    give_up: int | None,
    links: str | None,
    name_from: str | None,
    ignore_robots: bool,
    cluster: str | None,
    every: str | None,
    plan: bool,
    listen: bool,
    every_find: bool,
    container: Literal["mp4", "mkv"] | None,
    as_json: bool,
    network: Network,
    **given: Any,
) -> None:
    """Haul every row of a list into an item of its own, and say at the end what came, what did not, and why.

    A list is a table (CSV, TSV, .xlsx, .ods), a text of addresses, a feed, a site map, any page of links, a capture
    (HAR), or - for standard input. Stopped half-way, the same command goes on from there; what is sound is not asked
    for again.
    """
    pause = seconds_in(every) if every else None
    ears = listening(given)
    order = Order(
        target="",
        into=into,
        choice=Choice(None, wanted(given), every_find, False),
        means=Means(listening=ears if listen else None),
        wish=wish(given),
        container=container,
        name_from=name_from,
    )
    order = keeping(order, given)
    if reported := given.pop("report"):
        need_libraries()
    task = SweepTask(source, into, network.connection(), order, ears, not ignore_robots, cluster, links)
    choice = Chosen(only, most, again_failed, refresh, give_up)
    read = False
    while True:
        try:
            gathering = _gathered(task)
        except MudlarkError as problem:
            if not read or pause is None:
                raise
            complain(problem.what, problem.advice)  # the list may be back the next time
            if as_json:
                emit_json("sweep", [problem], in_a_line=True, items=[], summary=None)
            _pause(pause)
            continue
        read = True
        journal = Journal(into)
        _insist_on_columns(name_from, gathering.rows)
        if plan:
            _show_plan(task, gathering, choice, journal, as_json)
            return
        status = SweepRun(task, journal, gathering, choice, as_json, in_a_line=pause is not None).run(at_once)
        if reported:
            report_at_the_end(into, into / "report.html")
        if pause is None:
            click.get_current_context().exit(status)
        _pause(pause)


def _pause(seconds: float) -> None:
    messages().print(f"Looking again in {clock(seconds)}. Ctrl-C ends it.", markup=False)
    time.sleep(seconds)


def _gathered(task: SweepTask) -> Gathering:
    standard_input = sys.stdin.buffer.read(_LARGEST_INPUT) if task.source == "-" else None

    def tell(url: str) -> None:
        steps.say(f"Reading {redacted(url)} …")

    async def work() -> Gathering:
        async with Session(task.network) as session:
            gatherer = Gatherer(session, task.ears, task.robots, tell, task.links)
            return await gatherer.gather(task.source, standard_input)

    with Steps() as steps:
        gathering = asyncio.run(work())
    for note in gathering.notes:
        messages().print(Text(f"! {note}", style="yellow"))
    return gathering


def _insist_on_columns(pattern: str | None, rows: list[ListRow]) -> None:
    """Raises UsageError where items are to be named by a column that the list has not."""
    there = dict.fromkeys(["title", "date", *(name.casefold() for row in rows for name in row.listed)])
    if pattern and (unknown := [name for name in columns_in(pattern) if name not in there]):
        raise UsageError(f"The list has no column {unknown[0]!r}.", f"There are: {', '.join(there)}.")


def _show_plan(task: SweepTask, gathering: Gathering, choice: Chosen, journal: Journal, as_json: bool) -> None:
    """The rows that would be hauled, and those that must fail. Raises the first reason for one of these."""
    rows = choice.of(gathering.rows, journal)
    bad = {row.number: problem for row in rows if (problem := _must_fail(task, row))}
    if as_json:
        planned = [{"number": row.number, "url": redacted(row.address), "title": row.title} for row in rows]
        emit_json("sweep", list(bad.values()), items=[], rows=planned, summary=None)
    else:
        say_what_is_done(gathering, rows, choice, journal)
        for row in rows:  # there may be very many
            why = f"  ! {bad[row.number].what}" if row.number in bad else ""
            click.echo(visible(f"{row.number:>6}  {redacted(row.address)}  {row.title or ''}{why}".rstrip()))
    if bad:
        raise UsageError(
            f"{counted(len(bad), 'row')} of the list must fail: {numbers(sorted(bad))}.",
            "Put them right in the list; what is wrong stands beside each.",
        )


def _must_fail(task: SweepTask, row: ListRow) -> MudlarkError | None:
    """Why a row cannot be hauled, as far as the list alone tells."""
    try:
        as_sent(row.address)
        task.dress(row)
    except MudlarkError as problem:
        return problem
    return None
