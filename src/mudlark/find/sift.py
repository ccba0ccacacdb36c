"""From an address to ranked finds: fetch, read, rank, ask, rank again."""

from mudlark.errors import NothingFound
from mudlark.find.model import PLAYED, Evidence, Find, Kind, Page
from mudlark.find.page import read_page, tidy
from mudlark.find.probe import probe
from mudlark.find.rank import rank
from mudlark.manifest.load import is_manifest, wants_text
from mudlark.media.sniff import sniff
from mudlark.web.address import file_part
from mudlark.web.session import Look, Session, shown

_KINDS: dict[str, Kind] = {
    **{"hls": "hls", "dash": "dash", "mp4": "video", "matroska": "video", "ts": "video"},
    **{"mp3": "audio", "ogg": "audio", "flac": "audio", "wav": "audio", "adts": "audio"},
    **{"png": "image", "jpeg": "image", "gif": "image", "webp": "image", "pdf": "document", "zip": "package"},
    **{"webvtt": "subtitle"},
}


async def sift(session: Session, address: str) -> Page:
    """The page (or the media that stands there itself) with its finds, best first."""
    return await sift_look(session, await session.look(address, wants_text))


async def sift_look(session: Session, look: Look) -> Page:
    """The same for an answer that is there already."""
    page = page_of(look)
    rank(page)
    await probe(session, page)
    rank(page)
    return page


def page_of(look: Look) -> Page:
    """The finds of an answer, not yet ranked: a page has many, a media file or manifest is its own find."""
    form = sniff(look.body)
    kind: Kind | None = "hls" if is_manifest(look) else _KINDS.get(form)
    if kind is None and (form == "html" or look.type in ("text/html", "application/xhtml+xml")):
        page = read_page(decode(look), look.url)
        if not page.finds:
            raise NothingFound(
                f"There is no media in the source of {shown(look.url)}.",
                "It may only be asked for once the page is played, or live in a frame; try the address of the player.",
            )
        return page
    if kind is None:
        raise NothingFound(
            f"{shown(look.url)} is neither a web page nor media (it is sent as {look.type or 'no type'}, "
            f"{look.length or len(look.body):,} bytes of {form}).",
            "Give the address of a page, a playlist or a media file.",
        )
    find = Find(look.url, kind, evidence=[Evidence("the address given", None, 30)])
    return Page(look.url, tidy(file_part(look.url).rpartition(".")[0]), finds=[find])


def decode(look: Look) -> str:
    """The text of a page, by the charset the server states, a byte order mark, or UTF-8."""
    charset = "utf-8-sig" if look.body.startswith(b"\xef\xbb\xbf") else look.charset or "utf-8"
    try:
        return look.body.decode(charset, "replace")
    except LookupError:
        return look.body.decode("utf-8", "replace")


def best(page: Page) -> Find:
    """The find to haul: the first that is played and alive."""
    for find in page.finds:
        if find.kind in PLAYED and not find.problem and find.role == "main":
            return find
    for find in page.finds:
        if find.kind in PLAYED and find.problem:
            raise NothingFound(
                f"The best find on {shown(page.url)} cannot be used: {shown(find.url)}: {find.problem}.",
                "Look at the others with `mudlark sift`, and haul one of them by its address.",
            )
    raise NothingFound(
        f"There is no film or sound in the source of {shown(page.url)}.", "See `mudlark sift` for the rest."
    )
