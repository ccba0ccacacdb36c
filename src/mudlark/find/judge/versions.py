"""Several sizes of one thing are one find with versions: cuts of a picture, qualities of a film.

Films belong together as sources of one player, as links or JSON that differ in a stated height, or by names that
differ only in a size. Works anew each time, as what the servers say may change which is the largest.
"""

from collections import defaultdict
from collections.abc import Callable, Iterable

from mudlark.find.judge.quality import film_stem, has_film_size, picture_limit, picture_stem
from mudlark.find.model import Find, Page

_MOST_CHAIN = 4  # a larger picture may itself have a larger one


def tie_versions(page: Page) -> None:
    """Tie the smaller versions of pictures and films to their largest."""
    for find in page.finds:
        find.larger, find.versions = None, []
    _tie_pictures([find for find in page.finds if find.kind == "image"])
    _tie_films([find for find in page.finds if find.kind in ("video", "audio") and not find.members])


def _tie_pictures(pictures: list[Find]) -> None:
    known = {find.url: find for find in pictures}
    for find in pictures:
        larger = known.get(find.linked or "")
        for _ in range(_MOST_CHAIN):
            if larger is None or larger.linked not in known or larger.linked == find.url:
                break
            larger = known[larger.linked]
        if larger is not None and larger is not find:
            _tie(find, larger)
    for members in _alike(pictures, lambda find: picture_stem(find.url)):
        free = [find for find in members if find.larger is None]
        measured = all(find.width and find.height for find in free)
        largest = max(free, key=_area if measured else lambda find: picture_limit(find.url), default=None)
        for find in free:
            if largest is not None and find is not largest:
                _tie(find, largest)


def _area(find: Find) -> tuple[int, int]:
    return (find.width or 0) * (find.height or 0), picture_limit(find.url)[0]


def _tie(smaller: Find, largest: Find) -> None:
    largest.versions += smaller.versions
    smaller.larger, smaller.versions = largest.url, []
    largest.versions.append(smaller.url)


def _tie_films(films: list[Find]) -> None:
    groups = [group for group in _alike(films, lambda find: film_stem(find.url)) if any(map(_named_by_size, group))]
    by_group: dict[str, list[Find]] = defaultdict(list)
    for find in films:
        for group in dict.fromkeys(evidence.group for evidence in find.evidence if evidence.group):
            by_group[group].append(find)
    groups += [
        members
        for members in by_group.values()
        if len(members) > 1 and (_of_one_player(members) or _stated_apart(members))
    ]
    for members in groups:
        alive = [find for find in members if not find.problem and find.larger is None] or members
        largest = max(alive, key=lambda find: (find.tall, find.bytes or 0))
        for find in members:
            if find is not largest and find.larger is None and largest.larger is None:
                _tie(find, largest)


def _named_by_size(find: Find) -> bool:
    return has_film_size(find.url)


def _of_one_player(members: list[Find]) -> bool:
    """Sources of one media element are the same film by the standard (HTML §4.8.8)."""
    return all(any(evidence.place == "element" and evidence.group for evidence in find.evidence) for find in members)


def _stated_apart(members: list[Find]) -> bool:
    """Each states a height, all of them others; a list of films of one height is no list of versions."""
    heights = [find.declared for find in members]
    return all(heights) and len(set(heights)) == len(heights)


def _alike(finds: Iterable[Find], form: Callable[[Find], str]) -> list[list[Find]]:
    same: dict[str, list[Find]] = defaultdict(list)
    for find in finds:
        same[form(find)].append(find)
    return [members for members in same.values() if len(members) > 1]
