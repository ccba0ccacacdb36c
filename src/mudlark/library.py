"""The four entry points for programs: look, list, fetch, verify. Each is a coroutine that opens what it needs itself.

What they raise is a MudlarkError (mudlark.errors), which knows its code, its exit status, and what to do.
"""

import asyncio
from pathlib import Path
from typing import Literal

from mudlark.archive.assay import Assay
from mudlark.archive.assay import assay as verify
from mudlark.find.look import Means, look
from mudlark.find.model import Page
from mudlark.hauling.order import HaulWatch, Item, Order
from mudlark.hauling.steps import haul as fetch
from mudlark.manifest.load import fill, load
from mudlark.manifest.model import Presentation
from mudlark.manifest.wish import Wish
from mudlark.web.connection import Connection
from mudlark.web.session import Session


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


async def haul(
    target: str,
    into: Path | str,
    *,
    title: str | None = None,
    wish: Wish | None = None,
    container: Literal["mp4", "mkv"] | None = None,
    connection: Connection | None = None,
    means: Means | None = None,
    watch: HaulWatch | None = None,
) -> Item:
    """Fetch what a page, playlist or file address holds into a new item below `into`.

    What was hauled before is compared with the server, and comes back unchanged if it still is the same.
    """
    order = Order(
        target=target,
        into=Path(into),
        title=title,
        wish=wish or Wish(),
        container=container,
        means=means or Means(),
    )
    async with Session(connection) as session:
        return await anext(fetch(session, order, watch))


async def assay(path: Path | str) -> list[Assay]:
    """Verify an item's folder, a media file, or all of them below a folder."""
    return await asyncio.to_thread(verify, Path(path))
