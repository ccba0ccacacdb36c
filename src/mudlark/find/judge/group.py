"""Numbered segments in the same place are one find."""

from collections.abc import Iterable

from msgspec.structs import replace

from mudlark.find.judge.kind import is_segment
from mudlark.find.model import Find
from mudlark.web.series import find_series


def fold_series(finds: Iterable[Find]) -> list[Find]:
    """The finds with each series as one, and without lone segments in scripts, which may be anything."""
    kept = {find.url: find for find in finds}
    segments = {url: find for url, find in kept.items() if is_segment(url) or find.mention.segment}
    for series in find_series(segments):
        first, *others = (address for _, address in series.members)
        whole = replace(
            segments.pop(first).mention, segment=True, members=(first, *others), missing=tuple(series.missing)
        )
        kept[first] = replace(kept[first], mention=whole)
        for address in others:
            del segments[address], kept[address]
    for url, find in segments.items():
        if not find.members and all(evidence.place == "script" for evidence in find.evidence):
            del kept[url]
    return list(kept.values())
