"""Looking at what a presentation that is still running lists now: one list a rendition in HLS, one manifest in DASH.

Follows RFC 8216 §6.3.4 and its revision §6.2.5 (blocking reload), ISO/IEC 23009-1 §5.4 (updates), §5.8.4.11 (clocks).
"""

import asyncio
from collections.abc import Sequence
from contextlib import suppress
from email.utils import parsedate_to_datetime
from typing import TYPE_CHECKING, Protocol

import msgspec
from msgspec.structs import replace

from mudlark.errors import ManifestError, MudlarkError, NetworkError
from mudlark.manifest import hls
from mudlark.manifest.live.clock import WallClock
from mudlark.manifest.load import refusal, wants_text
from mudlark.manifest.model import Document, Presentation, Rendition, Segment
from mudlark.web.address import resolve
from mudlark.web.answer import Content
from mudlark.web.session import Session

if TYPE_CHECKING:
    from mudlark.manifest.dash.document import Element

_FARTHEST = 2.0  # seconds by which the clock of this machine may be off, before the server's is taken


class Listing(msgspec.Struct, frozen=True):
    """What is listed of one rendition now. ended: nothing more will come. target: seconds that no segment exceeds.
    origin: the time of day, in seconds since 1970, at which the presentation's time began, where that is known.
    modified: when the list was made, in seconds since 1970, where its server says so. parts: of the segment that is
    being made, and comes next."""

    segments: Sequence[Segment]
    ended: bool
    target: float | None
    origin: float | None = None
    modified: float | None = None
    parts: Sequence[Segment] = ()


class Lists(Protocol):
    """names: of the renditions whose lists come together. by_time: their segments are known by their times."""

    names: tuple[str, ...]
    by_time: bool

    async def look(self) -> dict[str, Listing]: ...


class HlsList:
    """The playlist of one rendition."""

    by_time = False

    def __init__(self, session: Session, rendition: Rendition, variables: dict[str, str]) -> None:
        self.names: tuple[str, ...] = (rendition.name,)
        self._session = session
        self._addresses = (rendition.url, *rendition.others)
        self._variables = variables
        self._next: int | None = None
        self._last: hls.Playlist | None = None

    async def look(self) -> dict[str, Listing]:
        """The playlist now; a server that offers to wait for the next segment is asked to."""
        look = await self._fetch()
        playlist = hls.parse(look.body, look.url, self._variables)
        if playlist.skipped:
            playlist = _completed(playlist, self._last)
        self._last = playlist
        if playlist.protected:
            raise refusal(look.url, playlist.protected)
        if playlist.master:
            raise ManifestError(f"{look.url} is a master playlist where a media playlist was expected.")
        blocks = playlist.can_block and playlist.segments and not playlist.ended
        self._next = playlist.segments[-1].sequence + 1 if blocks else None
        made = _moment(look.headers.get("last-modified"))
        return {
            self.names[0]: Listing(
                playlist.segments, playlist.ended, playlist.target, modified=made, parts=playlist.parts
            )
        }

    async def _fetch(self) -> Content:
        failed: NetworkError | None = None
        for address in self._addresses:
            asked = address
            asking = [f"_HLS_msn={self._next}"] if self._next is not None else []
            if self._last and self._last.can_skip and not any(one.cipher for one in self._last.segments):
                asking.append("_HLS_skip=YES")
            if asking:
                asked += f"{'&' if '?' in address else '?'}{'&'.join(asking)}"
            try:
                return await self._session.look(asked, wants_text)
            except NetworkError as problem:
                failed = failed or problem
        assert failed is not None
        raise failed


def _moment(stated: str | None) -> float | None:
    """A time of HTTP (RFC 9110 §5.6.7) in seconds since 1970; None where none is stated."""
    with suppress(ValueError, TypeError):
        return parsedate_to_datetime(stated).timestamp() if stated else None
    return None


def _completed(playlist: hls.Playlist, before: hls.Playlist | None) -> hls.Playlist:
    """A list that leaves out what it has told of before (revision §6.3.7), with that. Raises where it is not known."""
    known = {segment.sequence: segment for segment in before.segments} if before else {}
    first = playlist.sequence - playlist.skipped
    try:
        left_out = [known[number] for number in range(first, playlist.sequence)]
    except KeyError as problem:
        raise ManifestError(f"{playlist.url} leaves out segments that it has not told of before.") from problem
    init = left_out[-1].init if left_out else None
    stretch = left_out[-1].stretch if left_out else 0
    own = [
        replace(segment, init=segment.init or init, stretch=segment.stretch - playlist.before + stretch)
        for segment in (*playlist.segments, *playlist.parts)
    ]
    whole = len(playlist.segments)
    return replace(playlist, segments=(*left_out, *own[:whole]), parts=tuple(own[whole:]))


