"""What is in a folder of items, at any depth, read from their records.

The records are the truth. An index in the user's cache only saves reading them again; it is made anew when it is
gone or damaged, and a record that was changed is read again. The folder itself is only read.
"""

import hashlib
import os
import sqlite3
import stat
from collections import defaultdict
from collections.abc import Iterable, Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal, Self

import msgspec
from platformdirs import user_cache_path

from mudlark.archive.history import last_check
from mudlark.archive.layout import HISTORY, LARGEST_RECORD, RECORD
from mudlark.archive.tree import DECLARATION, DEEPEST, TOO_DEEP
from mudlark.errors import UsageError
from mudlark.fetch.store import WORKING
from mudlark.fetch.unfinished import Unfinished, unfinished
from mudlark.plain import NotPlain, read_plain
from mudlark.verify.account import Count, Seconds, Verdict

_VERSION = 4
_SCHEMA = "create table if not exists folder (path text primary key, entries blob not null)"
Sort = Literal["path", "title", "date", "length", "bytes", "verdict"]


class _File(msgspec.Struct):
    path: str = ""
    role: str = ""
    bytes: Count = 0
    sha256: str = ""


class _Track(msgspec.Struct):
    type: str = ""
    codec: str = ""
    height: Count | None = None
    language: str | None = None


class _Page(msgspec.Struct):
    url: str = ""


class _Source(msgspec.Struct):
    target: str = ""
    address: str = ""
    page: _Page | None = None


class _Problem(msgspec.Struct):
    message: str = ""


class _Slim(msgspec.Struct):
    """What a ledger wants of a record."""

    title: str
    verdict: Verdict
    finished: str = ""
    duration: Seconds | None = None
    tracks: list[_Track] = []
    files: list[_File] = []
    source: _Source = msgspec.field(default_factory=_Source)
    problems: list[_Problem] = []


_decoder = msgspec.json.Decoder(_Slim)


class LedgerEntry(msgspec.Struct, array_like=True, gc=False):
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
    media: tuple[str, ...] = ()
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

    def passes(self, entry: LedgerEntry) -> bool:
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
    """entries: as wanted and sorted. all: how many there are. doubles: groups of paths with the same media. odd: what
    was not looked into, by path, and why."""

    entries: list[LedgerEntry]
    all: int = 0
    doubles: list[list[str]] = field(default_factory=list)
    unfinished: list[Unfinished] = field(default_factory=list)
    odd: list[tuple[str, str]] = field(default_factory=list)


def read_ledger(folder: Path, wanted: Wanted | None = None, sort: Sort = "path") -> Ledger:
    """The ledger of a folder. Raises UsageError if there is none."""
    if not folder.is_dir():
        raise UsageError(f"There is no folder {folder}.", "Give a folder that items were hauled into.")
    wanted = wanted or Wanted()
    entries, stores, odd = _entries(folder)
    doubles = _doubles(entries)
    doubled = {path for group in doubles for path in group}
    kept = [one for one in entries if wanted.passes(one) and (not wanted.doubles or one.path in doubled)]
    left = [one for store in stores for one in unfinished(store)]
    return Ledger(_sorted(kept, sort), len(entries), doubles, left, odd)


def _sorted(entries: list[LedgerEntry], sort: Sort) -> list[LedgerEntry]:
    by_path = sorted(entries, key=lambda one: one.path.casefold())
    if sort in ("length", "bytes"):  # the largest first
        return sorted(by_path, key=lambda one: -float(getattr(one, sort) or 0))
    if sort == "date":  # the latest first
        return sorted(by_path, key=lambda one: one.date, reverse=True)
    return by_path if sort == "path" else sorted(by_path, key=lambda one: getattr(one, sort).casefold())


def _entries(folder: Path) -> tuple[list[LedgerEntry], list[Path], list[tuple[str, str]]]:
    """All entries, the folders that hold unfinished work, and what was not looked into."""
    stores: list[Path] = []
    odd: list[tuple[str, str]] = []
    if os.path.lexists(folder / RECORD):
        return [_read(str(folder), ".")], stores, odd
    entries: list[LedgerEntry] = []
    with _Index(folder) as index:
        waiting = [("", 0)]
        while waiting:
            above, depth = waiting.pop()
            known, kept, found = index.known(above), dict[str, _Kept](), list[str]()
            fresh = False
            try:
                if depth > DEEPEST:
                    odd.append((above, TOO_DEEP))
                    continue
                with os.scandir(folder / above) as inside:
                    for one in inside:
                        if one.name == WORKING and one.is_dir(follow_symlinks=False):
                            stores.append(folder / above)
                        elif one.is_symlink():
                            odd += _link(one, f"{above}{one.name}")
                        elif one.name == DECLARATION and above:
                            found.clear()  # a bag, which has items of its own
                            break
                        elif not one.name.startswith(".") and one.is_dir(follow_symlinks=False):
                            found.append(one.name)
            except OSError as problem:
                odd.append((above or ".", f"it cannot be read: {problem.strerror}"))
            for name in found:
                path = f"{above}{name}"
                place = f"{folder}{os.sep}{path}"
                try:
                    status = os.lstat(f"{place}{os.sep}{RECORD}")  # a Path would cost more than the call
                except OSError:
                    waiting.append((f"{path}{os.sep}", depth + 1))
                    continue
                stamp = (status.st_mtime_ns, status.st_size, _checks(place))
                one_kept = known.get(name)
                if one_kept is None or one_kept.stamp != stamp:
                    one_kept, fresh = _Kept(stamp, _read(place, path)), True
                kept[name] = one_kept
                entries.append(one_kept.entry)
            if fresh or len(kept) != len(known):
                index.keep(above, kept)
    return entries, stores, odd


