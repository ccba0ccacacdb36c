"""From an address to ranked finds: fetch, read, follow frames, rank, ask, rank again."""

import re
import time
from collections.abc import Iterable

import msgspec
from msgspec.structs import replace

from mudlark.errors import MudlarkError, NothingFound, Refused, UsageError
from mudlark.find.further import next_step, nothing, with_failures
from mudlark.find.judge.expiry import expires_at
from mudlark.find.judge.group import fold_series
from mudlark.find.judge.kind import FAMILIES, kind_by_extension, kind_by_type
from mudlark.find.judge.probe import MOST, NO_MEDIA, probe
from mudlark.find.judge.rank import rank
from mudlark.find.model import PLAYED, Evidence, Find, Frame, Hint, Kind, Mention, Page, Response
from mudlark.find.places.collect import Beside, Collector
from mudlark.find.places.metadata import seconds
from mudlark.find.places.page import MOST_SCRIPTS, read_page, read_script
from mudlark.find.questions import read_forms
from mudlark.manifest.load import is_manifest, is_mpd, wants_text
from mudlark.media.forms import CATEGORIES
from mudlark.media.sniff import sniff
from mudlark.text import sentence, tidy
from mudlark.together import together
from mudlark.web.address import file_part, resolve, shown
from mudlark.web.answer import Content
from mudlark.web.referrer import DEFAULT, Referrer, policy_of
from mudlark.web.session import Session

DEEPEST = 3  # frames inside frames
_SCRIPTS_DEEP = 2  # what a page names, and what that names
_MOST_FRAMES = 12
_LONGEST_LINKS = 64_000  # characters of a Link header that are read
_MOST_ONWARD = 5
_META_CHARSET = re.compile(rb"<meta[^<>]{1,1000}?charset\s*+=\s*+[\"']?\s*+([A-Za-z0-9_:.-]+)", re.I)
_LINK = re.compile(r"<([^<>]*)>([^<]*)")
_LINK_PARAMETER = re.compile(r';\s*([\w*-]+)\s*=\s*(?:"([^"]*)"|([^\s;,]*))')


async def sift(session: Session, address: str, *, asking: int = MOST) -> Page:
    """The page (or the media that stands there itself) with its finds, best first.

    asking: about how many finds the servers are asked.
    """
    return await sift_response(session, await session.look(address, wants_text), asking=asking)


async def sift_response(session: Session, look: Content, *, asking: int = MOST) -> Page:
    """The same for an answer that is there already."""
    page = await gather(session, look)
    if not page.finds and not page.asks:
        raise nothing(page)
    await settle(session, page, asking)
    return page


async def settle(session: Session, page: Page, asking: int = MOST) -> None:
    """Rank the finds of a page, ask the servers about the likeliest, rank again by what they say, and number them.
    Raises NothingFound where all that there was were guesses, and wrong."""
    page.finds = fold_series(page.finds)
    page.finds = rank(page)
    if asking:
        asked = await probe(session, page.finds, asking)
        page.finds = [find for find in asked if not (find.mention.is_guess and _is_none(find))]
        page.asked = True
        page.finds = rank(page)
        if asked and not page.finds and not page.asks:
            raise nothing(page)


def _is_none(find: Find) -> bool:
    """True if what was only guessed to be media is nothing or something else."""
    return find.response.status in (404, 410) or bool(find.problem and find.response.format in NO_MEDIA)


async def gather(session: Session, look: Content) -> Page:
    """The finds and questions of an answer and of its frames, not yet ranked. A page that leads on by itself is
    followed, a few times."""
    page = await _gather_one(session, look)
    been = {look.url}
    while page.onward and len(been) <= _MOST_ONWARD:
        address, way = page.onward
        by_script = way == "by a script"
        if address in been or (by_script and any(find.kind != "image" for find in page.finds)):
            break
        been.add(address)
        try:
            further = await _within(session, page).look(address, wants_text)
            ahead = await _gather_one(session, further)
        except MudlarkError as problem:
            page.notes.append(f"It leads on {way} to {shown(address)}, which cannot be had: {problem.what}")
            break
        merge(ahead, [_with_evidence(find, frame=page.url) for find in page.finds])
        ahead.notes = [*page.notes, f"{shown(page.url)} leads on {way} to {shown(ahead.url)}.", *ahead.notes]
        page = ahead
    return page


async def _gather_one(session: Session, look: Content) -> Page:
    page = page_of(look)
    if not page.itself:
        page.received = look.body
    if not page.itself and sniff(look.body) == "html":
        page.forms = read_forms(decode(look), look.url)
    await _follow(session, page)
    if not page.itself and all(find.kind == "image" for find in page.finds):
        await _read_scripts(session, page)
    return page


