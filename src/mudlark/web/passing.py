"""Which failures pass by themselves, and how long to wait until then.

Exponential backoff with full jitter, so that many lanes do not come back at the same moment; a server that says when
to come back (Retry-After, RFC 9110 §10.2.3) is believed, within bounds.
"""

import random

import msgspec

from mudlark.errors import NetworkError

_PASSING = frozenset({408, 425, 429, 500, 502, 503, 504, 507, 509, 520, 521, 522, 523, 524})


def passes(status: int) -> bool:
    """True if a request answered with this status may succeed later."""
    return status in _PASSING


class Passing(NetworkError):
    """A failure that may pass: worth another try. retry_after: seconds the server asked for, if it did. crowded: the
    server, or the way to it, may have too much to do."""

    def __init__(
        self,
        what: str,
        advice: str = "",
        status: int | None = None,
        retry_after: float | None = None,
        *,
        crowded: bool = False,
        url: str | None = None,
    ) -> None:
        super().__init__(what, advice, status, url=url)
        self.retry_after = retry_after
        self.crowded = crowded


class Backoff(msgspec.Struct, frozen=True):
    """tries: how often a request is made at most. first, longest: seconds of the first and of the longest wait."""

    tries: int = 4
    first: float = 0.5
    longest: float = 30.0

    def wait(self, failures: int, asked: float | None) -> float:
        """Seconds before the next try after so many failures: any time up to a ceiling that doubles (full jitter), but
        not before the server wants to be asked again."""
        ceiling = min(self.longest, self.first * 2 ** min(failures - 1, 30))
        return random.uniform(0, ceiling) + min(asked or 0.0, 10 * self.longest)
