"""From an answer of a server to a presentation: the playlists behind a playlist are fetched here, and only here."""

import asyncio
import logging
import time
from collections.abc import Iterable, Mapping, Sequence
from email.utils import parsedate_to_datetime
from urllib.parse import urlsplit, urlunsplit

from msgspec.structs import replace

from mudlark.errors import ManifestError, MudlarkError, NetworkError, Refused
from mudlark.manifest import hls, radio
from mudlark.manifest.model import Document, IndexedFile, Live, Presentation, Rendition, Segment
from mudlark.manifest.plain import plain_file
from mudlark.manifest.sequences import SequenceChain
from mudlark.media.forms import FORMS
from mudlark.media.sniff import sniff
from mudlark.together import together
from mudlark.web.address import shown
from mudlark.web.answer import Content
from mudlark.web.resource import Resource
from mudlark.web.session import Session

DESCRIBED = frozenset({"iiif", "iiif-image", "dzi"})  # pictures by a standard
_TELLING = ("date", "content-type", "content-disposition", "last-modified", "etag")
_FORBIDDEN = 403
_DEEPEST = 3  # lists that lead to lists
_MOST_TRIED = 20  # renditions that are looked at for one in clear
_QUIET = 5  # target durations after which a list that has not changed is taken for finished
_SHORTEST_TARGET, _LONGEST_WAIT = 2.0, 15.0  # seconds
_log = logging.getLogger(__name__)


class Protected(Refused):
    """Media that a key system protects. clear: the names of renditions of the same presentation that none does."""

    clear: tuple[str, ...] = ()


def wants_text(head: bytes, kind: str) -> bool:
    """True if an answer that begins so is a page or a manifest, to be read whole. What holds NULs is no text, whatever
    its type says."""
    form = sniff(head)
    if form == "gzip" and ("mpegurl" in kind or "dash+xml" in kind):
        return True
    if form in FORMS and FORMS[form].text:
        return True
    wide = head.startswith((b"\xff\xfe", b"\xfe\xff"))  # UTF-16
    return form == "unknown" and kind.startswith("text/") and (wide or b"\0" not in head)


def is_manifest(look: Content) -> bool:
    """True if the answer is, or claims to be, a manifest. A playlist's type on a web page is an expired link."""
    name = look.url.partition("?")[0]
    return sniff(look.body) in ("hls", "dash") or "mpegurl" in look.type or name.endswith(".m3u8") or is_mpd(look)


def is_mpd(look: Content) -> bool:
    """True if the answer is a DASH manifest, also one in a gzip file."""
    if sniff(look.body) == "dash":
        return True
    stated = "dash+xml" in look.type or look.url.partition("?")[0].endswith(".mpd")
    return stated and sniff(look.body) in ("gzip", "xml")


async def open_presentation(session: Session, look: Content) -> Presentation:
    """The presentation that an answer holds: a manifest, pictures by a standard, or a plain file."""
    if is_mpd(look):
        return await _open_mpd(session, look)
    if look.complete and sniff(look.body) in DESCRIBED:
        from mudlark.manifest.pictures.open import open_pictures  # few need it

        return await open_pictures(session, look)
    return open_playlist(look)


async def _open_mpd(session: Session, look: Content) -> Presentation:
    from mudlark.manifest.dash.document import parse_document  # its XML library is needed for nothing else
    from mudlark.manifest.dash.presentation import open_mpd
    from mudlark.manifest.dash.remote import with_remote_parts

    root = await asyncio.to_thread(parse_document, look.body, look.url)
    parts = await with_remote_parts(session, root, look.url)
    return await asyncio.to_thread(open_mpd, root, look.url, (Document(look.url, look.body), *parts))


def open_playlist(look: Content) -> Presentation:
    """The presentation that an HLS playlist, or a plain file, holds."""
    if not is_manifest(look):
        return plain_file(look)
    playlist = hls.parse(look.body, look.url)
    document = Document(look.url, look.body)
    if not playlist.master:
        if playlist.protected:
            raise refusal(look.url, playlist.protected)
        rendition = Rendition("v1", "video", look.url)
        rendition = _filled(rendition, playlist)
        if not playlist.ended and not _old(look, playlist):
            rendition = replace(rendition, segments=None)  # whether it is finished is asked when it is filled
            return Presentation(look.url, "hls", (rendition,))
        return Presentation(look.url, "hls", (rendition,), (document,), playlist.notes)
    if playlist.only_stills:
        raise ManifestError(
            f"{look.url} lists still pictures for seeking only (EXT-X-I-FRAME-STREAM-INF), no film.",
            advice="Look for the master playlist that the page itself plays.",
        )
    return Presentation(look.url, "hls", playlist.renditions, (document,), playlist.notes)


