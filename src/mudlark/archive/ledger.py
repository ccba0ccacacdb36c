"""What is in a folder of items, at any depth, read from their records.

The records are the truth. An index in SQLite beside them only saves reading them again; it is made anew when it is gone
or damaged, and a record that was changed is read again.
"""

import os
import sqlite3
from collections import defaultdict
from collections.abc import Iterable, Iterator
from contextlib import closing, suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

import msgspec

from mudlark.archive.record import RECORD
from mudlark.errors import UsageError
from mudlark.fetch.store import WORKING, Unfinished, unfinished
from mudlark.verify.verdict import Verdict

_LARGEST = 1_000_000_000  # bytes of a record
_VERSION = 1
_SCHEMA = "create table if not exists item (path text primary key, stamp text not null, entry blob not null)"
Sort = Literal["path", "title", "date", "length", "bytes", "verdict"]


class _File(msgspec.Struct):
    path: str = ""
    role: str = ""
    bytes: int = 0
    sha256: str = ""


class _Track(msgspec.Struct):
    type: str = ""
    codec: str = ""
    height: int | None = None
    language: str | None = None


class _Page(msgspec.Struct):
    url: str = ""


class _Source(msgspec.Struct):
    target: str = ""
    address: str = ""
    page: _Page | None = None


class _Problem(msgspec.Struct):
    message: str = ""


class _Checked(msgspec.Struct):
    when: str = ""


class _Slim(msgspec.Struct):
    """What a ledger wants of a record."""

    title: str
    verdict: Verdict
    finished: str = ""
    duration: float | None = None
    tracks: list[_Track] = []
    files: list[_File] = []
    source: _Source = msgspec.field(default_factory=_Source)
    problems: list[_Problem] = []
    history: list[_Checked] = []


_decoder = msgspec.json.Decoder(_Slim)


class Entry(msgspec.Struct):
    """One item. path: below the folder. date: when it was hauled; checked: last (RFC 3339). length: seconds. bytes: of
    its media. tracks: in words. source: the page or address that was named. media: SHA-256 of its media files. problem:
    the first, if there is one. A record that cannot be read is an entry too, and broken.
    """

    path: str
    title: str
    verdict: Verdict
    date: str = ""
    checked: str = ""
    length: float | None = None
    bytes: int = 0
    tracks: str = ""
    source: str = ""
    media: list[str] = []
    problem: str = ""


@dataclass(frozen=True, slots=True)
class Wanted:
    """verdicts: these only, if any. source: a text in the source. since: a date (2031-05 or longer). text: in title,
    path or source. doubles: only those whose media another has too."""

    verdicts: frozenset[str] = frozenset()
    source: str | None = None
    since: str | None = None
    text: str | None = None
    doubles: bool = False

    def passes(self, entry: Entry) -> bool:
        """True if an entry is wanted; doubles aside, which no entry knows of itself."""
        if self.verdicts and entry.verdict not in self.verdicts:
            return False
        if self.source and self.source.casefold() not in entry.source.casefold():
            return False
        if self.since and entry.date < self.since:
            return False
        words = f"{entry.title}\n{entry.path}\n{entry.source}".casefold()
        return self.text is None or self.text.casefold() in words


@dataclass(slots=True)
class Ledger:
    """entries: as wanted and sorted. all: how many there are. doubles: groups of paths with the same media."""

    entries: list[Entry]
    all: int = 0
    doubles: list[list[str]] = field(default_factory=list)
    unfinished: list[Unfinished] = field(default_factory=list)


def read_ledger(folder: Path, wanted: Wanted | None = None, sort: Sort = "path") -> Ledger:
    """The ledger of a folder. Raises UsageError if there is none."""
    if not folder.is_dir():
        raise UsageError(f"There is no folder {folder}.", "Give a folder that items were hauled into.")
    wanted = wanted or Wanted()
    entries, stores = _entries(folder)
    doubles = _doubles(entries)
    doubled = {path for group in doubles for path in group}
    kept = [one for one in entries if wanted.passes(one) and (not wanted.doubles or one.path in doubled)]
    left = [one for store in stores for one in unfinished(store)]
    return Ledger(_sorted(kept, sort), len(entries), doubles, left)


def _sorted(entries: list[Entry], sort: Sort) -> list[Entry]:
    if sort in ("length", "bytes"):  # the largest first
        return sorted(entries, key=lambda one: -float(getattr(one, sort) or 0))
    if sort == "date":  # the latest first
        return sorted(entries, key=lambda one: one.date, reverse=True)
    return sorted(entries, key=lambda one: (getattr(one, sort).casefold(), one.path))


