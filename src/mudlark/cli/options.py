"""Options that several commands share, each also as a MUDLARK_… environment variable."""

import re
from collections.abc import Callable
from typing import Any, TypeVar

import click

from mudlark.web.address import pasted, printable
from mudlark.web.connection import Connection, header_pair
from mudlark.web.retry import Patience

F = TypeVar("F", bound=Callable[..., Any])

_RATE = re.compile(r"(\d+(?:\.\d+)?)\s*([kKmMgG]?)(?:i?[bB])?(?:/s)?$")


class _Rate(click.ParamType[float]):
    name = "bytes/s"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        if isinstance(value, float):
            return value
        match = _RATE.match(str(value).strip())
        if not match or float(match[1]) <= 0:
            self.fail(f"{value!r} is no size; write it like 500k or 2M.", param, ctx)
        return float(match[1]) * {"": 1, "k": 1e3, "m": 1e6, "g": 1e9}[match[2].lower()]


_NETWORK = (
    click.option(
        "--lanes",
        type=click.IntRange(1, 64),
        default=8,
        show_default=True,
        help="Requests at the same time.",
        envvar="MUDLARK_LANES",
    ),
    click.option(
        "--tries",
        type=click.IntRange(1, 50),
        default=4,
        show_default=True,
        help="How often a request is made at most.",
        envvar="MUDLARK_TRIES",
    ),
    click.option(
        "--patience",
        type=click.FloatRange(0.1, 3600),
        default=20.0,
        show_default=True,
        metavar="SECONDS",
        help="No byte for so long is a stall.",
        envvar="MUDLARK_PATIENCE",
    ),
    click.option(
        "--rate",
        type=_Rate(),
        default=None,
        help="Fetch no faster than this, all lanes together (500k, 2M).",
        envvar="MUDLARK_RATE",
    ),
    click.option(
        "--header",
        "headers",
        multiple=True,
        metavar="'NAME: VALUE'",
        help="Send this header with every request; Authorization and Cookie only to the given host.",
        envvar="MUDLARK_HEADER",
    ),
    click.option("--proxy", default=None, metavar="URL", help="Go through this HTTP proxy.", envvar="MUDLARK_PROXY"),
    click.option(
        "--cookie-file",
        type=click.Path(exists=True, dir_okay=False),
        default=None,
        metavar="FILE",
        help="Send the cookies of this file (as browsers export them) where they belong.",
        envvar="MUDLARK_COOKIE_FILE",
    ),
    click.option(
        "--trust",
        type=click.Path(exists=True, dir_okay=False),
        default=None,
        metavar="CA-FILE",
        help="Trust the certificates in this file.",
        envvar="MUDLARK_TRUST",
    ),
)


def network_options(function: F) -> F:
    """The options of everything that touches the web."""
    for option in reversed(_NETWORK):
        function = option(function)
    return function


def size_option(name: str, **given: Any) -> Callable[[F], F]:
    """An option that takes a number of bytes as people write it."""
    return click.option(name, type=_Rate(), default=None, metavar="SIZE", **given)


def addresses(texts: tuple[str, ...]) -> list[str]:
    """Addresses as pasted, cleaned of what a console or terminal put around them; what was cleaned is said."""
    found = []
    for text in texts:
        address, rest = pasted(text)
        if rest is not None:
            click.echo(f"Took {printable(address)} out of {rest!r}", err=True)
        found.append(address)
    return found


def json_option(function: F) -> F:
    """--json: one document on stdout."""
    return click.option("--json", "as_json", is_flag=True, help="Give one JSON document on stdout.")(function)


def connection(
    lanes: int,
    tries: int,
    patience: float,
    rate: float | None,
    headers: tuple[str, ...],
    proxy: str | None,
    trust: str | None,
    cookie_file: str | None,
) -> Connection:
    """The connection that the network options describe."""
    return Connection(
        lanes=lanes,
        patience=Patience(tries=tries),
        stall=patience,
        rate=rate,
        headers=tuple(header_pair(text) for text in headers),
        proxy=proxy,
        trust=trust,
        cookie_file=cookie_file,
    )
