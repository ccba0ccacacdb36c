"""Running the rows of a list: several side by side, never more than the lanes to one host, and none stopped by another.

A server that is gone is left alone, and its rows are tried again at the end.
"""

import asyncio
import logging
import tempfile
import time
from collections import Counter, deque
from collections.abc import AsyncGenerator, Awaitable, Callable
from contextlib import aclosing, suppress
from pathlib import Path
from urllib.parse import urlsplit

import msgspec
from msgspec.structs import replace

from mudlark.archive.place import takes_files
from mudlark.errors import Held, Internal, MudlarkError, NetworkError, Refused, StorageError
from mudlark.fetch.store import now
from mudlark.hauling.order import HaulWatch, Item, Order
from mudlark.hauling.steps import haul
from mudlark.sweeping.journal import Journal, Result, key_of
from mudlark.sweeping.rows import ListRow
from mudlark.web.address import as_sent
from mudlark.web.connection import Connection
from mudlark.web.lanes import Lanes
from mudlark.web.session import Session

_GONE = 3  # rows in a row for which a host gives no answer, after which it is left
_NO_LONGER = frozenset({404, 410})
_NO_ANSWER = frozenset({None, 500, 502, 503, 504})
_log = logging.getLogger(__name__)
Dress = Callable[[ListRow], Order]


class Done(msgspec.Struct, frozen=True):
    """A row that is done. items: what it left. problem: why it left nothing. before: what had come of it, where it was
    good and asked for again."""

    row: ListRow
    result: Result
    items: list[Item] = msgspec.field(default_factory=list)
    problem: MudlarkError | None = None
    before: Result | None = None

    @property
    def is_unchanged(self) -> bool:
        """True if it was good before, and nothing has come or gone since."""
        return self.before is not None and bool(self.items) and all(item.state == "unchanged" for item in self.items)


class Hosts(msgspec.Struct):
    """Which servers are gone: they gave no answer for several rows in a row."""

    _silent: Counter[str] = msgspec.field(default_factory=Counter)

    def answered(self, host: str) -> None:
        self._silent.pop(host, None)

    def failed(self, host: str, problem: MudlarkError) -> None:
        if isinstance(problem, NetworkError) and problem.status in _NO_ANSWER:
            self._silent[host] += 1
        else:
            self.answered(host)

    def gone(self, host: str) -> bool:
        return self._silent[host] >= _GONE


Hauler = Callable[[Order, HaulWatch], Awaitable[list[Item]]]


