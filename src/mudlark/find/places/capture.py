"""Finds from a capture: what the page asked for while it was open, together with what its source says.

A request speaks more strongly than a place in the source: it was really made, by a frame that is known. Manifests whose
text is in the capture are read from there, so that a page that is gone can still be worked on.
"""

import re
from collections import Counter
from itertools import islice
from urllib.parse import urlsplit

import msgspec
from msgspec.structs import replace

from mudlark.browser.capture import Capture, CapturedExchange
from mudlark.browser.har import View
from mudlark.errors import MudlarkError, NothingFound, Refused
from mudlark.find.further import nothing
from mudlark.find.judge.kind import is_segment, kind_by_extension, kind_by_type
from mudlark.find.judge.leaves import collect_leaves
from mudlark.find.judge.probe import MOST
from mudlark.find.model import PLAYED, Evidence, Find, Kind, Mention, Page
from mudlark.find.places.collect import MOST_FINDS, Collector
from mudlark.find.places.hidden import decode_json, strings_with_objects
from mudlark.find.places.links import links_in
from mudlark.find.places.listing import read_listing
from mudlark.find.places.page import facts_in, named_in, read_page
from mudlark.find.places.tapped import all_taps, taps_in
from mudlark.find.questions import read_forms
from mudlark.find.sift import merge, settle
from mudlark.manifest import hls
from mudlark.manifest.load import DESCRIBED, refusal
from mudlark.manifest.model import IndexedFile
from mudlark.media.forms import CATEGORIES
from mudlark.media.sniff import sniff
from mudlark.text import counted, tidy
from mudlark.web.address import shown
from mudlark.web.answer import Content
from mudlark.web.referrer import DEFAULT, Referrer
from mudlark.web.series import find_series
from mudlark.web.session import Session

_PAGES = ("text/html", "application/xhtml+xml")
_LICENCE = re.compile(r"licen[cs]e|widevine|playready|fairplay|(?:^|[./_-])(?:drm|ckc|getkey)(?:[./_-]|$)", re.I)
_BY_SCRIPT = frozenset({"xhr", "fetch", "xmlhttprequest"})
_NO_MEDIA = frozenset({"stylesheet", "script", "font", "ping", "websocket", "preflight", "manifest"})
_MOST_CHAIN = 20
_MOST_SEGMENTS = 100_000  # of one manifest that are looked for among the requests
_CLEAR = frozenset({"org.w3.clearkey"})  # its keys are served in clear


async def sift_capture(session: Session, capture: Capture, *, asking: int = MOST) -> Page:
    """The page of a capture with its finds, best first. asking: about how many finds the servers are asked."""
    page = page_in(capture)
    _remember(session, capture)
    session.take_cookies(capture.cookies)
    if capture.only_tapped:
        page.finds = all_taps(capture, page)
        if not page.finds:
            raise NothingFound(
                f"{shown(page.url)} fed nothing to a player.",
                "If something on it starts the film, name that with --press.",
            )
        await settle(session, page, 0)
        return page
    if not (page.finds or page.entries or page.asks or capture.tapped):
        raise _refused(page.url, page.key_systems) if page.key_systems else nothing(page)
    await settle(session, page, asking)
    if page.key_systems and not any(find.kind in PLAYED and not find.problem for find in page.finds):
        _protect(page, [], page.key_systems)
        await settle(session, page, 0)
    if taps := await taps_in(session, capture, page, asked=asking > 0):
        merge(page, taps)
        await settle(session, page, 0)
    return page


def page_in(capture: Capture) -> Page:
    """The finds of a capture, not yet ranked."""
    page = _sources(capture)
    page.title = page.title or tidy(capture.title)
    page.capture, page.notes, page.failed = capture.origin, list(capture.notes), _failed(capture)
    merge(page, _Requests(capture, page).finds())
    _json(capture, page)
    _tie(capture, page)
    _key_systems(capture, page)
    collect_leaves(capture, page)
    page.entries = read_listing(capture)
    if not page.entries:
        standing = next((view.source for view in capture.views if view.url == capture.url and view.source), "")
        page.links = links_in(standing, capture.url).entries
    listed = {address for entry in page.entries for address in (entry.url, entry.media)}
    page.is_list = sum(find.url in listed and find.kind in PLAYED for find in page.finds) > 1
    return page


