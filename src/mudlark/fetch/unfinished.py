"""What is unfinished in a target folder: reading the states of hauls, by this program or others, without a change to
them."""

import os
import sqlite3
import tempfile
from contextlib import closing, suppress
from itertools import count
from pathlib import Path

import msgspec

from mudlark.fetch.store import WORKING, open_here
from mudlark.plain import NotPlain, open_plain, read_plain

_MOST_STEPS = 100_000  # thousands of steps that reading a state may take
_LARGEST_STATE = 256_000_000  # bytes
_LOCKED = (0x40000002, 510)  # where SQLite locks a database file, and how many bytes (its file format, §1.3.1)


class Unfinished(msgspec.Struct, frozen=True):
    """A haul that was not finished. target: what was hauled. segments, bytes: that are there. running: somebody is at
    work on it."""

    folder: Path
    target: str
    since: str
    segments: int
    bytes: int
    running: bool


def unfinished(into: Path) -> list[Unfinished]:
    """What is unfinished in a target folder, by name of its working folder. Nothing is written, and nothing followed:
    the folder may come from anyone."""
    working, found = into / WORKING, []
    if working.is_symlink():
        return []
    try:
        with os.scandir(working) as inside:
            names = sorted(one.name for one in inside if one.is_dir(follow_symlinks=False))
    except OSError:
        return []
    for folder in (working / name for name in names):
        with suppress(sqlite3.DatabaseError, OSError, ValueError, NotPlain):
            found += _look_into(folder)
    return found


def _look_into(folder: Path) -> list[Unfinished]:
    """What the state in a working folder says, without a change to it and in bounded time; nothing where it is no state
    of ours."""
    state, log = folder / "state.sqlite", folder / "state.sqlite-wal"
    if folder.absolute() in open_here or _is_locked(state):
        return [Unfinished(folder, "", "", 0, 0, running=True)]
    if not os.path.lexists(log):
        return _read_state(folder, f"{state.absolute().as_uri()}?immutable=1")
    with tempfile.TemporaryDirectory(prefix="mudlark-") as temporary:  # what was not written back yet counts too
        copy = Path(temporary) / state.name
        copy.write_bytes(read_plain(state, _LARGEST_STATE))
        copy.with_name(log.name).write_bytes(read_plain(log, _LARGEST_STATE))
        return _read_state(folder, copy.as_uri())


def _read_state(folder: Path, address: str) -> list[Unfinished]:
    with closing(sqlite3.connect(address, uri=True)) as database:
        steps = count()
        database.set_progress_handler(lambda: next(steps) >= _MOST_STEPS, 1000)
        database.execute("pragma trusted_schema = off")
        kinds = dict(database.execute("select name, type from sqlite_master where name in ('haul', 'kept')"))
        if kinds != {"haul": "table", "kept": "table"}:
            return []
        placing = database.execute("select 1 from haul where key = 'placing'").fetchone()
        if placing and not os.path.lexists(folder / "item"):
            return []  # its item has its place; only this was not cleared away any more
        target = database.execute("select value from haul where key = 'target'").fetchone()
        number, size, since = database.execute("select count(*), sum(bytes), min(fetched) from kept").fetchone()
    named, since = (one if isinstance(one, str) else "" for one in (target[0] if target else "", since))
    return [Unfinished(folder, named, since, number, size if isinstance(size, int) else 0, running=False)]


def _is_locked(state: Path) -> bool:
    """True if another process holds the lock that a store takes. Raises OSError or NotPlain."""
    with open_plain(state) as file:
        try:
            import fcntl
        except ImportError:  # a system that has other locks, and where nothing can be told
            return False
        try:
            fcntl.lockf(file, fcntl.LOCK_SH | fcntl.LOCK_NB, _LOCKED[1], _LOCKED[0])
        except OSError:
            return True
        return False
