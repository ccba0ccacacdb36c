"""Making an item of a plain file: its parts are joined, and hashed, in order while the later ones still come."""

import asyncio
import hashlib
import os
from pathlib import Path
from typing import BinaryIO

from mudlark.assemble.join import join
from mudlark.errors import NetworkError
from mudlark.fetch.engine import Outcome
from mudlark.hauling.title import media_name
from mudlark.hauling.work import Fetching, Made, Work, jobs_of
from mudlark.media.sniff import sniff

_HEAD = 65536


class _Whole:
    """The file while it grows part by part."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.head = b""
        self.bytes = 0
        self._digest = hashlib.sha256()
        self._file: BinaryIO = path.open("wb", buffering=0)

    def add(self, part: Path) -> None:
        """Append a part."""
        data = part.read_bytes()
        self.head = self.head or data[:_HEAD]
        self._digest.update(data)
        view = memoryview(data)
        while len(view):
            view = view[self._file.write(view) :]
        self.bytes += len(data)

    def close(self) -> tuple[int, str]:
        """Flush it; gives its bytes and digest."""
        os.fsync(self._file.fileno())
        self._file.close()
        return self.bytes, self._digest.hexdigest()


async def make_plain(work: Work, fetching: Fetching) -> Made:
    """Fetch the parts of a file, and join them under its own name."""
    work.watch.on_step("Fetching")
    jobs = list(jobs_of(work))
    if len(jobs) == 1:
        return await _alone(work, fetching)
    whole = await asyncio.to_thread(_Whole, work.store.item / "joined")
    async for outcome in fetching.outcomes(jobs, lambda _head: None, quick=True):
        await asyncio.to_thread(whole.add, _there(outcome))
    digest = await asyncio.to_thread(whole.close)
    media = work.store.item / _name(work, whole.head)
    whole.path.rename(media)
    return Made((media,), digest=digest)


async def _alone(work: Work, fetching: Fetching) -> Made:
    """A file that came in one body, which was hashed as it came."""
    async for outcome in fetching.outcomes(jobs_of(work), lambda _head: None):
        part = _there(outcome)
        with part.open("rb") as file:
            media = work.store.item / _name(work, file.read(_HEAD))
        await asyncio.to_thread(join, [part], media)
        row = outcome.row
        return Made((media,), digest=(row.bytes, row.sha256) if row else None)
    raise NetworkError("The file could not be fetched.", "The same command goes on from here.")


def _there(outcome: Outcome) -> Path:
    if outcome.path is None:
        raise NetworkError(
            outcome.problem or "The file could not be fetched.", "The same command goes on from here.", outcome.status
        )
    return outcome.path


def _name(work: Work, head: bytes) -> str:
    target = work.target
    return media_name(target.title, target.page, target.find, target.presentation, sniff(head), target.order.title)
