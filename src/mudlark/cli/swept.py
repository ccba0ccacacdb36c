"""What `mudlark sweep` does once it knows its rows, and what it shows of them: row by row, and at the end."""

import asyncio
import time
from collections import Counter
from collections.abc import AsyncIterator
from contextlib import aclosing, asynccontextmanager
from pathlib import Path
from typing import Any, get_args

import msgspec
from msgspec.structs import replace
from rich.text import Text

from mudlark.browser.options import Listening
from mudlark.cli.items import failure_data, item_data
from mudlark.cli.show import console, emit_json, manner, messages, numbers, verdict
from mudlark.cli.steps import OnScreen, Steps
from mudlark.cli.wishes import wish
from mudlark.errors import MudlarkError, StorageError
from mudlark.fetch.engine import Outcome
from mudlark.hauling.order import HaulWatch, Order
from mudlark.sweeping.gather import Gathering
from mudlark.sweeping.journal import GOOD, Journal, grouped
from mudlark.sweeping.rows import WISHES, ListRow
from mudlark.sweeping.run import Chosen, Done, Hauler, Here, Sweep, with_row
from mudlark.text import clock, counted, printable, size
from mudlark.verify.account import Verdict
from mudlark.web.connection import Connection
from mudlark.web.redact import redacted

_MOST_REASONS, _MOST_BAD = 8, 40
_WIDEST = max(map(len, get_args(Verdict)))


class SweepTask(msgspec.Struct, frozen=True):
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


def say_what_is_done(gathering: Gathering, rows: list[ListRow], choice: Chosen, journal: Journal) -> None:
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


class SweepRun(msgspec.Struct):
    """One run over a list. in_a_line: its JSON document is one of many. rows: those that are meant."""

    task: SweepTask
    journal: Journal
    gathering: Gathering
    choice: Chosen
    as_json: bool
    in_a_line: bool
    rows: list[ListRow] = msgspec.field(default_factory=list)
    done: list[Done] = msgspec.field(default_factory=list)

    def run(self, at_once: int) -> int:
        """Haul the rows, and say what came; the exit status."""
        begun = time.monotonic()
        self.rows = self.choice.of(self.gathering.rows, self.journal)
        say_what_is_done(self.gathering, self.rows, self.choice, self.journal)
        data: list[dict[str, Any]] = []
        full: StorageError | None = None
        table = None
        progress = _Progress(len(self.rows), self.as_json, manner.quiet)

        async def work() -> None:
            async with self.task.hauler(at_once) as (hauler, side_by_side):
                task = self.task
                sweep = Sweep(hauler, self.journal, task.dress, task.into, side_by_side, progress.begin)
                async with aclosing(sweep.run(self.rows)) as coming:
                    async for one in coming:
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
                table = self.journal.write_table(self.gathering.rows)
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
