"""Making an item of a plain file: its parts are joined."""

import asyncio
from pathlib import Path

from mudlark.assemble.join import join
from mudlark.errors import NetworkError
from mudlark.hauling.title import media_name
from mudlark.hauling.work import Fetching, Made, Work, jobs_of
from mudlark.media.sniff import sniff


async def make_plain(work: Work, fetching: Fetching) -> Made:
    """Fetch the parts of a file, and join them under its own name."""
    work.watch.on_step("Fetching")
    parts: list[Path] = []
    async for outcome in fetching.outcomes(jobs_of(work), lambda _head: None):
        if outcome.path is None:
            raise NetworkError(
                outcome.problem or "The file could not be fetched.",
                "The same command goes on from here.",
                outcome.status,
            )
        parts.append(outcome.path)
    with parts[0].open("rb") as source:
        form = sniff(source.read(65536))
    target = work.target
    name = media_name(target.title, target.page, target.find, target.presentation, form, target.order.title)
    media = work.store.item / name
    await asyncio.to_thread(join, parts, media)
    return Made((media,))