def _failed(capture: Capture) -> list[str]:
    """What was asked for in vain, by what it is and why, the most first; pictures and what dresses a page apart, and
    what the page itself broke off."""
    found: dict[str, tuple[str, str, str]] = {}
    for exchange in capture.exchanges:
        named = kind_by_extension(exchange.url)
        broken = exchange.failure and "abort" not in exchange.failure.lower()
        if (exchange.status < 400 and not broken) or named == "image" or exchange.resource in _NO_MEDIA:
            continue
        if is_segment(exchange.url):
            what, whose = "segment", ""
        elif named:
            what, whose = {"hls": "playlist", "dash": "manifest"}.get(named, f"{named} file"), ""
        elif exchange.resource in _BY_SCRIPT:
            what, whose = "request", " by scripts"
        else:
            continue
        found[exchange.url] = what, whose, f"answered {exchange.status}" if exchange.status >= 400 else "failed"
    counts = Counter(found.values())
    return [f"{counted(count, what)}{whose} {why}" for (what, whose, why), count in counts.most_common()]


def _refused(url: str, systems: list[str]) -> Refused:
    return Refused(
        f"The player of {shown(url)} asks for the keys of {' and '.join(systems)}.",
        "Mudlark does not fetch protected media.",
    )


def _sources(capture: Capture) -> Page:
    """What the source of the page and of its frames says: as it stood at the end, and as it was sent."""
    sent = {e.url: e for e in capture.exchanges if e.body and e.type in _PAGES and not e.location and e.status == 200}
    documents = {view.url: view.source for view in capture.views if view.source}
    documents |= {url: _decoded(e) for url, e in sent.items() if url not in documents}
    main = documents.pop(capture.url, "")
    page = read_page(main, capture.url)
    page.forms = read_forms(main, capture.url)
    if capture.url in sent:
        page.received = sent[capture.url].body or b""
    for url, source in documents.items():
        inner = read_page(source, url, frame=url)
        merge(page, inner.finds)
        page.duration = page.duration or inner.duration
        page.wants_login = page.wants_login or inner.wants_login
    if capture.url in sent and any(view.url == capture.url for view in capture.views):
        merge(page, [f for f in read_page(_decoded(sent[capture.url]), capture.url).finds if f.url not in _urls(page)])
    return page


def _decoded(exchange: CapturedExchange) -> str:
    return (exchange.body or b"").decode("utf-8", "replace")


def _urls(page: Page) -> set[str]:
    return {find.url for find in page.finds}


class _Requests:
    """The requests of a capture as finds: redirects followed, each address once."""

    def __init__(self, capture: Capture, page: Page) -> None:
        self.capture = capture
        self.page = page
        self.led_from = {e.location: e for e in capture.exchanges if e.location and e.location != e.url}
        self.known: dict[str, Mention] = {}
        self.scripted: set[str] = set()

    def finds(self) -> list[Find]:
        for exchange in self.capture.exchanges:
            if not exchange.location and exchange.url.startswith(("http:", "https:")):
                self.take(exchange)
        for series in find_series(self.scripted):
            for _, address in series.members:
                self.known[address] = replace(self.known[address], segment=True)
        return [Find(mention) for mention in self.known.values()]

    def take(self, exchange: CapturedExchange) -> None:
        kind = _kind(exchange)
        if kind is None or exchange.method != "GET" or (exchange.status in (204, 304) and exchange.url in self.known):
            return
        first = self.first(exchange)
        mention = self.known.get(first.url)
        if mention is None and kind == "image" and len(self.known) >= MOST_FINDS:
            self.page.left_out += 1
            return
        if mention is None:
            where, at, weight = _place(exchange, kind)
            frame = exchange.frame if exchange.frame != self.page.url else None
            mention = Mention(
                url=first.url,
                kind=kind,
                evidence=(Evidence("network", where, at, weight, frame, act=True),),
                referrer=Referrer(exchange.frame or self.page.url),
                sent=_beside(exchange),
                asked=exchange.number,
                final=exchange.url if first is not exchange else None,
            )
        problem = mention.problem
        if exchange.status:
            problem = f"the server answered {exchange.status} to the browser" if exchange.status >= 400 else None
        self.known[first.url] = replace(
            mention,
            type=exchange.type or mention.type,
            # a manifest's own size says nothing of what it lists
            bytes=mention.bytes if kind in ("hls", "dash") else exchange.size or mention.bytes,
            problem=problem,
        )
        if exchange.resource in _BY_SCRIPT and kind in ("video", "audio"):
            self.scripted.add(first.url)

    def first(self, exchange: CapturedExchange) -> CapturedExchange:
        """Where the redirects that led here began."""
        first = exchange
        for _ in range(_MOST_CHAIN):
            before = self.led_from.get(first.url)
            if before is None or before.number >= exchange.number:
                break
            first = before
        return first


