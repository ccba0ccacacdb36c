"""The entries of an index page as a CSV file (RFC 4180, UTF-8), for people, spreadsheets and later runs."""

import csv
from collections.abc import Iterator
from contextlib import contextmanager
from io import TextIOWrapper
from pathlib import Path
from typing import TYPE_CHECKING, TextIO

from mudlark.atomic import atomic_write
from mudlark.text import printable, visible

if TYPE_CHECKING:
    from mudlark.find.model import ListEntry

COLUMNS = ("title", "description", "page", "media", "cover", "duration", "date")
_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def write_listing(path: Path, entries: "list[ListEntry]", *, replace: bool = False) -> int:
    """Write the entries, each page once; gives their number. The file is there whole or not at all, and never written
    over another one unless that is to be replaced."""
    once: dict[str, ListEntry] = {}
    for entry in entries:
        once.setdefault(entry.url, entry)
    with written(path, replace=replace) as file:
        out = csv.writer(file)
        out.writerow(COLUMNS)
        for entry in once.values():
            texts = (entry.title, entry.description, entry.url, entry.media, entry.cover)
            seconds = f"{entry.duration:g}" if entry.duration is not None else ""
            out.writerow([*map(cell, texts), seconds, cell(entry.date)])
    return len(once)


@contextmanager
def written(path: Path, *, replace: bool = False) -> Iterator[TextIO]:
    """A table to write to, there whole or not at all."""
    with atomic_write(path, "Choose another place with --csv.", replace=replace) as file:
        text = TextIOWrapper(file, encoding="utf-8", newline="")
        try:
            yield text
        finally:
            text.detach()


def cell(text: str | None) -> str:
    """A cell that no spreadsheet takes for a formula: an apostrophe goes before what would begin one."""
    text = text or ""
    return f"'{visible(text)}" if text.startswith(_FORMULA) else printable(text)
