"""The entries of many items, column by column: a hundred thousand are had at once, and one is made where it is asked
for."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any, Self

import msgspec

from mudlark.archive.entry import LedgerEntry, LedgerTrack
from mudlark.verify.account import Verdict

_NOTHING: dict[str, str] = {}


class Entries(msgspec.Struct, array_like=True):
    """What `LedgerEntry` tells of an item, of all in one order. tracks: which of the kinds an item has. media: its
    digests, with blanks between them. listed: None if there is nothing. kinds: of tracks, all that there are."""

    path: list[str] = []
    title: list[str] = []
    verdict: list[Verdict] = []
    date: list[str] = []
    checked: list[str] = []
    duration: list[float | None] = []
    bytes: list[int] = []
    tracks: list[int] = []
    media: list[str] = []
    problem: list[str] = []
    listed: list[dict[str, str] | None] = []
    url: list[str] = []
    kinds: list[tuple[LedgerTrack, ...]] = []

    @classmethod
    def of(cls, entries: Iterable[LedgerEntry]) -> Self:
        """Entries that are there one by one."""
        made = cls(*map(list, zip(*map(msgspec.structs.astuple, entries), strict=True)))
        numbers: dict[Any, int] = {kind: number for number, kind in enumerate(dict.fromkeys(made.tracks))}
        made.tracks = list(map(numbers.__getitem__, made.tracks))
        made.media = list(map(" ".join, made.media))
        made.listed = [one or None for one in made.listed]  # to be read without a thought for garbage
        made.kinds = list(numbers)
        return made

    def __len__(self) -> int:
        return len(self.path)

    def __iter__(self) -> Iterator[LedgerEntry]:
        columns: dict[str, Iterable[Any]] = {name: getattr(self, name) for name in LedgerEntry.__struct_fields__}
        columns["tracks"] = map(self.kinds.__getitem__, self.tracks)
        columns["media"] = map(tuple, map(str.split, self.media))
        columns["listed"] = [one or _NOTHING for one in self.listed]
        return map(LedgerEntry, *columns.values())

    def take(self, order: Sequence[int]) -> Self:
        """Those at some places, in their order."""
        if list(order) == list(range(len(self))):
            return self
        *columns, kinds = msgspec.structs.astuple(self)
        taken = type(self)(*([column[at] for at in order] for column in columns))
        taken.kinds = kinds
        return taken

    def add(self, others: Self, above: str) -> None:
        """Others behind them. above: the path of their folder."""
        self.path += [above + path for path in others.path] if above else others.path
        self.tracks += [len(self.kinds) + kind for kind in others.tracks]
        for name in self.__struct_fields__:
            if name not in ("path", "tracks"):
                getattr(self, name).extend(getattr(others, name))
