"""The entries of many items, column by column: a hundred thousand are had at once, a column is unpacked where it is
asked for, and an entry is made where it is wanted."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Any, Generic, Self, TypeVar

import msgspec

from mudlark.archive.entry import LedgerEntry, LedgerTrack
from mudlark.verify.account import Verdict

Value = TypeVar("Value")
_NOTHING: dict[str, str] = {}


class Block(msgspec.Struct, array_like=True):
    """The entries of one folder. columns: but for the path; packed, if they were kept. tracks among them: which of the
    kinds an item has; media: its digests, with blanks between them; listed: None if there is nothing."""

    path: list[str]
    columns: dict[str, msgspec.Raw]
    kinds: list[tuple[LedgerTrack, ...]]

    @classmethod
    def of(cls, entries: Iterable[LedgerEntry] = ()) -> Self:
        """Entries that are there one by one."""
        rows = list(map(msgspec.structs.astuple, entries))
        columns: dict[str, Any] = {
            name: [row[at] for row in rows] for at, name in enumerate(LedgerEntry.__struct_fields__)
        }
        numbers = {kind: number for number, kind in enumerate(dict.fromkeys(columns["tracks"]))}
        columns["tracks"] = list(map(numbers.__getitem__, columns["tracks"]))
        columns["media"] = list(map(" ".join, columns["media"]))
        columns["listed"] = [one or None for one in columns["listed"]]  # to be read without a thought for garbage
        return cls(columns.pop("path"), columns, list(numbers))


class _Column(Generic[Value]):
    """A column of all entries, put together when it is asked for first."""

    def __init__(self, kind: Any) -> None:
        self._unpacker = msgspec.msgpack.Decoder(list[kind])

    def __set_name__(self, owner: "type[Entries]", name: str) -> None:
        self._name = name

    def __get__(self, entries: "Entries", owner: "type[Entries]") -> list[Value]:
        column = vars(entries)[self._name] = entries.put_together(self._name, self._unpacker)
        return column


class Entries:
    """What `LedgerEntry` tells of an item, of all in one order, as in a `Block`."""

    path = _Column[str](str)
    title = _Column[str](str)
    verdict = _Column[Verdict](Verdict)
    date = _Column[str](str)
    checked = _Column[str](str)
    duration = _Column[float | None](float | None)
    bytes = _Column[int](int)
    tracks = _Column[int](int)
    media = _Column[str](str)
    problem = _Column[str](str)
    listed = _Column[dict[str, str] | None](dict[str, str] | None)
    url = _Column[str](str)

    def __init__(self, blocks: Iterable[tuple[str, Block]] = ()) -> None:
        """blocks: each with what goes before its paths."""
        self._blocks = list(blocks)
        self.kinds = [kind for _, block in self._blocks for kind in block.kinds]

    def put_together(self, name: str, unpacker: "msgspec.msgpack.Decoder[list[Any]]") -> list[Any]:
        """A column of all blocks."""
        whole, kinds = list[Any](), 0
        for above, block in self._blocks:
            column: Any = block.path if name == "path" else block.columns[name]
            if isinstance(column, msgspec.Raw):
                column = unpacker.decode(column)
            if name == "path" and above:
                column = [above + path for path in column]
            if name == "tracks" and kinds:
                column = [kinds + kind for kind in column]
            whole += column
            kinds += len(block.kinds)
        return whole

    def __len__(self) -> int:
        return len(self.path)

    def __iter__(self) -> Iterator[LedgerEntry]:
        columns: dict[str, Iterable[Any]] = {name: getattr(self, name) for name in LedgerEntry.__struct_fields__}
        columns["tracks"] = map(self.kinds.__getitem__, self.tracks)
        columns["media"] = map(tuple, map(str.split, self.media))
        columns["listed"] = [one or _NOTHING for one in self.listed]
        return map(LedgerEntry, *columns.values())

    def take(self, order: Sequence[int]) -> "Entries":
        """Those at some places, in their order."""
        return self if list(order) == list(range(len(self))) else _Taken(self, order)


class _Taken(Entries):
    """Some of other entries."""

    def __init__(self, others: Entries, order: Sequence[int]) -> None:
        self._others, self._order = others, order
        self.kinds = others.kinds

    def put_together(self, name: str, unpacker: "msgspec.msgpack.Decoder[list[Any]]") -> list[Any]:
        column = getattr(self._others, name)
        return [column[at] for at in self._order]