async def load(session: Session, address: str) -> Presentation:
    """The presentation at an address. A plain file is asked for its beginning as a part, to see whether that works."""
    look = await session.look(address, wants_text)
    for _ in range(_DEEPEST):
        if not (listed := radio.listed(look)):
            break
        look = await session.look(listed[0], wants_text)
    if radio.is_endless(look):
        return radio.radio(look)
    if is_manifest(look) or look.complete:
        return _with_headers(await open_presentation(session, look), look)
    return _with_headers(plain_file(await session.glance(look.url, patient=True), look), look)


def _with_headers(presentation: Presentation, look: Content) -> Presentation:
    """The presentation with the header fields that tell of its source."""
    told = tuple((name, look.headers[name]) for name in _TELLING if name in look.headers)
    return replace(presentation, facts=replace(presentation.facts, headers=told))


async def fill(
    session: Session,
    presentation: Presentation,
    renditions: Iterable[Rendition],
    *,
    patient: bool = True,
    strict: bool = True,
) -> Presentation:
    """The presentation with the playlists of those renditions read that were not yet. patient: wait where it has to be
    seen whether one still grows. strict: raise Refused where one is protected, and name those that are not; else it is
    marked.
    """
    if presentation.kind == "dash":
        return await _fill_indexes(session, presentation, renditions, strict=strict)
    waiting = [one for one in renditions if one.segments is None and one.url]
    master = next((document for document in presentation.documents if document.url == presentation.url), None)
    variables = hls.parse(master.body, master.url).variables if master and waiting else {}
    read = await together(_read(session, one, presentation.url, variables, patient) for one in waiting)
    changed: dict[str, Rendition] = {}
    documents: list[Document] = []
    notes = list(presentation.notes)
    live = presentation.live
    for one, (look, playlist, running) in zip(waiting, read, strict=True):
        if running and one.type != "subtitles":
            depth = sum(segment.duration for segment in playlist.segments)
            live = Live(max(depth, live.depth or 0.0) if live else depth, playlist.target)
        if playlist.protected and strict:
            raise await _refusal(session, presentation, one, playlist, variables)
        filled = _filled(one, playlist)
        changed[one.name] = await _with_copies(session, filled, look.url, variables)
        documents.append(Document(look.url, look.body))
        notes += playlist.notes
    known = presentation.with_renditions(changed, tuple(documents))
    return replace(known, notes=tuple(dict.fromkeys(notes)), live=live)


async def _fill_indexes(
    session: Session, presentation: Presentation, renditions: Iterable[Rendition], *, strict: bool
) -> Presentation:
    """The presentation with those segments known that indexes inside of files list."""
    from mudlark.manifest.dash.remote import indexed

    async def filled(one: Rendition) -> Rendition:
        found = [await indexed(session, piece) if isinstance(piece, IndexedFile) else piece for piece in one.pieces]
        return replace(one, segments=found[0] if len(found) == 1 else SequenceChain(found))

    wanted = list(renditions)
    if strict and (guarded := next((one for one in wanted if one.protected), None)):
        clear = [one for one in presentation.renditions if one.type in ("video", "audio") and not one.protected]
        raise _with_clear(refusal(presentation.url, guarded.protected), clear)
    waiting = [one for one in wanted if one.segments is None and not one.protected]
    known = await together(filled(one) for one in waiting)
    return presentation.with_renditions({one.name: one for one in known}, ())


async def _read(
    session: Session, rendition: Rendition, master: str, variables: Mapping[str, str], patient: bool
) -> tuple[Content, hls.Playlist, bool]:
    """The playlist of a rendition, from whichever of its addresses gives it, and whether it is still running; waits to
    see that, where neither it nor its server says."""
    look, playlist = await _read_any(session, rendition, master, variables)
    over = playlist.ended or _old(look, playlist)
    new = _new(look, playlist)
    if not patient or over or (new and playlist.sequence) or not playlist.segments or playlist.protected:
        return look, playlist, not over
    await asyncio.sleep(min(max(playlist.target or 0.0, _SHORTEST_TARGET) * 1.5, _LONGEST_WAIT))
    again, later = await _read_any(session, rendition, master, variables)
    if later.segments != playlist.segments or later.ended:
        return again, later, not later.ended
    _log.info("%s does not say that it is finished, and does not grow", shown(playlist.url))
    # a server that states a new moment with each answer does not know when the list changed
    return again, later, new and again.headers.get("last-modified") == look.headers.get("last-modified")


async def _read_any(
    session: Session, rendition: Rendition, master: str, variables: Mapping[str, str]
) -> tuple[Content, hls.Playlist]:
    addresses = [rendition.url, *rendition.others]
    if extra := with_query_of(master, rendition.url):
        addresses.append(extra)
    first: NetworkError | None = None
    for address in addresses:
        if address == extra and first is not None and first.status != _FORBIDDEN:
            continue
        try:
            look = await session.look(address, wants_text)
        except NetworkError as problem:
            first = first or problem
            continue
        if first is not None:
            _log.warning("%s cannot be had; %s is taken instead", shown(rendition.url), shown(address))
        return look, hls.parse(look.body, look.url, variables)
    assert first is not None
    raise first


