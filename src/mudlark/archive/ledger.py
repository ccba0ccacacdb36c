"""What is in a folder of items, at any depth: which of them are wanted, in which order, and which are there twice."""

from collections import defaultdict
from collections.abc import Iterable
from pathlib import Path
from typing import Literal

import msgspec

from mudlark.archive.entry import LedgerEntry
from mudlark.archive.shelf import contents
from mudlark.errors import UsageError
from mudlark.fetch.unfinished import Unfinished, unfinished

Sort = Literal["path", "title", "date", "length", "bytes", "verdict"]


class Wanted(msgspec.Struct, frozen=True):
    """verdicts: these only, if any. source: a text in the source. since, until: dates (2031-05 or longer). text: in
    title, path, source, checksums or what a list says. doubles: only those whose media another has too. unchecked: not
    checked since this date."""

    verdicts: frozenset[str] = frozenset()
    source: str | None = None
    since: str | None = None
    text: str | None = None
    doubles: bool = False
    unchecked: str | None = None
    until: str | None = None

    def passes(self, entry: LedgerEntry) -> bool:
        """True if an entry is wanted; doubles aside, which no entry knows of itself."""
        if self.verdicts and entry.verdict not in self.verdicts:
            return False
        if self.source and self.source.casefold() not in entry.url.casefold():
            return False
        if (self.since and entry.date < self.since) or (self.unchecked and entry.checked >= self.unchecked):
            return False
        if self.until and entry.date[: len(self.until)] > self.until:
            return False
        words = "\n".join((entry.title, entry.path, entry.url, *entry.media, *entry.listed.values())).casefold()
        return self.text is None or self.text.casefold() in words


class Ledger(msgspec.Struct):
    """entries: as wanted and sorted. all: how many there are. doubles: groups of paths with the same media. odd: what
    was not looked into, by path, and why."""

    entries: list[LedgerEntry]
    all: int = 0
    doubles: list[list[str]] = msgspec.field(default_factory=list)
    unfinished: list[Unfinished] = msgspec.field(default_factory=list)
    odd: list[tuple[str, str]] = msgspec.field(default_factory=list)


def read_ledger(folder: Path, wanted: Wanted | None = None, sort: Sort = "path") -> Ledger:
    """The ledger of a folder. Raises UsageError if there is none."""
    if not folder.is_dir():
        raise UsageError(f"There is no folder {folder}.", "Give a folder that items were hauled into.")
    wanted = wanted or Wanted()
    found = contents(folder)
    doubles = doubled_in(found.entries)
    doubled = {path for group in doubles for path in group}
    kept = found.entries if wanted == Wanted() else [one for one in found.entries if wanted.passes(one)]
    if wanted.doubles:
        kept = [one for one in kept if one.path in doubled]
    left = [one for store in found.stores for one in unfinished(store)]
    return Ledger(_sorted(kept, sort), len(found.entries), doubles, left, found.odd)


def _sorted(entries: list[LedgerEntry], sort: Sort) -> list[LedgerEntry]:
    by_path = sorted(entries, key=lambda one: one.path.casefold())
    if sort == "length":  # the largest first
        return sorted(by_path, key=lambda one: -(one.duration or 0.0))
    if sort == "bytes":
        return sorted(by_path, key=lambda one: -one.bytes)
    if sort == "date":  # the latest first
        return sorted(by_path, key=lambda one: one.date, reverse=True)
    return by_path if sort == "path" else sorted(by_path, key=lambda one: getattr(one, sort).casefold())


def doubled_in(entries: Iterable[LedgerEntry]) -> list[list[str]]:
    """Groups of items that have a media file of the same bytes."""
    entries = list(entries)
    seen, twice = set[str](), set[str]()
    for entry in entries:  # of many items few are there twice
        for digest in entry.media:
            (twice if digest in seen else seen).add(digest)
    groups: dict[str, list[str]] = defaultdict(list)
    for entry in entries if twice - {""} else ():
        for digest in twice.intersection(entry.media) - {""}:
            groups[digest].append(entry.path)
    return [list(group) for group in dict.fromkeys(tuple(sorted(group)) for group in groups.values() if len(group) > 1)]
