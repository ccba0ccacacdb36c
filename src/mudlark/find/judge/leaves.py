"""Page images: the leaves of a document that a viewer shows one by one, in reading order, each once and full size.

Told from other pictures by being many, large, and alike in their address but for a number; or else of about one size,
one below the other or in one place. The order is that of their
places on the page; where places are not known or the same, of their numbers, then of their requests.
"""

from statistics import median

import msgspec
from msgspec.structs import replace

from mudlark.browser.capture import Capture
from mudlark.browser.har import Shown
from mudlark.find.model import Evidence, Find, Page
from mudlark.web.series import Series, find_series

_LEAST_AREA = 250_000  # pixels: what can be read as a page
_LEAST_BYTES = 30_000  # where only that is known
_FEWEST = 4  # leaves that no numbers tell to be such
_ALIKE = 0.9  # of the larger side of two leaves
_ROW = 0.5  # of a picture's height: what starts within it stands in the same row


class _Leaf(msgspec.Struct):
    """One picture. shown: where it stands, if that is known."""

    find: Find
    number: int
    shown: Shown | None

    @property
    def area(self) -> int:
        return self.shown.natural_width * self.shown.natural_height if self.shown else 0


def collect_leaves(capture: Capture, page: Page) -> None:
    """Make one find of the page images of a capture, if it has such; the pictures in it are no longer finds alone."""
    pictures = {find.url: find for find in page.finds if find.kind == "image" and find.mention.asked}
    places = {shown.src: shown for view in reversed(capture.views) for shown in reversed(view.pictures)}
    best, missing, smaller = _numbered(pictures, places)
    if not best:
        order = {shown.src: at for at, shown in enumerate(shown for view in capture.views for shown in view.pictures)}
        best, missing = _alike(pictures, places, order), []
        smaller = _thumbnails(best, pictures, places)
        ordered, how = best, "in the order of the page"
    else:
        ordered, how = in_reading_order(best)
    if not best:
        return
    first = ordered[0].find
    addresses = [leaf.find.mention.linked or leaf.find.url for leaf in ordered]  # the page may link to a larger one
    gone = smaller.union(leaf.find.url for leaf in ordered[1:]).union(addresses)
    gone.discard(first.url)
    leaves_evidence = Evidence("network", f"{len(addresses)} page images, {how}", None, 38, act=True)
    document = replace(
        first.mention,
        linked=None,
        members=tuple(addresses),
        missing=tuple(missing),
        evidence=(*first.evidence, leaves_evidence),
    )
    page.finds = [
        replace(find, mention=document) if find.url == first.url else find
        for find in page.finds
        if find.url not in gone
    ]


def _numbered(pictures: dict[str, Find], places: dict[str, Shown]) -> tuple[list[_Leaf], list[int], set[str]]:
    """The largest series of numbered pictures that can be read; the numbers missing in it; its other sizes."""
    best: list[_Leaf] = []
    chosen: Series | None = None
    all_series = find_series(pictures)
    for series in all_series:
        leaves = [_Leaf(pictures[url], number, places.get(url)) for number, url in series.members]
        if _readable(leaves) and (len(leaves), _area(leaves)) > (len(best), _area(best)):
            best, chosen = leaves, series
    if chosen is None:
        return [], [], set()
    numbers = {leaf.number for leaf in best}
    other_sizes: set[str] = set()
    for series in all_series:
        leaves = [_Leaf(pictures[url], number, places.get(url)) for number, url in series.members]
        if series is not chosen and {leaf.number for leaf in leaves} == numbers:
            smaller, best = sorted((leaves, best), key=_area)
            other_sizes.update(leaf.find.url for leaf in smaller)
    return best, chosen.missing, other_sizes


