"""The working folder of a haul: segments on disk, plus the state that lets it resume.

A segment is written under a temporary name, renamed when it is whole, and only then gets its row. On the way back in,
a row counts only if its file still has the bytes that the row says. One program at a time may have a store open.
"""

import hashlib
import os
import shutil
import sqlite3
import time
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from dataclasses import astuple, dataclass
from io import BufferedReader
from pathlib import Path
from typing import BinaryIO

from xxhash import xxh3_128

from mudlark.errors import StorageError

_RACES = 5
_BLOCK = 1 << 20  # bytes
_QUICK = "xxh3:"  # before a digest that is no SHA-256
WORKING = ".mudlark"  # the folder inside the target folder that holds all stores
_SCHEMA = """
create table if not exists haul (key text primary key, value text not null);
create table if not exists piece (
  track text not null, number integer not null, source text not null, url text not null,
  bytes integer not null, sha256 text not null, tries integer not null, fetched text not null, plan text not null,
  primary key (track, number)
);
"""


@dataclass(frozen=True, slots=True)
class Row:
    """What is known of a fetched segment. source: what must be the same for the bytes to be used again. sha256: of
    them, or another digest that says so. plan: it, as its manifest listed it, in JSON, so that the film can be put
    together from the store alone; empty for sections.
    """

    track: str
    number: int
    source: str
    url: str
    bytes: int
    sha256: str
    tries: int
    fetched: str
    plan: str = ""


class Store:
    """Use as a context manager; `discard` removes it when the item is finished."""

    def __init__(self, into: Path, key: str) -> None:
        self.folder = into / WORKING / hashlib.sha256(key.encode()).hexdigest()[:16]
        self.item = self.folder / "item"
        self._key = key
        self._rows: dict[tuple[str, int], Row] = {}
        self._database: sqlite3.Connection | None = None
        self._kept = False

    def __enter__(self) -> "Store":
        try:
            _make_folders(self.folder)
            for path in (self.folder.parent, self.folder, self.folder / "segments", self.folder / "state.sqlite"):
                if path.is_symlink():
                    raise StorageError(
                        f"{path} is a link to another place, and is not followed.", "Remove it, and haul again."
                    )
            database = sqlite3.connect(self.folder / "state.sqlite", timeout=0.2, check_same_thread=False)
            database.execute("pragma locking_mode = exclusive")
            database.execute("pragma journal_mode = wal")
            database.execute("pragma synchronous = normal")
            database.executescript(_SCHEMA)
            database.execute("insert or replace into haul values ('target', ?)", (self._key,))
            database.commit()
            rows = database.execute(
                "select track, number, source, url, bytes, sha256, tries, fetched, plan from piece"
            ).fetchall()
        except sqlite3.DatabaseError as problem:
            if "locked" in str(problem):
                raise StorageError(
                    f"Another Mudlark is working on this in {self.folder}.", "Wait until it has finished."
                ) from problem
            raise StorageError(
                f"The state in {self.folder} cannot be read ({problem}).", "Remove that folder and start anew."
            ) from problem
        except OSError as problem:
            raise StorageError(
                f"Cannot write into {self.folder.parent.parent}: {problem.strerror}.",
                "Choose another folder with --into.",
            ) from problem
        self._database = database
        self._rows = {(row[0], row[1]): Row(*row) for row in rows}
        return self

    def __exit__(self, *_: object) -> None:
        if self._database:
            self._database.close()
            self._database = None
            if not self._rows and not self._kept:
                self.discard()

    def discard(self) -> None:
        """Remove the store, and the folder of stores if it was the last."""
        if self._database:
            self._database.close()
            self._database = None
        shutil.rmtree(self.folder, ignore_errors=True)
        remove_if_empty(self.folder.parent)

    def path(self, track: str, number: int) -> Path:
        """Where a segment is, or will be."""
        return self.folder / "segments" / f"{track}-{number:06d}"

    def row(self, track: str, number: int) -> Row | None:
        """The row of a fetched segment."""
        return self._rows.get((track, number))

    def rows(self) -> list[Row]:
        """All that is known, by track and number."""
        return [self._rows[key] for key in sorted(self._rows)]

    def usable(self, track: str, number: int, source: str) -> Row | None:
        """The row of a segment that need not be fetched again: same source, and the very bytes are still there."""
        row = self._rows.get((track, number))
        path = self.path(track, number)
        try:
            if row and row.source == source and path.stat().st_size == row.bytes:
                with path.open("rb") as file:
                    if _digest_of(file, row.sha256) == row.sha256:
                        return row
        except OSError:
            return None
        return None

    def distrust(self, segments: Iterable[tuple[str, int]]) -> None:
        """Segments whose bytes turned out to be no good: they stay on disk to be looked at, and are fetched anew."""
        assert self._database
        for track, number in segments:
            self._database.execute("delete from piece where track = ? and number = ?", (track, number))
            self._rows.pop((track, number), None)
            self._kept = True
        self._database.commit()

    def add(self, rows: Iterable[Row]) -> None:
        """Note segments that are whole on disk."""
        assert self._database
        try:
            for row in rows:
                self._database.execute(
                    "insert or replace into piece values (?, ?, ?, ?, ?, ?, ?, ?, ?)",
                    astuple(row),
                )
                self._rows[row.track, row.number] = row
            self._database.commit()
        except sqlite3.DatabaseError as problem:
            raise StorageError(
                f"Cannot note what was fetched in {self.folder}: {problem}.", "Is the disk full?"
            ) from problem


