"""The Referer field that a browser would send with a request for something that a document names.

Follows Referrer Policy (W3C) §3 and §8. Origins are compared by scheme, host and port; fragments and log-ins are never
sent.
"""

from urllib.parse import urlsplit, urlunsplit

import msgspec

from mudlark.web.address import host_of
from mudlark.web.origin import origin_of

DEFAULT = "strict-origin-when-cross-origin"
POLICIES = frozenset(
    {
        "no-referrer",
        "no-referrer-when-downgrade",
        "origin",
        "origin-when-cross-origin",
        "same-origin",
        "strict-origin",
        "strict-origin-when-cross-origin",
        "unsafe-url",
    }
)
_OLD = {"never": "no-referrer", "default": DEFAULT, "always": "unsafe-url", "origin-when-crossorigin": DEFAULT}


def policy_of(text: str | None) -> str | None:
    """The last policy of a header, meta element or attribute that is one (§8.1, §4.2); None if there is none."""
    last = None
    for part in (text or "").lower().split(","):
        name = _OLD.get(part.strip(), part.strip())
        if name in POLICIES:
            last = name
    return last


class Referrer(msgspec.Struct, frozen=True):
    """A document that names things: its address, and its policy."""

    url: str
    policy: str = DEFAULT

    def for_request(self, address: str) -> str | None:
        """The value of Referer for a request to an address; None if none is sent."""
        source = urlsplit(self.url)
        if source.scheme not in ("http", "https"):
            return None
        host = host_of(self.url)
        origin = f"{source.scheme}://{host}/"
        full = urlunsplit((source.scheme, host, source.path or "/", source.query, ""))
        same = origin_of(self.url) == origin_of(address)
        downgrade = source.scheme == "https" and not address.lower().startswith("https:")
        match self.policy:
            case "no-referrer":
                return None
            case "unsafe-url":
                return full
            case "origin":
                return origin
            case "same-origin":
                return full if same else None
            case "origin-when-cross-origin":
                return full if same else origin
            case "strict-origin":
                return None if downgrade else origin
            case "no-referrer-when-downgrade":
                return None if downgrade else full
            case _:
                if same:
                    return full
                return None if downgrade else origin
