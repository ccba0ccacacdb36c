"""Peeking: what a find looks and sounds like, from its first segment or first megabytes, before it is fetched.

A real browser plays the beginning, through a server on loopback that fetches no more of the find than a small budget.
"""

import asyncio
import base64
import re
import tempfile
from collections.abc import AsyncIterator
from contextlib import aclosing, asynccontextmanager
from importlib.resources import files
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
from aiohttp import web
from msgspec.structs import replace
from PIL import Image

from mudlark.assemble.film import Voice, assemble
from mudlark.assemble.output import ChosenFile, Output
from mudlark.assemble.parts import part_of
from mudlark.browser.driver import opened
from mudlark.browser.loopback import served
from mudlark.errors import FormatError, MudlarkError, NetworkError
from mudlark.fetch.engine import Engine, Job
from mudlark.fetch.store import Store
from mudlark.find.judge.probe import movie_at
from mudlark.find.model import PLAYED, Find, Page
from mudlark.guard import reading
from mudlark.manifest.choose import Taken, choose
from mudlark.manifest.load import fill, load
from mudlark.media.index import movie_in
from mudlark.media.mp4.about import About
from mudlark.media.samples import TrackLabel
from mudlark.together import together
from mudlark.web.connection import Connection
from mudlark.web.session import Session

if TYPE_CHECKING:
    from playwright.async_api import BrowserContext

_PIECE = 1 << 20  # bytes asked for at once
_BUDGET = 6 << 20  # bytes of one find at most
_LARGEST_PICTURE = 20 << 20
_MOST_PIXELS = 100_000_000
_PLAYING = 20.0  # seconds that the browser may take for one find
_AT_ONCE = 2
_BLACK = 24  # of 255: no brighter than this anywhere
_STILL = 0.8  # of 255: mean difference between moments
_SOUNDS = ("mp4a", "mp3", "opus", "flac", "vorbis", "ac-3", "ec-3")
_SILENT = -60.0  # dB of full scale


class Peek(msgspec.Struct):
    """What a find showed. bytes: of the whole, about if `estimated`. level: loudest sound that was heard, in dB of full
    scale, None if there is none; levels: how loud it was (0 to 1) while it played. notes: what a user should be warned
    of. problem: why nothing could be seen.
    """

    find: Find
    picture: Image.Image | None = None
    width: int = 0
    height: int = 0
    duration: float | None = None
    bytes: int | None = None
    estimated: bool = False
    codecs: list[str] = msgspec.field(default_factory=list)
    sound: bool = False
    level: float | None = None
    levels: list[float] = msgspec.field(default_factory=list)
    notes: list[str] = msgspec.field(default_factory=list)
    problem: str | None = None

    @property
    def only_sound(self) -> bool:
        """True if there is no picture to expect."""
        return all(codec.startswith(_SOUNDS) for codec in self.codecs) if self.codecs else self.find.kind == "audio"


def worth_peeking(page: Page, most: int) -> list[Find]:
    """The finds that have something to see or hear, best first: what is played, else pictures."""
    alive = [find for find in page.finds if not find.problem and find.role not in ("segment", "rendition")]
    played = [find for find in alive if find.kind in PLAYED]
    return (played or [find for find in alive if find.kind == "image"])[:most]


async def peek(session: Session, finds: list[Find], browser: Path | None = None) -> list[Peek]:
    """Look at each of the finds, a few at the same time."""
    peeks = [Peek(find) for find in finds]
    gate = asyncio.Semaphore(_AT_ONCE)
    with tempfile.TemporaryDirectory(prefix="mudlark-peek-") as folder:
        async with _stage(session, Path(folder)) as stage:
            pictures = [one for one in peeks if one.find.kind == "image"]
            await together(_look_at_picture(session, one) for one in pictures)
            played = [one for one in peeks if one.find.kind != "image"]
            if played:
                async with opened(Connection(), browser) as context:

                    async def show(number: int, one: Peek) -> None:
                        async with gate:
                            await _show(session, stage, context, number, one)

                    await together(show(number, one) for number, one in enumerate(played))
    return peeks


