"""A folder that takes items: all that are in it, and which of them has an identity.

The records are the truth. What was read of them is kept in an index (`index.py`); a record that was changed is read
again, and what is found by the index is compared with its record once more. The folder itself is only read.
"""

import gc
import os
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec

from mudlark.archive.entry import LedgerEntry, read_entry
from mudlark.archive.identity import Earlier, Identity, identity_of
from mudlark.archive.index import Index, Row
from mudlark.archive.layout import HISTORY, RECORD
from mudlark.archive.tree import DEEPEST, TOO_DEEP, look
from mudlark.errors import MudlarkError

_SETTLED = 1_000_000_000  # nanoseconds
_REMEMBERED: dict[Path, dict[bytes, int]] = {}  # of the folder that was asked about last
_BATCH = 500  # new items after which what was read is noted


def find_earlier(into: Path, wanted: Identity) -> Earlier | None:
    """The newest item with this identity in a folder, whatever it is called by now; else the newest that is alike.
    Items deeper down are found where a list of them was made since they came there."""
    with Index() as index:
        place = into.resolve()
        _refresh(index, place)
        named = sorted(index.known_by(wanted, place))
    found = [one for path in named if (one := _confirmed(into / path.relative_to(place), wanted))]
    same = [one for one in found if one.exact]
    return max(same or found, key=_age, default=None)


def _confirmed(folder: Path, wanted: Identity) -> Earlier | None:
    """An item, if its record says the same as the index."""
    from mudlark.archive.record import read_record  # which brings the readers of all formats

    try:
        record = read_record(folder)
    except (MudlarkError, OSError):
        return None  # what cannot be read is nobody's, and is left alone
    own = identity_of(record)  # which may have changed since, where an item was mended
    return (
        Earlier(folder, record, own.key == wanted.key) if wanted.key == own.key or wanted.alike == own.alike else None
    )


def _age(earlier: Earlier) -> tuple[str, int]:
    """When an item was made: as its record says, and within one second as the disk has it."""
    return earlier.record.finished, (earlier.folder / RECORD).stat().st_mtime_ns


def _refresh(index: Index, into: Path) -> None:
    """Have the index know the items of a folder that are there now; of one that has not changed it knows them."""
    try:
        stamp = into.stat().st_mtime_ns
    except OSError:
        return
    if index.is_unchanged(into, stamp):
        return
    settled = time.time_ns() - stamp > _SETTLED  # a change right now may leave the same stamp
    known, fresh = _items(index, into), list[Row]()
    try:
        folders = look(into).folders
    except OSError:
        return
    there: dict[bytes, int] = {}
    for one in folders:
        name = os.fsencode(one.name)
        if known.get(name) == one.inode():
            there[name] = one.inode()
            continue
        own = read_entry(one.path, one.name)[1]
        if own is None:
            settled = False  # it may become an item without a change to the folder around it
            continue
        there[name] = one.inode()
        fresh.append((name, one.inode(), own.key, own.alike))
        if len(fresh) >= _BATCH:
            index.note(into, fresh)
            fresh = []
    index.note(into, fresh, known.keys() - there.keys())
    index.settle(into, stamp if settled else None)
    _REMEMBERED.clear()
    _REMEMBERED[into] = there


def _items(index: Index, into: Path) -> dict[bytes, int]:
    """The items that the index has of a folder: those of the last time, if it still has as many. A sweep asks for each
    of its rows, and adds one item each time."""
    remembered = _REMEMBERED.get(into)
    if remembered is not None and len(remembered) == index.count(into):
        return remembered
    return index.items(into)


class Contents(msgspec.Struct):
    """entries: of all items. stores: folders that hold unfinished work. odd: what was not looked into, by path, and
    why."""

    entries: list[LedgerEntry] = msgspec.field(default_factory=list)
    stores: list[Path] = msgspec.field(default_factory=list)
    odd: list[tuple[str, str]] = msgspec.field(default_factory=list)


class _Kept(msgspec.Struct, array_like=True, gc=False):
    """An entry, and what tells whether its record is the same as before, and was not checked since."""

    stamp: tuple[int, int, int]
    entry: LedgerEntry


_unpacker = msgspec.msgpack.Decoder(dict[str, _Kept])


def contents(folder: Path) -> Contents:
    """All that is at and below a folder of items."""
    found = Contents()
    if os.path.lexists(folder / RECORD):
        found.entries.append(read_entry(str(folder), ".")[0])
        return found
    place, seen = folder.resolve(), set[Path]()
    with Index() as index, _nothing_thrown_away():
        waiting = [("", 0)]
        while waiting:
            above, depth = waiting.pop()
            if depth > DEEPEST:
                found.odd.append((above, TOO_DEEP))
                continue
            try:
                level = look(folder / above)
            except OSError as problem:
                found.odd.append((above or ".", f"it cannot be read: {problem.strerror}"))
                continue
            if level.working:
                found.stores.append(folder / above)
            if level.is_bag and above:
                continue  # which has items of its own
            found.odd += ((f"{above}{name}", words) for name, words, hides in level.odd if hides)
            here = place / above
            seen.add(here)
            waiting += [
                (f"{above}{name}{os.sep}", depth + 1) for name in _take(found, index, here, above, level.folders)
            ]
        index.forget(place, seen)
    return found


@contextmanager
def _nothing_thrown_away() -> Iterator[None]:
    """Look for no garbage while a hundred thousand entries are read, of which none is."""
    collects = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if collects:
            gc.enable()


def _take(found: Contents, index: Index, here: Path, above: str, folders: "list[os.DirEntry[str]]") -> list[str]:
    """Add the items among the folders of one, whose path below the first is `above`; gives the names of the others."""
    try:
        known = _unpacker.decode(index.entries(here) or b"\x80")
    except (msgspec.DecodeError, msgspec.ValidationError):
        known = {}
    kept, others, read = dict[str, _Kept](), list[str](), list[tuple[bytes, int, Identity | None]]()
    for one in folders:
        name = one.name
        place = f"{one.path}{os.sep}"  # a Path would cost more than the call
        try:
            status = os.lstat(f"{place}{RECORD}")
        except OSError:
            others.append(name)
            continue
        stamp = (status.st_mtime_ns, status.st_size, _checks(f"{place}{HISTORY}"))
        item = known.get(name)
        if item is None or item.stamp != stamp:
            entry, own = read_entry(one.path, name)
            item = _Kept(stamp, entry)
            read.append((os.fsencode(name), one.inode(), own))
        kept[name] = item
    if read or len(kept) != len(known):
        index.note(here, [(name, inode, own.key, own.alike) for name, inode, own in read if own])
        with suppress(UnicodeEncodeError):  # of a name that is not UTF-8
            index.keep(here, msgspec.msgpack.encode(kept))
    found.entries += (item.entry for item in kept.values())
    if above:
        for item in kept.values():
            item.entry.path = above + item.entry.path
    return others


def _checks(history: str) -> int:
    """What tells whether an item was checked since."""
    try:
        return os.lstat(history).st_size if os.access(history, os.F_OK) else 0  # no error to be raised costs less
    except OSError:
        return 0
