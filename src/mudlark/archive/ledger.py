"""What is in a folder of items, at any depth: which of them are wanted, in which order, and which are there twice."""

from collections import Counter, defaultdict
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any, Literal

import msgspec

from mudlark.archive.entries import Entries
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

    entries: Entries
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
    entries = found.entries
    doubles = doubled_in(entries)
    kept: Sequence[int] = range(len(entries))
    if wanted != Wanted():
        kept = [at for at, one in enumerate(entries) if wanted.passes(one)]
    if wanted.doubles:
        doubled = {path for group in doubles for path in group}
        kept = [at for at in kept if entries.path[at] in doubled]
    left = [one for store in found.stores for one in unfinished(store)]
    return Ledger(entries.take(_sorted(kept, entries, sort)), len(entries), doubles, left, found.odd)


def _sorted(places: Sequence[int], entries: Entries, sort: Sort) -> list[int]:
    """The same places among entries, in the order that is wanted: of what is alike, by path."""
    keys: dict[Sort, Callable[[], list[Any]]] = {
        "length": lambda: [-(duration or 0.0) for duration in entries.duration],  # the largest first
        "bytes": lambda: [-size for size in entries.bytes],
        "date": lambda: entries.date,
        "title": lambda: list(map(str.casefold, entries.title)),
        "verdict": lambda: list(entries.verdict),
    }
    by_path = sorted(places, key=list(map(str.casefold, entries.path)).__getitem__)
    if sort == "path":
        return by_path
    return sorted(by_path, key=keys[sort]().__getitem__, reverse=sort == "date")  # the latest first


def doubled_in(entries: Entries) -> list[list[str]]:
    """Groups of items that have a media file of the same bytes."""
    digests = list(filter(None, entries.media))
    if " " in "".join(digests):
        digests = " ".join(digests).split()
    if len(set(digests)) == len(digests):
        return []
    twice = {digest for digest, count in Counter(digests).items() if count > 1}
    groups: dict[str, list[str]] = defaultdict(list)
    for path, media in zip(entries.path, entries.media, strict=True):
        for digest in twice.intersection(media.split()):
            groups[digest].append(path)
    return [list(group) for group in dict.fromkeys(tuple(sorted(group)) for group in groups.values() if len(group) > 1)]
