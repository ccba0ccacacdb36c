"""Numbered addresses as a presentation: page images in reading order, or segments that no manifest lists.

A series of segments is known only as far as it was asked for, so its ends are searched on the server: in strides that
double while there is something, then by halves.
"""

from collections.abc import Awaitable, Callable, Sequence

from mudlark.errors import NetworkError, UsageError
from mudlark.manifest.model import Presentation, Rendition, RenditionType, Segment
from mudlark.media.sniff import sniff
from mudlark.web.address import shown
from mudlark.web.resource import Resource
from mudlark.web.series import find_series
from mudlark.web.session import Session

_MOST = 100_000  # segments


def images(addresses: Sequence[str]) -> Presentation:
    """Page images, in the order given."""
    return Presentation(addresses[0], "images", (_listed("pages", "other", addresses),))


async def series(session: Session, addresses: Sequence[str]) -> Presentation:
    """All segments of the series that these addresses belong to, from the first to the last that the server has."""
    form = await _form(session, addresses[0])
    if form != "ts":
        raise UsageError(
            f"{shown(addresses[0])} is {form or 'gone'}.",
            "Only a series of transport stream segments can be put together.",
        )
    numbering = next(iter(find_series(addresses)), None)
    numbered: list[str] = list(addresses)
    if numbering and numbering.place is not None:

        async def there(number: int) -> bool:
            address = numbering.at(number) if number >= 0 else None
            return address is not None and await _form(session, address) == form

        first, last = numbering.members[0][0], numbering.members[-1][0]
        if last - first > _MOST:
            raise UsageError(f"The numbers of this series leap from {first} to {last}.", "It cannot be fetched as one.")
        first -= await _reach(lambda step: there(first - step), first)
        last += await _reach(lambda step: there(last + step), _MOST)
        known = dict(numbering.members)
        numbered = [known.get(number) or numbering.at(number) or "" for number in range(first, last + 1)]
    return Presentation(numbered[0], "series", (_listed("series", "video", numbered),))


def _listed(name: str, type: RenditionType, addresses: Sequence[str]) -> Rendition:
    segments = tuple(Segment(number, Resource(address)) for number, address in enumerate(addresses))
    return Rendition(name, type, addresses[0], segments=segments)


async def _reach(there: Callable[[int], Awaitable[bool]], most: int) -> int:
    """How many steps there is something, without a gap that strides would meet."""
    low, high = 0, 1
    while high <= most and await there(high):
        low, high = high, high * 2
    high = min(high, most + 1)
    while high - low > 1:
        middle = (low + high) // 2
        if await there(middle):
            low = middle
        else:
            high = middle
    return low


async def _form(session: Session, address: str) -> str | None:
    """What the first bytes at an address are; None if there is nothing."""
    try:
        return sniff((await session.glance(address)).body)
    except NetworkError as problem:
        if problem.status in (403, 404, 410, 416):
            return None
        raise