def _kind(exchange: CapturedExchange) -> Kind | None:
    """What a request was for. The body tells best, then the server's type, then the browser, then the name."""
    if exchange.resource in _NO_MEDIA:
        return None
    form = sniff(exchange.body) if exchange.body else ""
    if form in ("hls", "dash", *DESCRIBED):
        return CATEGORIES[form]
    if exchange.type in _PAGES:
        return None
    by_type = kind_by_type(exchange.type)
    by_name = kind_by_extension(exchange.url) or ("video" if is_segment(exchange.url) else None)
    if exchange.resource == "media":
        return by_type or by_name or "video"
    if exchange.resource == "document" and by_type is None and by_name is None:
        return "package" if "attachment" in exchange.came.get("content-disposition", "") else None
    return by_type or (by_name if exchange.type in ("", "application/octet-stream", "binary/octet-stream") else None)


def _place(exchange: CapturedExchange, kind: Kind) -> tuple[str, str, int]:
    """The evidence that a request is: what made it, its place in the capture, and how strongly it speaks."""
    at = f"request {exchange.number}"
    if kind == "image":
        return "asked for as a picture", at, 0
    if exchange.resource == "media":
        return "asked for by a media player", at, 32
    if exchange.resource in _BY_SCRIPT:
        return "asked for by a script", at, 26
    return "asked for by the page", at, 18


def _beside(exchange: CapturedExchange) -> dict[str, str]:
    """The header fields of a request that a server may insist on."""
    return {name: value for name, value in exchange.sent.items() if name in ("referer", "origin", "user-agent")}


def _remember(session: Session, capture: Capture) -> None:
    """Have the manifests of the capture at hand, those that may have grown since excepted."""
    for exchange in capture.exchanges:
        body = exchange.body
        if not body or exchange.status != 200 or sniff(body) not in ("hls", "dash"):
            continue
        if b"#EXTINF" in body and b"#EXT-X-ENDLIST" not in body:
            continue
        look = Content(exchange.url, 200, exchange.type, None, len(body), body, True, headers=exchange.came)
        for address in {exchange.url, _Requests(capture, Page("")).first(exchange).url}:
            session.remember(address, look)


def _json(capture: Capture, page: Page) -> None:
    """Addresses of media in JSON answers, whether they were asked for or not."""
    read: set[str] = set()
    for exchange in capture.exchanges:
        if not exchange.body or "json" not in exchange.type or exchange.url in read:
            continue
        read.add(exchange.url)
        frame = exchange.frame if exchange.frame != page.url else None
        into = Collector("", exchange.url, exchange.frame or page.url, frame)
        into.page.policy = page.policy
        where = f"JSON answer of {urlsplit(exchange.url).path}"
        at = f"request {exchange.number}"
        for text, path, around in strings_with_objects(decode_json(exchange.body.decode("utf-8", "replace"))):
            key = path.rpartition(".")[2].partition("[")[0]
            for address, how, kind in named_in(text, around):
                words = f"{where}, {path}" + (f" ({how})" if how else "")
                into.add(address, kind, "network", words, 20, facts_in(around, key, path, exchange.url, at))
        referrer = Referrer(exchange.frame or page.url, page.policy or DEFAULT)
        merge(page, [Find(replace(mention, referrer=referrer)) for mention in into.mentions.values()])


class _Manifest(msgspec.Struct, frozen=True):
    """A manifest of a capture: the addresses of its segments, of what must be read before them, and of the playlists
    that it lists; what protects it."""

    segments: tuple[str, ...]
    sections: frozenset[str]
    renditions: tuple[str, ...]
    protected: tuple[str, ...]


