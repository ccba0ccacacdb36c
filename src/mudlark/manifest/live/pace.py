"""When to look at a list again (RFC 8216 §6.3.4), and where in it a recording begins."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Literal

import msgspec

from mudlark.manifest.model import Segment

_SHORTEST, _LONGEST = 0.5, 30.0  # seconds between two looks
_USUAL = 4.0
_BACK_OFF = 1.5
_LATEST = 7_258_118_400.0  # seconds since 1970, in the year 2200


class Airtime(msgspec.Struct, frozen=True):
    """What part of a broadcast is wanted. begin: the earliest that the server has, now, or seconds since 1970. length:
    seconds; until: seconds since 1970."""

    begin: Literal["earliest", "now"] | float = "now"
    length: float | None = None
    until: float | None = None


class LookPace:
    """Seconds to wait between looks at one list."""

    def __init__(self) -> None:
        self._idle = 0
        self._failed = 0

    def after(self, target: float | None, last: float, *, changed: bool, took: float) -> float:
        """Counted from the beginning of the look before. target: seconds that no segment exceeds, as stated; last: of
        the last segment. took: seconds that the look itself took. A list that did not change is asked for again after
        half of that; one that goes on not changing, less and less often."""
        self._failed = 0
        whole = min(target or last or _USUAL, last or target or _USUAL) or _USUAL
        if changed:
            self._idle = 0
            wait = whole
        else:
            self._idle += 1
            wait = whole / 2 * max(1.0, self._idle / 4)
        return max(_SHORTEST, min(wait, _LONGEST) - took)

    def after_failure(self) -> float:
        """After a look that failed."""
        self._failed += 1
        return min(_LONGEST, _SHORTEST * _BACK_OFF ** min(self._failed, 20))

    @property
    def idle(self) -> int:
        """Looks in a row that brought nothing."""
        return self._idle


def moment_of(segment: Segment) -> float | None:
    """When a segment begins, in seconds since 1970; None if it does not state that (RFC 3339)."""
    if not segment.moment:
        return None
    text = segment.moment.replace("Z", "+00:00").replace("z", "+00:00")
    try:
        stated = datetime.fromisoformat(text if text[-5:-4] not in "+-" else f"{text[:-2]}:{text[-2:]}")
        seconds = (stated if stated.tzinfo else stated.replace(tzinfo=UTC)).timestamp()
    except (ValueError, OverflowError):
        return None
    return seconds if 0 <= seconds <= _LATEST else None  # others are no time at which anything is broadcast


def as_moment(seconds: float) -> str:
    """A time of day as records state it (RFC 3339)."""
    seconds = min(max(0.0, seconds), _LATEST)
    return datetime.fromtimestamp(seconds, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def first_of(listed: Sequence[Segment], begin: Literal["earliest", "now"] | float, now: float) -> int:
    """The number in a list at which a recording begins. Without stated moments, times count back from the end."""
    if begin == "earliest":
        return 0
    if begin == "now":
        return max(0, len(listed) - 1)
    ends, at = [], now
    for segment in reversed(listed):
        ends.append(at)
        at -= segment.duration
    begin_of_list = at
    for number, segment in enumerate(listed):
        stated = moment_of(segment)
        if stated is not None:
            at = stated
        elif number == 0:
            at = begin_of_list
        if at + segment.duration > begin:
            return number
        at += segment.duration
    return max(0, len(listed) - 1)
