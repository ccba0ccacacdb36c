"""The working folder of a haul: segments on disk, plus the state that lets it resume.

Large segments have files of their own, small ones share files, and the parts of one file stand in it at their offsets.
What comes is kept in groups: its bytes are made durable, then named, and only then noted in rows. On the way back in, a
row counts only if the bytes that it speaks of are there; beginnings of parts are noted without being made durable, and
count in the same way. One program at a time may have a store open.
"""

import hashlib
import os
import shutil
import socket
import sqlite3
import stat
import threading
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from pathlib import Path

import msgspec
from msgspec.structs import astuple
from xxhash import xxh3_128

from mudlark.errors import Held, StorageError
from mudlark.fetch.incoming import Body, Incoming, words
from mudlark.fetch.place import Place
from mudlark.plain import NotPlain, kind_of, read_plain

_RACES = 5
_RESERVE = 32_000_000  # bytes that stay free on the disk
WORKING = ".mudlark"  # the folder inside the target folder that holds all stores
open_here: set[Path] = set()  # working folders that this process has open: looking into one would give up its lock
_SCHEMA = """
create table if not exists haul (key text primary key, value text not null);
create table if not exists kept (
  track text not null, number integer not null, source text not null, url text not null,
  bytes integer not null, check_sum text not null, sha256 text not null, file text not null, place integer not null,
  tries integer not null, fetched text not null, plan text not null,
  primary key (track, number)
);
"""


class StoredRow(msgspec.Struct, frozen=True):
    """What is known of a fetched segment. source: what must be the same for the bytes to be used again. check: their
    XXH3. sha256: for the record; empty for what becomes part of something that is hashed whole. file, offset: where
    they are. plan: the segment, as its manifest listed it, in JSON, so that the film can be put together from the
    store alone; empty for sections.
    """

    track: str
    number: int
    source: str
    url: str
    bytes: int
    check: str
    sha256: str
    file: str
    offset: int
    tries: int
    fetched: str
    plan: str = ""


class Fetched(msgspec.Struct, frozen=True):
    """A segment that has come, and is to be kept. incoming: what has its bytes in a file, if they are in one."""

    track: str
    number: int
    source: str
    url: str
    tries: int
    body: Body
    file: Path
    incoming: Incoming | None = None
    plan: str = ""


class Holder(msgspec.Struct):
    """Who has a store open."""

    process: int
    machine: str
    since: str


_holder = msgspec.json.Decoder(Holder)  # made once, as threads use it


