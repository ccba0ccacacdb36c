"""Finds that belong together: numbered segments, and the sizes of one picture or film."""

from mudlark.find.judge.kind import is_segment
from mudlark.find.judge.versions import tie_versions
from mudlark.find.model import Page
from mudlark.web.series import find_series


def group(page: Page) -> None:
    """Fold series, tie smaller versions to their largest, and let go of lone segments that may be anything."""
    _fold_series(page)
    tie_versions(page)


def _fold_series(page: Page) -> None:
    """Segments numbered in the same place become one find."""
    segments = {find.url: find for find in page.finds if is_segment(find.url) or find.role == "segment"}
    gone: set[int] = set()
    for series in find_series(segments):
        addresses = [address for _, address in series.members]
        first = segments.pop(addresses[0])
        first.role, first.members, first.missing = "segment", addresses, series.missing
        gone.update(id(segments.pop(address)) for address in addresses[1:])
    for find in segments.values():
        if not find.members and all(e.place == "script" for e in find.evidence):
            gone.add(id(find))
    page.finds = [find for find in page.finds if id(find) not in gone]
