"""One request from the moment somebody wants it to its last byte, as the log has it."""

import logging
import time
from collections.abc import Callable
from typing import IO, Any, Literal

import msgspec

from mudlark.web.redact import redacted

Copy = IO[bytes]
_log = logging.getLogger(__name__)


STOPPED = "it was ended from here"  # a problem that is none: what came was enough, or came elsewhere sooner
Way = Literal["first", "elsewhere", "renewed", "raced"]


class Errand(msgspec.Struct, frozen=True):
    """What a request is for: the name of the thing, and which try at it this is. It takes a lane.

    way: under which address: the first of those listed, another of them, one that was asked for anew as links had
    expired, or any of them while another request for the same thing is slow.
    """

    name: str
    attempt: int = 1
    way: Way = "first"


class Exchange(msgspec.Struct):
    """Times are of the monotonic clock, in seconds; None for what did not happen. bytes: of the body. copy: of
    the body, if one is wanted. whole: all of it has come."""

    url: str
    errand: Errand | None = None
    range: str | None = None
    lane: int | None = None
    queued: float = msgspec.field(default_factory=time.monotonic)
    sent: float | None = None
    first: float | None = None
    status: int | None = None
    family: str | None = None
    bytes: int = 0
    problem: str | None = None
    copy: Copy | None = None
    whole: bool = False

    def facts(self) -> dict[str, Any]:
        """Its row, with times in seconds since it was wanted; `at`: the time of day then, in seconds since 1970."""
        now = time.monotonic()

        def since(moment: float | None) -> float | None:
            return None if moment is None else round(moment - self.queued, 4)

        return {
            "url": redacted(self.url),
            "status": self.status,
            "range": self.range,
            "for": self.errand.name if self.errand else None,
            "try": self.errand.attempt if self.errand else None,
            "way": self.errand.way if self.errand else None,
            "lane": self.lane,
            "at": round(time.time() - (now - self.queued), 3),
            "sent": since(self.sent),
            "first": since(self.first),
            "ended": since(now),
            "bytes": self.bytes,
            "family": self.family,
            "problem": redacted(self.problem) if self.problem else None,
        }

    def log(self, also: Callable[[dict[str, Any]], None] | None = None) -> None:
        """Write its row. also: who else is told."""
        if also is None and not _log.isEnabledFor(logging.INFO):
            return
        facts = self.facts()
        _log.info("asked", extra={"facts": facts})
        if also is not None:
            also(facts)
