"""`mudlark sweep`: a whole list, item by item."""

import asyncio
import sys
import time
from collections import Counter
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal, get_args

import click
from click.shell_completion import CompletionItem
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
from mudlark.cli.show import complain, console, emit_json, manner, messages, numbers, verdict
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
from mudlark.sweeping.journal import GOOD, Journal, grouped
from mudlark.sweeping.rows import WISHES, ListRow
from mudlark.sweeping.run import Chosen, Done, Hauler, Here, Sweep, with_row
from mudlark.text import clock, counted, printable, size, visible
from mudlark.verify.account import Verdict
from mudlark.web.address import as_sent
from mudlark.web.connection import Connection
from mudlark.web.redact import redacted
from mudlark.web.session import Session

_MOST_REASONS, _MOST_BAD = 8, 40
_WIDEST = max(map(len, get_args(Verdict)))
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
    task = _Task(source, into, network.connection(), order, ears, not ignore_robots, cluster, links)
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
        status = _Run(task, journal, gathering, choice, as_json, in_a_line=pause is not None).run(at_once)
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


def _say_what_is_done(gathering: Gathering, rows: list[ListRow], choice: Chosen, journal: Journal) -> None:
    done = sum(journal.settled(row.address) is not None for row in gathering.rows)
    facts = [counted(len(gathering.rows), "row")]
    facts += [f"{gathering.doubled:,} doubled left out"] if gathering.doubled else []
    facts += [f"{done:,} are done"] if done else []
    aside = _set_aside(gathering, choice, journal)
    facts += [f"{aside:,} set aside"] if aside else []
    facts += [f"{len(rows):,} to haul"] if len(rows) != len(gathering.rows) else []
    messages().print(Text(", ".join(facts), style="dim"))


def _set_aside(gathering: Gathering, choice: Chosen, journal: Journal) -> int:
    return sum(journal.is_set_aside(row.address, choice.give_up) for row in gathering.rows)


def _show_plan(task: "_Task", gathering: Gathering, choice: Chosen, journal: Journal, as_json: bool) -> None:
    """The rows that would be hauled, and those that must fail. Raises the first reason for one of these."""
    rows = choice.of(gathering.rows, journal)
    bad = {row.number: problem for row in rows if (problem := _must_fail(task, row))}
    if as_json:
        planned = [{"number": row.number, "url": redacted(row.address), "title": row.title} for row in rows]
        emit_json("sweep", list(bad.values()), items=[], rows=planned, summary=None)
    else:
        _say_what_is_done(gathering, rows, choice, journal)
        for row in rows:  # there may be very many
            why = f"  ! {bad[row.number].what}" if row.number in bad else ""
            click.echo(visible(f"{row.number:>6}  {redacted(row.address)}  {row.title or ''}{why}".rstrip()))
    if bad:
        raise UsageError(
            f"{counted(len(bad), 'row')} of the list must fail: {numbers(sorted(bad))}.",
            "Put them right in the list; what is wrong stands beside each.",
        )


def _must_fail(task: "_Task", row: ListRow) -> MudlarkError | None:
    """Why a row cannot be hauled, as far as the list alone tells."""
    try:
        as_sent(row.address)
        task.dress(row)
    except MudlarkError as problem:
        return problem
    return None


class _Progress(OnScreen):
    """A line for each row that is done, and one that changes below them. silent: rows are not shown as they are done;
    then only what is new and good is."""

    def __init__(self, rows: int, as_json: bool, silent: bool) -> None:
        self._rows, self._as_json, self._silent = rows, as_json, silent
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
        share = self._done / max(1, self._rows)
        facts = [f"{self._done:,} of {counted(self._rows, 'row')}, {share:.0%}"]
        facts += [f"{clock(seconds / share - seconds)} left"] if self._done and share < 1 else []
        facts += [size(self._bytes), f"{size(self._bytes / seconds)}/s"]
        names = ", ".join(printable(redacted(name))[:40] for name in list(self._running.values())[:3])
        self._steps.say(f"{'  '.join(facts)}  {names}")

    def end(self, done: Done) -> None:
        self._done += 1
        self._running.pop(done.row.number, None)
        if not self._as_json and not (self._silent and (_is_bad(done) or done.is_unchanged)):
            self._steps.stop()
            _show_row(done)
        self._say()


def _is_bad(done: Done) -> bool:
    return done.problem is not None or done.result.verdict not in GOOD


def _show_row(done: Done) -> None:
    result = done.result
    line = Text().append(f"{done.row.number:>6}  ", style="dim").append_text(verdict(result.verdict))
    line.append(" " * (_WIDEST - len(result.verdict)))
    line.append(f"  {result.title or result.address}", style="bold default")
    facts = [size(result.bytes)] if result.bytes else []
    facts += [clock(result.length)] if result.length else []
    if done.before:
        new = "unchanged" if done.is_unchanged else "has changed; what was there before is kept"
        facts.append("the server has it no longer; its item is here" if result.gone else new)
    if done.problem and not result.gone:
        facts.append(done.problem.what)
    elif result.reason:
        facts.append(result.reason)
    console().print(line.append(f"  {', '.join(facts)}" if facts else "", style="not bold default"))


