"""What was read of items before, in the user's own cache: nothing is written to a folder that is only looked at, and
nothing that came with it is believed.

One file holds it for all folders. It only saves reading records again: where it is damaged it is begun anew, where it
is held by others or cannot be kept it is done without.
"""

import os
import sqlite3
from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from types import TracebackType
from typing import Any, Self

from platformdirs import user_cache_path
from xxhash import xxh3_64_digest

from mudlark.archive.identity import Identity

_VERSION = 8
_SCHEMA = """
create table if not exists folder (path blob primary key, stamp integer, entries blob);
create table if not exists item (folder blob, name blob, inode integer, key text, alike text,
  primary key (folder, name)) without rowid;
create index if not exists by_key on item (key);
create index if not exists by_alike on item (alike);
"""
_WITHIN = "({0} = ? or ({0} > ? and {0} < ?))"
_HELD = 5.0  # seconds for which others may hold it
_SEAL = 8  # bytes before entries, by which damage is seen that a database does not see

Row = tuple[bytes, int, str, str]  # of an item: its name, its inode, what it is known by (Identity)


class Index:
    """Folders are given by whole paths. Every question is answered; by nothing where nothing is known."""

    def __enter__(self) -> Self:
        path = user_cache_path("mudlark", appauthor=False) / f"shelf-{_VERSION}.sqlite"
        self._database = _opened(path) or _opened(path) or _in_memory()
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self._database.close()

    def _rows(self, question: str, *values: object) -> list[Any]:
        try:
            with self._database:
                return self._database.execute(question, values).fetchall()
        except sqlite3.DatabaseError:  # held by others for too long, or damaged where nobody had looked yet
            self._do_without()
            return []

    def _change(self, change: str, rows: Iterable[tuple[object, ...]]) -> None:
        try:
            with self._database:
                self._database.executemany(change, rows)
        except sqlite3.DatabaseError:
            self._do_without()

    def _do_without(self) -> None:
        self._database.close()
        self._database = _in_memory()

    def is_unchanged(self, folder: Path, stamp: int) -> bool:
        """True if the items of a folder were noted when it had this stamp."""
        return bool(self._rows("select 1 from folder where path = ? and stamp = ?", os.fsencode(folder), stamp))

    def items(self, folder: Path) -> dict[bytes, int]:
        """The inodes of the items in a folder, by name."""
        return dict(self._rows("select name, inode from item where folder = ?", os.fsencode(folder)))

    def count(self, folder: Path) -> int:
        """How many items of a folder are known."""
        rows = self._rows("select count(*) from item where folder = ?", os.fsencode(folder))
        return int(rows[0][0]) if rows else 0

    def note(self, folder: Path, rows: Iterable[Row], gone: Iterable[bytes] = ()) -> None:
        """Items of a folder that were read, and names of such as are no longer there."""
        path = os.fsencode(folder)
        self._change("insert or replace into item values (?, ?, ?, ?, ?)", [(path, *row) for row in rows])
        self._change("delete from item where folder = ? and name = ?", [(path, name) for name in gone])

    def settle(self, folder: Path, stamp: int | None) -> None:
        """All items of a folder are noted as of this stamp; None if it may still change without another one."""
        statement = "insert into folder (path, stamp) values (?, ?) on conflict (path) do update set stamp = ?"
        self._change(statement, [(os.fsencode(folder), stamp, stamp)])

    def known_by(self, wanted: Identity, within: Path) -> set[Path]:
        """The items of a folder, at any depth, that are the same or alike, as far as is known."""
        rows = self._rows(
            f"select folder, name from item where (key = ? or alike = ?) and {_WITHIN.format('folder')}",
            *(wanted.key, wanted.alike, *_bounds(within)),
        )
        return {Path(os.fsdecode(folder), os.fsdecode(name)) for folder, name in rows}

    def entries(self, folder: Path) -> bytes | None:
        """What was kept of the entries of a folder, as it was kept."""
        rows = self._rows("select entries from folder where path = ?", os.fsencode(folder))
        sealed = (rows[0][0] if rows else None) or b""
        seal, entries = sealed[:_SEAL], sealed[_SEAL:]
        return entries if seal == xxh3_64_digest(entries) else None

    def keep(self, folder: Path, entries: bytes) -> None:
        """Keep the entries of a folder."""
        statement = "insert into folder (path, entries) values (?, ?) on conflict (path) do update set entries = ?"
        sealed = xxh3_64_digest(entries) + entries
        self._change(statement, [(os.fsencode(folder), sealed, sealed)])

    def forget(self, within: Path, but: set[Path]) -> None:
        """Forget the folders at and below one that are no longer there."""
        rows = self._rows(f"select path from folder where {_WITHIN.format('path')}", *_bounds(within))
        gone = {row for (row,) in rows} - {os.fsencode(one) for one in but}
        for table in ("folder where path", "item where folder"):
            self._change(f"delete from {table} = ?", [(one,) for one in gone])


def _bounds(folder: Path) -> tuple[bytes, bytes, bytes]:
    """What `_WITHIN` compares with."""
    path = os.fsencode(folder)
    below = path.rstrip(b"/")
    return path, below + b"/", below + b"0"  # which follows the stroke


def _in_memory() -> sqlite3.Connection:
    database = sqlite3.connect(":memory:")
    database.executescript(_SCHEMA)
    return database


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
        database.execute("select path, stamp, entries from folder limit 1").fetchall()
        database.execute("select folder, name, inode, key, alike from item limit 1").fetchall()
    except sqlite3.OperationalError:  # held by others for too long, or not to be written
        database.close()
        return None
    except sqlite3.DatabaseError:
        database.close()
        with suppress(OSError):
            path.unlink()
        return None
    return database
