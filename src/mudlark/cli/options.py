"""Options that several commands share, each also as a MUDLARK_… environment variable."""

import re
import shlex
import sys
import time
from collections.abc import Callable
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast, get_args

import click
import msgspec
from msgspec.structs import replace

from mudlark.cli.command import MANNERS, option
from mudlark.errors import UsageError
from mudlark.find.model import Kind, Role
from mudlark.text import printable, readable

if TYPE_CHECKING:  # what is only needed once a command runs is loaded then: --help and completion are quick
    from mudlark.browser.options import Listening
    from mudlark.find.look import Means
    from mudlark.find.select import Filter
    from mudlark.hauling.order import Order
    from mudlark.web.connection import Connection

DATE = re.compile(r"\d{4}(-\d{2}(-\d{2}([T ][\d:]+Z?)?)?)?", re.A)  # or the beginning of one (RFC 3339)
F = TypeVar("F", bound=Callable[..., Any])

_RATE = re.compile(r"(\d+(?:\.\d+)?)\s*([kKmMgG]?)(?:i?[bB])?(?:/s)?$")


class Seconds(click.FloatRange):
    """A finite number within bounds."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        value_given = super().convert(value, param, ctx)
        if value_given != value_given:
            self.fail(f"{value!r} is no number.", param, ctx)
        return value_given


class Folder(click.Path):
    """A folder that has a name."""

    def __init__(self) -> None:
        super().__init__(file_okay=False, path_type=Path)

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        if not str(value).strip() or "\0" in str(value):
            self.fail(f"{value!r} is no folder.", param, ctx)
        return super().convert(value, param, ctx)


class _Header(click.ParamType[tuple[str, str]]):
    """Name and value of a header field; in the environment, one a line."""

    name = "header"
    envvar_list_splitter = "\n"

    def split_envvar_value(self, rv: str) -> list[str]:
        return [line for line in rv.splitlines() if line.strip()]

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> tuple[str, str]:
        from mudlark.web.connection import header_pair

        return value if isinstance(value, tuple) else header_pair(value)


class _Rate(click.ParamType[float]):
    name = "bytes/s"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        if isinstance(value, float):
            return value
        match = _RATE.match(str(value).strip())
        if not match or float(match[1]) <= 0:
            self.fail(f"{value!r} is no size; write it like 500k or 2M.", param, ctx)
        return float(match[1]) * {"": 1, "k": 1e3, "m": 1e6, "g": 1e9}[match[2].lower()]


def guise_names(_ctx: click.Context, _param: click.Parameter, incomplete: str) -> list[str]:
    """The names of guises that begin so, for completion."""
    from mudlark.cli.config import own_guises
    from mudlark.web.guise import built_in

    return [name for name in ("all", *built_in(), *own_guises()) if name.startswith(incomplete)]


def _heed_expiry(_ctx: click.Context, _param: click.Parameter, path: str | None) -> str | None:
    """Say of a cookie file that it has expired."""
    if path:
        from mudlark.cli.show import messages
        from mudlark.web.cookies import cookies_in

        cookies, now = cookies_in(path), time.time()
        expired = sum(cookie.has_expired(now) for cookie in cookies)
        if expired and expired == len(cookies):
            words = f"! {path}: {'its only cookie has' if expired == 1 else f'all {expired:,} cookies have'} expired"
            messages().print(f"{words}; log in again with the browser, and export them anew", markup=False)
    return path


_NETWORK = (
    option(
        "--guise",
        default="plain",
        show_default=True,
        metavar="NAME",
        help="Ask as this user agent (see `mudlark guises`).",
        group="Network",
        shell_complete=guise_names,
        envvar="MUDLARK_GUISE",
    ),
    option(
        "--lanes",
        type=click.IntRange(1, 64),
        default=8,
        show_default=True,
        help="Requests at the same time.",
        group="Network",
        envvar="MUDLARK_LANES",
    ),
    option(
        "--tries",
        type=click.IntRange(1, 50),
        default=4,
        show_default=True,
        help="How often a request is made at most.",
        group="Network",
        envvar="MUDLARK_TRIES",
    ),
    option(
        "--patience",
        type=Seconds(0.1, 3600),
        default=20.0,
        show_default=True,
        metavar="SECONDS",
        help="No byte for so long is a stall.",
        group="Network",
        envvar="MUDLARK_PATIENCE",
    ),
    option(
        "--rate",
        type=_Rate(),
        default=None,
        help="Fetch no faster than this, all lanes together (500k, 2M).",
        group="Network",
        envvar="MUDLARK_RATE",
    ),
    option(
        "--gap",
        type=Seconds(0, 3600),
        default=0.0,
        metavar="SECONDS",
        help="Leave so much time between two requests to one host.",
        group="Network",
        envvar="MUDLARK_GAP",
    ),
    option(
        "--header",
        "headers",
        multiple=True,
        type=_Header(),
        metavar="'NAME: VALUE'",
        help="Send this header with every request; what gives access (Authorization, Cookie, …) only to the given "
        "origin, and none over a redirect to another.",
        group="Network",
        envvar="MUDLARK_HEADER",
    ),
    option(
        "--proxy",
        default=None,
        metavar="URL",
        help="Go through this proxy (http:// or socks5://); env: through those that the environment names.",
        group="Network",
        envvar="MUDLARK_PROXY",
    ),
    option(
        "--cookie-file",
        type=click.Path(exists=True, dir_okay=False),
        default=None,
        metavar="FILE",
        help="Send the cookies of this file (as browsers export them) where they belong.",
        group="Network",
        callback=_heed_expiry,
        envvar="MUDLARK_COOKIE_FILE",
    ),
    option(
        "--trust",
        type=click.Path(exists=True, dir_okay=False),
        default=None,
        metavar="CA-FILE",
        help="Trust the certificates in this file.",
        group="Network",
        envvar="MUDLARK_TRUST",
    ),
)


_LISTENING = (
    option(
        "--press",
        multiple=True,
        metavar="TEXT|SELECTOR",
        group="Listening",
        help="Press this control of the page, in the order given, instead of guessing what starts the media.",
    ),
    option(
        "--scroll/--still",
        default=True,
        group="Listening",
        help="Scroll to the end until nothing new comes, as is usual, or stay at the top.",
    ),
    option(
        "--most-scrolls",
        type=click.IntRange(1, 10_000),
        default=200,
        show_default=True,
        metavar="N",
        group="Listening",
        help="Steps of scrolling at most.",
    ),
    option(
        "--settle",
        type=Seconds(0.2, 600),
        default=2.0,
        show_default=True,
        metavar="SECONDS",
        group="Listening",
        help="The page is done when it asks for nothing new for so long.",
    ),
    option(
        "--at-most",
        type=Seconds(1, 7200),
        default=60.0,
        show_default=True,
        metavar="SECONDS",
        group="Listening",
        help="Listen no longer than this.",
    ),
    option(
        "--browser",
        type=click.Path(dir_okay=False, path_type=Path),
        default=None,
        metavar="PATH",
        group="Listening",
        help="The Chromium or Chrome to use, if not the one that is found.",
        envvar="MUDLARK_BROWSER",
    ),
)


def listening_options(function: F) -> F:
    """How a browser listens to a page."""
    for one in reversed(_LISTENING):
        function = one(function)
    return function


def means_options(function: F) -> F:
    """The means of looking at a page beside its source: a browser, or a capture."""
    function = listening_options(function)
    function = option(
        "--har",
        type=click.Path(dir_okay=False, path_type=Path),
        default=None,
        metavar="FILE",
        group="Choosing",
        help="Look through this capture (HAR) instead of fetching the page.",
    )(function)
    function = option(
        "--choose",
        multiple=True,
        group="Choosing",
        metavar="NAME=VALUE",
        help="Answer a question that the page asks first, by name or label; repeatable, in order.",
    )(function)
    return listen_option(function)


def into_option(function: F) -> F:
    """--into: where items go."""
    return option(
        "--into",
        type=Folder(),
        default=Path("mudlark"),
        show_default=True,
        metavar="DIR",
        help="Folder that takes the items.",
        envvar="MUDLARK_INTO",
    )(function)


def listen_option(function: F) -> F:
    """--listen: look at a page with a browser."""
    return option(
        "--listen",
        is_flag=True,
        group="Choosing",
        help="Open the page in a real browser, and take what it asks for into account.",
    )(function)


_KEEPING = (
    option("--warc", is_flag=True, help="Keep all exchanges with the servers too, as WARC."),
    option("--no-page", is_flag=True, help="Keep neither the page's source nor a picture of it."),
    option("--report", is_flag=True, help="Make a page of what came, beside it (see `mudlark report`)."),
    option("--keep-secrets", is_flag=True, help="Leave cookies, tokens and signatures in what is kept."),
)


def play_option(function: F) -> F:
    """--play: have a real browser play it."""
    return option(
        "--play",
        type=click.Choice(MANNERS),
        default=None,
        metavar="[full]",
        help="Play it in a real browser, and measure picture and sound; `--play full` decodes all of it.",
    )(function)


def keeping_options(function: F) -> F:
    """What an item keeps beside its media."""
    function = operator_option(function)
    for one in reversed(_KEEPING):
        function = one(function)
    return function


def operator_option(function: F) -> F:
    """--operator: who answers for what is done."""
    return option("--operator", default=None, metavar="NAME", help="Who answers for it; kept in the record.")(function)


def command_given(words: list[str]) -> str:
    """The command line as it may be kept: without what gives access."""
    from mudlark.web.redact import redacted_words

    return "mudlark " + shlex.join(redacted_words(list(map(readable, words))))


def keeping(order: "Order", given: dict[str, Any]) -> "Order":
    """The order with what its items are to keep, taken out of what a command was given."""
    return replace(
        order,
        warc=given.pop("warc"),
        keep_page=not given.pop("no_page"),
        keep_secrets=given.pop("keep_secrets"),
        operator=given.pop("operator"),
        command=command_given(sys.argv[1:]),
    )


def listening(given: dict[str, Any]) -> "Listening":
    """Take the listening options out of what a command was given."""
    from mudlark.browser.options import Listening

    return Listening(
        press=given.pop("press"),
        scroll=given.pop("scroll"),
        most_scrolls=given.pop("most_scrolls"),
        settle=given.pop("settle"),
        at_most=given.pop("at_most"),
        browser=given.pop("browser"),
    )


def means(given: dict[str, Any]) -> "Means":
    """Take the means of looking out of what a command was given."""
    from mudlark.find.look import Means  # with all of finding behind it, which few commands need
    from mudlark.find.questions import ANY, Answer

    by_browser, har = given.pop("listen"), given.pop("har")
    answers = tuple(Answer.of(text) for text in given.pop("choose"))
    options = replace(listening(given), choose=tuple((answer.name, answer.value) for answer in answers))
    if har and answers:
        raise UsageError("--choose has nobody to answer in a capture.", "Leave out --har.")
    if by_browser and any(answer.value == ANY for answer in answers):
        raise UsageError("--choose NAME=* walks through forms, and not with a browser.", "Leave out --listen.")
    if by_browser and har:
        raise UsageError("--listen and --har exclude each other.", "A capture is looked through without a browser.")
    if options.press and not by_browser:
        raise UsageError("--press needs a browser.", "Add --listen.")
    return Means(options if by_browser else None, har, answers)


class Network(msgspec.Struct, frozen=True):
    """What the network options say, as a command gets it."""

    guise: str
    lanes: int
    tries: int
    patience: float
    rate: float | None
    gap: float
    headers: tuple[tuple[str, str], ...]
    proxy: str | None
    trust: str | None
    cookie_file: str | None

    def connection(self) -> "Connection":
        """The connection that they describe. Raises UsageError for a guise that there is not."""
        from mudlark.cli.config import own_guises
        from mudlark.web.connection import Connection
        from mudlark.web.guise import choose
        from mudlark.web.passing import Backoff

        return Connection(
            guise=choose(self.guise, own_guises()),
            lanes=self.lanes,
            backoff=Backoff(tries=self.tries),
            patience=self.patience,
            rate=self.rate,
            gap=self.gap,
            headers=self.headers,
            proxy=self.proxy,
            trust=self.trust,
            cookie_file=self.cookie_file,
        )


def network_options(function: F) -> F:
    """The options of everything that touches the web; the command gets them as one value, `network`."""

    @wraps(function)
    def with_network(*args: Any, **given: Any) -> Any:
        own = {name: given.pop(name) for name in Network.__struct_fields__}
        return function(*args, network=Network(**own), **given)

    command = cast(F, with_network)
    for one in reversed(_NETWORK):
        command = one(command)
    return command


def size_option(name: str, **given: Any) -> Callable[[F], F]:
    """An option that takes a number of bytes as people write it."""
    return option(name, type=_Rate(), default=None, metavar="SIZE", **given)


def addresses(texts: tuple[str, ...]) -> list[str]:
    """Addresses as pasted, cleaned of what a console or terminal put around them; what was cleaned is said."""
    from mudlark.web.address import as_sent, pasted

    value_given = []
    for text in texts:
        address, rest = pasted(text)
        if rest is not None:
            click.echo(f"Took {printable(address)} out of {rest!r}", err=True)
        as_sent(address)  # says what is wrong with one that is none
        value_given.append(address)
    return value_given


_FILTERS = (
    option(
        "--kind",
        "kinds",
        multiple=True,
        type=click.Choice(get_args(Kind)),
        group="Choosing",
        help="Only finds of this kind; repeatable.",
    ),
    option(
        "--role",
        "roles",
        multiple=True,
        type=click.Choice(get_args(Role)),
        group="Choosing",
        help="Only finds in this role; repeatable.",
    ),
    option(
        "--match",
        default=None,
        metavar="TEXT",
        group="Choosing",
        help="Only finds with this text in address, label or place.",
    ),
    option(
        "--host", default=None, metavar="TEXT", group="Choosing", help="Only finds on hosts with this in their name."
    ),
    size_option("--larger-than", group="Choosing", help="Only finds known to be larger (500k, 20M)."),
)


def filter_options(function: F) -> F:
    """Which of the finds of a page are meant."""
    for one in reversed(_FILTERS):
        function = one(function)
    return function


def wanted(given: dict[str, Any]) -> "Filter":
    """Take the filter out of what a command was given."""
    from mudlark.find.select import Filter

    names = ("kinds", "roles", "match", "host", "larger_than")
    return Filter(**{name: given.pop(name) for name in names})
