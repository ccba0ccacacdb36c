"""Asking the servers about the likeliest finds: what is there, how large, how long. A few kilobytes each.

Polite: bounded in number and time, a few requests at once.
"""

import asyncio
import time
from collections.abc import Iterable
from io import BytesIO

from mudlark.errors import FormatError, MudlarkError, NetworkError, Refused
from mudlark.find.judge.expiry import expires_at
from mudlark.find.judge.kind import kind_by_type
from mudlark.find.model import Find, Kind, Page
from mudlark.manifest.choose import choose
from mudlark.manifest.load import Protected, fill, is_manifest, open_presentation, wants_text
from mudlark.media.mp4.boxes import header
from mudlark.media.mp4.read import Movie, parse_movie
from mudlark.media.sniff import sniff
from mudlark.web.address import shown
from mudlark.web.secret import is_veiled
from mudlark.web.session import Look, Session, request_context

MOST = 24
MANY = 400  # where sizes decide what is listed
_AT_ONCE = 6
_LARGEST_INDEX = 8_000_000  # bytes of an MP4's index that are fetched to learn its length
_LONGEST = 20.0  # seconds for all of them
KINDS: dict[str, Kind] = {
    "hls": "hls",
    "dash": "dash",
    "mp4": "video",
    "matroska": "video",
    "ts": "video",
    "mp3": "audio",
    "ogg": "audio",
    "flac": "audio",
    "wav": "audio",
    "adts": "audio",
    "png": "image",
    "jpeg": "image",
    "gif": "image",
    "webp": "image",
    "pdf": "document",
    "webvtt": "subtitle",
    "zip": "package",
    "gzip": "package",
    "bzip2": "package",
    "xz": "package",
    "7z": "package",
    "rar": "package",
    "tar": "package",
    "iso": "package",
    "udf": "package",
    "elf": "package",
    "exe": "package",
    "cab": "package",
    "deb": "package",
    "rpm": "package",
    "vhd": "package",
    "vmdk": "package",
    "qcow2": "package",
}


async def probe(session: Session, page: Page, most: int = MOST) -> None:
    """Fill in what the servers say of the likeliest finds, whatever their kind; `page` should be ranked."""
    await ask(session, [find for find in page.finds if find.role != "segment"][:most])


async def ask(session: Session, finds: Iterable[Find]) -> None:
    """Ask about these finds; those not answered in time stay as they are."""
    gate = asyncio.Semaphore(_AT_ONCE)

    async def one(find: Find) -> None:
        async with gate:
            await _ask(session, find)

    tasks = [asyncio.create_task(one(find)) for find in finds if find.status is None and not find.problem]
    if not tasks:
        return
    try:
        done, _ = await asyncio.wait(tasks, timeout=_LONGEST)
    finally:
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
    for task in done:
        task.result()  # what a server does is noted with the find; anything else is a mistake of ours


async def _ask(session: Session, find: Find) -> None:
    find.expires = expires_at(find.url, time.time())
    if is_veiled(find.url) and not session.remembers(find.url):
        find.problem = (
            "its address has a secret that was left out where it was kept; listen anew, or with --keep-secrets"
        )
        return
    with request_context(find.referrer, find.sent):
        await _look_at(session, find)


async def _look_at(session: Session, find: Find) -> None:
    try:
        look = await session.glance(find.url)
        _describe(find, look)
        if movie := await movie_at(session, look):
            find.duration = movie.seconds or find.duration
            pictures = [track.format for track in movie.tracks if track.format.type == "video"]
            find.kind = "video" if pictures else "audio"
            if pictures:
                find.width, find.height = pictures[0].width, pictures[0].height
        if is_manifest(look):
            if not look.complete:
                look = await session.look(find.url, wants_text)
            find.kind = "dash" if sniff(look.body) == "dash" else "hls"
            presentation = open_presentation(look)
            find.renditions = [one.url for one in presentation.renditions if one.segments is None]
            best = choose(presentation)[0].rendition
            presentation = await fill(session, presentation, [best], patient=False)
            find.duration = presentation.duration
    except NetworkError as problem:
        find.status = problem.status
        find.problem = f"the server answers {problem.status}" if problem.status else _alone(problem, find)
    except MudlarkError as problem:
        if isinstance(problem, Protected) and problem.clear:
            return  # whoever hauls it is told which of its renditions can be taken
        find.problem = _alone(problem, find)
        find.protected = isinstance(problem, Refused)
    except TimeoutError:
        find.problem = "the server did not answer in time"


def _alone(problem: MudlarkError, find: Find) -> str:
    """What went wrong, as it reads behind the find's own address."""
    return problem.what.removeprefix(f"{shown(find.url)} ").rstrip(".")


def _describe(find: Find, look: Look) -> None:
    find.status, find.type = 200 if look.status == 206 else look.status, look.type or None
    find.final = look.url if look.url != find.url else None
    find.ranges = look.ranges
    find.form = sniff(look.body)
    find.expires = find.expires or (expires_at(look.url, time.time()) if find.final else None)
    if is_manifest(look):
        return
    if find.form == "html" and find.kind != "document":
        find.problem = "a web page answers instead of media"
        return
    if find.kind != "document" or find.form not in ("zip", "unknown"):  # office files are archives inside
        find.kind = KINDS.get(find.form) or kind_by_type(look.type) or find.kind
    find.bytes = look.length if look.length is not None else find.bytes
    if find.form == "mp4" and look.type.startswith("audio/"):
        find.kind = "audio"
    if find.kind == "image":
        from PIL import Image, UnidentifiedImageError  # costs start-up time that few finds are worth

        try:
            with Image.open(BytesIO(look.body)) as picture:
                find.width, find.height = picture.size
        except (UnidentifiedImageError, OSError, ValueError, Image.DecompressionBombError):
            return


async def movie_at(session: Session, look: Look) -> Movie | None:
    """The index of an MP4, from its head or, where parts can be asked for, from its end; not knowing is no problem."""
    if sniff(look.body) != "mp4" or not look.length:
        return None
    at, body, begin = 0, look.body, 0
    try:
        while at < look.length:
            if at + 16 > begin + len(body):
                if not look.ranges or begin or look.length - at > _LARGEST_INDEX:
                    return None
                begin, body = at, await _span(session, look.url, at, look.length - at)
            box = header(body[at - begin : at - begin + 16], at, look.length)
            if box.kind == "moov":
                if box.end > begin + len(body) and look.ranges and box.end - at <= _LARGEST_INDEX:
                    begin, body = at, await _span(session, look.url, at, box.end - at)
                inside = body[at - begin : box.end - begin]
                return parse_movie(inside, at) if len(inside) == box.end - at else None
            at = box.end
    except (FormatError, NetworkError):
        return None
    return None


async def _span(session: Session, url: str, start: int, count: int) -> bytes:
    async with session.open(url, span=(start, count)) as answer:
        return b"".join([chunk async for chunk in answer.chunks])
