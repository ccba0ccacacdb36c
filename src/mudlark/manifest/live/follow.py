"""Following one rendition from one look at its list to the next: nothing twice, nothing lost without a word.

Follows RFC 8216 §6.2.1 and §6.3.4 for HLS, where the media sequence number is the identity of a segment; in DASH it is
its time in the presentation. What the list no longer holds, though it was never seen, becomes a segment that is
missing. Stretches are numbered by the recording itself, as a server that begins anew may use its numbers again.
"""

from collections.abc import Sequence

import msgspec
from msgspec.structs import replace

from mudlark.manifest.live.pace import as_moment, moment_of
from mudlark.manifest.model import LONGEST_GAP, Segment
from mudlark.web.address import without_query
from mudlark.web.resource import Resource

_REMEMBERED = 5_000  # segments whose addresses are compared
_LEAP = 100  # segments by which a number may run ahead of the time that has passed, before it is a new numbering
_NEARLY = 0.02  # seconds
_LAGS, _GROWN = 3, 2  # segments by which a copy may lag beside its length; how often a list must have grown behind


class Fresh(msgspec.Struct, frozen=True):
    """What a look brought: segments in order, each with its place in the recording, and as it was listed. restarted:
    the numbering began anew. missed: seconds that are missing before or among them."""

    pairs: tuple[tuple[Segment, Segment], ...] = ()
    restarted: bool = False
    missed: float = 0.0


class Stretches:
    """Numbers for the stretches of all renditions of one recording: the same for the same part of it."""

    def __init__(self, first: int = 0) -> None:
        self._numbers: dict[tuple[int, int], int] = {}
        self._next = first

    def number(self, epoch: int, stretch: int) -> int:
        """The number of a stretch of the server's, since it last began anew."""
        key = (epoch, stretch)
        if key not in self._numbers:
            self._numbers[key] = self._next
            self._next += 1
        return self._numbers[key]


