"""Several sizes of one thing are one find with versions: cuts of a picture, qualities of a film.

Films belong together as sources of one player, as links or JSON that differ in a stated height, or by names that
differ only in a size. Works anew each time, as what the servers say may change which is the largest.
"""

from collections import defaultdict
from collections.abc import Callable, Iterable

from mudlark.find.judge.quality import film_stem, has_film_size, picture_limit, picture_stem
from mudlark.find.model import Find

_MOST_CHAIN = 4  # a larger picture may itself have a larger one


class Ties:
    """Which finds are smaller versions of which, by address."""

    def __init__(self) -> None:
        self.larger: dict[str, str] = {}
        self.versions: dict[str, list[str]] = defaultdict(list)

    def tie(self, smaller: Find, largest: Find) -> None:
        """What was tied to the smaller one goes with it."""
        self.versions[largest.url] += [*self.versions.pop(smaller.url, []), smaller.url]
        self.larger[smaller.url] = largest.url


def tie_versions(finds: Iterable[Find]) -> Ties:
    """The smaller versions of pictures and films, tied to their largest."""
    listed = list(finds)
    ties = Ties()
    _tie_pictures([find for find in listed if find.kind == "image"], ties)
    _tie_films([find for find in listed if find.kind in ("video", "audio") and not find.members], ties)
    return ties


def _tie_pictures(pictures: list[Find], ties: Ties) -> None:
    known = {find.url: find for find in pictures}
    for find in pictures:
        larger = known.get(find.mention.linked or "")
        for _ in range(_MOST_CHAIN):
            further = larger.mention.linked if larger is not None else None
            if further is None or further not in known or further == find.url:
                break
            larger = known[further]
        if larger is not None and larger is not find:
            ties.tie(find, larger)
    for members in _alike(pictures, lambda find: picture_stem(find.url)):
        free = [find for find in members if find.url not in ties.larger]
        measured = all(find.response.width and find.response.height for find in free)
        largest = max(free, key=_area if measured else lambda find: picture_limit(find.url), default=None)
        for find in free:
            if largest is not None and find is not largest:
                ties.tie(find, largest)


def _area(find: Find) -> tuple[int, int]:
    return (find.response.width or 0) * (find.response.height or 0), picture_limit(find.url)[0]


def _tie_films(films: list[Find], ties: Ties) -> None:
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
        alive = [find for find in members if not find.problem and find.url not in ties.larger] or members
        largest = max(alive, key=lambda find: (find.tall, find.bytes or 0))
        for find in members:
            if find is not largest and find.url not in ties.larger and largest.url not in ties.larger:
                ties.tie(find, largest)


def _named_by_size(find: Find) -> bool:
    return has_film_size(find.url)


def _of_one_player(members: list[Find]) -> bool:
    """Sources of one media element are the same film by the standard (HTML §4.8.8)."""
    return all(any(evidence.place == "element" and evidence.group for evidence in find.evidence) for find in members)


def _stated_apart(members: list[Find]) -> bool:
    """Each states a height, all of them others; a list of films of one height is no list of versions."""
    heights = [find.mention.declared for find in members]
    return all(heights) and len(set(heights)) == len(heights)


def _alike(finds: Iterable[Find], form: Callable[[Find], str]) -> list[list[Find]]:
    same: dict[str, list[Find]] = defaultdict(list)
    for find in finds:
        same[form(find)].append(find)
    return [members for members in same.values() if len(members) > 1]
