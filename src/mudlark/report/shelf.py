"""What a report shows of folders of items, read from lists of them, the items' records and what was swept into them."""

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence
from datetime import date
from pathlib import Path
from typing import Self

import msgspec

from mudlark.archive.choosing import Holdings, Meant
from mudlark.archive.entries import Block, Entries
from mudlark.archive.entry import LedgerEntry
from mudlark.archive.history import PastCheck
from mudlark.archive.ledger import doubled_in
from mudlark.errors import MudlarkError, Unexamined, examining
from mudlark.fetch.unfinished import Unfinished, unfinished
from mudlark.report.advice import UNPROVEN, of_haul, of_problem
from mudlark.report.heading import Heading
from mudlark.report.item import ItemData, read_item
from mudlark.report.table import Row, Table, within
from mudlark.sweeping.journal import Journal, kind_of_reason, without_addresses
from mudlark.verify.account import WORTH
from mudlark.web.address import host_of

_MOST_HOSTS, _MOST_COLUMNS = 12, 2
_MOST_NAMED = 20  # items, or addresses, that are named under one reason
_DAYS, _MONTHS = 62, 72  # so many are told apart in a figure over time
_ITEMS = ("verdict", "title", "path", "kind", "hauled", "checked", "length", "bytes", "source", "what is wrong")
DRAWN = 24  # items of a folder whose pages have figures, unless all are asked for
VERDICTS = [verdict for verdict in WORTH if verdict not in ("refused", "failed")]


class Kept(msgspec.Struct):
    """One item. folder: where it is. page: the address of its own page; none where its record cannot be read. kind:
    what it is, in a word. codes: of what is wrong with it, as it was last seen, the gravest first. checks: its
    history."""

    entry: LedgerEntry
    folder: Path
    page: str | None = None
    kind: str = "unreadable"
    codes: list[str] = msgspec.field(default_factory=lambda: ["record"])
    checks: list[PastCheck] = msgspec.field(default_factory=list)

    @classmethod
    def of(cls, meant: Meant, page: str, item: ItemData) -> Self:
        """What stays of an item."""
        return cls(meant.entry, meant.folder, page, item.kind, item.codes, item.checks)


class Reason(msgspec.Struct):
    """Something that went wrong several times. who: items, or addresses without one. more: how many are not named."""

    title: str
    count: int
    todo: str
    who: list[tuple[str, str | None]] = msgspec.field(default_factory=list)

    @property
    def more(self) -> int:
        """How many are not named."""
        return self.count - len(self.who)


