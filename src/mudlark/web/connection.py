"""How to talk to servers: the settings behind a session, without the session and its libraries."""

from typing import TYPE_CHECKING
from urllib.parse import urlsplit

import msgspec

from mudlark.errors import UsageError
from mudlark.text import printable
from mudlark.web.guise import PLAIN, Guise
from mudlark.web.passing import Backoff

if TYPE_CHECKING:
    from mudlark.web.reach import Reach

_PROXIES = frozenset({"http", "https", "socks4", "socks5"})
ENVIRONMENT = "env"  # in place of a proxy: those that the environment names


class Connection(msgspec.Struct, frozen=True):
    """How to talk to servers. backoff: how often it is tried, and when. patience: seconds without a byte. rate: bytes a
    second of all lanes together, if limited.
    gap: seconds between two requests to one host. proxy: its address, or `env` for what the environment names.
    reach: where it may go; None for anywhere, as the user alone says where.
    """

    lanes: int = 8
    backoff: Backoff = msgspec.field(default_factory=Backoff)
    patience: float = 20.0
    rate: float | None = None
    gap: float = 0.0
    headers: tuple[tuple[str, str], ...] = ()
    proxy: str | None = None
    trust: str | None = None
    cookie_file: str | None = None
    guise: Guise = PLAIN
    reach: "Reach | None" = None

    def __post_init__(self) -> None:
        if self.proxy not in (None, ENVIRONMENT):
            _insist_on_proxy(self.proxy or "")

    @property
    def socks(self) -> str | None:
        """The proxy, if it speaks SOCKS."""
        return next((one for one in self.proxies if one.startswith("socks")), None)

    @property
    def http_proxy(self) -> str | None:
        """The proxy, if it was named and speaks HTTP."""
        return None if self.proxy == ENVIRONMENT or self.socks else self.proxy

    @property
    def any_proxy(self) -> str | None:
        """The proxy that one program with only one of them goes through."""
        return self.socks or next(iter(self.proxies), None)

    @property
    def proxies(self) -> list[str]:
        """The proxies, that for https first."""
        if self.proxy != ENVIRONMENT:
            return [self.proxy] if self.proxy else []
        from urllib.request import getproxies  # slow to load, and few want it

        named = getproxies()
        found = [named[scheme] for scheme in ("https", "http", "all") if scheme in named]
        for one in found:
            _insist_on_proxy(one)
        return found


def _insist_on_proxy(text: str) -> None:
    """Raises UsageError for what is no address of a proxy; a log-in in it is not said."""
    try:
        parts = urlsplit(text)
        good = parts.scheme in _PROXIES and bool(parts.hostname) and (parts.port is None or parts.port > 0)
    except ValueError:
        good = False
    if not good:
        shown = printable(text.rpartition("@")[2])
        raise UsageError(
            f"{shown!r} is no proxy.",
            "Write it as http://HOST:PORT or socks5://HOST:PORT, or env for the environment's.",
        )


def header_pair(text: str) -> tuple[str, str]:
    """Read `Name: value` as a user gives it."""
    name, colon, value = text.partition(":")
    name, value = name.strip(), value.strip()
    if not colon or not name or any(c in "\r\n\0" for c in text) or " " in name:
        raise UsageError(f"{printable(text)!r} is not a header.", "Write it as 'Name: value'.")
    return name, value
