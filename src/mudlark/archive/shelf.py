"""A folder that takes items: all that are in it, and which of them has an identity.

The records are the truth. What was read of them is kept in an index (`index.py`); a record that was changed is read
again, and what is found by the index is compared with its record once more. The folder itself is only read.
"""

import os
import time
from array import array
from collections.abc import Iterable
from contextlib import suppress
from functools import partial
from itertools import compress
from pathlib import Path

import msgspec

from mudlark.archive.entries import Block, Entries
from mudlark.archive.entry import read_entry
from mudlark.archive.glance import MISSING, WIDTH
from mudlark.archive.glance import stamps as stamps_of
from mudlark.archive.identity import Earlier, Identity, identity_of
from mudlark.archive.index import Index, Row
from mudlark.archive.layout import RECORD
from mudlark.archive.tree import DEEPEST, TOO_DEEP, Level, look
from mudlark.beside import in_parts
from mudlark.errors import MudlarkError

_SETTLED = 1_000_000_000  # nanoseconds
_REMEMBERED: dict[Path, dict[bytes, int]] = {}  # of the folder that was asked about last
_MANY = 5000  # items of which a second process looks at some
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
    for name, inode in folders.items():
        key = os.fsencode(name)
        if known.get(key) == inode:
            there[key] = inode
            continue
        own = read_entry(f"{into}{os.sep}{name}", name)[1]
        if own is None:
            settled = False  # it may become an item without a change to the folder around it
            continue
        there[key] = inode
        fresh.append((key, inode, own.key, own.alike))
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

    entries: Entries = msgspec.field(default_factory=Entries)
    stores: list[Path] = msgspec.field(default_factory=list)
    odd: list[tuple[str, str]] = msgspec.field(default_factory=list)


class _Kept(msgspec.Struct, array_like=True):
    """The items of one folder: what a glance at each gave, and their entries, whose paths are their names."""

    stamps: bytes = b""
    block: Block = msgspec.field(default_factory=Block.of)


_unpacker = msgspec.msgpack.Decoder(_Kept)


def contents(folder: Path) -> Contents:
    """All that is at and below a folder of items."""
    found = Contents()
    if os.path.lexists(folder / RECORD):
        found.entries = Entries([("", Block.of([read_entry(str(folder), ".")[0]]))])
        return found
    place, blocks = folder.resolve(), dict[str, Block]()
    with Index() as index:
        waiting, depth = [""], 0  # the folders of one depth, by their paths below the first
        while waiting and depth <= DEEPEST:
            levels = {above: level for above in waiting if (level := _look(found, folder, above))}
            known = dict[str, _Kept]()
            starts = {above: f"{folder / above}{os.sep}" for above in levels}
            paths = [starts[above] + name for above, level in levels.items() for name in level.folders]
            stamps, at = array("q"), 0
            recall = partial(_recall, index, place, known, levels)
            for part in in_parts(stamps_of, paths, beside=len(paths) >= _MANY, meanwhile=recall):
                stamps += part
            waiting, depth = [], depth + 1
            for above, level in levels.items():
                own, at = stamps[at : at + WIDTH * len(level.folders)], at + WIDTH * len(level.folders)
                items, own, others = _parted(level.folders, own)
                waiting += (f"{above}{name}{os.sep}" for name in others)
                blocks[above] = _block(index, folder / above, place / above, items, own, known[above])
        found.odd += ((above, TOO_DEEP) for above in waiting)
        index.forget(place, {place / above for above in blocks})
    found.entries = Entries(blocks.items())
    return found


def _look(found: Contents, folder: Path, above: str) -> Level | None:
    """One of the folders, those in it by name, about as most lists are wanted; None if it has no items of its own. What
    stands beside these is noted."""
    try:
        level = look(folder / above)
    except OSError as problem:
        found.odd.append((above or ".", f"it cannot be read: {problem.strerror}"))
        return None
    if level.working:
        found.stores.append(folder / above)
    if level.is_bag and above:
        return None  # which has items of its own
    found.odd += ((f"{above}{name}", words) for name, words, hides in level.odd if hides)
    level.folders = {name: level.folders[name] for name in sorted(level.folders)}
    return level


def _recall(index: Index, place: Path, known: dict[str, _Kept], levels: Iterable[str]) -> None:
    """What was kept of folders."""
    known.update((above, _known(index, place / above)) for above in levels)


def _known(index: Index, here: Path) -> _Kept:
    with suppress(msgspec.DecodeError, msgspec.ValidationError):
        return _unpacker.decode(index.entries(here) or b"")
    return _Kept()


def _parted(folders: dict[str, int], stamps: "array[int]") -> "tuple[dict[str, int], array[int], list[str]]":
    """The items among the folders of one, with what a glance at them gave, and the names of the others."""
    sizes = stamps[1::WIDTH]
    if MISSING not in sizes:
        return folders, stamps, []
    is_item = [size != MISSING for size in sizes]
    others = [name for name, so in zip(folders, is_item, strict=True) if not so]
    kept = array("q", compress(stamps, (so for so in is_item for _ in range(WIDTH))))
    return dict(compress(folders.items(), is_item)), kept, others


def _block(index: Index, folder: Path, here: Path, items: dict[str, int], stamps: "array[int]", known: _Kept) -> Block:
    """The entries of the items in a folder, by what a glance at them gave. here: its whole path."""
    stamped = stamps.tobytes()
    if stamped == known.stamps and list(items) == known.block.path:
        return known.block
    kept = _read_again(index, folder, here, items, stamped, known)
    with suppress(UnicodeEncodeError):  # of a name that is not UTF-8
        index.keep(here, msgspec.msgpack.encode(kept))
    return kept.block


def _read_again(index: Index, folder: Path, here: Path, items: dict[str, int], stamps: bytes, known: _Kept) -> _Kept:
    """The entries of items in a folder: what is not as it was before is read again."""
    width, kept = WIDTH * array("q").itemsize, bytearray(stamps)
    before = {
        entry.path: (known.stamps[at * width : (at + 1) * width], entry)
        for at, entry in enumerate(Entries([("", known.block)]))
    }
    entries, read = [], list[Row]()
    for at, (name, inode) in enumerate(items.items()):
        stamp, entry = before.get(name, (b"", None))
        place = slice(at * width, (at + 1) * width)
        if entry is None or stamp != stamps[place]:
            entry, own = read_entry(f"{folder}{os.sep}{name}", name)
            if own:
                read.append((os.fsencode(name), inode, own.key, own.alike))
            elif entry.verdict != "broken":  # it may be let read without a change to it
                kept[place] = bytes(width)
        entries.append(entry)
    index.note(here, read)
    return _Kept(bytes(kept), Block.of(entries))
