"""Which items of one or several folders are meant: for packages and reports."""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from mudlark.archive.entry import LedgerEntry
from mudlark.archive.ledger import Wanted
from mudlark.archive.shelf import contents
from mudlark.errors import UsageError
from mudlark.fetch.store import WORKING


class Meant(msgspec.Struct, frozen=True):
    """An item. root: the folder that it was found in. entry: what lists know of it."""

    root: Path
    folder: Path
    entry: LedgerEntry


class Holdings(msgspec.Struct, frozen=True):
    """items: each once, in the order of the folders, by path; all: how many there are. odd: what was not looked into,
    by path, and why. stores: folders with unfinished work."""

    items: list[Meant]
    all: int
    odd: list[tuple[Path, str]]
    stores: list[Path]


def choose(folders: Sequence[Path], wanted: Wanted, named: Sequence[str] | None = None) -> Holdings:
    """The items of some folders that are wanted. named: what a list names them by, if one says which: path, folder,
    title, source, or anything that their own list says. Raises UsageError where there is none, or a name means none."""
    found, odd, stores = dict[Path, Meant](), list[tuple[Path, str]](), dict[Path, Path]()
    for folder in folders:
        if WORKING in folder.resolve().parts:
            raise UsageError(f"{folder} is unfinished work.", "Haul it to its end first.")
        if not folder.is_dir():
            raise UsageError(f"There is no folder {folder}.", "Give an item's folder, or one with items below it.")
        inside = contents(folder)
        odd += ((folder / path, why) for path, why in inside.odd)
        stores.update((store.resolve(), store) for store in inside.stores)
        for entry in sorted(inside.entries, key=lambda one: one.path.casefold()):
            item = folder / entry.path
            found.setdefault(item.resolve(), Meant(folder, item, entry))
    if not found:
        there = ", ".join(map(str, folders))
        raise UsageError(f"{there} holds no item.", "Give an item's folder, or one with items below it.")
    items = [one for one in found.values() if wanted.passes(one.entry)]
    if named is not None:
        items = _named(items, named)
    if not items:
        raise UsageError(f"None of {len(found):,} items is meant.", "Look for them with `mudlark ledger`.")
    return Holdings(items, len(found), odd, list(stores.values()))


def _named(items: list[Meant], named: Sequence[str]) -> list[Meant]:
    by_name: dict[str, list[Meant]] = {}
    for one in items:
        entry = one.entry
        for name in {str(one.folder), entry.path, one.folder.name, entry.title, entry.url, *entry.listed.values()}:
            by_name.setdefault(name.casefold(), []).append(one)
    unknown = [name for name in named if name.casefold() not in by_name]
    if unknown:
        more = f" and {len(unknown) - 1:,} more" if len(unknown) > 1 else ""
        raise UsageError(
            f"No item is called {unknown[0]!r}{more}.",
            "Name them by path, title, source, or a column of their list, one a line.",
        )
    return list({one.folder: one for name in named for one in by_name[name.casefold()]}.values())