def _alike(pictures: dict[str, Find], places: dict[str, Shown], order: dict[str, int]) -> list[_Leaf]:
    """Many large pictures of about one size, one below the other or in one place, whatever they are called; in the
    order in which they were seen."""
    leaves = [
        _Leaf(find, order[find.url], places[find.url])
        for find in pictures.values()
        if find.url in places and _pixels(places[find.url]) >= _LEAST_AREA
    ]
    groups: list[list[_Leaf]] = []
    for leaf in sorted(leaves, key=lambda leaf: -leaf.area):
        for group in groups:
            if _same_size(group[0], leaf):
                group.append(leaf)
                break
        else:
            groups.append([leaf])
    largest = max(groups, key=lambda group: (len(group), _area(group)), default=[])
    if len(largest) < _FEWEST or not _in_a_column(largest):
        return []
    if all(leaf.shown and leaf.shown.height for leaf in largest):
        return in_reading_order(largest)[0]
    return sorted(largest, key=lambda leaf: leaf.number)


def _pixels(shown: Shown) -> int:
    return shown.natural_width * shown.natural_height


def _same_size(one: _Leaf, other: _Leaf) -> bool:
    """True if neither side differs by more than a tenth: pages of one book are trimmed a little differently."""
    assert one.shown and other.shown
    wide = sorted((one.shown.natural_width, other.shown.natural_width))
    high = sorted((one.shown.natural_height, other.shown.natural_height))
    return wide[0] >= _ALIKE * wide[1] and high[0] >= _ALIKE * high[1]


def _in_a_column(leaves: list[_Leaf]) -> bool:
    """True if pictures stand one below the other, or all in one place (shown one at a time); not side by side."""
    drawn = [leaf.shown for leaf in leaves if leaf.shown and leaf.shown.height]
    lefts = {round(shown.left / 20) for shown in drawn}
    return len(lefts) <= 2  # a left and a right page at most


def _thumbnails(leaves: list[_Leaf], pictures: dict[str, Find], places: dict[str, Shown]) -> set[str]:
    """Small pictures as many as the leaves and of their shape."""
    if not leaves:
        return set()
    shapes = [leaf.shown.natural_width / leaf.shown.natural_height for leaf in leaves if leaf.shown]
    shape, own = median(shapes), {leaf.find.url for leaf in leaves}
    small = {
        url
        for url, shown in places.items()
        if url in pictures
        and url not in own
        and 0 < _pixels(shown) < _area(leaves) / 4
        and abs(shown.natural_width / shown.natural_height - shape) < 0.12 * shape
    }
    return small if len(small) >= len(leaves) / 2 else set()


def _area(leaves: list[_Leaf]) -> float:
    return median(leaf.area for leaf in leaves) if leaves else 0.0


def _readable(leaves: list[_Leaf]) -> bool:
    """True if pictures are as large as pages, most of them: by their pixels, or else by their bytes."""
    if any(leaf.shown for leaf in leaves):
        return _area(leaves) >= _LEAST_AREA
    return median(leaf.find.bytes or 0 for leaf in leaves) >= _LEAST_BYTES


def in_reading_order(leaves: list[_Leaf]) -> tuple[list[_Leaf], str]:
    """Leaves in the order in which they are read, and what that order goes by."""
    tops = {(leaf.shown.top, leaf.shown.left) for leaf in leaves if leaf.shown and leaf.shown.height}
    if len(tops) == len(leaves):
        rows: list[list[_Leaf]] = []
        for leaf in sorted(leaves, key=_top):
            if rows and _top(leaf) - _top(rows[-1][0]) < _ROW * (rows[-1][0].shown or _NOWHERE).height:
                rows[-1].append(leaf)
            else:
                rows.append([leaf])
        return [leaf for row in rows for leaf in sorted(row, key=_left)], "in the order of the page"
    if len({leaf.number for leaf in leaves}) == len(leaves):
        return sorted(leaves, key=lambda leaf: leaf.number), "in the order of their numbers"
    return sorted(leaves, key=lambda leaf: leaf.find.mention.asked or 0), "in the order in which they were asked for"


_NOWHERE = Shown("", 0, 0, 0, 0)


def _top(leaf: _Leaf) -> float:
    return (leaf.shown or _NOWHERE).top


def _left(leaf: _Leaf) -> float:
    return (leaf.shown or _NOWHERE).left