def _behind(session: Session, find: Find) -> Session:
    """The session, for what the document that names a find has a browser ask for."""
    return session.behind(find.mention.referrer, find.mention.sent)


async def _look_at_picture(session: Session, one: Peek) -> None:
    try:
        data = bytearray()
        async with _behind(session, one.find).open(one.find.url) as answer:
            async for chunk in answer.chunks:
                data += chunk
                if len(data) > _LARGEST_PICTURE:
                    raise NetworkError("A picture of more than 20 MB is not looked at.")
        one.bytes = len(data)
        with reading("The picture"), Image.open(BytesIO(data)) as picture:
            one.width, one.height = picture.size
            one.codecs = [picture.format or ""]
            if one.width * one.height > _MOST_PIXELS:
                raise FormatError(f"{one.width}×{one.height} pixels are too many for a preview.")
            one.picture = picture.convert("RGB")
    except MudlarkError as problem:
        one.problem = problem.what
    else:
        if np.asarray(one.picture).max() <= _BLACK:
            one.notes.append("the picture is black")


async def _show(session: Session, stage: "_Stage", context: "BrowserContext", number: int, one: Peek) -> None:
    """Have the browser play the beginning of a find, and keep what it shows."""
    try:
        await _prepare(_behind(session, one.find), stage, number, one)
        preview = await asyncio.wait_for(_play(context, stage.address(number)), _PLAYING)
    except MudlarkError as problem:
        one.problem = problem.what
        return
    except TimeoutError:
        one.problem = f"The browser showed nothing within {_PLAYING:.0f} s."
        return
    if "problem" in preview:
        one.problem = f"The browser cannot play it: {preview['problem']}"
        return
    one.width, one.height = preview["width"], preview["height"]
    one.duration = one.duration or preview["duration"]
    one.sound, one.level, one.levels = preview["sound"], preview["level"], preview["levels"]
    frames = [Image.open(BytesIO(base64.b64decode(data))).convert("RGB") for data in preview["frames"]]
    judge(one, frames)


def judge(one: Peek, frames: list[Image.Image]) -> None:
    """Choose the picture that shows most, and say what is black, still or silent."""
    if frames:
        arrays = [np.asarray(frame, np.int16) for frame in frames]
        one.picture = frames[max(range(len(frames)), key=lambda at: float(arrays[at].std()))]
        if all(array.max() <= _BLACK for array in arrays):
            one.notes.append("the picture is black")
        elif len(arrays) > 1 and all(np.abs(array - arrays[0]).mean() < _STILL for array in arrays[1:]):
            one.notes.append("the picture does not move")
    elif not one.only_sound:
        one.notes.append("there is no picture")
    if one.sound and one.level is not None and one.level < _SILENT:
        one.notes.append("the sound is silent at the beginning")


async def _prepare(session: Session, stage: "_Stage", number: int, one: Peek) -> None:
    presentation = await load(session, one.find.url)
    if presentation.kind == "file":
        look = await session.glance(presentation.url)
        one.bytes = presentation.facts.length or look.length
        if movie := await movie_at(session, look):
            one.codecs = [track.format.codec for track in movie.tracks]
        stage.remote[number] = _Remote(presentation.url, one.bytes, look.ranges, look.type, one.find)
        return
    chosen = [one for one in choose(presentation) if one.rendition.type != "subtitles"]
    presentation = await fill(session, presentation, [one.rendition for one in chosen], patient=False)
    taken = [replace(one, rendition=presentation.named(one.rendition.name)) for one in chosen]
    one.duration = presentation.duration
    path, size, seconds = await _opening(session, taken, stage.folder / str(number))
    if one.duration and seconds:
        one.bytes, one.estimated = round(size * one.duration / seconds), True
    named = [codec for track in taken for codec in track.rendition.codecs]
    one.codecs = list(dict.fromkeys(named)) or await asyncio.to_thread(_codecs_in, path)
    stage.local[number] = path


