"""Going through a folder that may come from anyone: items, media files, bags, and what is not opened.

Nothing is followed and nothing waits: links, FIFOs, sockets and devices are named; so is what cannot be read, or lies
deeper than any shelf is.
"""

import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Literal

import msgspec

from mudlark.archive.layout import RECORD
from mudlark.fetch.store import WORKING
from mudlark.plain import kind_of

DEEPEST = 100  # folders below the first
DECLARATION = "bagit.txt"  # that a folder is a bag (RFC 8493 §2.1.1)
TOO_DEEP = f"it lies more than {DEEPEST} folders deep, and was not looked into"


class Sight(msgspec.Struct, frozen=True):
    """Something in a folder. words: of what is odd, why it was not looked into."""

    path: Path
    kind: Literal["item", "file", "bag", "odd"]
    words: str = ""


class Level(msgspec.Struct):
    """What one folder holds but for what begins with a dot. folders: their inodes, by name. odd: by name, why it is not
    opened, and whether it could hide items. working: unfinished work is beside it."""

    folders: dict[str, int] = msgspec.field(default_factory=dict)
    files: list[str] = msgspec.field(default_factory=list)
    odd: list[tuple[str, str, bool]] = msgspec.field(default_factory=list)
    is_item: bool = False
    is_bag: bool = False
    working: bool = False


def look(folder: Path) -> Level:
    """One folder. Raises OSError where it cannot be read."""
    level = Level()
    with os.scandir(folder) as inside:
        for one in inside:
            hidden = one.name[0] == "."
            if one.is_dir(follow_symlinks=False):
                if not hidden:
                    level.folders[one.name] = one.inode()
                elif one.name == WORKING:
                    level.working = True
            elif not hidden:
                if words := _oddity(one):
                    level.odd.append((one.name, words, one.is_symlink() and not _leads_to_file(one)))
                else:
                    level.files.append(one.name)
                level.is_item |= one.name == RECORD
                level.is_bag |= one.name == DECLARATION
    return level


def below(folder: Path, wanted: Callable[[str], bool] | None = None) -> Iterator[Sight]:
    """Items, bags, and plain files whose names are wanted, at and below a folder, by name; with what is odd.

    What begins with a dot is passed over, and nothing is looked for inside of items and bags. The folder itself may be
    a bag.
    """
    waiting = [(folder, 0)]
    while waiting:
        here, depth = waiting.pop()
        if depth > DEEPEST:
            yield Sight(here, "odd", TOO_DEEP)
            continue
        try:
            level = look(here)
        except OSError as problem:
            yield Sight(here, "odd", f"it cannot be read: {problem.strerror}")
            continue
        if level.is_item:
            yield Sight(here, "item")
        elif level.is_bag and depth:
            yield Sight(here, "bag")
        else:
            sights = [(name, "") for name in level.files if wanted and wanted(name)]
            for name, words in sorted(sights + [(name, words) for name, words, _ in level.odd]):
                yield Sight(here / name, "odd" if words else "file", words)
            waiting += ((here / name, depth + 1) for name in sorted(level.folders, reverse=True))


def _oddity(entry: "os.DirEntry[str]") -> str:
    """Why an entry is not opened; empty for a plain file."""
    try:
        words = kind_of(entry.stat(follow_symlinks=False).st_mode)
    except OSError as problem:
        return f"it cannot be looked at: {problem.strerror}"
    return f"it is {words}, and was not opened" if words else ""


def _leads_to_file(link: "os.DirEntry[str]") -> bool:
    try:
        return stat.S_ISREG(link.stat().st_mode)
    except OSError:
        return False


def items_below(folder: Path) -> list[Path]:
    """The folders of items at and below a folder."""
    return [one.path for one in below(folder) if one.kind == "item"]


def files_below(folder: Path, passed_over: frozenset[str] = frozenset()) -> Iterator[tuple[str, str | None]]:
    """Everything in a folder that is no folder, by its path below it, with what it is in words unless it is a plain
    file. What lies too deep, or cannot be read, is given by its folder. passed_over: folders, by such paths."""
    waiting = [("", 0)]
    while waiting:
        here, depth = waiting.pop()
        try:
            if depth > DEEPEST:
                raise OSError(0, f"more than {DEEPEST} folders deep")
            with os.scandir(folder / here) as inside:
                entries = sorted(inside, key=lambda one: one.name)
        except OSError as problem:
            yield here or ".", f"a folder that cannot be read ({problem.strerror})"
            continue
        folders = []
        for one in entries:
            path = f"{here}/{one.name}" if here else one.name
            if one.is_dir(follow_symlinks=False):
                if path not in passed_over:
                    folders.append((path, depth + 1))
                continue
            try:
                words = kind_of(one.stat(follow_symlinks=False).st_mode)
            except OSError as problem:
                words = f"something that cannot be looked at ({problem.strerror})"
            yield path, words
        waiting += reversed(folders)
