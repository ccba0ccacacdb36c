"""Which finds of a page a user wants: filters for looking, and choices for hauling."""

from collections.abc import Iterable
from dataclasses import dataclass
from urllib.parse import urlsplit

from mudlark.errors import NothingFound, UsageError
from mudlark.find.model import Find, Page
from mudlark.find.sift import best
from mudlark.web.address import shown

ORDERS = ("rank", "size", "type", "host", "order")


@dataclass(frozen=True, slots=True)
class Filter:
    """What a find must have; None and empty mean anything. match: text in the address, label or evidence."""

    kinds: tuple[str, ...] = ()
    roles: tuple[str, ...] = ()
    match: str | None = None
    host: str | None = None
    larger_than: float | None = None

    def passes(self, find: Find) -> bool:
        """True if the find has all of it. A find of unknown size is not larger than anything."""
        text = " ".join([find.url, find.label or "", *(evidence.where for evidence in find.evidence)]).lower()
        host = urlsplit(find.url).netloc.lower()
        return (
            (not self.kinds or find.kind in self.kinds)
            and (not self.roles or find.role in self.roles)
            and (self.match is None or self.match.lower() in text)
            and (self.host is None or self.host.lower() in host)
            and (self.larger_than is None or (find.bytes or 0) > self.larger_than)
        )


def ordered(finds: Iterable[Find], order: str) -> list[Find]:
    """Finds by rank (as given), largest first, by type, by host, or in the order of their lines in the source."""
    listed = list(finds)
    if order == "size":
        return sorted(listed, key=lambda find: -(find.bytes or 0))
    if order == "type":
        return sorted(listed, key=lambda find: (find.kind, find.type or ""))
    if order == "host":
        return sorted(listed, key=lambda find: urlsplit(find.url).netloc)
    if order == "order":
        return sorted(listed, key=_line)
    return listed


def _line(find: Find) -> int:
    lines = [int(e.at.removeprefix("line ")) for e in find.evidence if e.at and e.frame is None]
    return min(lines, default=1 << 30)


@dataclass(frozen=True, slots=True)
class Choice:
    """Which finds to haul: the best, unless one of these says otherwise. nth: counted from 1 among those that match.

    series: where there is nothing better, a numbered series of segments will do.
    """

    nth: int | None = None
    match: str | None = None
    all: bool = False
    series: bool = False

    @property
    def made(self) -> bool:
        """True if the user chose."""
        return self.nth is not None or self.match is not None or self.all

    def take(self, page: Page) -> list[Find]:
        """The chosen finds of a ranked page."""
        if not self.made:
            return [self._best(page)]
        matching = [find for find in page.finds if Filter(match=self.match).passes(find)]
        if not matching:
            raise NothingFound(f"No find on {shown(page.url)} matches {self.match!r}.", "See them with `mudlark sift`.")
        if self.nth is not None:
            if self.nth > len(matching):
                raise UsageError(
                    f"There are {len(matching)} finds to choose from, not {self.nth}.", "See `mudlark sift`."
                )
            return [matching[self.nth - 1]]
        if self.all:
            wanted = matching if self.match else [find for find in matching if find.role == "main"]
            alive = [find for find in wanted if not find.problem and (self.series or find.role != "segment")]
            if not alive:
                raise NothingFound(
                    f"None of the finds on {shown(page.url)} can be hauled.", "See `mudlark sift --why`."
                )
            return alive
        return matching[:1]

    def _best(self, page: Page) -> Find:
        try:
            return best(page)
        except NothingFound as nothing:
            numbered = [find for find in page.finds if find.role == "segment" and find.members]
            if not numbered:
                raise
            if self.series:
                return max(numbered, key=lambda find: find.count)
            count = max(find.count for find in numbered)
            raise NothingFound(
                f"{shown(page.url)} has no playlist, only a series of {count} numbered segments.",
                "As a last resort, fetch the series with --series.",
            ) from nothing
