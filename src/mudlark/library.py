"""The entry points for programs: look, list, fetch, verify, and a whole list. Each is a coroutine that opens what it
needs itself; `sweep` gives what comes of each row as it ends.

What they raise is a MudlarkError, which knows its code, its exit status, and what to do.
"""

import asyncio
from collections.abc import AsyncIterator, Sequence
from contextlib import aclosing
from pathlib import Path
from typing import Literal, TypedDict, Unpack, overload

from mudlark.archive.assay import Assay
from mudlark.archive.assay import assay as verify
from mudlark.errors import UsageError
from mudlark.find.look import Means, PageScan, look
from mudlark.find.model import Find, Kind, Page
from mudlark.find.select import Choice, Filter
from mudlark.hauling.order import HaulWatch, Item, Order
from mudlark.hauling.plan import Planned
from mudlark.hauling.plan import plan as planned
from mudlark.hauling.steps import haul as fetch
from mudlark.manifest.load import fill, load
from mudlark.manifest.model import Presentation
from mudlark.manifest.wish import Wish
from mudlark.notebook import watched
from mudlark.sweeping.gather import Gatherer
from mudlark.sweeping.journal import Journal
from mudlark.sweeping.run import Chosen, Done, Here, Sweep, with_row
from mudlark.web.connection import Connection
from mudlark.web.session import Session

Manner = Literal["some", "full"]


async def sift(address: str, *, connection: Connection | None = None, means: Means | None = None) -> Page:
    """Look through a page: its finds, best first, each with its reasons. means: a browser or a HAR, if wanted."""
    async with Session(connection) as session:
        return (await look(session, address, means or Means())).page


async def tracks(address: str, *, connection: Connection | None = None) -> Presentation:
    """What a playlist holds: its renditions with all their segments; what is protected is marked. A plain file is a
    presentation with one rendition.
    """
    async with Session(connection) as session:
        session.at_home(address)
        presentation = await load(session, address)
        return await fill(session, presentation, presentation.renditions, strict=False)


class How(TypedDict, total=False):
    """What else `haul` takes, by name."""

    find: Find | None
    nth: int | None
    kind: Kind | Sequence[Kind]
    match: str | None
    title: str | None
    wish: Wish | None
    container: Literal["mp4", "mkv"] | None
    expect: str | None
    play: Manner | None
    warc: bool
    again: bool
    connection: Connection | None
    means: Means | None
    watch: HaulWatch | None


@overload
async def haul(target: str | Page, into: Path | str = "mudlark", **how: Unpack[How]) -> Item: ...
@overload
async def haul(
    target: str | Page, into: Path | str = "mudlark", *, all: Literal[True], **how: Unpack[How]
) -> list[Item]: ...
@overload
async def haul(
    target: str | Page, into: Path | str = "mudlark", *, all: bool = False, plan: Literal[True], **how: Unpack[How]
) -> list[Planned]: ...
async def haul(
    target: str | Page,
    into: Path | str = "mudlark",
    *,
    find: Find | None = None,
    nth: int | None = None,
    kind: Kind | Sequence[Kind] = (),
    match: str | None = None,
    all: bool = False,
    plan: bool = False,
    title: str | None = None,
    wish: Wish | None = None,
    container: Literal["mp4", "mkv"] | None = None,
    expect: str | None = None,
    play: Manner | None = None,
    warc: bool = False,
    again: bool = False,
    connection: Connection | None = None,
    means: Means | None = None,
    watch: HaulWatch | None = None,
) -> Item | list[Item] | list[Planned]:
    """Fetch what an address holds, or a page that `sift` gave, into a new item below `into`.

    find: this one of the page's, with the page's title and as asked for from there; else nth (its number), kind and
    match (text in address, label or evidence) choose as the options of those names do, and all takes every main find
    and gives a list, of which those that fail are told to the watch. plan: fetch no media, and give what would be taken
    instead. expect: SHA-256 that the file must have. play: in a browser, stretches or all of it. warc: keep all
    exchanges with the servers. again: make a new item even if there is one. What was hauled before is compared with the
    server, and comes back unchanged if it still is the same.
    """
    kinds = (kind,) if isinstance(kind, str) else tuple(kind)
    choice = Choice(nth, Filter(kinds=kinds, match=match), all)
    if find is not None and (choice.made or isinstance(target, str)):
        raise UsageError("A find is one of a page, and chosen.", "Give the page that it is of, and the find alone.")
    order = Order(
        target=target if isinstance(target, str) else target.url,
        into=Path(into),
        choice=choice,
        title=title,
        expect=expect,
        means=means or Means(),
        again=again,
        warc=warc,
        play=play,
        wish=wish or Wish(),
        container=container,
        looked=None if isinstance(target, str) else PageScan(target),
        finds=(find,) if find else (),
    )
    with watched(watch) as watching:
        async with Session(connection) as session:
            if plan:
                return [one async for one in planned(session, order, watching)]
            if all:
                return [item async for item in fetch(session, order, watching)]
            return await anext(fetch(session, order, watching))


async def assay(path: Path | str, *, play: Manner | None = None) -> list[Assay]:
    """Verify an item's folder, a media file, or all of them below a folder. play: in a browser too, stretches or all of
    each film and sound."""
    assayed = await asyncio.to_thread(verify, Path(path))
    if play:
        from mudlark.playing.items import play_assayed  # its libraries are needed for nothing else

        for result in assayed:
            for problem in await play_assayed(result, play):
                result.account.skipped("play", problem.what)
    return assayed


async def sweep(
    source: Path | str,
    into: Path | str = "mudlark",
    *,
    at_once: int = 2,
    only: str | None = None,
    refresh: bool = False,
    links: str | None = None,
    wish: Wish | None = None,
    connection: Connection | None = None,
    means: Means | None = None,
) -> AsyncIterator[Done]:
    """Haul every row of a list (a table, a text of addresses, a feed, a page of links), and give what comes of each as
    it ends. What is good already is left out. at_once: rows side by side. only: row numbers, or a text. refresh: ask
    again for what is good, too. links: which of a page's are meant, as a glob."""
    into, means = Path(into), means or Means()
    order = Order(target="", into=into, means=means, wish=wish or Wish())
    async with Session(connection) as session:
        gathering = await Gatherer(session, means.listening, links=links).gather(str(source))
    journal = Journal(into)
    rows = Chosen(only, refresh=refresh).of(gathering.rows, journal)
    try:
        running = Sweep(Here(connection or Connection()), journal, lambda row: with_row(order, row), into, at_once)
        async with aclosing(running.run(rows)) as coming:
            async for done in coming:
                yield done
    finally:
        if journal.results:
            journal.write_table(gathering.rows)