class Store:
    """Use as a context manager; `discard` removes it when the item is finished. alike: what its key has in common with
    those of others that may turn out to be the same; their folders begin alike."""

    def __init__(self, into: Path, key: str, target: str = "", alike: str = "") -> None:
        self.alike = _short(alike or key)
        self.folder = into / WORKING / f"{self.alike}{_short(key)}"
        self.item = self.folder / "item"
        self._segments = self.folder / "segments"
        self._key = key
        self._target = target
        self._rows: dict[tuple[str, int], StoredRow] = {}
        self._database: sqlite3.Connection | None = None
        self._kept = False
        self._shared = Path()
        self._shared_bytes = 0
        self._noting = threading.Lock()

    def __enter__(self) -> "Store":
        try:
            _make_folders(self.folder)
            for path in (self.folder.parent, self.folder, *_inside(self.folder), *_inside(self._segments)):
                _insist_on_own(path)
            database = _open(self.folder)
            database.execute("insert or replace into haul values ('target', ?)", (self._target or self._key,))
            database.commit()
            names = "track, number, source, url, bytes, check_sum, sha256, file, place, tries, fetched, plan"
            rows = database.execute(f"select {names} from kept").fetchall()
            holder = Holder(os.getpid(), socket.gethostname(), now())
            (self.folder / "holder.json").write_bytes(msgspec.json.encode(holder))
            for left in self._segments.glob("*.part"):
                left.unlink()
        except sqlite3.DatabaseError as problem:
            if "locked" in str(problem):
                raise Held(
                    f"Another Mudlark is working on this in {self.folder}{_held_by(self.folder)}.",
                    "Wait until it has finished.",
                ) from problem
            raise StorageError(f"The state in {self.folder} cannot be read ({problem}).", _advice(problem)) from problem
        except OSError as problem:
            raise StorageError(
                f"Cannot write into {self.folder.parent.parent}: {problem.strerror}.",
                "Choose another folder with --into.",
            ) from problem
        self._database = database
        open_here.add(self.folder.absolute())
        self._rows = {(row[0], row[1]): StoredRow(*row) for row in rows}
        taken = sum(1 for _ in self._segments.glob("small-*"))
        self._shared = self._segments / f"small-{taken + 1:04d}"
        return self

    def __exit__(self, *_: object) -> None:
        if self._database:
            self._close()
            (self.folder / "holder.json").unlink(missing_ok=True)
            if not self._rows and not self._kept:
                self.discard()

    def _close(self) -> None:
        assert self._database
        self._database.close()
        self._database = None
        open_here.discard(self.folder.absolute())

    def retain(self) -> None:
        """Keep the store, though it has no rows: there is something in it that a later run goes on from."""
        self._kept = True

    def placing(self) -> None:
        """Note that the item is about to leave for its place: a store without it is one that nobody cleared away."""
        assert self._database
        self._database.execute("insert or replace into haul values ('placing', ?)", (now(),))
        self._database.commit()

    @property
    def placed(self) -> bool:
        """True if its item has left, and only the store itself was not cleared away."""
        assert self._database
        noted = self._database.execute("select 1 from haul where key = 'placing'").fetchone()
        return noted is not None and not self.item.exists()

    def discard(self) -> None:
        """Remove the store, and the folder of stores if it was the last."""
        if self._database:
            self._close()
        shutil.rmtree(self.folder, ignore_errors=True)
        remove_if_empty(self.folder.parent)

    def path(self, track: str, number: int) -> Path:
        """The file of a segment that has one of its own."""
        return self._segments / f"{track}-{number:06d}"

    def place(self, row: StoredRow) -> Place:
        """Where the bytes of a row are."""
        return Place(self._segments / row.file, row.offset, row.bytes)

    def row(self, track: str, number: int) -> StoredRow | None:
        """The row of a fetched segment."""
        return self._rows.get((track, number))

    def rows(self, track: str | None = None) -> list[StoredRow]:
        """All that is known, or all of a track, by track and number."""
        return [self._rows[key] for key in sorted(self._rows) if track is None or key[0] == track]

    def usable(self, track: str, number: int, source: str) -> StoredRow | None:
        """The row of a segment that need not be fetched again: same source, and the very bytes are still there."""
        row = self._rows.get((track, number))
        try:
            return row if row and row.source == source and checked(self.place(row)).check == row.check else None
        except OSError:
            return None

    def distrust(self, segments: Iterable[tuple[str, int]]) -> None:
        """Segments whose bytes turned out to be no good: they stay on disk to be looked at, and are fetched anew."""
        assert self._database
        for track, number in segments:
            self._database.execute("delete from kept where track = ? and number = ?", (track, number))
            self._rows.pop((track, number), None)
            self._kept = True
        self._database.commit()

    def keep(self, group: Sequence[Fetched]) -> list[StoredRow]:
        """Make what has come durable, and note it: all of it, or nothing. Gives the rows in the order of the group.

        Small bodies share a file, which is flushed once for all of them; of parts of one file, the last flushes it.
        """
        self._mind_room()
        small = [one for one in group if one.body.data is not None]
        places = dict(zip(map(id, small), self._share([one.body.data or b"" for one in small]), strict=True))
        for one in {one.file: one for one in group if one.incoming}.values():
            assert one.incoming
            one.incoming.flush()
        for one in group:
            if one.incoming:
                one.incoming.settle()
        rows = [_row(one, places.get(id(one), Place(one.file, one.body.offset, one.body.length))) for one in group]
        self._note(rows)
        return rows

    def begin(self, group: Sequence[Fetched]) -> None:
        """Note beginnings of parts that are still coming, in the place of the parts. Nothing is made durable for that:
        like any row they count only if the bytes are there when somebody comes back."""
        self._note([_row(one, Place(one.file, one.body.offset, one.body.length)) for one in group], unless_there=True)

    def _share(self, bodies: Sequence[bytes]) -> list[Place]:
        """Append to the file of small bodies."""
        if not bodies:
            return []
        places = []
        flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | getattr(os, "O_NOFOLLOW", 0)
        with words(self._shared), os.fdopen(os.open(self._shared, flags, 0o666), "ab") as file:
            at = file.tell()
            for body in bodies:
                file.write(body)
                places.append(Place(self._shared, at, len(body)))
                at += len(body)
            file.flush()
            os.fsync(file.fileno())
        return places

    def _mind_room(self) -> None:
        """Raises StorageError before the disk is full to the last byte."""
        with suppress(OSError):
            free = shutil.disk_usage(self.folder).free
            if free < _RESERVE:
                raise StorageError(
                    f"The disk that holds {self.folder.parent.parent} is nearly full: {free // 1_000_000} MB are left.",
                    "Make room; the same command goes on from here.",
                )

    def _note(self, rows: Sequence[StoredRow], *, unless_there: bool = False) -> None:
        with self._noting:
            self._write_rows([row for row in rows if not (unless_there and self._holds(row))])

    def _holds(self, row: StoredRow) -> bool:
        """True if there is a row of as much, of the same version."""
        there = self._rows.get((row.track, row.number))
        return bool(there and there.bytes >= row.bytes and _version(there) == _version(row))

    def _write_rows(self, rows: Sequence[StoredRow]) -> None:
        assert self._database
        try:
            marks = ", ".join("?" * 12)
            self._database.executemany(f"insert or replace into kept values ({marks})", map(astuple, rows))
            self._database.commit()
        except sqlite3.DatabaseError as problem:
            raise StorageError(
                f"Cannot note what was fetched in {self.folder}: {problem}.", _advice(problem)
            ) from problem
        self._rows |= {(row.track, row.number): row for row in rows}


