"""Asking the servers about the likeliest finds: what is there, how large, how long. A few kilobytes each.

Polite: bounded in number and time, a few requests at once.
"""

import asyncio
import time
from collections.abc import Iterable, Sequence
from contextlib import suppress
from io import BytesIO
from typing import TYPE_CHECKING

from msgspec.structs import replace

from mudlark.errors import FormatError, MudlarkError, NetworkError, Refused
from mudlark.find.judge.expiry import expires_at
from mudlark.find.judge.kind import kind_by_type
from mudlark.find.model import PLAYED, Find, Kind, Response
from mudlark.guard import reading
from mudlark.manifest import radio
from mudlark.manifest.choose import choose
from mudlark.manifest.load import Protected, fill, is_manifest, is_mpd, open_presentation, wants_text
from mudlark.manifest.model import Live
from mudlark.media.forms import CATEGORIES
from mudlark.media.mp4.boxes import header
from mudlark.media.mp4.tree import Sketch, sketch
from mudlark.media.sniff import sniff
from mudlark.web.address import shown
from mudlark.web.answer import Content
from mudlark.web.redact import is_redacted
from mudlark.web.session import Session

if TYPE_CHECKING:
    from mudlark.media.movie import Movie

MOST = 24
MANY = 400  # where sizes decide what is listed
_AT_ONCE = 6
_LARGEST_INDEX = 8_000_000  # bytes of an MP4's index that are fetched to learn its length
NO_MEDIA = {"html": "a web page", "json": "JSON", "xml": "XML", "text": "a text"}  # by what the first bytes are
_CLUSTER = b"\x1f\x43\xb6\x75"  # how a cluster of WebM and Matroska begins
_LONGEST, _EACH = 20.0, 0.1  # seconds for all of them, and for each one more


async def probe(session: Session, finds: Sequence[Find], most: int = MOST) -> list[Find]:
    """Ranked finds with what the servers say of the likeliest, whatever their kind."""
    answers = await ask(session, [find for find in finds if find.role != "segment"][:most])
    return [replace(find, response=answers.get(find.url, find.response)) for find in finds]


async def ask(session: Session, finds: Iterable[Find]) -> dict[str, Response]:
    """What the servers say of these finds, by address; those answered before, or not in time, are left out."""
    gate = asyncio.Semaphore(_AT_ONCE)

    async def one(find: Find) -> Response:
        async with gate:
            return await _ask(session, find)

    unasked = [find for find in finds if find.response.status is None and not find.problem and find.kind != "tap"]
    tasks = {asyncio.create_task(one(find)): find.url for find in unasked}
    if not tasks:
        return {}
    try:
        done, _ = await asyncio.wait(tasks, timeout=_LONGEST + _EACH * len(tasks))
    finally:
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
    # what a server does is in its response; anything else is a mistake of ours
    return {tasks[task]: task.result() for task in done}


async def _ask(session: Session, find: Find) -> Response:
    expires = expires_at(find.url, time.time())
    if is_redacted(find.url) and not session.remembers(find.url):
        return Response(
            expires=expires,
            problem="its address has a secret that was left out where it was kept; listen anew, or with --keep-secrets",
        )
    response = Response(expires=expires)
    behind = session.behind(find.mention.referrer, find.mention.sent)
    try:
        look = await behind.glance(find.url)
        response = _described(find, look, response)
        if radio.listed(look):
            return replace(response, kind="audio", live=Live())
        if radio.is_endless(look):
            return replace(response, live=Live())
        if is_manifest(look):
            return await _with_presentation(behind, find, look, response)
        if find.kind in PLAYED and response.format in NO_MEDIA:
            return replace(response, problem=_instead(response.format))
        if index := await _index_at(behind, look):
            with suppress(FormatError):  # which is told where it is hauled
                response = _with_film(response, sketch(*index))
    except NetworkError as problem:
        words = f"the server answers {problem.status}" if problem.status else _alone(problem, find)
        return replace(response, status=problem.status, problem=words)
    except MudlarkError as problem:
        return replace(response, problem=_alone(problem, find), protected=isinstance(problem, Refused))
    except TimeoutError:
        return replace(response, problem="the server did not answer in time")
    return response


