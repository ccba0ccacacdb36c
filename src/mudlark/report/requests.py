"""How an item was fetched: its log of requests, as tables of requests and of throughput.

Times of tables are seconds since the first request. Where nothing was asked for longer than a minute (a haul that was
stopped and gone on with), the rest is moved up, so that figures show what happened; the time of day stands beside it.
"""

import os
from collections import Counter
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import msgspec
import numpy as np
from msgspec import Meta

from mudlark.archive.layout import REQUESTS
from mudlark.plain import NotPlain, read_plain
from mudlark.report.table import LATEST, LONGEST, Row, Table
from mudlark.text import clock, counted, sentence, size
from mudlark.web.exchange import STOPPED

_LARGEST = 200_000_000  # bytes of a log
_MOST_BINS = 600  # points of a line, more than which no eye could tell apart
_FEWEST_BINS = 60
_MOST_LANES = 64
_PAUSE = 60.0  # seconds without a request that are left out
_LEFT = 2.0  # seconds that are left of a pause
BEGIN, END, LANE, STATUS, TRY, WAY, BYTES, WHAT, PROBLEM = range(1, 10)  # columns of the table of requests
_THROUGHPUT = ("second", "MB/s", "lanes in use")
_COLUMNS = ("time", "begin", "end", "lane", "status", "try", "way", "bytes", "for", "problem", "address")


class Logged(msgspec.Struct):
    """One row of the log (docs/fetching.md). at: seconds since 1970; sent, ended: seconds since then."""

    at: Annotated[float, Meta(ge=0, le=LATEST)]
    ended: Annotated[float, Meta(ge=0, le=LONGEST)]
    url: str = ""
    sent: Annotated[float, Meta(ge=0, le=LONGEST)] | None = None
    lane: Annotated[int, Meta(ge=0, le=_MOST_LANES)] | None = None
    status: Annotated[int, Meta(ge=0, le=999)] | None = None
    attempt: Annotated[int, Meta(ge=1, le=10**6)] | None = msgspec.field(name="try", default=None)
    way: str | None = None
    bytes: Annotated[int, Meta(ge=0, le=10**15)] = 0
    purpose: str | None = msgspec.field(name="for", default=None)
    problem: str | None = None

    @property
    def begin(self) -> float:
        """When it was sent, in seconds since 1970."""
        return self.at + (self.sent or 0.0)

    @property
    def end(self) -> float:
        """When its last byte came, in seconds since 1970."""
        return max(self.begin, self.at + self.ended)

    @property
    def failed(self) -> bool:
        """True if it brought nothing that was wanted."""
        return _failed(self.status, self.problem)


class Log(msgspec.Struct, frozen=True):
    """What an item keeps of its requests, the earliest first. why: what to say where there are none."""

    rows: list[Logged]
    why: str = ""

    def moment(self, address: str) -> str:
        """When an address was first asked for, RFC 3339; empty if it was not."""
        return next((stamp(one.begin) for one in self.rows if one.url == address), "")

    def ends(self) -> dict[str, float]:
        """When each thing that was fetched was there, in seconds since 1970."""
        return {one.purpose: one.end for one in self.rows if one.purpose and not one.failed}


def failed_row(row: Row) -> bool:
    """True if a row of the table of requests is of one that brought nothing that was wanted."""
    return _failed(row[STATUS], row[PROBLEM])


def _failed(status: int | None, problem: str | None) -> bool:
    return problem not in (None, STOPPED) or (status or 0) >= 400