class Here:
    """Hauls in this program, all orders together with the lanes of one connection."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
        self._lanes = Lanes(connection.lanes, connection.gap)

    async def __call__(self, order: Order, watch: HaulWatch) -> list[Item]:
        """What an order leaves."""
        async with Session(self._connection, self._lanes) as session:
            return [item async for item in haul(session, order, watch)]


class Sweep(msgspec.Struct):
    """hauler: carries out an order, here or elsewhere. dress: makes the order for a row. at_once: rows side by side.
    on_begin: hears of each row that is begun."""

    hauler: Hauler
    journal: Journal
    dress: Dress
    into: Path
    at_once: int = 2
    on_begin: Callable[[ListRow], HaulWatch] = lambda _row: HaulWatch()
    _held: list[ListRow] = msgspec.field(default_factory=list)

    async def run(self, rows: list[ListRow]) -> AsyncGenerator[Done]:
        """What comes of each, as it is done. Raises StorageError when the folder takes no more, or nothing at all."""
        await asyncio.to_thread(_insist_on, self.into)
        hosts = Hosts()
        waiting, left = deque(rows), list[ListRow]()
        async with aclosing(self._side_by_side(waiting, hosts, left)) as coming:
            async for done in coming:
                yield done
        last, gone = deque[ListRow](), list[ListRow]()
        for host in dict.fromkeys(_host(row) for row in left):  # one of each finds out whether it is back
            mine = [row for row in left if _host(row) == host]
            done = await self._one(mine[0], last=True)
            yield done
            if isinstance(done.problem, NetworkError) and done.problem.status in _NO_ANSWER:
                gone += mine[1:]
            else:
                hosts.answered(host)
                last.extend(mine[1:])
        again = list[ListRow]()
        async with aclosing(self._side_by_side(last, hosts, again)) as coming:
            async for done in coming:
                yield done
        held, self._held = self._held, []
        for row in held:  # another process may have finished by now
            yield await self._one(row, last=True)
        for row in [*gone, *again]:
            problem = NetworkError(f"{_host(row)} gave no answer for the rows before, nor at the end.", "Try later.")
            yield self._failed(row, problem, time.monotonic())

    async def _side_by_side(self, waiting: deque[ListRow], hosts: Hosts, left: list[ListRow]) -> AsyncGenerator[Done]:
        """Rows whose host is gone come into `left`."""
        running: set[asyncio.Task[Done | None]] = set()
        finished: set[asyncio.Task[Done | None]] = set()
        try:
            while waiting or running:
                while waiting and len(running) < self.at_once:
                    row = waiting.popleft()
                    if hosts.gone(_host(row)):
                        left.append(row)
                    else:
                        running.add(asyncio.create_task(self._now(row)))
                if not running:
                    break
                finished, running = await asyncio.wait(running, return_when=asyncio.FIRST_COMPLETED)
                for task in finished:
                    done = task.result()
                    if done is None:
                        continue
                    if done.problem:
                        hosts.failed(_host(done.row), done.problem)
                    else:
                        hosts.answered(_host(done.row))
                    yield done
        finally:
            for task in running:
                task.cancel()
            await asyncio.gather(*running, *finished, return_exceptions=True)

    async def _now(self, row: ListRow) -> Done | None:
        """One row; None if another process holds it, and it is to be tried at the end."""
        done = await self._one(row)
        if isinstance(done.problem, Held):
            self._held.append(row)
            return None
        return done

    async def _one(self, row: ListRow, *, last: bool = False) -> Done:
        """One row; only what no row can do without is raised. last: it is not tried again."""
        begun = time.monotonic()
        failures: list[MudlarkError] = []
        try:
            as_sent(row.address)
            watch = self.on_begin(row)
            watch.on_failure = failures.append
            items = await self.hauler(self.dress(row), watch)
        except Held as problem:
            return self._failed(row, problem, begun) if last else Done(row, _result(row, problem, begun), [], problem)
        except MudlarkError as problem:
            if isinstance(problem, StorageError) and not await asyncio.to_thread(takes_files, self.into):
                raise
            return self._failed(row, problem, begun)
        except Exception as problem:  # nothing that one row does ends the others
            _log.exception("a row failed in a way that nobody foresaw")
            return self._failed(row, Internal(problem), begun)
        if not items:
            return self._failed(row, failures[0], begun)
        return self._left(row, items, failures, begun)

    def _left(self, row: ListRow, items: list[Item], failures: list[MudlarkError], begun: float) -> Done:
        worst = min(items, key=lambda item: _ORDER.index(item.verdict))
        record = worst.record
        why = [problem.message for problem in record.problems[:1]] + [failure.what for failure in failures[:1]]
        result = Result(
            key=key_of(row.address),
            address=row.address,
            verdict="flawed" if failures and worst.verdict in ("sound", "unproven") else worst.verdict,
            title=record.title,
            reason=why[0] if why else "",
            advice=(failures[0].advice or "") if failures and not record.problems else "",
            code=record.problems[0].code if record.problems else "",
            path=_below(worst.folder, self.into),
            bytes=sum(file.bytes for item in items for file in item.record.files if file.role == "media"),
            length=record.duration,
            taken=round(time.monotonic() - begun, 3),
            when=now(),
            listed=row.listed,
        )
        before = self.journal.settled(row.address)
        self.journal.add(result)
        return Done(row, result, items, before=before)

    def _failed(self, row: ListRow, problem: MudlarkError, begun: float) -> Done:
        problem.url = problem.url or row.address
        before = self.journal.settled(row.address)
        if before:  # its item is here, whatever its server has by now
            gone = isinstance(problem, NetworkError) and problem.status in _NO_LONGER
            result = msgspec.structs.replace(before, gone=before.gone or (now() if gone else ""))
        else:
            result = _result(row, problem, begun)
        self.journal.add(result)
        return Done(row, result, problem=problem, before=before)


def _result(row: ListRow, problem: MudlarkError, begun: float) -> Result:
    """What came of a row that left nothing."""
    return Result(
        key=key_of(row.address),
        address=row.address,
        verdict="refused" if isinstance(problem, Refused) else "failed",
        title=row.title or "",
        reason=problem.what,
        advice=problem.advice or "",
        code=problem.code,
        taken=round(time.monotonic() - begun, 3),
        when=now(),
        listed=row.listed,
    )


def _insist_on(into: Path) -> None:
    """Raises StorageError where a folder cannot be made, or takes no files."""
    try:
        into.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryFile(dir=into):
            pass
    except OSError as problem:
        what = f"Nothing can be written into {into}: {problem.strerror}."
        raise StorageError(what, "Choose another folder with --into, or see that it may be written.") from problem


_ORDER = ("failed", "refused", "broken", "flawed", "unproven", "sound")


def _host(row: ListRow) -> str:
    with suppress(ValueError):
        return urlsplit(row.address).netloc.lower()
    return ""


def _below(folder: Path | None, into: Path) -> str:
    if folder is None:
        return ""
    return str(folder.relative_to(into)) if folder.is_relative_to(into) else str(folder)


class Chosen(msgspec.Struct, frozen=True):
    """Which rows to run. only: numbers (3,7-9), or a text that address, title or another column has. most: so many at
    most. failed: only what was tried before and is not good. refresh: also what is settled. give_up: what has failed in
    so many runs in a row is left out, unless it was asked for."""

    only: str | None = None
    most: int | None = None
    failed: bool = False
    refresh: bool = False
    give_up: int | None = None

    def of(self, rows: list[ListRow], journal: Journal) -> list[ListRow]:
        """The rows of a list that are meant."""
        wanted = [row for row in rows if self.only is None or _is_meant(row, self.only)]
        if not self.refresh:
            wanted = [row for row in wanted if journal.settled(row.address) is None]
        if self.failed:
            tried = (row for row in wanted if key_of(row.address) in journal.results)
            wanted = [row for row in tried if journal.settled(row.address) is None]
        elif self.only is None:
            wanted = [row for row in wanted if not journal.is_set_aside(row.address, self.give_up)]
        return wanted if self.most is None else wanted[: self.most]


def _is_meant(row: ListRow, only: str) -> bool:
    ranges = [part.strip().partition("-") for part in only.split(",")]
    if all(first.isdecimal() and (last.isdecimal() or not dash) for first, dash, last in ranges):
        return any(int(first) <= row.number <= int(last or first) for first, _, last in ranges)
    return only.casefold() in "\n".join((row.address, row.title or "", *row.listed.values())).casefold()


def with_row(order: Order, row: ListRow) -> Order:
    """An order for a row: its address, title, and what the list says of it."""
    title = row.title or order.title
    return replace(order, target=row.address, title=title, listed=row.listed, alone=row.alone)
