"""Making an item of a plain file: its parts are written where they belong, side by side, and hashed in order while the
later ones still come.

A part is as large as what a lane fetches in a few seconds, so that few requests are made; of those that a run left
unfinished the beginnings are there, and only their rest is asked for.
"""

import asyncio
import hashlib
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from msgspec.structs import replace

from mudlark.assemble.join import second_name
from mudlark.errors import NetworkError
from mudlark.fetch.engine import Job, Layout, Outcome, is_alike
from mudlark.fetch.place import Place
from mudlark.fetch.store import StoredRow
from mudlark.hauling.title import media_name
from mudlark.hauling.work import Fetching, Made, Work
from mudlark.manifest.model import Segment
from mudlark.media.sniff import sniff
from mudlark.web.resource import Span

_HEAD = 65536
_LEAST, _MOST = 1 << 20, 32 << 20  # bytes of a part
_SECONDS = 2.0  # that a part takes


async def make_plain(work: Work, fetching: Fetching) -> Made:
    """Fetch a file, whole or in parts."""
    work.watch.on_step("Fetching")
    rendition = work.target.taken[0].rendition
    (segment,) = rendition.segments or ()
    if segment.resource.span is None:
        return await _at_once(work, fetching, Job(rendition.name, 0, segment))
    begun = time.monotonic()

    def size() -> int:
        """Bytes that a lane fetches in a while, at the speed so far."""
        seconds, lanes = time.monotonic() - begun, work.session.connection.lanes
        speed = fetching.received / lanes / seconds if seconds > 0.2 else 0.0
        return min(_MOST, max(_LEAST, int(speed * _SECONDS) & -_LEAST))

    digest, place, count = hashlib.sha256(), None, 0
    jobs = parts(rendition.name, segment, work.store.rows(rendition.name), size)
    async with fetching.outcomes(jobs, lambda _head: None, layout=Layout.WHOLE) as outcomes:
        async for outcome in outcomes:
            place = _there(outcome)
            await asyncio.to_thread(_hash, digest, place)
            count += place.length
    assert place
    media = await asyncio.to_thread(_as_media, work, place.path)
    return Made((media,), digest=(count, digest.hexdigest()))


def parts(track: str, segment: Segment, rows: list[StoredRow], size: Callable[[], int]) -> Iterator[Job]:
    """The parts of a file in order, numbered by their first byte: those that are there as they are, what is missing
    between them in pieces of a size that is asked for as each is cut."""
    resource = segment.resource
    whole = resource.span
    assert whole

    def job(start: int, length: int) -> Job:
        return Job(track, start, replace(segment, resource=replace(resource, span=Span(start, length))))

    at = 0
    for row in [*rows, None]:
        until = row.number if row else whole.length
        if row and (row.number < at or not is_alike(row, job(row.number, row.bytes))):
            continue
        while at < until:
            length = min(size(), until - at)
            yield job(at, length)
            at += length
        if row:
            yield job(at, row.bytes)
            at += row.bytes


async def _at_once(work: Work, fetching: Fetching, job: Job) -> Made:
    """A file that comes in one body, which is hashed as it comes."""
    async with fetching.outcomes([job], lambda _head: None, layout=Layout.APART) as outcomes:
        outcome = await anext(outcomes)
    media = await asyncio.to_thread(_as_media, work, _there(outcome).path)
    row = outcome.row
    return Made((media,), digest=(row.bytes, row.sha256) if row else None)


def _there(outcome: Outcome) -> Place:
    if outcome.place is None:
        raise NetworkError(
            outcome.problem or "The file could not be fetched.", "The same command goes on from here.", outcome.status
        )
    return outcome.place


def _hash(digest: "hashlib._Hash", place: Place) -> None:
    for block in place.blocks():
        digest.update(block)


def _as_media(work: Work, path: Path) -> Path:
    """The file in the item, under the name that it deserves."""
    with path.open("rb") as file:
        form = sniff(file.read(_HEAD))
    target = work.target
    name = media_name(target.title, target.page, target.find, target.presentation, form, target.order.title)
    second_name(path, work.store.item / name)
    return work.store.item / name