async def _with_presentation(session: Session, find: Find, look: Content, response: Response) -> Response:
    """What a manifest promises; one that is guarded but has clear renditions too is no problem."""
    if not look.complete:
        look = await session.look(find.url, wants_text)
    response = replace(response, kind="dash" if is_mpd(look) else "hls")
    try:
        presentation = await open_presentation(session, look)
        own = (find.url, look.url)  # a playlist that may still grow is its own only rendition
        listed = tuple(
            one.url for one in presentation.renditions if one.segments is None and one.url and one.url not in own
        )
        response = replace(response, renditions=listed)
        best = choose(presentation)[0].rendition
        presentation = await fill(session, presentation, [best], patient=False)
    except Protected as problem:
        if problem.clear:
            return response  # whoever hauls it is told which of its renditions can be taken
        return replace(response, problem=_alone(problem, find), protected=True)
    except NetworkError as problem:
        words = f"the server answers {problem.status}" if problem.status else _alone(problem, find)
        return replace(response, status=problem.status, problem=words)
    except MudlarkError as problem:
        return replace(response, problem=_alone(problem, find), protected=isinstance(problem, Refused))
    live = presentation.live
    return replace(response, duration=None if live else presentation.duration, live=live)


def _with_film(response: Response, film: Sketch) -> Response:
    width, height = film.size or (None, None)
    kind: Kind = "video" if film.size else "audio"
    return replace(response, duration=film.duration or response.duration, kind=kind, width=width, height=height)


def _alone(problem: MudlarkError, find: Find) -> str:
    """What went wrong, as it reads behind the find's own address."""
    return problem.what.removeprefix(f"{shown(find.url)} ").rstrip(".")


def _instead(form: str) -> str:
    return f"{NO_MEDIA[form]} answers instead of media"


def _described(find: Find, look: Content, before: Response) -> Response:
    """What the head of an answer tells."""
    final = look.url if look.url != find.url else None
    response = replace(
        before,
        status=200 if look.status == 206 else look.status,
        type=look.type or None,
        final=final,
        ranges=look.ranges,
        format=sniff(look.body),
        expires=before.expires or (expires_at(look.url, time.time()) if final else None),
    )
    if is_manifest(look):
        return response
    if response.format == "html" and find.kind != "document":
        return replace(response, problem=_instead(response.format))
    kind = find.kind
    if kind != "document" or response.format not in ("zip", "unknown"):  # office files are archives inside
        kind = CATEGORIES.get(response.format or "") or kind_by_type(look.type) or kind
    if response.format == "mp4" and look.type.startswith("audio/"):
        kind = "audio"
    width, height = _picture_size(look.body) if kind == "image" else (None, None)
    part = part_of_film(look)
    return replace(response, kind=kind, bytes=look.length, width=width, height=height, part=part)


def part_of_film(look: Content) -> str | None:
    """What an answer is, if it is no film but a part of one: an initialization section, or a fragment."""
    form = sniff(look.body)
    if form == "matroska":
        if look.body.startswith(_CLUSTER):
            return "a cluster of a film alone"
        return "an initialization section, without a film" if look.complete and _CLUSTER not in look.body else None
    if form != "mp4":
        return None
    kinds = []
    at, length = 0, look.length or len(look.body)
    try:
        while at + 8 <= len(look.body):
            box = header(look.body[at : at + 16], at, length)
            kinds.append(box.kind)
            at = box.end
    except FormatError:
        return None
    if "moov" not in kinds and kinds and kinds[0] in ("styp", "moof", "sidx", "emsg", "prft"):
        return "a fragment of a film alone"
    if kinds[-1:] == ["moov"] and at >= length and "mdat" not in kinds:
        return "an initialization section, without a film"
    return None


def _picture_size(head: bytes) -> tuple[int | None, int | None]:
    from PIL import Image  # costs start-up time that few finds are worth

    with suppress(FormatError), reading("The picture"), Image.open(BytesIO(head)) as picture:
        return picture.size
    return None, None


async def movie_at(session: Session, look: Content) -> "Movie | None":
    """An MP4 as its index has it, from its head or, where parts can be asked for, from its end; not knowing is no
    problem."""
    from mudlark.media.mp4.read import parse_movie  # with arrays

    try:
        index = await _index_at(session, look)
        return parse_movie(*index) if index else None
    except FormatError:
        return None


async def _index_at(session: Session, look: Content) -> tuple[bytes, int] | None:
    """The `moov` box of an MP4, and at which byte it begins."""
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
                return (inside, at) if len(inside) == box.end - at else None
            at = box.end
    except (FormatError, NetworkError):
        return None
    return None


async def _span(session: Session, url: str, start: int, count: int) -> bytes:
    async with session.open(url, span=(start, count)) as answer:
        return b"".join([chunk async for chunk in answer.chunks])
