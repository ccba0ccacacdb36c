"""Pages as they are after looking: ranked, and with what servers are made to have said."""

from typing import Any

from msgspec.structs import replace

from mudlark.find.judge.group import fold_series
from mudlark.find.judge.rank import rank
from mudlark.find.model import Find, Kind, Mention, Page


def named(url: str, kind: Kind, **said: Any) -> Find:
    """A find of which a page says this; see Mention."""
    return Find(Mention(url=url, kind=kind, **said))


def answered(find: Find, **facts: Any) -> Find:
    """The find with facts of a server's response."""
    return replace(find, response=replace(find.response, **facts))


def put_in_order(page: Page) -> Page:
    """The same page, its series folded and its finds ranked."""
    page.finds = fold_series(page.finds)
    page.finds = rank(page)
    return page
