"""`mudlark sweep`: a whole list, item by item."""

import asyncio
import sys
import time
from collections import Counter
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any, Literal, get_args

import click
from rich.text import Text

from mudlark.browser.options import Listening
from mudlark.cli.command import Command, common_options, option
from mudlark.cli.items import failure_data, item_data
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
from mudlark.cli.show import complain, console, emit_json, messages, verdict
from mudlark.cli.spans import seconds_in
from mudlark.cli.steps import OnScreen, Steps
from mudlark.cli.wishes import wish, wish_options
from mudlark.errors import MudlarkError, StorageError, UsageError
from mudlark.fetch.engine import Outcome
from mudlark.find.look import Means
from mudlark.find.select import Choice
from mudlark.hauling.order import HaulWatch, Order
from mudlark.hauling.title import columns_in
from mudlark.sweeping.gather import Gatherer, Gathering
from mudlark.sweeping.journal import Journal, Result, without_address
from mudlark.sweeping.rows import WISHES, ListRow
from mudlark.sweeping.run import Done, Hauler, Here, Sweep, chosen, with_row
from mudlark.text import clock, counted, printable, size, visible
from mudlark.verify.account import Verdict
from mudlark.web.connection import Connection
from mudlark.web.redact import redacted
from mudlark.web.session import Session

_MOST_REASONS = 8
_WIDEST = max(map(len, get_args(Verdict)))
_LARGEST_INPUT = 200_000_000  # bytes


@click.command(
    cls=Command,
    short_help="Haul a whole list.",
    examples=(
        ("Every talk that an index page lists:", "sweep https://museum.example/talks --into talks"),
        ("A spreadsheet that a colleague sent, three items at once:", "sweep films.csv --at-once 3"),
        ("What failed the last time, once more:", "sweep films.csv --again-failed"),
    ),
)
@click.argument("source", metavar="LIST")
@into_option
@option("--at-once", type=click.IntRange(1, 32), default=2, show_default=True, help="Items side by side.")
@option("--only", default=None, metavar="ROWS|TEXT", help="Only these rows (3,7-9), or those with this text in them.")
@option("--most", type=click.IntRange(1), default=None, metavar="N", help="At most so many rows this time.")
@option("--again-failed", is_flag=True, help="Only rows that were tried before, and of which nothing good came.")
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
    task = _Task(source, into, network.connection(), order, ears, not ignore_robots, cluster, links)
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
        rows = chosen(gathering.rows, journal, only, most, failed=again_failed)
        if plan:
            _show_plan(gathering, rows, journal, as_json)
            return
        _say_what_is_done(gathering, rows, journal)
        status = _run(task, journal, gathering, rows, at_once, as_json, in_a_line=pause is not None)
        if reported:
            report_at_the_end(into, into / "report.html")
        if pause is None:
            click.get_current_context().exit(status)
        _pause(pause)


def _pause(seconds: float) -> None:
    messages().print(f"Looking again in {clock(seconds)}. Ctrl-C ends it.", markup=False)
    time.sleep(seconds)


@dataclass(frozen=True, slots=True)
class _Task:
    """What a sweep is about. robots: they are heeded. cluster: on whose workers, if not here. links: which of a page's
    are meant."""

    source: str
    into: Path
    network: Connection
    order: Order
    ears: Listening
    robots: bool
    cluster: str | None
    links: str | None = None

    @asynccontextmanager
    async def hauler(self, at_once: int) -> AsyncIterator[tuple[Hauler, int]]:
        """What carries out orders, and how many side by side."""
        if self.cluster is None:
            yield Here(self.network), at_once
            return
        from mudlark.sweeping.cluster import Cluster  # few have one

        async with Cluster(self.cluster, self.network, self.into) as cluster:
            for worker in cluster.without:
                messages().print(Text(f"! {worker} does not see {self.into}, and is not used", style="yellow"))
            yield cluster, cluster.at_once

    def dress(self, row: ListRow) -> Order:
        """The order for a row."""
        order = with_row(self.order, row)
        if not row.wishes:
            return order
        own = {name: row.wishes.get(name) for name in WISHES} | {"subtitles": row.wishes.get("subtitles", "all")}
        return replace(order, wish=wish(own))


def _gathered(task: _Task) -> Gathering:
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


def _say_what_is_done(gathering: Gathering, rows: list[ListRow], journal: Journal) -> None:
    done = sum(journal.settled(row.address) is not None for row in gathering.rows)
    facts = [counted(len(gathering.rows), "row")]
    facts += [f"{gathering.doubled:,} doubled left out"] if gathering.doubled else []
    facts += [f"{done:,} are done"] if done else []
    facts += [f"{len(rows):,} to haul"] if len(rows) != len(gathering.rows) else []
    messages().print(Text(", ".join(facts), style="dim"))


def _show_plan(gathering: Gathering, rows: list[ListRow], journal: Journal, as_json: bool) -> None:
    if as_json:
        planned = [{"number": row.number, "address": redacted(row.address), "title": row.title} for row in rows]
        emit_json("sweep", [], items=[], rows=planned, summary=None)
        return
    _say_what_is_done(gathering, rows, journal)
    for row in rows:  # there may be very many
        click.echo(visible(f"{row.number:>6}  {redacted(row.address)}  {row.title or ''}".rstrip()))