def _row(one: Fetched, place: Place) -> StoredRow:
    body = one.body
    what = (one.track, one.number, one.source, one.url, body.length, body.check, body.sha256)
    return StoredRow(*what, place.path.name, place.offset, one.tries, now(), one.plan)


def _version(row: StoredRow) -> tuple[str, str]:
    """The address of a part, and the version that it is of."""
    return row.url, row.source.partition(" of ")[2]


def _short(key: str) -> str:
    return hashlib.sha256(key.encode()).hexdigest()[:8]


def _advice(problem: sqlite3.DatabaseError) -> str:
    """What to do about a state that cannot be used. What was fetched is never to be thrown away for it."""
    words = str(problem)
    if "full" in words or "I/O" in words or "readonly" in words or "unable to open" in words:
        return "Make room, or wait for others that work here; the same command goes on from what is there."
    return "Move that folder away and haul again; what was fetched stays in it, below `segments`."


def _open(folder: Path) -> sqlite3.Connection:
    database = sqlite3.connect(folder / "state.sqlite", timeout=0.2, check_same_thread=False)
    database.execute("pragma locking_mode = exclusive")
    database.execute("pragma journal_mode = wal")
    database.execute("pragma synchronous = normal")
    database.executescript(_SCHEMA)
    return database


def _inside(folder: Path) -> Iterator[Path]:
    with os.scandir(folder) as inside:
        yield from (folder / one.name for one in inside)


def _insist_on_own(path: Path) -> None:
    """Raises StorageError for what no store of ours has in it: whoever put it there would have us write elsewhere."""
    status = os.lstat(path)
    if stat.S_ISLNK(status.st_mode):
        raise StorageError(f"{path} is a link to another place, and is not followed.", "Remove it, and haul again.")
    if not (stat.S_ISREG(status.st_mode) or stat.S_ISDIR(status.st_mode)):
        raise StorageError(f"{path} is {kind_of(status.st_mode)}, and is not opened.", "Remove it, and haul again.")
    if hasattr(os, "geteuid") and status.st_uid != os.geteuid() and status.st_mode & 0o022:
        raise StorageError(
            f"{path} belongs to somebody else, and others may write to it.", "Choose another folder with --into."
        )


def _held_by(folder: Path) -> str:
    try:
        holder = _holder.decode(read_plain(folder / "holder.json", 10_000))
    except (OSError, ValueError, RecursionError, NotPlain):
        return ""
    return f": process {holder.process} on {holder.machine}, since {holder.since}"


def checked(place: Place, *, hashed: bool = False) -> Body:
    """What is at a place, as a body that is in its file. hashed: with its SHA-256."""
    check, sha256, count = xxh3_128(), hashlib.sha256() if hashed else None, 0
    for block in place.blocks():
        check.update(block)
        count += len(block)
        if sha256:
            sha256.update(block)
    return Body(count, check.hexdigest(), sha256.hexdigest() if sha256 else "", place.offset)


def _make_folders(folder: Path) -> None:
    """The folders of a store, for their owner only: until a haul is finished they may hold what gives access."""
    for attempt in range(_RACES, -1, -1):
        try:
            folder.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
            folder.mkdir(exist_ok=True, mode=0o700)
            (folder / "segments").mkdir(exist_ok=True)
            return
        except (FileNotFoundError, FileExistsError):  # another haul has just removed the empty folder of stores
            if not attempt:
                raise


def remove_if_empty(folder: Path) -> None:
    """Remove a folder unless something is in it."""
    try:
        folder.rmdir()
    except OSError:
        return


def now() -> str:
    """The time, in UTC, as records state it (RFC 3339)."""
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