def _make_folders(folder: Path) -> None:
    """The folders of a store, for their owner only: until a haul is finished they may hold what gives access."""
    for attempt in range(_RACES, -1, -1):
        try:
            folder.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            folder.mkdir(exist_ok=True, mode=0o700)
            (folder / "segments").mkdir(exist_ok=True)
            return
        except FileNotFoundError:  # another haul has just removed the empty folder of stores
            if not attempt:
                raise


def remove_if_empty(folder: Path) -> None:
    """Remove a folder unless something is in it."""
    try:
        folder.rmdir()
    except OSError:
        return


def _digest_of(file: BufferedReader, like: str) -> str:
    """The digest of a file, of the kind that another one is."""
    if not like.startswith(_QUICK):
        return hashlib.file_digest(file, "sha256").hexdigest()
    digest = xxh3_128()
    while block := file.read(_BLOCK):
        digest.update(block)
    return _QUICK + digest.hexdigest()


class Incoming:
    """A segment being written: temporary name, running digest. `commit` gives it its name. quick: its digest is only to
    know its bytes again (XXH3), as what they become part of is hashed for the record; nor is it flushed by itself.

    Raises StorageError, so that a full disk is never taken for a broken connection.
    """

    def __init__(self, path: Path, *, quick: bool = False) -> None:
        self.path = path
        self.bytes = 0
        self._quick = quick
        self._temporary = path.with_name(path.name + ".part")
        self._digest = xxh3_128() if quick else hashlib.sha256()
        self._file: BinaryIO | None = None

    def write(self, chunks: list[bytes]) -> None:
        """Append chunks; called from a worker thread, one call at a time."""
        with self._words():
            file = self._open()
            for chunk in chunks:
                view = memoryview(chunk)
                while len(view):
                    view = view[file.write(view) :]
                self._digest.update(chunk)
                self.bytes += len(chunk)

    def commit(self) -> str:
        """Give it its name; gives its digest."""
        with self._words():
            file = self._open()
            if not self._quick:
                os.fsync(file.fileno())
            file.close()
            self._temporary.replace(self.path)
        return (_QUICK if self._quick else "") + self._digest.hexdigest()

    def _open(self) -> BinaryIO:
        if self._file is None:
            self._temporary.unlink(missing_ok=True)
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0)
            self._file = os.fdopen(os.open(self._temporary, flags, 0o666), "wb", buffering=0)
        return self._file

    @contextmanager
    def _words(self) -> Iterator[None]:
        try:
            yield
        except OSError as problem:
            raise StorageError(
                f"Cannot write {self.path}: {problem.strerror}.", "Make room; the same command goes on from here."
            ) from problem

    def abandon(self) -> None:
        """Drop what was written."""
        if self._file is not None:
            self._file.close()
        self._temporary.unlink(missing_ok=True)


def now() -> str:
    """The time, in UTC, as records state it (RFC 3339)."""
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