def stamp(seconds: float) -> str:
    """A time of day, RFC 3339 in UTC, to the millisecond."""
    return datetime.fromtimestamp(seconds, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def read_log(folder: Path) -> Log:
    """The log of an item's requests. Lines that are none are passed over."""
    path = folder / REQUESTS
    if not os.path.lexists(path):
        return Log([], "The item has no log of its requests: it was made by an earlier version, or it was taken away.")
    rows = []
    decoder = msgspec.json.Decoder(Logged)
    try:
        log = read_plain(path, _LARGEST)
    except (OSError, NotPlain) as problem:
        return Log([], f"The log of its requests was not read: {sentence(str(problem))}")
    for line in log.splitlines():
        with suppress(ValueError, RecursionError):
            rows.append(decoder.decode(line))
    return Log(sorted(rows, key=lambda one: one.begin), "" if rows else "The log of its requests holds none.")


def tables_of(log: Log) -> tuple[Table, Table]:
    """The table of requests, and that of throughput."""
    names = ("requests", "Requests over time, by lane"), ("throughput", "Throughput, and lanes in use")
    if not log.rows:
        return Table(*names[0], _COLUMNS, words=log.why), Table(*names[1], _THROUGHPUT, words=log.why)
    begins, ends, pauses = _moved(log)
    rows: list[Row] = [
        (
            stamp(one.begin),
            round(begin, 3),
            round(end, 3),
            one.lane,
            one.status,
            one.attempt,
            one.way,
            one.bytes,
            one.purpose,
            one.problem,
            one.url,
        )
        for one, begin, end in zip(log.rows, begins.tolist(), ends.tolist(), strict=True)
    ]
    marked = frozenset(
        number
        for number, one in enumerate(log.rows)
        if one.failed or (one.attempt or 1) > 1 or one.way not in (None, "first")
    )
    requests = Table(*names[0], _COLUMNS, rows, _requests_words(log, float(ends.max()), pauses), marked)
    return requests, _throughput(names[1], log, begins, ends)


def _moved(log: Log) -> tuple[np.ndarray, np.ndarray, list[tuple[float, float]]]:
    """Seconds since the first request at which each began and ended, without pauses; and the pauses, each with when it
    began and its length."""
    begins, ends = np.array([one.begin for one in log.rows]), np.array([one.end for one in log.rows])
    first = float(begins[0])
    waits = np.append(0.0, begins[1:] - np.maximum.accumulate(ends)[:-1])
    long = np.flatnonzero(waits > _PAUSE)
    cut = np.zeros(len(begins))
    cut[long] = waits[long] - _LEFT
    before = np.cumsum(cut)
    pauses = [(float(begins[place] - waits[place]), float(waits[place])) for place in long.tolist()]
    return begins - first - before, ends - first - before, pauses


def _requests_words(log: Log, length: float, pauses: list[tuple[float, float]]) -> str:
    rows = log.rows
    lanes = len({one.lane for one in rows if one.lane})
    words = f"{counted(len(rows), 'request')} in {length:.1f} s, "
    words += f"in {counted(lanes, 'lane')}, " if lanes else ""
    words += f"the first on {stamp(rows[0].begin)[:19].replace('T', ' at ')} UTC."
    counts = Counter[str]()
    for one in rows:
        counts["failed"] += one.failed
        counts["ended from here"] += one.problem == STOPPED
        counts["tries after a failed one"] += (one.attempt or 1) > 1
        counts["to another address than the first"] += one.way == "elsewhere"
        counts["to a renewed link"] += one.way == "renewed"
        counts["beside one that was slow"] += one.way == "raced"
    numbers = [f"{what}: {count:,}" for what, count in counts.items() if count]
    words += f" Of these, {', '.join(numbers)}." if numbers else " None failed."
    if pauses:
        named = "; ".join(f"from {stamp(at)[11:19]}, {clock(wait)} long" for at, wait in pauses[:5])
        words += f" Pauses are left out: {named}{'; and others' if len(pauses) > 5 else ''}."
    return words


def _throughput(name: tuple[str, str], log: Log, begins: np.ndarray, ends: np.ndarray) -> Table:
    """Megabytes a second, and lanes in use, by the time since the first request."""
    sizes = np.array([one.bytes for one in log.rows], np.float64)
    last = max(float(ends.max()), 0.001)
    edges = np.linspace(0.0, last, min(_MOST_BINS, max(_FEWEST_BINS, len(begins))) + 1)
    width = last / (len(edges) - 1)
    firsts, finals = (np.clip(moments / width, 0, len(edges) - 2).astype(np.int64) for moments in (begins, ends))
    speed, shares = np.zeros(len(edges)), sizes / (finals - firsts + 1) / width / 1e6
    np.add.at(speed, firsts, shares)  # from the first bin that a request touches
    np.add.at(speed, finals + 1, -shares)  # to its last
    speed = np.maximum(np.cumsum(speed)[:-1], 0.0)
    laned = np.array([one.lane is not None for one in log.rows])
    used = _most_at_once(begins[laned], ends[laned], edges)
    rows: list[Row] = [
        (round(second, 3), round(rate, 4), lanes)
        for second, rate, lanes in zip(edges[:-1].tolist(), speed.tolist(), used.tolist(), strict=True)
    ]
    total = float(sizes.sum())
    words = f"{size(total)} in {last:.1f} s: {total / last / 1e6:.2f} MB/s on average, {speed.max():.2f} at most"
    words += f"; up to {counted(int(used.max()), 'lane')} in use." if used.any() else "."
    return Table(*name, _THROUGHPUT, rows, words)


def _most_at_once(begins: np.ndarray, ends: np.ndarray, edges: np.ndarray) -> np.ndarray:
    """How many of some spans there are at once at most, between each two edges."""
    moments = np.concatenate((begins, ends))
    change = np.repeat((1, -1), len(begins))
    order = np.lexsort((change, moments))  # what ends at a moment has ended before another begins
    moments, there = moments[order], np.cumsum(change[order])
    before = np.append(0, there)[np.searchsorted(moments, edges[:-1], "left")]
    most = before.copy()
    np.maximum.at(most, np.clip(np.searchsorted(edges, moments, "right") - 1, 0, len(most) - 1), there)
    return most
