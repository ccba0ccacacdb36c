"""Who asks: the header fields of a request, decided anew for every address that it goes to, redirects included."""

from collections.abc import Iterable, Mapping

import msgspec
from msgspec.structs import replace

from mudlark.web.connection import Connection
from mudlark.web.guise import PLAIN
from mudlark.web.redact import gives_access
from mudlark.web.referrer import Referrer, policy_of

WHO = frozenset({"user-agent", "accept", "accept-language"})  # the same, wherever it is sent


class Leading(msgspec.Struct, frozen=True):
    """What is known of an address before it is asked. home: the user gave an address of its origin. led: the request
    comes from another origin, by a redirect. strange: redirects alone have led to its origin so far."""

    home: bool = False
    led: bool = False
    strange: bool = False


class Requester(msgspec.Struct, frozen=True):
    """connection: with the guise, and the fields that the user gave. referrer: the document that names what is asked
    for. beside: fields that go with requests for its sake."""

    connection: Connection
    referrer: Referrer | None = None
    beside: tuple[tuple[str, str], ...] = ()

    def behind(self, referrer: Referrer | None, headers: Mapping[str, str]) -> "Requester":
        """The same for what another document names."""
        return replace(self, referrer=referrer, beside=tuple((name.title(), value) for name, value in headers.items()))

    def redirected(self, policy: str | None) -> "Requester":
        """The same behind a redirect with this Referrer-Policy field (Fetch §4.4)."""
        stated = policy_of(policy)
        if stated is None or self.referrer is None:
            return self
        return replace(self, referrer=replace(self.referrer, policy=stated))

    def fields(self, address: str, at: Leading, *, page: bool = False, hints: Iterable[str] = ()) -> dict[str, str]:
        """The fields that say who asks. page: it may be one. hints: that the server has asked for, in lower case.

        What the user gave stays at the origin that was asked: what gives access at those that the user named, anything
        else is not carried along by a redirect. The Referer is reckoned for each address.
        """
        guise = self.connection.guise
        given = {name: value for name, value in self.connection.headers if _goes_along(name.lower(), at)}
        own = {"User-Agent": guise.user_agent, **guise.headers(address, frozenset(hints))}
        if not page:
            own["Accept"] = "*/*"
        beside = dict(self.beside)
        if at.led:
            beside.pop("Referer", None)
        if "Referer" not in beside and self.referrer and (value := self.referrer.for_request(address)):
            beside["Referer"] = value
        if guise != PLAIN:
            beside.pop("User-Agent", None)
        chosen = {name.lower() for name in given}
        return {name: value for name, value in {**own, **beside}.items() if name.lower() not in chosen} | given


def _goes_along(name: str, at: Leading) -> bool:
    """Whether a field that the user gave is sent."""
    if name in WHO:
        return True
    if at.led:
        return False
    return at.home if gives_access(name) else not at.strange or name == "referer"