class Shelf(msgspec.Struct):
    """Items of some folders. holdings: those that are meant. doubles: groups of paths with the same media."""

    folders: Sequence[Path]
    heading: Heading
    holdings: Holdings
    kept: list[Kept] = msgspec.field(default_factory=list)
    unfinished: list[Unfinished] = msgspec.field(default_factory=list)
    doubles: list[list[str]] = msgspec.field(default_factory=list)

    @property
    def title(self) -> str:
        """What was asked for, else the names of the folders."""
        names = " and ".join(folder.resolve().name for folder in self.folders)
        return self.heading.title or names or "Items"

    @property
    def columns(self) -> list[str]:
        """What the items' own lists say of most of them, by column; a few."""
        counts = Counter(name for one in self.kept for name, text in one.entry.listed.items() if text)
        return [name for name, _ in counts.most_common(_MOST_COLUMNS)]

    @property
    def bytes(self) -> int:
        """Of all media."""
        return sum(one.entry.bytes for one in self.kept)

    @property
    def length(self) -> float:
        """Of all films and sounds, in seconds."""
        return sum(one.entry.duration or 0.0 for one in self.kept)

    @property
    def verdicts(self) -> dict[str, int]:
        """How many items have each verdict, the best first."""
        counts = Counter(one.entry.verdict for one in self.kept)
        return {verdict: counts[verdict] for verdict in WORTH if counts[verdict]}

    def figures(self) -> list[Table]:
        """The tables that are drawn."""
        hosts = Counter(host_of(one.entry.url) or "no address" for one in self.kept)
        most: list[Row] = list(hosts.most_common(_MOST_HOSTS))
        if len(hosts) > _MOST_HOSTS:
            most.append((f"{len(hosts) - _MOST_HOSTS:,} others", hosts.total() - sum(count for _, count in most)))
        kinds: list[Row] = list(Counter(one.kind for one in self.kept).most_common())
        verdicts: list[Row] = [(name, count) for name, count in self.verdicts.items()]
        return [
            Table("verdicts", "Verdicts", ("verdict", "items"), verdicts, _sentence(verdicts, "{:,} {}")),
            Table("kinds", "Kinds", ("kind", "items"), kinds, _sentence(kinds, "{1}: {0:,}")),
            Table("hosts", "Hosts", ("host", "items"), most, _sentence(most, "{1}: {0:,}")),
            self._over_time(),
            self._checked(),
        ]

    def items(self) -> Table:
        """All items."""
        own = list(dict.fromkeys(name for one in self.kept for name in one.entry.listed))
        rows: list[Row] = [
            (
                one.entry.verdict,
                one.entry.title,
                one.entry.path,
                one.kind,
                one.entry.date,
                one.entry.checked,
                one.entry.duration,
                one.entry.bytes,
                one.entry.url,
                one.entry.problem,
                *(one.entry.listed.get(name, "") for name in own),
            )
            for one in self.kept
        ]
        return Table("items", "All items", (*_ITEMS, *own), rows)

    def _over_time(self) -> Table:
        """What came in each day, month or year."""
        what, period = _period([one.entry.date for one in self.kept])
        columns = (what, *VERDICTS, "megabytes", "minutes")
        sums: defaultdict[str, list[float]] = defaultdict(lambda: [0.0] * (len(columns) - 1))
        for one in self.kept:
            row = sums[period(one.entry.date)]
            if one.entry.verdict in VERDICTS:
                row[VERDICTS.index(one.entry.verdict)] += 1
            row[-2] += within(one.entry.bytes, 1e15) / 1e6
            row[-1] += within(one.entry.duration or 0.0) / 60
        rows: list[Row] = [
            (name, *(int(count) for count in row[:-2]), round(row[-2], 3), round(row[-1], 3))
            for name, row in sorted(sums.items())
        ]
        words = f"By {what}: items by verdict, megabytes, and minutes of film and sound."
        return Table("time", "What came, over time", columns, rows, words)

    def _checked(self) -> Table:
        """What checks came to, in each day, month or year."""
        checks = [check for one in self.kept for check in one.checks]
        what, period = _period([check.when for check in checks])
        columns = (what, *VERDICTS)
        counts: defaultdict[str, Counter[str]] = defaultdict(Counter)
        for check in checks:
            counts[period(check.when)][check.verdict] += 1
        rows: list[Row] = [(name, *(count[verdict] for verdict in VERDICTS)) for name, count in sorted(counts.items())]
        never = sum(not one.entry.checked for one in self.kept)
        if not checks:
            words = "No item was checked since it was hauled: `mudlark assay` does it."
        else:
            words = f"{len(checks):,} checks, by {what} and by what they came to. "
            words += f"{never:,} items were never checked since they were hauled." if never else "No item was left out."
        return Table("checks", "Checks since they were hauled", columns, rows, words)

    def reasons(self) -> list[Reason]:
        """What is wrong with items, each by the gravest, the most frequent first."""
        found: dict[str, Reason] = {}
        for one in self.kept:
            if one.codes or one.entry.verdict == "unproven":
                advice = of_problem(one.codes[0]) if one.codes else UNPROVEN
                reason = found.setdefault(advice.title, Reason(advice.title, 0, advice.todo))
                _count(reason, one.entry.title, one.page)
        return sorted(found.values(), key=lambda one: -one.count)

    def failed(self) -> list[Reason]:
        """What was asked for and never came, the most frequent reason first."""
        found: dict[str, Reason] = {}
        swept_into = dict.fromkeys([*self.folders, *(one.folder.parent for one in self.kept)])
        for result in (result for folder in swept_into for result in Journal(folder).results.values()):
            if result.verdict in ("failed", "refused"):
                reason = Reason(without_addresses(result.reason), 0, of_haul(result.code))
                _count(found.setdefault(kind_of_reason(result.reason), reason), result.address, None)
        return sorted(found.values(), key=lambda one: -one.count)


def _count(reason: Reason, name: str, page: str | None) -> None:
    reason.count += 1
    if len(reason.who) < _MOST_NAMED:
        reason.who.append((name, page))


def _sentence(counts: Iterable[Row], form: str) -> str:
    return ", ".join(form.format(count, name) for name, count in counts) + "."


def _period(days: list[str]) -> tuple[str, Callable[[str], str]]:
    """What time is divided into, for days as RFC 3339 has them, and what gives the part that a day is in."""
    known = sorted(day[:10] for day in days if _is_day(day[:10]))
    if not known:
        return "month", lambda day: day[:7] or "unknown"
    first, last = date.fromisoformat(known[0]), date.fromisoformat(known[-1])
    if (last - first).days <= _DAYS:
        return "day", lambda day: day[:10] or "unknown"
    months = (last.year - first.year) * 12 + last.month - first.month
    return (
        ("month", lambda day: day[:7] or "unknown") if months <= _MONTHS else ("year", lambda day: day[:4] or "unknown")
    )


def _is_day(text: str) -> bool:
    try:
        date.fromisoformat(text)
    except ValueError:
        return False
    return True


def read_shelf(
    folders: Sequence[Path],
    holdings: Holdings,
    heading: Heading,
    pages: str,
    each: Callable[[str, ItemData], None],
    *,
    all_figures: bool = False,
) -> Shelf:
    """Items of some folders. pages: the folder of their pages, as the index names it. each: is given the address of an
    item's page and the item, one after the other; more than one is never held."""
    drawn = all_figures or len(holdings.items) <= DRAWN
    shelf = Shelf(folders, heading, holdings)
    shelf.unfinished = [left for store in holdings.stores for left in unfinished(store)]
    shelf.doubles = doubled_in(Entries([("", Block.of(one.entry for one in holdings.items))]))
    for number, meant in enumerate(holdings.items, start=1):
        address = f"{pages}/{number:04d}.html"
        try:
            with examining(meant.folder):
                item = read_item(meant.folder, drawn=drawn)
                kept = Kept.of(meant, address, item)
        except MudlarkError:
            shelf.kept.append(Kept(meant.entry, meant.folder))
            continue
        try:
            each(address, item)
        except Unexamined:
            kept = Kept(meant.entry, meant.folder)
        shelf.kept.append(kept)
    return shelf