async def _opening(session: Session, taken: list[Taken], base: Path) -> tuple[Path, int, float]:
    """The first segments of picture and sound as a file that the browser plays; their size as fetched, and their
    seconds."""
    jobs = []
    for number, one in enumerate(taken):
        segment = next((segment for segment in one.rendition.segments or () if not segment.gap), None)
        if segment is not None:
            jobs.append(Job(str(number), 0, segment))
    if not jobs:
        raise FormatError("It has no segment that is there.")
    with Store(base.parent, f"{base.name} {jobs[0].segment.resource.url}") as store:
        engine = Engine(session, store, lambda _head: None)
        async with aclosing(engine.run(jobs)) as running:
            outcomes = [outcome async for outcome in running]
        if outcomes[0].row is None:
            raise NetworkError(outcomes[0].problem or "Its first segment cannot be had.")
        parts = [part_of(outcome, int(outcome.job.track)) for outcome in outcomes]
        voices = [Voice(one.types) for one in taken]
        seconds = jobs[0].segment.duration
        result = await asyncio.to_thread(assemble, parts, voices, base, seconds, _playable)
        store.discard()
    if not result.segments:
        raise FormatError("Its first segment cannot be read.")
    return result.path, sum(outcome.row.bytes for outcome in outcomes if outcome.row), seconds


def _playable(stem: Path, planned: float, labels: dict[int, TrackLabel]) -> Output:
    return ChosenFile(stem, planned, labels, About())


def _codecs_in(path: Path) -> list[str]:
    try:
        return [track.format.codec for track in movie_in(path).tracks]
    except FormatError:  # frames alone, which no index describes
        return []


class _Remote(msgspec.Struct):
    """A file on a server, of which only pieces are fetched. left: bytes of the budget."""

    url: str
    length: int | None
    ranges: bool
    type: str
    find: Find
    left: int = _BUDGET


class _Stage(msgspec.Struct):
    """What the browser can ask for on loopback."""

    session: Session
    folder: Path
    base: str = ""
    local: dict[int, Path] = msgspec.field(default_factory=dict)
    remote: dict[int, _Remote] = msgspec.field(default_factory=dict)

    def address(self, number: int) -> str:
        return f"{self.base}/stage/{number}"

    async def page(self, request: web.Request) -> web.StreamResponse:
        source = (
            f'<!doctype html><video id="v" muted preload="auto" src="/media/{request.match_info["number"]}"></video>'
        )
        return web.Response(text=source, content_type="text/html")

    async def media(self, request: web.Request) -> web.StreamResponse:
        number = int(request.match_info["number"])
        if number in self.local:
            return web.FileResponse(self.local[number])
        remote = self.remote[number]
        asked = re.fullmatch(r"bytes=(\d+)-(\d*)", request.headers.get("Range", ""))
        first = int(asked[1]) if asked and remote.ranges else 0
        if remote.left <= 0 or (remote.length is not None and first >= remote.length):
            raise web.HTTPRequestRangeNotSatisfiable
        count = min(_PIECE, remote.left, (remote.length or _BUDGET) - first)
        data = bytearray()
        try:
            session = _behind(self.session, remote.find)
            async with session.open(remote.url, span=(first, count) if remote.ranges else None) as answer:
                async for chunk in answer.chunks:
                    data += chunk
                    if len(data) >= count:
                        break
        except MudlarkError as problem:
            raise web.HTTPBadGateway(text=problem.what) from problem
        remote.left -= len(data)
        headers = {"Content-Type": remote.type or "video/mp4", "Accept-Ranges": "bytes"}
        total = remote.length if remote.length is not None else len(data)
        headers["Content-Range"] = f"bytes {first}-{first + len(data) - 1}/{total}"
        return web.Response(status=206, body=bytes(data), headers=headers)


@asynccontextmanager
async def _stage(session: Session, folder: Path) -> AsyncIterator[_Stage]:
    stage = _Stage(session, folder)
    async with served({"/stage/{number:[0-9]+}": stage.page, "/media/{number:[0-9]+}": stage.media}) as origin:
        stage.base = origin
        yield stage


async def _play(context: "BrowserContext", address: str) -> dict[str, Any]:
    page = await context.new_page()
    try:
        await page.goto(address)
        preview: dict[str, Any] = await page.evaluate((files("mudlark") / "peek.js").read_text(encoding="utf-8"))
        return preview
    finally:
        await page.close()