class DashList:
    """A manifest, of which several renditions are followed. It is fetched again when it says that it may have changed;
    in between, the clock tells what there is."""

    by_time = True

    def __init__(self, session: Session, presentation: Presentation, names: Sequence[str], clock: WallClock) -> None:
        self.names = tuple(names)
        self._session = session
        self._address = presentation.url
        self._clock = clock
        self._root: Element | None = None
        self._url = presentation.url
        self._fetched = 0.0
        self._ahead: float | None = None

    async def look(self) -> dict[str, Listing]:
        """What there is now."""
        from mudlark.manifest.dash.document import duration, moment
        from mudlark.manifest.dash.presentation import open_mpd

        now = self._clock.now()
        period = duration(self._root, "minimumUpdatePeriod") if self._root is not None else 0.0
        if self._root is None or (period is not None and now - self._fetched >= period):
            await self._fetch(now)
        root = self._root
        assert root is not None
        presentation = await asyncio.to_thread(open_mpd, root, self._url, (), self._clock.now() + (self._ahead or 0.0))
        origin = moment(root, "availabilityStartTime")
        listings = {}
        for name in self.names:
            one = next((one for one in presentation.renditions if one.name == name), None)
            if one is None:
                continue
            if one.protected:
                raise refusal(self._url, one.protected)
            target = presentation.live.target if presentation.live else None
            listings[name] = Listing(one.segments or (), presentation.live is None, target, origin)
        return listings

    async def _fetch(self, now: float) -> None:
        from mudlark.manifest.dash.document import own, parse_document
        from mudlark.manifest.dash.remote import with_remote_parts

        if self._root is not None and await self._patch(self._root, now):
            return
        look = await self._session.look(self._address, wants_text)
        root = await asyncio.to_thread(parse_document, look.body, look.url)
        await with_remote_parts(self._session, root, look.url)
        self._root, self._url, self._fetched = root, look.url, now
        for element in own(root, "Location"):
            if moved := resolve(look.url, (element.text or "").strip()):
                self._address = moved
                break
        if self._ahead is None:
            self._ahead = await _server_clock(self._session, root, look, self._clock)

    async def _patch(self, root: "Element", now: float) -> bool:
        """Take the changes alone, where the manifest says that they can be had; True if that worked."""
        from mudlark.manifest.dash.document import first
        from mudlark.manifest.dash.patch import patched

        place = first(root, "PatchLocation")
        address = resolve(self._url, (place.text or "").strip()) if place is not None else None
        if address is None:
            return False
        try:
            look = await self._session.look(address, lambda _head, _type: True)
            self._root = await asyncio.to_thread(patched, root, look.body, look.url)
        except MudlarkError:
            return False
        self._fetched = now
        return True


async def _server_clock(session: Session, root: "Element", look: Content, clock: WallClock) -> float:
    """Seconds by which the server's clock is ahead of this machine's: as UTCTiming says, else as its answer is
    dated."""
    from mudlark.manifest.dash.document import own, read_moment

    for element in own(root, "UTCTiming"):
        scheme, value = (element.get("schemeIdUri") or "").lower(), (element.get("value") or "").split(" ")[0]
        stated: float | None = None
        try:
            if "utc:direct" in scheme:
                stated = read_moment(value)
            elif "utc:http-head" in scheme and (address := resolve(look.url, value)):
                stated = _dated(await session.glance(address))
            elif "utc:http-" in scheme and (address := resolve(look.url, value)):
                answer = await session.look(address, lambda _head, _type: True)
                stated = read_moment(answer.body[:100].decode("ascii", "replace"))
        except MudlarkError:
            continue
        if stated is not None:
            return stated - clock.now()
    dated = _dated(look)
    off = dated - clock.now() if dated is not None else 0.0
    return off if abs(off) > _FARTHEST else 0.0


def _dated(look: Content) -> float | None:
    try:
        return parsedate_to_datetime(look.headers.get("date", "")).timestamp()
    except (ValueError, TypeError, OverflowError):
        return None


def lists_of(
    session: Session, presentation: Presentation, renditions: Sequence[Rendition], clock: WallClock
) -> tuple[Document | None, list[Lists]]:
    """What must be looked at for these renditions."""
    if presentation.kind == "dash":
        return None, [DashList(session, presentation, [one.name for one in renditions], clock)]
    master = next((document for document in presentation.documents if document.url == presentation.url), None)
    variables = dict(hls.parse(master.body, master.url).variables) if master else {}
    return master, [HlsList(session, one, variables) for one in renditions]