def page_of(look: Content) -> Page:
    """The finds of an answer, not yet ranked: a page or feed has many, a media file or manifest is its own find."""
    if not look.body:
        raise NothingFound(f"{shown(look.url)} sends nothing at all (0 bytes).", "Open it in a browser to see.")
    form, named = sniff(look.body), tidy(file_part(look.url).rpartition(".")[0])
    kind: Kind | None = ("dash" if is_mpd(look) else "hls") if is_manifest(look) else CATEGORIES.get(form)
    if kind is None and (
        form == "xml" or (form == "text" and look.type.endswith("xml") and look.body.lstrip()[:1] == b"<")
    ):
        from mudlark.find.places.feed import read_xml  # its XML library is needed for nothing else

        if feed := read_xml(look.body, look.url):
            return feed
    if kind is None and (form == "html" or look.type in ("text/html", "application/xhtml+xml")):
        page = read_page(decode(look), look.url, policy=policy_of(look.headers.get("referrer-policy")))
        _link_headers(look, page)
        return page
    kind = kind or kind_by_type(look.type) or (kind_by_extension(look.url) if form not in ("html", "unknown") else None)
    if kind is None and (form == "unknown" or (look.filename and form != "html")):
        kind = kind_by_extension(look.url) or "package"
    if kind is None and look.complete and (said := read_script(decode(look), look.url, Page(look.url))).finds:
        said.title = named
        return said  # JSON, or a script
    if kind is None:
        raise NothingFound(
            f"{shown(look.url)} is neither a web page nor media (it is sent as {look.type or 'no type'}, "
            f"{look.length or len(look.body):,} bytes of {form}).",
            "Give the address of a page, a playlist or a media file.",
        )
    find = Find(
        Mention(url=look.url, kind=kind, evidence=(Evidence("given", "the address given", None, 30),)),
        Response(
            status=look.status,
            type=look.type or None,
            bytes=look.length,
            expires=expires_at(look.url, time.time()),
        ),
    )
    return Page(look.url, named, finds=[find], itself=True)


def _link_headers(look: Content, page: Page) -> None:
    """Link header fields (RFC 8288) that preload or enclose media."""
    into = Collector("", look.url, look.url)
    for match in _LINK.finditer(look.headers.get("link", "")[:_LONGEST_LINKS]):
        given = {name.lower(): quoted or plain for name, quoted, plain in _LINK_PARAMETER.findall(match[2])}
        if set(given.get("rel", "").lower().split()) & {"preload", "enclosure", "alternate"}:
            kind = kind_by_type(given.get("type")) or FAMILIES.get(given.get("as", ""))
            into.add(match[1], kind, "header", "Link header", 12)
    merge(page, into.finds())


def merge(page: Page, finds: Iterable[Find]) -> None:
    """Add finds to a page; what is known of the same address is joined."""
    known = {find.url: find for find in page.finds}
    for find in finds:
        mine = known.get(find.url)
        known[find.url] = replace(mine, mention=mine.mention.joined(find.mention)) if mine else find
    page.finds = list(known.values())


def _with_evidence(find: Find, *, frame: str | None = None, hint: Hint | None = None) -> Find:
    """The find with its places in a frame, where they are in none, or with another hint."""
    evidence = tuple(replace(one, frame=one.frame or frame, hint=hint or one.hint) for one in find.evidence)
    return replace(find, mention=replace(find.mention, evidence=evidence))


def _within(session: Session, page: Page) -> Session:
    """The session, for what a page names."""
    return session.behind(Referrer(page.url, page.policy or DEFAULT))


async def _follow(session: Session, page: Page) -> None:
    """Read the page's frames, and theirs, each address once; and what oEmbed (discovered by a link) adds."""
    visited = {page.url}
    frames = list(page.frames)
    if page.oembed:
        frames += await _oembed(session, page, page.oembed)
    for _ in range(DEEPEST):
        fresh = [frame for frame in frames if frame.url not in visited][: _MOST_FRAMES - len(visited) + 1]
        visited.update(frame.url for frame in fresh)
        inner = await together(_frame(session, page, frame) for frame in fresh)
        frames = []
        for inner_page in inner:
            if inner_page:
                merge(page, inner_page.finds)
                page.feeds += [feed for feed in inner_page.feeds if feed not in page.feeds]
                page.duration = page.duration or inner_page.duration
                page.wants_login = page.wants_login or inner_page.wants_login
                frames += inner_page.frames


async def _read_scripts(session: Session, page: Page) -> None:
    """Read the scripts of a page that shows nothing, and the JSON that it and they name."""
    read = set[str]()
    for _ in range(_SCRIPTS_DEEP):
        fresh = [address for address in page.scripts if address not in read][: MOST_SCRIPTS - len(read)]
        read.update(fresh)
        for script in await together(_script(session, page, address) for address in fresh):
            if script:
                merge(page, script.finds)
                page.scripts += [address for address in script.scripts if address not in page.scripts]


async def _script(session: Session, page: Page, address: str) -> Page | None:
    """What a script says; one that cannot be had is passed over."""
    try:
        look = await _within(session, page).look(address, wants_text)
    except MudlarkError:
        return None
    return None if sniff(look.body) == "html" else read_script(decode(look), look.url, page)


