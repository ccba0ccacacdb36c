"""Stretches of a film with something to say of them: missing, black, frozen or silent ones, and places of problems."""

from collections import defaultdict

import msgspec

from mudlark.archive.record import Record
from mudlark.report.table import within
from mudlark.text import printable

MISSING = "missing"


class Marked(msgspec.Struct, frozen=True):
    """A stretch of the film with something to say of it, in seconds; end is begin where it is one place."""

    begin: float
    end: float
    name: str


def spans_of(record: Record) -> list[Marked]:
    """The stretches of an item, those of one name joined."""
    found: defaultdict[str, list[tuple[float, float]]] = defaultdict(list)
    at: defaultdict[str, float] = defaultdict(float)
    stretches: dict[str, int] = {}
    for piece in record.segment_list:
        begin = at[piece.track]
        at[piece.track] = end = begin + within(piece.duration)
        if piece.stretch != stretches.setdefault(piece.track, piece.stretch):
            found["discontinuity"].append((begin, begin))
            stretches[piece.track] = piece.stretch
        if piece.problem:
            found[MISSING].append((begin, end))
    if played := record.played:
        for name, spans in (("black", played.black), ("frozen", played.frozen), ("silent", played.silent)):
            found[name] += [(within(begin), within(end)) for begin, end in spans]
    for problem in record.problems:
        if problem.at is not None:
            found[printable(problem.code)].append((within(problem.at), within(problem.at)))
    return [Marked(*span, name) for name, spans in found.items() for span in joined(spans)]


def joined(stretches: list[tuple[float, float]], apart: float = 0.01) -> list[tuple[float, float]]:
    """Stretches in their order, those no farther apart than that as one."""
    together: list[tuple[float, float]] = []
    for begin, end in sorted(stretches):
        if together and begin - together[-1][1] <= apart:
            together[-1] = (together[-1][0], max(end, together[-1][1]))
        else:
            together.append((begin, end))
    return together
