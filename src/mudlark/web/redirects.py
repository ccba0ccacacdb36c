"""Where a request is led, hop by hop: bounded, and a circle is named (RFC 9110 §15.4)."""

from collections.abc import Mapping
from urllib.parse import urlsplit, urlunsplit

from mudlark.errors import NetworkError
from mudlark.text import printable
from mudlark.web.address import resolve, shown
from mudlark.web.origin import origin_of

_LEADING = frozenset({301, 302, 303, 307, 308})
_KEEPING = frozenset({307, 308})  # with which a form is sent again
_MOST, _AGAIN = 20, 2  # hops, and how often one address may come: a cookie may be given in between
_NAMED = 4  # addresses of a circle that are named


class Redirects:
    """address: the one to be asked. led: it is of another origin than one before it. keeps_form: a form is sent to it
    as well."""

    def __init__(self, address: str) -> None:
        self.address = address
        self.led = False
        self.keeps_form = True
        self._way = [address]

    def follow(self, status: int, headers: Mapping[str, str]) -> bool:
        """Take the next hop; False if there is none. Raises NetworkError for a circle, too many hops, and addresses
        that cannot be requested."""
        location = headers.get("location")
        if status not in _LEADING or not location:
            return False
        first, here = self._way[0], self.address
        target = resolve(here, location)
        if target is None:
            raise NetworkError(
                f"{shown(first)} leads to an address that cannot be requested: {shown(printable(location))}.", url=first
            )
        if origin_of(target) != origin_of(here):
            self.led = True
        elif "@" in urlsplit(here).netloc and "@" not in urlsplit(target).netloc:
            target = urlunsplit(urlsplit(target)._replace(netloc=urlsplit(here).netloc))
        if self._way.count(target) >= _AGAIN:
            circle = self._way[len(self._way) - self._way[::-1].index(target) - 1 :]
            words = " → ".join(map(shown, [*circle[:_NAMED], target]))
            raise NetworkError(
                f"{shown(first)} redirects in a circle: {words}.",
                "Open it in a browser; it may need a cookie.",
                url=first,
            )
        if len(self._way) > _MOST:
            raise NetworkError(
                f"{shown(first)} redirects more than {_MOST} times, lastly to {shown(target)}.",
                "Open it in a browser to see where it leads.",
                url=first,
            )
        self.keeps_form = self.keeps_form and status in _KEEPING
        self.address = target
        self._way.append(target)
        return True