class _Progress(OnScreen):
    """A line for each row that is done, and one that changes below them."""

    def __init__(self, rows: int, as_json: bool) -> None:
        self._rows, self._as_json = rows, as_json
        self._steps = Steps()
        self._done = 0
        self._bytes = 0
        self._begun = time.monotonic()
        self._running: dict[int, str] = {}

    def stop(self) -> None:
        self._steps.stop()

    def begin(self, row: ListRow) -> HaulWatch:
        self._running[row.number] = row.title or row.address
        self._say()
        return HaulWatch(on_bytes=self._bytes_came, on_outcome=self._outcome_came)

    def _bytes_came(self, count: int) -> None:
        self._bytes += count

    def _outcome_came(self, _: Outcome) -> None:
        self._say()

    def _say(self) -> None:
        seconds = max(0.1, time.monotonic() - self._begun)
        facts = [f"{self._done} of {self._rows} rows", size(self._bytes), f"{size(self._bytes / seconds)}/s"]
        names = ", ".join(printable(redacted(name))[:40] for name in list(self._running.values())[:3])
        self._steps.say(f"{'  '.join(facts)}  {names}")

    def end(self, done: Done) -> None:
        self._done += 1
        self._running.pop(done.row.number, None)
        if not self._as_json:
            self._steps.stop()
            _show_row(done.result, f"{self._done}/{self._rows}")
        self._say()


def _show_row(result: Result, place: str) -> None:
    line = Text().append(f"{place:>9}  ", style="dim").append_text(verdict(result.verdict))
    line.append(" " * (_WIDEST - len(result.verdict)))
    line.append(f"  {result.title or result.address}", style="bold default")
    facts = [size(result.bytes)] if result.bytes else []
    facts += [clock(result.length)] if result.length else []
    facts += [result.reason] if result.reason else []
    console().print(line.append(f"  {', '.join(facts)}" if facts else "", style="not bold default"))


def _run(
    task: _Task,
    journal: Journal,
    gathering: Gathering,
    rows: list[ListRow],
    at_once: int,
    as_json: bool,
    *,
    in_a_line: bool,
) -> int:
    """Haul the rows; the exit status. in_a_line: its JSON document is one of many."""
    begun = time.monotonic()
    data: list[dict[str, Any]] = []
    full: StorageError | None = None
    progress = _Progress(len(rows), as_json)
    done: list[Done] = []

    async def work() -> None:
        async with task.hauler(at_once) as (hauler, side_by_side):
            sweep = Sweep(hauler, journal, task.dress, task.into, side_by_side, progress.begin)
            async for one in sweep.run(rows):
                progress.end(one)
                done.append(one)
                data.extend({"row": one.row.number, **item_data(item)} for item in one.items)
                if one.problem:
                    data.append({"row": one.row.number, **failure_data(one.row.address, one.problem)})

    try:
        with progress:
            asyncio.run(work())
    except StorageError as problem:
        full = problem
    finally:
        if journal.results:
            table = journal.write_table()
    problems: list[MudlarkError] = [one.problem for one in done if one.problem]
    summary = _summary(gathering, journal, done, time.monotonic() - begun)
    if as_json:
        everything = [*problems, *([full] if full else [])]
        emit_json("sweep", everything, in_a_line=in_a_line, items=data, summary=summary)
    else:
        _show_summary(summary, table if journal.results else None)
    if full:
        raise full
    return 0 if all(one.result.verdict == "sound" for one in done) else 1


def _summary(gathering: Gathering, journal: Journal, done: list[Done], seconds: float) -> dict[str, Any]:
    verdicts = Counter(one.result.verdict for one in done)
    reasons = Counter(
        without_address(one.result.reason) for one in done if one.result.verdict not in ("sound", "unproven")
    )
    return {
        "rows": len(gathering.rows),
        "doubled": gathering.doubled,
        "already": sum(journal.settled(row.address) is not None for row in gathering.rows)
        - sum(one.result.verdict in ("sound", "unproven") for one in done),
        "tried": len(done),
        "verdicts": dict(verdicts),
        "bytes": sum(one.result.bytes for one in done),
        "seconds": round(seconds, 3),
        "reasons": [{"reason": redacted(reason), "rows": count} for reason, count in reasons.most_common()],
    }


def _show_summary(summary: dict[str, Any], table: Path | None) -> None:
    out = console()
    out.print()
    words = [f"{count} {name}" for name, count in summary["verdicts"].items()]
    words += [f"{summary['already']} done before"] if summary["already"] else []
    left = summary["rows"] - summary["tried"] - summary["already"]
    words += [f"{left} not tried"] if left > 0 else []
    out.print(Text(", ".join(words) or "Nothing to do: all rows are done.", style="bold"))
    if summary["tried"]:
        seconds = summary["seconds"]
        took = f"{seconds:.1f} s" if seconds < 60 else clock(seconds)
        out.print(f"  {size(summary['bytes'])} in {took}", markup=False)
    for reason in summary["reasons"][:_MOST_REASONS]:
        out.print(Text(f"  ! {reason['rows']} × {reason['reason']}", style="yellow"))
    if len(summary["reasons"]) > _MOST_REASONS:
        complain(f"{len(summary['reasons']) - _MOST_REASONS} more reasons are in the table.", "")
    if table:
        out.print(f"  table  {table}", markup=False)
