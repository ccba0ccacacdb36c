"""A jar for cookies that keeps those of a public suffix (`co.uk`) out: they would be sent to everyone below it.

Follows RFC 6265 §5.3 (step 5) with the public suffix list.
"""

from collections.abc import Sequence
from functools import cache
from http.cookies import Morsel
from typing import TYPE_CHECKING, Any, cast

from aiohttp.abc import AbstractCookieJar
from yarl import URL

from mudlark.web.client import aiohttp
from mudlark.web.cookies import Cookie

if TYPE_CHECKING:
    from publicsuffixlist import PublicSuffixList

_NOWHERE = URL()


class CookieJar(aiohttp.CookieJar):
    """Hosts may be IP addresses, too."""

    def __init__(self) -> None:
        super().__init__(unsafe=True)

    def put(self, cookie: Cookie) -> None:
        """Hold a cookie for its own host, path and scheme; one whose host cannot be is left out."""
        morsel: Morsel[str] = Morsel()
        # set past the checks of the class, which refuses names that sites use all the same
        cast(Any, morsel).__setstate__({"key": cookie.name, "value": cookie.value, "coded_value": cookie.value})
        morsel["path"], morsel["secure"] = cookie.path, cookie.secure
        if cookie.domain.startswith("."):
            morsel["domain"] = cookie.domain.removeprefix(".")
        try:
            home = URL(cookie.address)
        except ValueError:
            return
        self.update_cookies({cookie.name: morsel}, home)

    def update_cookies_from_headers(self, headers: Sequence[str], response_url: URL) -> None:
        """Take the cookies of an answer, by the same way."""
        AbstractCookieJar.update_cookies_from_headers(self, headers, response_url)

    def update_cookies(self, cookies: Any, response_url: URL = _NOWHERE) -> None:
        """Take cookies, but for those whose domain is a public suffix; the very host of such a name keeps its own."""
        host = response_url.raw_host or ""
        kept = []
        for name, cookie in cookies.items() if hasattr(cookies, "items") else cookies:
            domain = str(cookie["domain"]).lstrip(".").lower() if isinstance(cookie, Morsel) else ""
            if domain and _suffixes().is_public(domain):
                if domain != host:
                    continue
                cookie["domain"] = ""
            kept.append((name, cookie))
        super().update_cookies(kept, response_url)


@cache
def _suffixes() -> "PublicSuffixList":
    from publicsuffixlist import PublicSuffixList  # slow to load, and seldom needed

    return PublicSuffixList()
