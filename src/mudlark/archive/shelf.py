"""A folder that takes items: which of them has an identity, found without reading all their records.

The records are the truth. What was read of them is kept in an index in the user's cache, by name and inode of each
folder; what is new there is read, what is gone forgotten, and what is found is compared with its record once more. An
index that is missing, damaged or wrong is made anew; where there can be none, records are read each time.
"""

import hashlib
import os
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path

import msgspec
from platformdirs import user_cache_path

from mudlark.archive.identity import Earlier, Identity, identity_of
from mudlark.archive.layout import LARGEST_RECORD, RECORD
from mudlark.archive.record import read_record
from mudlark.errors import MudlarkError
from mudlark.plain import NotPlain, read_plain

_VERSION = 1
_SCHEMA = """
create table if not exists seen (stamp integer);
create table if not exists item (name text primary key, inode integer, key text, alike text);
create index if not exists by_key on item (key);
create index if not exists by_alike on item (alike);
"""
_HELD = 5.0  # seconds for which others may hold the index
_SETTLED = 1_000_000_000  # nanoseconds
_BATCH = 500  # new items after which what was read is noted


class _Source(msgspec.Struct):
    identity: str | None = None
    alike: str | None = None


class _Slim(msgspec.Struct):
    source: _Source = msgspec.field(default_factory=_Source)


_decoder = msgspec.json.Decoder(_Slim)


def find_earlier(into: Path, wanted: Identity) -> Earlier | None:
    """The newest item with this identity in a folder, whatever it is called by now; else the newest that is alike."""
    try:
        with _index(into) as database:
            return _found(database, into, wanted)
    except sqlite3.DatabaseError:  # held by others for too long, or damaged where nobody had looked yet
        with closing(sqlite3.connect(":memory:")) as database:
            database.executescript(_SCHEMA)
            return _found(database, into, wanted)


def _found(database: sqlite3.Connection, into: Path, wanted: Identity) -> Earlier | None:
    _refresh(database, into)
    for column, exact in (("key", True), ("alike", False)):
        rows = database.execute(f"select name from item where {column} = ?", (getattr(wanted, column),)).fetchall()
        found = [one for (name,) in rows if (one := _confirmed(into / name, wanted, exact=exact))]
        if found:
            return max(found, key=_age)
    return None


def _confirmed(folder: Path, wanted: Identity, *, exact: bool) -> Earlier | None:
    """An item, if its record says the same as the index."""
    try:
        record = read_record(folder)
    except (MudlarkError, OSError):
        return None  # what cannot be read is nobody's, and is left alone
    own = identity_of(record)  # which may have changed since, where an item was mended
    same = own.key == wanted.key or (not exact and own.alike == wanted.alike)
    return Earlier(folder, record, exact=own.key == wanted.key) if same else None


def _age(earlier: Earlier) -> tuple[str, int]:
    """When an item was made: as its record says, and within one second as the disk has it."""
    return earlier.record.finished, (earlier.folder / RECORD).stat().st_mtime_ns


@contextmanager
def _index(into: Path) -> Iterator[sqlite3.Connection]:
    """What was read before; in memory where it cannot be kept."""
    name = hashlib.sha256(os.fsencode(into.resolve())).hexdigest()[:24]
    path = user_cache_path("mudlark", appauthor=False) / f"shelf-{_VERSION}" / f"{name}.sqlite"
    database = _opened(path) or _opened(path) or sqlite3.connect(":memory:")
    with closing(database):
        database.executescript(_SCHEMA)
        yield database


def _opened(path: Path) -> sqlite3.Connection | None:
    """The index, if it can be used; a damaged one is removed."""
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        database = sqlite3.connect(path, timeout=_HELD)
    except (OSError, sqlite3.Error):
        return None
    try:
        database.execute("pragma synchronous = off")
        database.executescript(_SCHEMA)
        database.execute("select name, inode, key, alike from item limit 1").fetchall()
    except sqlite3.OperationalError:  # held by others for too long, or not to be written
        database.close()
        return None
    except sqlite3.DatabaseError:
        database.close()
        with suppress(OSError):
            path.unlink()
        return None
    return database


def _refresh(database: sqlite3.Connection, into: Path) -> None:
    """Have the index know the folders that are there now; those of a folder that has not changed it knows already."""
    try:
        stamp = into.stat().st_mtime_ns
    except OSError:
        return
    if database.execute("select 1 from seen where stamp = ?", (stamp,)).fetchone():
        return
    settled = time.time_ns() - stamp > _SETTLED  # a change right now may leave the same stamp
    known: dict[str, int] = dict(database.execute("select name, inode from item"))
    fresh: list[tuple[str, int, str, str]] = []
    try:
        with os.scandir(into) as inside:
            for one in inside:
                if one.name.startswith(".") or known.pop(one.name, None) == one.inode():
                    continue
                if not one.is_dir(follow_symlinks=False):
                    continue
                own = _read(into / one.name)
                if own is None:
                    settled = False  # it may become an item without a change to the folder around it
                    continue
                fresh.append((one.name, one.inode(), own.key, own.alike))
                if len(fresh) >= _BATCH:
                    _note(database, fresh, [])
                    fresh = []
    except OSError:
        return
    _note(database, fresh, list(known))
    with database:
        database.execute("delete from seen")
        if settled:
            database.execute("insert into seen values (?)", (stamp,))


def _note(database: sqlite3.Connection, fresh: list[tuple[str, int, str, str]], gone: list[str]) -> None:
    if fresh or gone:
        with database:
            database.executemany("insert or replace into item values (?, ?, ?, ?)", fresh)
            database.executemany("delete from item where name = ?", [(name,) for name in gone])


def _read(folder: Path) -> Identity | None:
    """The identity of an item, as its record says; None for what is none, or not yet."""
    try:
        source = _decoder.decode(read_plain(folder / RECORD, LARGEST_RECORD)).source
        if source.identity:
            return Identity(source.identity, source.alike or source.identity)
        return identity_of(read_record(folder))  # of earlier versions
    except (OSError, ValueError, NotPlain, RecursionError, MudlarkError):
        return None