class Follower:
    """One rendition of a recording. by_time: segments are known by their time, not by their number."""

    def __init__(self, stretches: Stretches, *, by_time: bool = False) -> None:
        self._stretches = stretches
        self._by_time = by_time
        self._epoch = 0
        self._last: Segment | None = None  # as listed
        self._known: dict[int, tuple[str, float]] = {}  # by number: what a segment is known by
        self._length = 0.0
        self._seen_at = 0.0
        self._modified: float | None = None  # when the newest list was made, in seconds since 1970
        self._origin: float | None = None  # the time of day at which the presentation's time began
        self._behind: tuple[int, int] | None = None  # the last number of a list that is behind, and how often it grew

    @property
    def length(self) -> float:
        """Seconds of the recording so far, with what is missing."""
        return self._length

    @property
    def begun(self) -> bool:
        """True once there was anything."""
        return self._last is not None

    def resume(self, last: Segment, length: float, now: float) -> None:
        """Go on behind a segment that an earlier run has recorded. last: as it was listed."""
        self._last, self._length, self._seen_at = last, length, now
        self._known[last.sequence] = _known_by(last)

    def update(
        self,
        listed: Sequence[Segment],
        now: float,
        first: int | None = None,
        modified: float | None = None,
        origin: float | None = None,
    ) -> Fresh:
        """What is new in a list. now: seconds since 1970. first: the number in the list at which to begin, where
        nothing was recorded yet. modified: when the list was made (Last-Modified), in seconds since 1970. origin: when
        the time of its segments began, in seconds since 1970."""
        if not listed:
            return Fresh()
        moved = origin is not None and self._origin is not None and abs(origin - self._origin) > _NEARLY
        self._origin = origin
        newer = modified is not None and self._modified is not None and modified > self._modified
        self._modified = max(filter(None, (self._modified, modified)), default=None)
        if self._last is None:
            return self._take(listed[first or 0 :], now)
        if self._by_time:
            anew = moved and listed[-1].begin <= self._last.begin
        else:
            anew = self._begins_anew(listed, now, newer=newer)
        if anew:
            return self._restart(listed, now)
        fresh = [segment for segment in listed if self._is_after(segment)]
        if not fresh:
            self._seen_at = now
            return Fresh()
        missed = self._missed(fresh[0], listed)
        return self._take(fresh, now, missed)

    def finish(self, parts: Sequence[Segment], now: float) -> Fresh:
        """Nothing more comes: what there is of the segment that was being made."""
        return self._take([one for one in parts if self._is_after(one)] if self._last else parts, now)

    def _is_after(self, segment: Segment) -> bool:
        assert self._last is not None
        if self._by_time:
            return segment.begin > self._last.begin + _NEARLY
        return segment.sequence > self._last.sequence

    def _begins_anew(self, listed: Sequence[Segment], now: float, *, newer: bool) -> bool:
        """True if the numbers of a list are not those of before: they run backwards, or mean other segments, or leap
        farther than time has passed. An older copy of the list, which some servers send, is none: it says the same of
        its segments, was not made later, and does not grow far behind. newer: the list was made after all before."""
        assert self._last is not None
        both = [segment for segment in listed if segment.sequence in self._known]
        if both:
            if all(self._known[segment.sequence] != _known_by(segment) for segment in both):
                return True
            return listed[-1].sequence < self._last.sequence and (newer or self._grows_behind(listed))
        if listed[-1].sequence < self._last.sequence:
            return True
        usual = max(0.5, _usual(listed))
        return listed[0].sequence - self._last.sequence > (now - self._seen_at) / usual + _LEAP

    def _grows_behind(self, listed: Sequence[Segment]) -> bool:
        """True if a list that is farther behind than any copy would be has grown again and again."""
        assert self._last is not None
        last, known = listed[-1].sequence, self._behind
        if self._last.sequence - last <= len(listed) + _LAGS:
            self._behind = None
            return False
        self._behind = (last, 0 if known is None or last < known[0] else known[1] + (last > known[0]))
        return self._behind[1] >= _GROWN

    def _restart(self, listed: Sequence[Segment], now: float) -> Fresh:
        assert self._last is not None
        self._epoch += 1
        self._known.clear()
        self._behind = None
        away = now - self._seen_at - sum(segment.duration for segment in listed)
        before, after = moment_of(self._last), moment_of(listed[0])
        if before is not None and after is not None and abs(after - before) <= LONGEST_GAP:
            away = after - before - self._last.duration + _usual(listed)
        missed = min(away - _usual(listed), LONGEST_GAP) if away > 1.5 * _usual(listed) else 0.0
        taken = self._take(listed, now, [self._lost(listed[0], missed)] if missed else [])
        return Fresh(taken.pairs, restarted=True, missed=missed)

    def _missed(self, first: Segment, listed: Sequence[Segment]) -> list[Segment]:
        """What should stand between the last that was seen and the first that is new."""
        assert self._last is not None
        if self._by_time:
            seconds = first.begin - (self._last.begin + self._last.duration)
            return [self._lost(first, min(seconds, LONGEST_GAP))] if seconds > 0.5 * max(0.1, first.duration) else []
        count = first.sequence - self._last.sequence - 1
        return [self._lost(first, min(count * _usual(listed), LONGEST_GAP))] if count > 0 else []

    def _lost(self, following: Segment, seconds: float) -> Segment:
        """What is missing before a segment, as one that nobody can ask for."""
        after = moment_of(following)
        return replace(
            following,
            resource=Resource(""),
            duration=seconds,
            gap=True,
            init=None,
            cipher=None,
            moment=as_moment(after - seconds) if after is not None else None,
        )

    def _take(self, segments: Sequence[Segment], now: float, before: Sequence[Segment] = ()) -> Fresh:
        placed = []
        for segment in (*before, *segments):
            stretch = self._stretches.number(self._epoch, segment.stretch)
            placed.append((replace(segment, begin=self._length, stretch=stretch), segment))
            self._length += segment.duration
        for segment in segments:
            self._known[segment.sequence] = _known_by(segment)
        while len(self._known) > _REMEMBERED:
            del self._known[next(iter(self._known))]
        if segments:
            self._last, self._seen_at = segments[-1], now
        return Fresh(tuple(placed), missed=sum(segment.duration for segment in before))


def _known_by(segment: Segment) -> tuple[str, float]:
    """What is the same of a segment whenever it is listed."""
    return without_query(segment.resource.url), segment.duration


def _usual(listed: Sequence[Segment]) -> float:
    """Seconds of a usual segment."""
    durations = sorted(segment.duration for segment in listed)
    return durations[len(durations) // 2] if durations else 0.0