def _entries(folder: Path) -> tuple[list[Entry], list[Path]]:
    """All entries, and the folders that hold unfinished work."""
    known, index = _known(folder)
    skip = len(str(folder)) + len(os.sep)
    entries: list[Entry] = []
    fresh: list[tuple[str, str, bytes]] = []
    there: set[str] = set()
    stores: list[Path] = []
    for path, stamp in _walk(folder, stores):
        name = path[skip:] or "."
        there.add(name)
        before = known.get(name)
        if before and before[0] == stamp:
            with suppress(msgspec.DecodeError, msgspec.ValidationError):
                entries.append(msgspec.msgpack.decode(before[1], type=Entry))
                continue
        entry = _read(path, name)
        fresh.append((name, stamp, msgspec.msgpack.encode(entry)))
        entries.append(entry)
    if index is not None:
        with closing(index), suppress(sqlite3.DatabaseError), index:
            index.executemany("insert or replace into item values (?, ?, ?)", fresh)
            index.executemany("delete from item where path = ?", [(name,) for name in known if name not in there])
    return entries, stores


def _walk(folder: Path, stores: list[Path]) -> Iterator[tuple[str, str]]:
    """Folders of items, with what tells whether their record is the same as before."""
    waiting = [str(folder)]
    while waiting:
        here = waiting.pop()
        try:
            status = os.lstat(f"{here}{os.sep}{RECORD}")  # a Path would cost more than the call
        except OSError:
            pass
        else:
            yield here, f"{status.st_mtime_ns} {status.st_size} {status.st_ino}"
            continue
        with suppress(OSError), os.scandir(here) as inside:
            for one in inside:
                if one.name == WORKING:
                    stores.append(Path(here))
                elif not one.name.startswith(".") and one.is_dir(follow_symlinks=False):
                    waiting.append(one.path)


def _known(folder: Path) -> tuple[dict[str, tuple[str, bytes]], sqlite3.Connection | None]:
    """What the index has; it is begun anew if it is no good, and done without if it cannot be written."""
    path = folder / WORKING / f"ledger-{_VERSION}.sqlite"
    for _ in range(2):
        try:
            path.parent.mkdir(exist_ok=True, mode=0o700)
            if path.is_symlink():
                return {}, None
            index = sqlite3.connect(path, timeout=2)
            index.execute("pragma synchronous = off")
            index.execute(_SCHEMA)
            return {name: (stamp, entry) for name, stamp, entry in index.execute("select * from item")}, index
        except sqlite3.OperationalError:
            return {}, None
        except sqlite3.DatabaseError:
            with suppress(OSError):
                path.unlink()
        except OSError:
            return {}, None
    return {}, None


def _read(folder: str, name: str) -> Entry:
    """The entry of an item."""
    try:
        slim = _decoder.decode(_content(f"{folder}{os.sep}{RECORD}"))
    except (OSError, ValueError, msgspec.DecodeError, RecursionError) as problem:
        return Entry(name, Path(folder).name, "broken", problem=f"Its record cannot be read: {problem}")
    media = [file for file in slim.files if file.role == "media"]
    return Entry(
        path=name,
        title=slim.title,
        verdict=slim.verdict,
        date=slim.finished,
        checked=slim.history[-1].when if slim.history else slim.finished,
        length=slim.duration,
        bytes=sum(file.bytes for file in media),
        tracks=", ".join(map(_words, slim.tracks)),
        source=(slim.source.page.url if slim.source.page else "") or slim.source.target or slim.source.address,
        media=[file.sha256 for file in media],
        problem=slim.problems[0].message if slim.problems else "",
    )


def _content(path: str) -> bytes:
    handle = os.open(path, os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0))
    try:
        size = os.fstat(handle).st_size
        if size > _LARGEST:
            raise ValueError("it is larger than any record")
        return os.read(handle, size + 1)
    finally:
        os.close(handle)


def _words(track: _Track) -> str:
    size = f" {track.height}p" if track.height else ""
    return f"{track.codec.partition('.')[0]}{size}{f' {track.language}' if track.language else ''}"


def _doubles(entries: Iterable[Entry]) -> list[list[str]]:
    """Groups of items that have a media file of the same bytes."""
    groups: dict[str, list[str]] = defaultdict(list)
    for entry in entries:
        for digest in set(entry.media):
            if digest:
                groups[digest].append(entry.path)
    return [list(group) for group in dict.fromkeys(tuple(sorted(group)) for group in groups.values() if len(group) > 1)]
