"""Finds that belong together: numbered segments, the sizes of one picture, the renditions of one playlist."""

import re
from collections import defaultdict

from mudlark.find.kind import is_segment
from mudlark.find.model import Find, Page
from mudlark.web.address import file_part
from mudlark.web.series import find_series

_SIZE_WORDS = re.compile(
    r"[-_.@]?(?:\d{2,4}x\d{2,4}|[1-4]x|thumb(?:nail)?s?|small|tiny|medium|large|preview|mini|full|original|scaled|[sml])"
    r"(?=[-_.]|$)|(?<=/)(?:thumbs?|thumbnails?|small|medium|large|preview|full|original|originals)/",
    re.I,
)
_DIMENSIONS = re.compile(r"(\d{2,4})x(\d{2,4})")
_SMALLER = re.compile(r"thumb|small|tiny|preview|mini|medium", re.I)


def group(page: Page) -> None:
    """Fold series, tie smaller pictures to their largest, and let go of lone segments that may be anything."""
    _fold_series(page)
    _tie_versions(page)


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
        if not find.members and all(e.where.startswith(("script string", "JSON")) for e in find.evidence):
            gone.add(id(find))
    page.finds = [find for find in page.finds if id(find) not in gone]


def _stem(url: str) -> str:
    """What is the same in the addresses of all sizes of a picture."""
    path = url.partition("?")[0].partition("://")[2]
    folder, _, name = path.rpartition("/")
    return (_SIZE_WORDS.sub("", folder + "/") + _SIZE_WORDS.sub("", name)).lower()


def _tie_versions(page: Page) -> None:
    """Names that differ only in a size are versions of one picture; the largest by name is the one."""
    pictures = {find.url: find for find in page.finds if find.kind == "image"}
    same: dict[str, list[Find]] = defaultdict(list)
    for find in pictures.values():
        same[_stem(find.url)].append(find)
    for members in same.values():
        if len(members) > 1 and len({find.url for find in members}) > 1:
            largest = max(members, key=_size_by_name)
            for find in members:
                if find is not largest and find.larger is None and largest.larger != find.url:
                    find.larger = largest.url
    for find in pictures.values():
        larger = pictures.get(find.larger or "")
        for _ in range(4):  # the larger may itself have a larger
            if larger and larger.larger and larger.larger != find.url:
                larger = pictures.get(larger.larger)
        if larger and larger is not find:
            find.larger = larger.url
            if find.url not in larger.versions:
                larger.versions.append(find.url)
        elif find.larger not in pictures:
            find.larger = None


def _size_by_name(find: Find) -> tuple[int, int]:
    """How large a picture claims to be: its dimensions, else whether it calls itself small."""
    name = file_part(find.url)
    match = _DIMENSIONS.search(name) or _DIMENSIONS.search(find.url)
    if match:
        return 1, int(match[1]) * int(match[2])
    return (0, 0) if _SMALLER.search(find.url.partition("://")[2]) else (2, 0)
