"""Tables: the data behind each figure of a report, and the words that say what it shows."""

from collections.abc import Sequence
from typing import Any

import msgspec
import numpy as np

Row = tuple[Any, ...]
LONGEST = 1e7  # seconds that anything of an item may last
LATEST = 4.1e9  # seconds since 1970


class Table(msgspec.Struct, frozen=True):
    """Named columns and rows. name: of its files. words: what the rows show, in a sentence or two, or why there are
    none. marked: the numbers of rows that are never left out where not all can be shown."""

    name: str
    title: str
    columns: tuple[str, ...]
    rows: list[Row] = msgspec.field(default_factory=list)
    words: str = ""
    marked: frozenset[int] = frozenset()

    def shown(self, most: int) -> list[Row]:
        """As many rows as are worth reading: those that are marked, and others evenly taken between them."""
        if len(self.rows) <= most:
            return self.rows
        marked = sorted(self.marked)[:most]
        even = np.linspace(0, len(self.rows) - 1, most - len(marked)).astype(int).tolist()
        return [self.rows[number] for number in sorted({*marked, *even})]


def within(value: float, most: float = LONGEST) -> float:
    """A number of a record, brought into the bounds of what can be."""
    return min(max(value, 0.0), most)


def thinned(rows: Sequence[Row], most: int) -> list[Row]:
    """So many rows, evenly taken."""
    if len(rows) <= most:
        return list(rows)
    return [rows[place] for place in np.linspace(0, len(rows) - 1, most).astype(int).tolist()]
