"""What came of each row, kept in the target folder: a line for each, so that a sweep that was stopped goes on; and the
same as a table for people."""

import csv
import math
import os
import re
from collections.abc import Iterable, Sequence
from contextlib import suppress
from io import TextIOWrapper
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO

import msgspec

from mudlark.archive.layout import RECORD, TABLE
from mudlark.archive.listing import cell
from mudlark.archive.place import inside_item
from mudlark.atomic import atomic_write
from mudlark.errors import StorageError
from mudlark.fetch.store import WORKING
from mudlark.plain import NotPlain, add_to_plain, is_plain, open_plain, read_plain
from mudlark.verify.account import Verdict
from mudlark.web.redact import redacted

if TYPE_CHECKING:
    from mudlark.sweeping.rows import ListRow

_ADDRESS = re.compile(r"https?://\S+")
_LEADING = re.compile(r"^…:?\s*")
_PARTICULAR = re.compile(r"(?<!answered )(?<!\d)\d+|'[^']*'")  # a status is none
_RACES = 5
_LARGEST = 200_000_000  # bytes
COLUMNS = (
    *("row", "address", "title", "verdict", "reason", "advice"),
    *("path", "bytes", "length", "seconds taken", "date"),
)
_HEADLINES = (b"\xef\xbb\xbfrow,address,title,verdict,", b"address,title,verdict,reason,path,")  # now, and once
GOOD = frozenset({"sound", "unproven"})


class Result(msgspec.Struct):
    """What came of one row. key: its address without what gives access. path: of its item, below the target folder.
    length: of the film, seconds. taken: seconds that it took. when: it ended (RFC 3339). listed: what the list says of
    it, by column. advice: what to do about the reason. failures: runs in a row of which nothing good came. gone: when
    its server was first found to have it no longer, though its item is here."""

    key: str
    address: str
    verdict: Verdict
    title: str = ""
    reason: str = ""
    code: str = ""
    path: str = ""
    bytes: int = 0
    length: float | None = None
    taken: float = 0.0
    when: str = ""
    listed: dict[str, str] = {}
    advice: str = ""
    failures: int = 0
    gone: str = ""


_decoder = msgspec.json.Decoder(Result)


def without_addresses(reason: str) -> str:
    """A reason that does not say of which address it holds."""
    return _LEADING.sub("", _ADDRESS.sub("…", reason))


def kind_of_reason(reason: str) -> str:
    """What is the same of reasons that differ in addresses, numbers and names alone."""
    return _PARTICULAR.sub("…", without_addresses(reason))


def grouped(reasons: Iterable[str]) -> list[tuple[str, int]]:
    """Reasons by their kind, without addresses, and how many each are; the most first."""
    groups: dict[str, list[str]] = {}
    for reason in reasons:
        groups.setdefault(kind_of_reason(reason), []).append(without_addresses(reason))
    return sorted(((alike[0], len(alike)) for alike in groups.values()), key=lambda group: -group[1])


def key_of(address: str) -> str:
    """What identifies a row over several runs."""
    return redacted(address.partition("#")[0])


class Journal:
    """Of a target folder: all that was swept into it, from whatever lists."""

    def __init__(self, into: Path) -> None:
        self._into = into
        self._path = into / WORKING / "sweep.jsonl"
        self.results: dict[str, Result] = {}
        with suppress(FileNotFoundError):
            for line in read_plain(self._path, _LARGEST).split(b"\n"):
                with suppress(ValueError, RecursionError):  # the last may have been cut off
                    result = _decoder.decode(line)
                    self.results[result.key] = result

    def add(self, result: Result) -> None:
        """Note what came of a row."""
        before = self.results.get(result.key)
        result.failures = 0 if result.verdict in GOOD else 1 + (before.failures if before else 0)
        result.address, result.reason = redacted(result.address), redacted(result.reason)
        result.advice = redacted(result.advice)
        result.listed = {name: redacted(text) for name, text in result.listed.items()}
        self.results[result.key] = result
        try:
            with self._opened() as file:
                file.write(msgspec.json.encode(result) + b"\n")
        except OSError as problem:
            raise StorageError(
                f"Cannot note what came in {self._path}: {problem.strerror}.",
                "Make room; the same command goes on from here.",
            ) from problem

    def _opened(self) -> BinaryIO:
        for attempt in range(_RACES, -1, -1):
            try:
                self._path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
                return add_to_plain(self._path, 0o600, lines=True)
            except (FileNotFoundError, FileExistsError):  # a haul has just removed the empty folder of stores
                if not attempt:
                    raise
        raise AssertionError

    def settled(self, address: str) -> Result | None:
        """What came of a row that need not be asked for again: it is good, and its item is still there."""
        result = self.results.get(key_of(address))
        if result is None or result.verdict not in GOOD:
            return None
        folder = inside_item(self._into, result.path)
        return result if folder and is_plain(folder / RECORD) else None

    def is_set_aside(self, address: str, give_up: int | None) -> bool:
        """True for a row of which nothing good came in so many runs in a row."""
        result = self.results.get(key_of(address))
        return result is not None and give_up is not None and result.failures >= give_up

    def write_table(self, rows: "Sequence[ListRow]") -> Path:
        """The table of all results, those of a list's rows first and in its order; gives its path. Another file of that
        name is left alone."""
        numbers = {key_of(row.address): row.number for row in rows}
        path, number = self._into / TABLE, 2
        while os.path.lexists(path) and not _is_ours(path):
            path, number = self._into / f"sweep ({number}).csv", number + 1
        with atomic_write(path, "Make room, or choose another folder with --into.", replace=True) as file:
            text = TextIOWrapper(file, encoding="utf-8-sig", newline="")
            out = csv.writer(text)
            own = list(dict.fromkeys(name for one in self.results.values() for name in one.listed))
            out.writerow([*COLUMNS, *map(cell, own)])
            for one in sorted(self.results.values(), key=lambda one: numbers.get(one.key, math.inf)):
                texts = (one.address, one.title, one.verdict, one.reason, one.advice, one.path)
                length = f"{one.length:.3f}" if one.length is not None else ""
                rest = (one.bytes, length, f"{one.taken:.1f}", one.when, *(cell(one.listed.get(name)) for name in own))
                out.writerow([numbers.get(one.key, ""), *map(cell, texts), *rest])
            text.flush()
            text.detach()
        return path


def _is_ours(path: Path) -> bool:
    try:
        with open_plain(path) as file:
            return file.read(max(map(len, _HEADLINES))).startswith(_HEADLINES)
    except (OSError, NotPlain):
        return False
