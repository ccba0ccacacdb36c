"""Which finds of a page a user wants: filters for looking, and choices for hauling."""

from collections.abc import Iterable
from urllib.parse import urlsplit

import msgspec
from msgspec.structs import replace

from mudlark.errors import NothingFound, UsageError
from mudlark.find.model import Find, Page
from mudlark.find.sift import best
from mudlark.web.address import shown

ORDERS = ("rank", "size", "type", "host", "order")


class Filter(msgspec.Struct, frozen=True):
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

    def of_any_size(self) -> "Filter":
        """The same, whatever the size."""
        return replace(self, larger_than=None)

    def __str__(self) -> str:
        words = [f"match {self.match!r}" if self.match else "", f"are on {self.host!r}" if self.host else ""]
        words += [f"are of kind {' or '.join(self.kinds)}" if self.kinds else ""]
        words += [f"are in the role {' or '.join(self.roles)}" if self.roles else ""]
        words += [f"are larger than {self.larger_than:,.0f} bytes" if self.larger_than is not None else ""]
        return " and ".join(part for part in words if part)


ANYTHING = Filter()


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


def _line(find: Find) -> tuple[int, int]:
    """The first line of the page that names it; what only a frame names or a request asked for comes after those."""
    own = [e.at.partition(" ") for e in find.evidence if e.at and e.frame is None]
    lines = [int(number) for word, _, number in own if word == "line"]
    requests = [int(number) for word, _, number in own if word == "request"]
    return min(lines, default=1 << 30), min(requests, default=1 << 30)


class Choice(msgspec.Struct, frozen=True):
    """Which finds to haul: the best, unless one of these says otherwise. nth: the number that looking shows.

    wanted: what the finds must have. series: where there is nothing better, a numbered series of segments will do.
    """

    nth: int | None = None
    wanted: Filter = ANYTHING
    all: bool = False
    series: bool = False

    @property
    def made(self) -> bool:
        """True if the user chose."""
        return self.nth is not None or self.wanted != ANYTHING or self.all

    def take(self, page: Page) -> list[Find]:
        """The chosen finds of a ranked page."""
        if not self.made:
            return [self._best(page)]
        if self.nth is not None:
            return [self._numbered(page, self.nth)]
        matching = [find for find in page.finds if self.wanted.passes(find)]
        if not matching:
            raise NothingFound(
                f"None of the {len(page.finds)} finds on {shown(page.url)} {self.wanted}.",
                "See them with `mudlark sift`.",
                url=page.url,
            )
        if not self.all:
            return matching[:1]
        taken = [find for find in matching if find.role == "main" or self.wanted != ANYTHING]
        alive = [find for find in taken if not find.problem and (self.series or find.role != "segment")]
        if not alive:
            raise NothingFound(
                f"None of the finds on {shown(page.url)} can be hauled.", "See `mudlark sift --why`.", url=page.url
            )
        return alive

    def _numbered(self, page: Page, number: int) -> Find:
        chosen = next((find for find in page.finds if find.number == number), None)
        if chosen is None:
            raise UsageError(
                f"There are {len(page.finds)} finds to choose from, not {number}.", "See `mudlark sift`.", url=page.url
            )
        if not self.wanted.passes(chosen):
            raise UsageError(
                f"Number {number}, {shown(chosen.url)}, is none of those that {self.wanted}.",
                "The numbers are those that `mudlark sift` shows, whatever is filtered.",
                url=page.url,
            )
        return chosen

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
                "As a last resort, fetch the series with --series, or what the player is fed with --tap.",
                url=page.url,
            ) from nothing
