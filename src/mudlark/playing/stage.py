"""What the browser is served on loopback: a page with nothing but a player, the file, and samples of its tracks."""

import asyncio
import struct
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from pathlib import Path

import numpy as np
from aiohttp import web

from mudlark.browser.loopback import Answer, served
from mudlark.media.movie import TrackIndex, contiguous, reader_of

_PAGE = '<!doctype html><title>Play</title><video id="v" preload="auto"></video>'


class Stage:
    """path: of the file."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._parts: list[tuple[TrackIndex, int, int]] = []

    def part(self, track: TrackIndex, first: int, last: int) -> str:
        """The address of samples: those from first to before last."""
        self._parts.append((track, first, last))
        return f"part/{len(self._parts) - 1}"

    @asynccontextmanager
    async def served(self) -> AsyncIterator[str]:
        """The address of the page, as long as it is served."""
        answers: dict[str, Answer] = {"/": self._page, "/file": self._file, "/part/{number:[0-9]+}": self._samples}
        async with served(answers) as origin:
            yield f"{origin}/"

    async def _page(self, _: web.Request) -> web.Response:
        return web.Response(text=_PAGE, content_type="text/html")

    async def _file(self, _: web.Request) -> web.StreamResponse:
        return web.FileResponse(self.path)

    async def _samples(self, request: web.Request) -> web.Response:
        number = int(request.match_info["number"])
        if number >= len(self._parts):
            raise web.HTTPNotFound
        track, first, last = self._parts[number]
        body = await asyncio.to_thread(packed, self.path, track, first, last)
        return web.Response(body=body, content_type="application/octet-stream")


def packed(path: Path, track: TrackIndex, first: int, last: int) -> bytes:
    """Samples as the page takes them: their number, times and durations in seconds, sizes, flags, and their bytes."""
    place, scale = slice(first, last), track.format.timescale
    sizes = track.sizes[place]
    begin = track.media_start - track.delay if track.edits or track.delay else 0
    times = (track.pts[place] - begin) / scale
    head = struct.pack("<II", last - first, 0) + times.astype("<f8").tobytes()
    head += (track.durations[place] / scale).astype("<f8").tobytes() + sizes.astype("<u4").tobytes()
    head += track.sync[place].astype(np.uint8).tobytes()
    with path.open("rb") as file:
        read, runs = reader_of(file), contiguous(track.offsets[place], sizes)
        return head + b"".join(read(begin, end - begin) for begin, end in runs.tolist())
