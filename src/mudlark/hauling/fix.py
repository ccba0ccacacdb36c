"""An item hauled again from what its record says of how it was asked for, without the command that made it.

A record may come from a stranger. What it may ask of a repair is a closed list, each checked for its type and bounded:
the address, the guise by its strings, answers and presses, which tracks, and the form of what is left. Nothing in it is
executed, no path of it is opened, and nothing in it adds to the rights of the run: cookies, headers, proxies and the
browser are those of this run alone. Where it may lead is for a Reach to say.
"""

from collections.abc import Callable
from pathlib import Path
from typing import Annotated
from urllib.parse import urlsplit

import msgspec
from msgspec import Meta
from msgspec.structs import replace

from mudlark.archive.record import Record, read_record
from mudlark.browser.options import Listening
from mudlark.errors import FormatError, NothingFound, Refused, UsageError
from mudlark.find.look import Means
from mudlark.find.questions import Answer
from mudlark.find.select import ANYTHING, Choice, Filter
from mudlark.hauling.order import HaulWatch, Item, Order
from mudlark.hauling.steps import haul
from mudlark.manifest.wish import Wish
from mudlark.web.bounded import leads_to_private
from mudlark.web.connection import Connection
from mudlark.web.guise import PLAIN, Guise, built_in
from mudlark.web.reach import Reach
from mudlark.web.redact import is_redacted
from mudlark.web.session import Session

_Short = Annotated[str, Meta(max_length=500)]
_Few = Meta(max_length=50)
_HIGHEST = 100_000  # pixels of a picture
_LONGEST = 8_000  # characters of an address
_LONGEST_FIELD = 500


class _Heard(msgspec.Struct):
    """What of the way a page was listened to may be done again. Seconds are bounded."""

    press: Annotated[tuple[_Short, ...], _Few] = ()
    choose: Annotated[tuple[tuple[_Short, _Short], ...], _Few] = ()
    scroll: bool = True
    most_scrolls: Annotated[int, Meta(ge=0, le=1000)] = 200
    settle: Annotated[float, Meta(gt=0, le=60)] = 2.0
    at_most: Annotated[float, Meta(gt=0, le=600)] = 60.0


class _Wished(msgspec.Struct):
    """Which tracks may be asked for, in the types of a Wish."""

    within: tuple[Annotated[int, Meta(gt=0, le=_HIGHEST)] | None, Annotated[int, Meta(gt=0, le=_HIGHEST)]] | None = None
    under: Annotated[int, Meta(gt=0, le=10**12)] | None = None
    codecs: Annotated[tuple[_Short, ...], _Few] = ()
    languages: Annotated[tuple[_Short, ...], _Few] = ()
    subtitles: Annotated[tuple[_Short, ...], _Few] = ("all",)
    rendition: _Short | None = None


_Answers = Annotated[tuple[tuple[_Short, _Short], ...], _Few]


class Trust(msgspec.Struct, frozen=True):
    """What the user lets a repair do. record: ask hosts in private networks that the item itself came from, and open
    its page in a browser if that is how it was found. browser: the program, as the user names it. on_host: told of each
    host before it is asked."""

    record: bool = False
    browser: Path | None = None
    on_host: Callable[[str], None] = lambda _host: None


def order_of(record: Record, folder: Path, trust: Trust | None = None) -> Order:
    """The order that an item came from. Raises UsageError where its record does not tell enough, FormatError where it
    asks for what no record may, Refused where it asks for more than it is trusted with."""
    trust = trust or Trust()
    source, asked = record.source, record.source.asked
    if is_redacted(source.target):
        raise UsageError(
            f"The address of {folder} had something in it that gave access, and was left out.",
            "Haul it again with its whole address.",
        )
    _insist_on_address(source.target, folder)
    try:
        heard = msgspec.convert(asked.listening, _Heard) if asked.listening is not None else None
        wished = msgspec.convert(asked.wish, _Wished) if asked.wish is not None else _Wished()
        answers = msgspec.convert(asked.answers, _Answers)
    except msgspec.ValidationError as problem:
        raise FormatError(
            f"The record of {folder} asks for what no record may: {problem}.",
            advice="Haul the item again by its address.",
        ) from problem
    if heard and not trust.record:
        raise Refused(
            f"The page of {folder} was opened in a browser to find its media, which is not done for a record's sake.",
            "If you trust the record, add --trust-record; or haul it again with --listen.",
        )
    listening = Listening(**msgspec.structs.asdict(heard), browser=trust.browser) if heard else None
    wanted = Filter(match=source.choice) if source.choice else ANYTHING
    return Order(
        target=source.target,
        into=folder.resolve().parent,
        choice=Choice(None, wanted, False, asked.series),
        title=record.title,
        means=Means(listening, None, tuple(Answer(name, value) for name, value in answers)),
        as_images=asked.as_images,
        keep_page=asked.keep_page,
        warc=asked.warc,
        wish=Wish(**msgspec.structs.asdict(wished)),
        container=asked.container,
        listed=source.listed,
        command=record.command,
        mends=folder,
    )


def _insist_on_address(target: str, folder: Path) -> None:
    """Raises UsageError unless a target is an address of the web."""
    try:
        parts = urlsplit(target)
        good = parts.scheme.lower() in ("http", "https") and bool(parts.hostname) and len(target) <= _LONGEST
    except ValueError:
        good = False
    if not good:
        raise UsageError(
            f"The record of {folder} names no address of the web that it came from, so it cannot be mended from there.",
            "Haul it again by its address, if you know it.",
        )


async def connection_of(record: Record, network: Connection, trust: Trust) -> Connection:
    """How the servers of an item may be talked to: as this run does, in the item's own guise unless the run has one,
    and no further than the record is trusted. Private hosts are asked only if the item came from one, and then only
    those that its record names."""
    private: frozenset[str] = frozenset()
    source = record.source
    if trust.record and await leads_to_private(source.target):
        named = [source.target, source.address, *(one.url for one in source.manifests)]
        named += [source.find.url] if source.find else []
        named += [one.url for one in record.segment_list]
        private = frozenset(host for host in map(_host, named) if host)
    guise = network.guise if network.guise != PLAIN else guise_of(record)
    return replace(network, guise=guise, reach=Reach(private, trust.on_host))


def _host(address: str) -> str | None:
    try:
        return urlsplit(address).hostname
    except ValueError:
        return None


def guise_of(record: Record) -> Guise:
    """The guise that an item was asked for in: a built-in one by its name, else one of the strings that were sent."""
    asked = record.source.request
    if known := built_in().get(asked.guise):
        return known
    sent = {field.lower(): value for field, value in asked.headers.items()}

    def said(field: str) -> str:
        value = sent.get(field, "")
        return value if value.isascii() and value.isprintable() and len(value) <= _LONGEST_FIELD else ""

    agent = said("user-agent")
    guise = Guise("as recorded", agent, accept=said("accept") or PLAIN.accept, language=said("accept-language"))
    return guise if agent else PLAIN


async def fix(network: Connection, folder: Path, trust: Trust, watch: HaulWatch | None = None) -> Item:
    """Haul an item again: what was missing or damaged is fetched, and the item replaced if it becomes better; what was
    there is kept. Raises MudlarkError where that does not work."""
    record = read_record(folder)
    order = order_of(record, folder, trust)
    async with Session(await connection_of(record, network, trust)) as session:
        async for item in haul(session, order, watch):
            return item
    raise NothingFound(f"Nothing came of {record.source.target}.", "Open it in a browser to see what is there now.")
