"""What a haul would take, without fetching any of it: only pages, manifests and first bytes are asked for."""

import asyncio
from collections.abc import AsyncIterator
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from mudlark.archive.place import names_for
from mudlark.archive.shelf import find_earlier
from mudlark.errors import MudlarkError
from mudlark.find.compare import best_guise
from mudlark.find.look import PageScan
from mudlark.find.model import Find
from mudlark.hauling.order import HaulWatch, Order
from mudlark.hauling.resolve import resolve
from mudlark.hauling.steps import item_name, take
from mudlark.manifest.choose import Taken, expected_bytes
from mudlark.manifest.model import PresentationKind
from mudlark.web.session import Session

_TELLS = 16_000  # bytes of one answer that tell how fast a server sends
_SHORTEST = 0.01  # seconds


class Planned(msgspec.Struct, frozen=True):
    """One item that would be made. address: of its manifest, file, or page and player. bytes: of all of it, and whether
    that is only reckoned by bit rates; None if nobody says. segments: how many, None while that is not known. folder:
    that it would have; there: the item that is there already. rate: bytes a second at which its server sent what was
    asked for of it; None where that was too little to tell."""

    title: str
    kind: PresentationKind
    address: str
    live: bool
    taken: tuple[Taken, ...]
    segments: int | None
    duration: float | None
    bytes: int | None
    reckoned: bool
    folder: Path
    there: Path | None
    rate: float | None = None

    @property
    def seconds(self) -> float | None:
        """How long it takes to fetch at the rate seen."""
        return self.bytes / self.rate if self.bytes is not None and self.rate else None


class _Rates:
    """Hears the rows of requests, and knows the best rate of those that tell one."""

    def __init__(self) -> None:
        self.best: float | None = None

    def __call__(self, row: dict[str, Any]) -> None:
        first, ended = row.get("first"), row.get("ended")
        if row["bytes"] >= _TELLS and first is not None and ended is not None:
            self.best = max(self.best or 0.0, row["bytes"] / max(ended - first, _SHORTEST))


async def plan(session: Session, order: Order, watch: HaulWatch | None = None) -> AsyncIterator[Planned]:
    """What `haul` would make of the same order. One of several finds that cannot be had is told to the watch."""
    watch = watch or HaulWatch()
    watch.on_step("Looking")
    if order.guises:
        guise = await best_guise(session.connection, order.target, order.guises, order.means)
        async with Session(replace(session.connection, guise=guise)) as dressed:
            async for one in plan(dressed, replace(order, guises=()), watch):
                yield one
        return
    rates = _Rates()
    session = session.noting(rates)
    scan, finds = await take(session, order, watch)
    for find in finds:
        try:
            yield replace(await _planned(session, order, scan, find, watch), rate=rates.best)
        except MudlarkError as problem:
            problem.url = problem.url or find.url
            if len(finds) == 1:
                raise
            watch.on_failure(problem)


async def _planned(session: Session, order: Order, scan: PageScan, find: Find, watch: HaulWatch) -> Planned:
    target = await resolve(session.behind(find.mention.referrer, find.mention.sent), order, scan, find, watch)
    earlier = await asyncio.to_thread(find_earlier, order.into, target.identity)
    presentation = target.presentation
    stated = presentation.facts.length
    names = [one.rendition.name for one in target.taken]
    guessed = stated is None and presentation.live is None
    reckoned = expected_bytes(presentation, names) if guessed else None
    counts = [len(one.rendition.segments) for one in target.taken if one.rendition.segments is not None]
    lasts = max((one.rendition.duration or 0.0 for one in target.taken), default=0.0) or find.duration
    folders = names_for(item_name(target), None)
    free = next(name for name in folders if not (order.into / name).exists())
    return Planned(
        target.title,
        presentation.kind,
        presentation.url,
        presentation.live is not None,
        tuple(target.taken),
        sum(counts) if counts and presentation.kind != "tap" else None,
        None if presentation.live else lasts,
        stated if stated is not None else reckoned,
        stated is None and reckoned is not None,
        order.into / free,
        earlier.folder if earlier and earlier.exact else None,
    )
