"""Asking the servers about the likeliest finds: what is there, how large, how long. A few kilobytes each."""

import asyncio

from mudlark.errors import FormatError, MudlarkError, NetworkError
from mudlark.find.model import PLAYED, Find, Page
from mudlark.manifest.choose import highest
from mudlark.manifest.load import fill, is_manifest, open_presentation, wants_text
from mudlark.media.mp4.read import parse_movie, scan
from mudlark.media.sniff import sniff
from mudlark.web.session import Look, Session

MOST = 12


async def probe(session: Session, page: Page, most: int = MOST) -> None:
    """Fill in status, type, bytes and duration of the first `most` played finds, or what stood in the way."""
    likely = [find for find in page.finds if find.kind in PLAYED][:most]
    await asyncio.gather(*(_ask(session, find) for find in likely))


async def _ask(session: Session, find: Find) -> None:
    try:
        look = await session.look(find.url, wants_text)
        find.status, find.type = look.status, look.type or None
        if sniff(look.body) == "html":
            find.problem = "a web page answers instead of media"
        elif is_manifest(look):
            find.kind = "dash" if sniff(look.body) == "dash" else "hls"
            presentation = open_presentation(look)
            await fill(session, presentation, highest(presentation)[:1])
            find.duration = presentation.duration
        else:
            find.bytes = look.length
            find.duration = _duration(look)
    except NetworkError as problem:
        find.status = problem.status
        find.problem = f"the server answers {problem.status}" if problem.status else problem.what
    except MudlarkError as problem:
        find.problem = problem.what


def _duration(look: Look) -> float | None:
    """Seconds, if the head of an MP4 holds its whole index; not knowing is no problem."""
    if sniff(look.body) != "mp4" or not look.length:
        return None
    try:
        for box in scan(lambda at, size: look.body[at : at + size], look.length):
            if box.kind == "moov" and box.end <= len(look.body):
                return parse_movie(look.body[box.start : box.end], box.start).seconds or None
    except FormatError:
        return None
    return None