def _tie(capture: Capture, page: Page) -> None:
    """Tie manifests to the segments that were asked for, and those to the blob: player that they fed."""
    asked = {exchange.url for exchange in capture.exchanges}
    blobs = {view.url for view in capture.views if any(player.src.startswith("blob:") for player in view.players)}
    if any(exchange.url.startswith("blob:") for exchange in capture.exchanges):
        blobs.add(page.url)
    known = {find.url: find for find in page.finds}
    finds = known | {find.final: find for find in page.finds if find.final}
    manifests = _manifests(capture)
    under_a_manifest: set[str] = set()
    for url, manifest in manifests.items():
        below = [manifests[one] for one in manifest.renditions if one in manifests]
        segments = [segment for one in (manifest, *below) for segment in one.segments]
        came = set(segments) & asked
        sections = frozenset().union(*(one.sections for one in (manifest, *below)))
        under_a_manifest |= came | (sections & asked)
        if url not in finds:
            continue
        find = finds[url]
        if manifest.protected:
            known[find.url] = _guarded(known[find.url], refusal(url, manifest.protected).what)
        if not came:
            continue
        frame = next((evidence.frame for evidence in find.evidence if evidence.at), None)
        came_words = f"{len(came)} of its {len(segments)} segments were asked for"
        if (frame or page.url) in blobs:
            fed = Evidence("network", f"fed the blob: player of the page: {came_words}", None, 40, frame, True)
        else:
            fed = Evidence("network", came_words, None, 34, frame, True)
        mention = known[find.url].mention
        known[find.url] = Find(replace(mention, evidence=(*mention.evidence, fed)))
    page.finds = [
        find for find in known.values() if find.url not in under_a_manifest and find.final not in under_a_manifest
    ]


def _manifests(capture: Capture) -> dict[str, _Manifest]:
    """The manifests in a capture, by address."""
    read = {}
    for exchange in capture.exchanges:
        form = sniff(exchange.body) if exchange.body else ""
        if not exchange.body or form not in ("hls", "dash"):
            continue
        try:
            read[exchange.url] = _playlist(exchange) if form == "hls" else _mpd(exchange)
        except MudlarkError:
            continue  # whoever hauls it is told why
    return read


def _playlist(exchange: CapturedExchange) -> _Manifest:
    playlist = hls.parse(exchange.body or b"", exchange.url)
    return _Manifest(
        tuple(segment.resource.url for segment in playlist.segments),
        frozenset(segment.init.resource.url for segment in playlist.segments if segment.init),
        tuple(one.url for one in playlist.renditions),
        playlist.protected,
    )


def _mpd(exchange: CapturedExchange) -> _Manifest:
    from mudlark.manifest.dash.document import parse_document  # its XML library is needed for nothing else
    from mudlark.manifest.dash.presentation import open_mpd

    presentation = open_mpd(parse_document(exchange.body or b"", exchange.url), exchange.url, ())
    segments: dict[str, None] = {}
    sections: set[str] = set()
    for piece in (piece for one in presentation.renditions for piece in one.pieces):
        if isinstance(piece, IndexedFile):
            segments[piece.resource.url] = None
            continue
        for segment in islice(piece, max(0, _MOST_SEGMENTS - len(segments))):
            segments[segment.resource.url] = None
            if segment.init:
                sections.add(segment.init.resource.url)
    played = [one for one in presentation.renditions if one.type in ("video", "audio")]
    protected = played[0].protected if played and all(one.protected for one in played) else ()
    return _Manifest(tuple(segments), frozenset(sections), (), protected)


def _key_systems(capture: Capture, page: Page) -> None:
    """Name the key systems that were used, and mark what their frames played."""
    frames: set[str] = set()
    systems: list[str] = []
    for view in capture.views:
        systems += [_system(name) for name in view.systems if name not in _CLEAR]
        if _encrypted(view):
            frames.add(view.url)
    for exchange in capture.exchanges:
        parts = urlsplit(exchange.url)
        if exchange.method == "POST" and (_LICENCE.search(parts.path) or _LICENCE.search(parts.hostname or "")):
            frames.add(exchange.frame or page.url)
            systems = systems or [f"a licence server at {parts.netloc}"]
    page.key_systems = list(dict.fromkeys(systems)) or (["a key system"] if frames else [])
    if frames:
        _protect(page, sorted(frames), page.key_systems)


def _encrypted(view: View) -> bool:
    only_clear = bool(view.systems) and set(view.systems) <= _CLEAR
    return not only_clear and (view.encrypted or any(player.keyed for player in view.players))


def _system(name: str) -> str:
    return next((known for start, known in hls.KEY_SYSTEMS.items() if name.lower().startswith(start)), name)


def _protect(page: Page, frames: list[str], systems: list[str]) -> None:
    """Mark what was played in these frames (all, if none is given) as guarded."""
    problem = f"The player asks for the keys of {' and '.join(systems)}."

    def played(find: Find) -> bool:
        where = {evidence.frame or page.url for evidence in find.evidence}
        return find.kind in PLAYED and (not frames or bool(where & set(frames)))

    page.finds = [_guarded(find, problem) if played(find) else find for find in page.finds]


def _guarded(find: Find, problem: str) -> Find:
    return replace(find, mention=replace(find.mention, problem=problem, protected=True))