def _link(entry: "os.DirEntry[str]", path: str) -> Iterator[tuple[str, str]]:
    """A link is told of where it stands for a folder, or for nothing; it is not followed."""
    if entry.name.startswith("."):
        return
    try:
        leads_to_file = stat.S_ISREG(entry.stat().st_mode)
    except OSError:
        leads_to_file = False
    if not leads_to_file:
        yield path, "it is a link to another place, and was not followed"


def _checks(folder: str) -> int:
    """What tells whether an item was checked since."""
    try:
        return os.lstat(f"{folder}{os.sep}{HISTORY}").st_size
    except OSError:
        return 0


class _Index:
    """What was read before, folder by folder: in the user's own cache, so that nothing is written to a folder that is
    only looked at, and nothing that came with it is believed. One that is no good is begun anew; it is done without
    where there can be none."""

    def __init__(self, folder: Path) -> None:
        name = hashlib.sha256(os.fsencode(folder.resolve())).hexdigest()[:24]
        self._path = user_cache_path("mudlark", appauthor=False) / f"ledger-{_VERSION}" / f"{name}.sqlite"
        self._database: sqlite3.Connection | None = None
        self._known: dict[str, bytes] = {}

    def __enter__(self) -> Self:
        for _ in range(2):
            try:
                self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
                database = sqlite3.connect(self._path, timeout=2)
                database.execute("pragma synchronous = off")
                database.execute(_SCHEMA)
                self._known = dict(database.execute("select * from folder"))
                self._database = database
                break
            except sqlite3.OperationalError:
                break
            except sqlite3.DatabaseError:
                with suppress(OSError):
                    self._path.unlink()
            except OSError:
                break
        return self

    def __exit__(self, *_: object) -> None:
        if self._database:
            with suppress(sqlite3.DatabaseError):
                self._database.executemany("delete from folder where path = ?", [(path,) for path in self._known])
                self._database.commit()
            self._database.close()

    def known(self, path: str) -> "dict[str, _Kept]":
        """The entries of a folder; those of folders that are never asked for are forgotten at the end."""
        packed = self._known.pop(path, None)
        try:
            return _unpacker.decode(packed) if packed else {}
        except (msgspec.DecodeError, msgspec.ValidationError):
            return {}

    def keep(self, path: str, entries: "dict[str, _Kept]") -> None:
        """Note the entries of a folder."""
        if self._database:
            with suppress(sqlite3.DatabaseError):
                row = (path, msgspec.msgpack.encode(entries))
                self._database.execute("insert or replace into folder values (?, ?)", row)


class _Kept(msgspec.Struct, array_like=True, gc=False):
    """An entry, and what tells whether its record is the same as before."""

    stamp: tuple[int, int, int]
    entry: LedgerEntry


_unpacker = msgspec.msgpack.Decoder(dict[str, _Kept])


def _read(folder: str, name: str) -> LedgerEntry:
    """The entry of an item."""
    try:
        slim = _decoder.decode(read_plain(f"{folder}{os.sep}{RECORD}", LARGEST_RECORD))
    except (OSError, ValueError, NotPlain, RecursionError) as problem:
        return LedgerEntry(name, Path(folder).name, "broken", problem=f"Its record cannot be read: {problem}")
    media = [file for file in slim.files if file.role == "media"]
    checked = last_check(folder)  # which knows better than the record what it is like now
    words = slim.problems[0].message if slim.problems else ""
    if checked and checked.verdict != slim.verdict:
        words = f"It was {slim.verdict} when it was hauled, and {checked.verdict} when it was last checked"
    return LedgerEntry(
        path=name,
        title=slim.title,
        verdict=checked.verdict if checked else slim.verdict,
        date=slim.finished,
        checked=checked.when if checked else slim.finished,
        length=slim.duration,
        bytes=sum(file.bytes for file in media),
        tracks=", ".join(map(_words, slim.tracks)),
        source=(slim.source.page.url if slim.source.page else "") or slim.source.target or slim.source.address,
        media=tuple(file.sha256 for file in media),
        problem=words,
    )


def _words(track: _Track) -> str:
    size = f" {track.height}p" if track.height else ""
    return f"{track.codec.partition('.')[0]}{size}{f' {track.language}' if track.language else ''}"


def _doubles(entries: Iterable[LedgerEntry]) -> list[list[str]]:
    """Groups of items that have a media file of the same bytes."""
    groups: dict[str, list[str]] = defaultdict(list)
    for entry in entries:
        for digest in entry.media if len(entry.media) < 2 else set(entry.media):
            if digest:
                groups[digest].append(entry.path)
    return [list(group) for group in dict.fromkeys(tuple(sorted(group)) for group in groups.values() if len(group) > 1)]
