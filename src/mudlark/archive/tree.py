"""Going through a folder that may come from anyone: items, media files, bags, and what is not opened.

Nothing is followed and nothing waits: links, FIFOs, sockets and devices are named; so is what cannot be read, or lies
deeper than any shelf is.
"""

import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from mudlark.archive.layout import RECORD
from mudlark.plain import kind_of

DEEPEST = 100  # folders below the first
DECLARATION = "bagit.txt"  # that a folder is a bag (RFC 8493 §2.1.1)
TOO_DEEP = f"it lies more than {DEEPEST} folders deep, and was not looked into"


@dataclass(frozen=True, slots=True)
class Sight:
    """Something in a folder. words: of what is odd, why it was not looked into."""

    path: Path
    kind: Literal["item", "file", "bag", "odd"]
    words: str = ""


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
            with os.scandir(here) as inside:
                entries = sorted((one for one in inside if not one.name.startswith(".")), key=lambda one: one.name)
        except OSError as problem:
            yield Sight(here, "odd", f"it cannot be read: {problem.strerror}")
            continue
        names = {one.name for one in entries}
        if RECORD in names:
            yield Sight(here, "item")
        elif DECLARATION in names and depth:
            yield Sight(here, "bag")
        else:
            folders = []
            for one in entries:
                path = here / one.name
                if one.is_dir(follow_symlinks=False):
                    folders.append((path, depth + 1))
                elif words := _oddity(one):
                    yield Sight(path, "odd", words)
                elif wanted and wanted(one.name):
                    yield Sight(path, "file")
            waiting += reversed(folders)


def _oddity(entry: "os.DirEntry[str]") -> str:
    """Why an entry is not opened; empty for a plain file."""
    try:
        words = kind_of(entry.stat(follow_symlinks=False).st_mode)
    except OSError as problem:
        return f"it cannot be looked at: {problem.strerror}"
    return f"it is {words}, and was not opened" if words else ""


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
