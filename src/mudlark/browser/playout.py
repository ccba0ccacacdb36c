"""Playing a tapped player from its beginning to its end, as fast as it is fed: it is sought ahead to where something is
missing, and waited for there. A broadcast is played as it comes.
"""

import asyncio
import time
from collections.abc import Awaitable, Callable
from typing import Any

import msgspec

from mudlark.browser.tap import Tap, TappedSource

_LOOK = 0.12  # seconds between two looks
_BEFORE = 0.35  # seconds before a hole that is played to
_EDGE = 0.3  # seconds that may be missing at the beginning and the end
_BETWEEN = 0.06  # and between what was appended
_SLIGHT = 0.6  # seconds of a hole between pieces; where the page leaves some of those, it fills none
_MOST_SLIGHT = 2
_RATE = 4  # times, while it waits at the edge of what is there
_PATIENCE = 4.0  # seconds for what is missing at one place
_LAST = 3.0  # seconds for the page to say that it has ended
_TRIES = 2
_STALLED = 30.0  # seconds without anything new, unless less was asked for


class PlayoutProgress(msgspec.Struct, frozen=True):
    """How it goes. covered: seconds that were appended; length: of all, None while unknown. size: bytes."""

    covered: float
    length: float | None
    size: int
    endless: bool


class PlayOut(msgspec.Struct):
    """What to play, and for how long. number: of the source, by size. at_most: seconds without anything new. seconds,
    until: of a broadcast; until in seconds since 1970. stop: makes an end of it. why: it ended. given_up: where holes
    begin that nothing filled; slight: how many of these were. whole: it came as far as was wanted."""

    tap: Tap
    number: int = 1
    at_most: float = 60.0
    seconds: float | None = None
    until: float | None = None
    stop: asyncio.Event = msgspec.field(default_factory=asyncio.Event)
    on_progress: Callable[[PlayoutProgress], None] = lambda _progress: None
    why: str = ""
    source: TappedSource | None = None
    given_up: list[float] = msgspec.field(default_factory=list)
    slight: int = 0
    whole: bool = False

    async def run(self, ask: "Callable[[str, Any], Awaitable[list[Any]]]") -> None:
        """Until all of it was appended, nothing new comes, or it is ended. ask: gives what all frames answer to a task
        of the script in inside.js."""
        news, best, sought, since, tries = time.monotonic(), 0.0, -1.0, 0.0, 0
        while not self.stop.is_set() and not self.why:
            await asyncio.sleep(_LOOK)
            now = time.monotonic()
            if self.tap.systems is not None:
                return
            if self.tap.overfull:
                self.why = "more was appended than is taken down"
                return
            source = self.source = self._chosen()
            players = [player for answer in await ask("fed", None) for player in answer or []]
            player = _player_of(source, players) if source else None
            if source is None or player is None:
                self._mind(now - news, "nothing was appended to any player")
                continue
            if player["error"]:
                self.why = f"the player failed: {player['error']}"
                return
            total = sum(end - begin for begin, end in source.covered)
            self.on_progress(PlayoutProgress(total, source.length, source.size, source.endless))
            if total > best + 0.01:
                best, news = total, now
            self._mind(now - news, "nothing new was appended any more")
            if source.endless or source.length is None:
                await ask("drive", {"address": source.address, "to": None, "rate": 1})
                self._mind_end(total)
                continue
            hole = self._hole(source)
            if hole is None:
                if source.ended or player["ended"] or (sought >= source.length - 1 and now - since > _LAST):
                    self.whole = not self.given_up
                    self.why = "all of it was appended" if self.whole else "no more came of what is missing"
                    return
                hole = source.length
            target = max(0.0, hole - _BEFORE)
            near = target - 0.2 <= player["time"] <= hole + 0.1
            if abs(hole - sought) > 0.01:
                sought, since, tries = hole, now, 0
            elif now - since > (_PATIENCE / 4 if self._is_slight(source, hole) else _PATIENCE):
                tries, since = tries + 1, now
                target, near = min(hole + 0.1, source.length), False  # into what is missing
                if source.ended or tries > _TRIES or self._is_slight(source, hole):
                    self._give_up(source, hole)
            to = None if near or player["seeking"] else target
            await ask("drive", {"address": source.address, "to": to, "rate": _RATE})

    def _chosen(self) -> TappedSource | None:
        """The source that is wanted: of those that were fed, by size."""
        filled = sorted((one for one in self.tap.sources.values() if one.size), key=lambda one: -one.size)
        if self.source in filled and self.number == 1 and self.source and self.source.size * 2 > filled[0].size:
            return self.source
        return filled[self.number - 1] if len(filled) >= self.number else None

    def _mind(self, idle: float, why: str) -> None:
        if idle > min(self.at_most, _STALLED):
            self.why = why

    def _mind_end(self, total: float) -> None:
        if (self.seconds is not None and total >= self.seconds) or (
            self.until is not None and time.time() >= self.until
        ):
            self.why, self.whole = "it is as long as was wanted", True

    def _hole(self, source: TappedSource) -> float | None:
        """The first second that was not appended yet."""
        reached, length = 0.0, source.length or 0.0
        least = _BETWEEN if self.slight < _MOST_SLIGHT else _SLIGHT
        for begin, end in source.covered:
            if begin - reached > (_EDGE if reached == 0.0 else least) and not self._is_given_up(reached):
                return reached
            reached = max(reached, end)
        return reached if length - reached > _EDGE and not self._is_given_up(reached) else None

    def _is_given_up(self, at: float) -> bool:
        return any(abs(at - one) < 0.01 for one in self.given_up)

    @staticmethod
    def _is_slight(source: TappedSource, hole: float) -> bool:
        """True if what is missing at a place is less than any piece would have."""
        return any(hole < begin <= hole + _SLIGHT for begin, _ in source.covered)

    def _give_up(self, source: TappedSource, hole: float) -> None:
        """What does not come is a hole; what is behind it may still come."""
        self.slight += self._is_slight(source, hole)
        if hole >= (source.length or 0.0) - 1.0 or any(begin > hole + 0.01 for begin, _ in source.covered):
            self.given_up.append(hole)


def _player_of(source: TappedSource, players: list[dict[str, Any]]) -> dict[str, Any] | None:
    """The element that plays a source."""
    if source.address:
        return next((one for one in players if one["src"] == source.address), None)
    return next((one for one in players if one["object"]), None)