@dataclass(slots=True)
class _Run:
    """One run over a list. in_a_line: its JSON document is one of many. rows: those that are meant."""

    task: _Task
    journal: Journal
    gathering: Gathering
    choice: Chosen
    as_json: bool
    in_a_line: bool
    rows: list[ListRow] = field(default_factory=list)
    done: list[Done] = field(default_factory=list)

    def run(self, at_once: int) -> int:
        """Haul the rows, and say what came; the exit status."""
        begun = time.monotonic()
        self.rows = self.choice.of(self.gathering.rows, self.journal)
        _say_what_is_done(self.gathering, self.rows, self.choice, self.journal)
        data: list[dict[str, Any]] = []
        full: StorageError | None = None
        table = None
        progress = _Progress(len(self.rows), self.as_json, manner.quiet)

        async def work() -> None:
            async with self.task.hauler(at_once) as (hauler, side_by_side):
                task = self.task
                sweep = Sweep(hauler, self.journal, task.dress, task.into, side_by_side, progress.begin)
                async for one in sweep.run(self.rows):
                    progress.end(one)
                    self.done.append(one)
                    data.extend({"row": one.row.number, **item_data(item)} for item in one.items)
                    if one.problem:
                        data.append({"row": one.row.number, **failure_data(one.row.address, one.problem)})

        try:
            with progress:
                asyncio.run(work())
        except StorageError as problem:
            full = problem
        finally:
            if self.journal.results:
                table = self.journal.note_table(self.gathering.rows)
        summary = self._summary(time.monotonic() - begun)
        if self.as_json:
            problems: list[MudlarkError] = [one.problem for one in self.done if one.problem]
            problems += [full] if full else []
            emit_json("sweep", problems, in_a_line=self.in_a_line, items=data, summary=summary)
        else:
            self._show(summary, table)
        if full:
            raise full
        return 0 if all(one.result.verdict == "sound" and not one.problem for one in self.done) else 1

    def _summary(self, seconds: float) -> dict[str, Any]:
        done, asked_again = self.done, [one for one in self.done if one.before]
        settled = sum(self.journal.settled(row.address) is not None for row in self.gathering.rows)
        good = sum(one.result.verdict in GOOD for one in done)
        bad = [one.problem.what if one.problem else one.result.reason for one in done if _is_bad(one)]
        refreshed = {
            "unchanged": sum(one.is_unchanged for one in asked_again),
            "changed": sum(bool(one.items) and not one.is_unchanged for one in asked_again),
            "gone": sum(bool(one.problem and one.result.gone) for one in asked_again),
            "unknown": sum(bool(one.problem and not one.result.gone) for one in asked_again),
        }
        return {
            "rows": len(self.gathering.rows),
            "doubled": self.gathering.doubled,
            "already": settled - good,
            "set_aside": _set_aside(self.gathering, self.choice, self.journal),
            "tried": len(done),
            "verdicts": dict(Counter(one.result.verdict for one in done)),
            "refreshed": refreshed if asked_again else None,
            "bytes": sum(one.result.bytes for one in done if not one.is_unchanged),
            "seconds": round(seconds, 3),
            "reasons": [{"reason": redacted(reason), "rows": count} for reason, count in grouped(bad)],
        }

    def _show(self, summary: dict[str, Any], table: Path | None) -> None:
        """What came of all, and last what is not good; where quiet is wanted, no more than that and what is new."""
        out = console()
        if not manner.quiet:
            out.print()
            words = [f"{count:,} {name}" for name, count in summary["verdicts"].items()]
            words += [f"{summary['already']:,} done before"] if summary["already"] else []
            words += [f"{summary['set_aside']:,} set aside"] if summary["set_aside"] else []
            left = summary["rows"] - summary["tried"] - summary["already"] - summary["set_aside"]
            words += [f"{left:,} not tried"] if left > 0 else []
            out.print(Text(", ".join(words) or "Nothing to do: all rows are done.", style="bold"))
            if summary["tried"]:
                seconds = summary["seconds"]
                took = f"{seconds:.1f} s" if seconds < 60 else clock(seconds)
                out.print(f"  {size(summary['bytes'])} in {took}", markup=False)
            if table:
                out.print(f"  table  {table}", markup=False)
        self._show_bad(summary)
        refreshed = summary["refreshed"]
        if refreshed and (not manner.quiet or refreshed["changed"] or refreshed["gone"]):
            words = [f"{refreshed['changed']:,} {'has' if refreshed['changed'] == 1 else 'have'} changed"]
            words += [f"{refreshed['gone']:,} {'is' if refreshed['gone'] == 1 else 'are'} gone"]
            words += [f"{refreshed['unknown']:,} could not be asked"] if refreshed["unknown"] else []
            out.print(Text(f"Of {counted(sum(refreshed.values()), 'item')}, {', '.join(words)}.", style="bold"))

    def _show_bad(self, summary: dict[str, Any]) -> None:
        """The rows that are not good, once more; and why, where several are for the same reason."""
        bad = [one for one in self.done if _is_bad(one)]
        if not bad:
            return
        out = console()
        if not manner.quiet:
            out.print()
        for one in bad[:_MOST_BAD]:
            _show_row(one)
        if len(bad) > _MOST_BAD:
            out.print(
                f"        … and {len(bad) - _MOST_BAD:,} more, with reasons and advice in the table", markup=False
            )
        shared = [reason for reason in summary["reasons"] if reason["rows"] > 1]
        for reason in shared[:_MOST_REASONS]:
            out.print(Text(f"  ! {reason['rows']} × {reason['reason']}", style="yellow"))
        if aside := [one for one in bad if one.result.failures == self.choice.give_up]:
            words = f"{counted(len(aside), 'row')} set aside after {counted(aside[0].result.failures, 'run')}: "
            rows = numbers(sorted(one.row.number for one in aside))
            out.print(Text(f"  ! {words}{rows}. --again-failed tries what was set aside.", style="yellow"))