async def _with_copies(session: Session, rendition: Rendition, url: str, variables: Mapping[str, str]) -> Rendition:
    """The rendition with the segments of its other playlists as other addresses of its own; a copy that cannot be had,
    or that lists something else, is none."""
    segments = rendition.segments or ()
    for address in (rendition.url, *rendition.others):
        if address == url:
            continue
        try:
            look = await session.look(address, wants_text)
            copies = hls.parse(look.body, look.url, variables).segments
        except MudlarkError:
            continue
        if [one.duration for one in copies] == [one.duration for one in segments]:
            segments = tuple(
                replace(one, resource=_also_at(one.resource, copy.resource.url))
                for one, copy in zip(segments, copies, strict=True)
            )
    return replace(rendition, segments=segments)


def _also_at(resource: Resource, url: str) -> Resource:
    return resource if url == resource.url else replace(resource, others=(*resource.others, url))


def with_query_of(parent: str, child: str) -> str | None:
    """The child's address with its parent's query, where it is of the same host and has none. Many servers want that,
    though relative addresses are resolved without (RFC 3986 §5.3); so it is tried only after a refusal."""
    above, below = urlsplit(parent), urlsplit(child)
    if not above.query or below.query or above.netloc != below.netloc:
        return None
    return urlunsplit(below._replace(query=above.query))


def _old(look: Content, playlist: hls.Playlist) -> bool:
    """True if the server says that a playlist has not changed for long: it is finished, whatever it says itself."""
    age = _age(look)
    return age is not None and age > _QUIET * max(playlist.target or 0.0, _SHORTEST_TARGET) + 30.0


def _new(look: Content, playlist: hls.Playlist) -> bool:
    """True if the server says that a playlist has changed just now."""
    age = _age(look)
    return age is not None and age < 2 * max(playlist.target or 0.0, _SHORTEST_TARGET)


def _age(look: Content) -> float | None:
    """Seconds since the server says that something has changed, by its own clock where it states one."""
    try:
        changed = parsedate_to_datetime(look.headers.get("last-modified", "")).timestamp()
    except (ValueError, TypeError, OverflowError):
        return None
    try:
        return parsedate_to_datetime(look.headers.get("date", "")).timestamp() - changed
    except (ValueError, TypeError, OverflowError):
        return time.time() - changed


async def _refusal(
    session: Session, presentation: Presentation, one: Rendition, playlist: hls.Playlist, variables: Mapping[str, str]
) -> Protected:
    """Words for a protected rendition, with those of the presentation that are not."""
    others = [
        other
        for other in presentation.renditions
        if other.type in ("video", "audio") and other.url and other.name != one.name and other.segments is None
    ]
    clear = []
    for other in others[:_MOST_TRIED]:
        try:
            _, there = await _read_any(session, other, presentation.url, variables)
        except (NetworkError, ManifestError):
            continue
        if not there.protected:
            clear.append(other)
    return _with_clear(refusal(playlist.url, playlist.protected), clear)


def _with_clear(refused: Protected, clear: Sequence[Rendition]) -> Protected:
    """The refusal, with the renditions that can be taken instead."""
    if clear:
        names = ", ".join(f"{other.name} ({other.language or other.height or other.type})" for other in clear)
        refused.advice += f" Of the same presentation these are in clear: {names}; take one with --rendition NAME."
        refused.clear = tuple(other.name for other in clear)
    return refused


def refusal(url: str, systems: Sequence[str]) -> Protected:
    """Words for what is protected."""
    return Protected(f"{url} is protected by {' and '.join(systems)}.", "Mudlark does not fetch protected media.")


def _filled(rendition: Rendition, playlist: hls.Playlist) -> Rendition:
    """The rendition with the segments that its playlist lists."""
    if playlist.master:
        raise ManifestError(f"{playlist.url} is a master playlist where a media playlist was expected.")
    if not playlist.segments:
        raise ManifestError(
            f"{playlist.url} lists no segments.", advice="The recording may not have begun, or be gone."
        )
    segments = playlist.segments
    if urlsplit(playlist.url).query:
        segments = tuple(_with_fallback(segment, playlist.url) for segment in segments)
    return replace(rendition, segments=segments, precision=playlist.precision, protected=playlist.protected)


def _with_fallback(segment: Segment, playlist: str) -> Segment:
    extra = with_query_of(playlist, segment.resource.url)
    return replace(segment, resource=replace(segment.resource, others=(extra,))) if extra else segment