async def _frame(session: Session, inside: Page, frame: Frame) -> Page | None:
    """What a frame inside a page holds; a frame that cannot be had is passed over, as a browser does."""
    try:
        look = await _within(session, inside).look(frame.url, wants_text)
        if sniff(look.body) == "html" and not is_manifest(look):
            policy = policy_of(look.headers.get("referrer-policy"))
            page = read_page(decode(look), look.url, frame=look.url, policy=policy)
        else:
            page = page_of(look)
            named = (Evidence("frame", frame.where, None, 20),)
            referrer = Referrer(inside.url, inside.policy or DEFAULT)
            page.finds = [
                replace(find, mention=replace(find.mention, evidence=named, referrer=referrer)) for find in page.finds
            ]
    except MudlarkError:
        return None
    if frame.advert:
        page.finds = [_with_evidence(find, hint="advert") for find in page.finds]
    return page


async def _oembed(session: Session, page: Page, address: str) -> list[Frame]:
    """Fetch an oEmbed description: facts for the page, and the frames in its markup."""
    try:
        look = await session.look(address, wants_text)
        data = msgspec.json.decode(look.body, type=dict[str, object])
    except (MudlarkError, ValueError, RecursionError):
        return []
    text = {name: value for name, value in data.items() if isinstance(value, str)}
    page.title = page.title or tidy(text.get("title"))
    page.creator = page.creator or tidy(text.get("author_name"))
    stated = data.get("duration")
    if isinstance(stated, int | float | str):
        page.duration = page.duration or seconds(str(stated))
    inner = read_page(text.get("html", ""), page.url, frame=address)
    merge(page, inner.finds)
    into = Collector("", page.url, look.url)
    for name in ("url", "thumbnail_url"):
        if name in text:
            into.add(text[name], "image", "metadata", f"oEmbed {name}", 3, Beside(hint="thumbnail"))
    merge(page, into.finds())
    return [Frame(frame.url, "oEmbed markup") for frame in inner.frames if resolve(page.url, frame.url)]


def decode(look: Content) -> str:
    """The text of a page: by byte order mark, the server's charset, the page's own, UTF-8 if it fits, else Latin."""
    body = look.body
    for mark, name in ((b"\xef\xbb\xbf", "utf-8-sig"), (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16")):
        if body.startswith(mark):
            return body.decode(name, "replace")
    stated = _META_CHARSET.search(body[:4096])
    own = stated[1].decode("ascii") if stated else None
    if own and own.lower().startswith("utf-16"):
        own = "utf-8"  # a page that could be read so far is not in UTF-16 (HTML §13.2.3.2)
    for charset in (look.charset, own):
        if charset:
            # browsers read these two as windows-1252 (WHATWG Encoding §4.2)
            name = "cp1252" if charset.lower() in ("iso-8859-1", "latin1", "us-ascii", "ascii") else charset
            try:
                return body.decode(name, "replace")
            except (LookupError, UnicodeError, ValueError):
                continue
    try:
        return body.decode("utf-8")
    except UnicodeDecodeError as problem:
        # a few bad bytes in UTF-8 are likelier than a page without any valid sequence
        valid = any(byte >= 0xC2 for byte in body[: problem.start])
        return body.decode("utf-8" if valid else "cp1252", "replace")


def best(page: Page) -> Find:
    """The find to haul: the first that is played and alive; a page without any gives its best file.

    Raises UsageError where a list has several and nothing says which one, NothingFound where only adverts are there.
    """
    if not page.finds:
        raise nothing(page)
    alive = [find for find in page.finds if not find.problem]
    mains = [find for find in alive if find.role == "main"]
    if page.is_list and len(mains) > 1:
        labels = ", ".join(f"{find.number} {find.label or file_part(find.url)!r}" for find in mains[:4])
        raise UsageError(
            f"{shown(page.url)} lists {len(mains)} that can be hauled: {labels}{', …' if len(mains) > 4 else ''}.",
            "Choose one with --nth N or --match TEXT, or take all with --all.",
            url=page.url,
        )
    for find in mains:
        if find.kind in PLAYED:
            return find
    for find in page.finds:
        if find.kind in PLAYED and find.protected:
            raise Refused(
                f"{shown(find.url)}: {sentence(find.problem or 'is protected')}",
                "Mudlark does not fetch protected media.",
            )
        if find.kind in PLAYED and find.problem and find.role == "main":
            raise NothingFound(
                f"The best find on {shown(page.url)} cannot be used: {shown(find.url)}: {sentence(find.problem)}",
                f"Look at the others with `mudlark sift`, and haul one of them with --nth. {next_step(page)}".rstrip(),
                url=find.url,
            )
    adverts = [find for find in alive if find.role == "advert"]
    if adverts:
        raise NothingFound(
            f"The only film on {shown(page.url)} is an advert, {shown(adverts[0].url)}: {adverts[0].rank.advert}.",
            f"{next_step(page)} --nth {adverts[0].number} takes the advert.".lstrip(),
            url=adverts[0].url,
        )
    if mains:
        return mains[0]
    raise NothingFound(
        with_failures(f"No find on {shown(page.url)} is a film, a sound or a file to keep.", page),
        f"{next_step(page)} See what there is with `mudlark sift`, and take it with --nth or --match.".lstrip(),
        url=page.url,
    )
