"""A broadcast as a source of segments: looks at its lists until it ends, is long enough, or is told to stop.

What is new is handed on at once, so that it is fetched before the server lets go of it. A list that cannot be had for a
while is asked for again; what was missed meanwhile is a segment that is missing.
"""

import asyncio
import logging
from collections.abc import AsyncIterator, Callable, Mapping, Sequence
from contextlib import suppress

import msgspec
from msgspec.structs import replace

from mudlark.errors import FormatError, NetworkError, NothingFound
from mudlark.manifest.live.clock import WallClock
from mudlark.manifest.live.follow import Follower, Fresh, Stretches
from mudlark.manifest.live.lists import Listing, Lists
from mudlark.manifest.live.pace import Airtime, LookPace, as_moment, first_of, moment_of
from mudlark.manifest.model import Segment
from mudlark.web.address import shown

_GIVE_UP = 600.0  # seconds that a list may be out of reach
_OVER = 60.0  # seconds, or twelve targets, after which a list that has not changed is taken for ended
_TARGETS = 12
_log = logging.getLogger(__name__)


class EarlierRun(msgspec.Struct, frozen=True):
    """What an earlier run has recorded of a rendition: the last segment as it was listed, its stretch in the recording,
    how many there are, and how many seconds."""

    last: Segment
    stretch: int
    count: int
    length: float


class State(msgspec.Struct):
    """How a recording goes. length: seconds so far. behind: seconds since the last segment ended, where its moment is
    stated. gaps, missed: how many holes there are, and seconds in them. looks: at lists. why: it has ended."""

    length: float = 0.0
    behind: float | None = None
    gaps: int = 0
    missed: float = 0.0
    looks: int = 0
    restarts: int = 0
    why: str = ""
    notes: list[str] = msgspec.field(default_factory=list)


class Arrival(msgspec.Struct, frozen=True):
    """A segment of a rendition, in its place among all that was recorded of that; and as it was listed."""

    name: str
    number: int
    segment: Segment
    listed: Segment


class Broadcast:
    """Use `async for arrival in broadcast.arrivals()`. on_state: hears how it goes after every look."""

    def __init__(
        self,
        lists: Sequence[Lists],
        span: Airtime,
        clock: WallClock,
        *,
        earlier: Mapping[str, EarlierRun] | None = None,
        on_state: Callable[[State], None] = lambda _state: None,
    ) -> None:
        self.state = State()
        self.stop = asyncio.Event()
        self._lists = lists
        self._span = span
        self._clock = clock
        self._on_state = on_state
        self._earlier = earlier or {}
        stretches = Stretches(max((one.stretch + 1 for one in self._earlier.values()), default=0))
        self._followers = {name: Follower(stretches, by_time=one.by_time) for one in lists for name in one.names}
        self._counts = {name: self._earlier[name].count if name in self._earlier else 0 for name in self._followers}
        for name, one in self._earlier.items():
            if name in self._followers:
                self._followers[name].resume(one.last, one.length, clock.now())
        self._main = next(iter(self._followers))
        self._parts: dict[str, Listing] = {}  # what was listed last, where that has parts
        self._queue: asyncio.Queue[Arrival | None] = asyncio.Queue()

    async def arrivals(self) -> AsyncIterator[Arrival]:
        """Segments as they are listed, the oldest first."""
        await self._wait_for_begin()
        tasks = [asyncio.create_task(self._follow(one)) for one in self._lists]
        ending = asyncio.create_task(self._end(tasks))
        try:
            while (arrival := await self._queue.get()) is not None:
                yield arrival
            await ending
        finally:
            for task in (*tasks, ending):
                task.cancel()
            await asyncio.gather(*tasks, ending, return_exceptions=True)

    async def _end(self, tasks: list[asyncio.Task[None]]) -> None:
        """When all lists have ended, or one has failed for good."""
        try:
            await asyncio.gather(*tasks)
        finally:
            self._queue.put_nowait(None)

    async def _wait_for_begin(self) -> None:
        begin = self._span.begin
        while isinstance(begin, float) and not self.stop.is_set() and (left := begin - self._clock.now()) > 0:
            await self._wait(min(left, 30.0))

    async def _follow(self, lists: Lists) -> None:
        await self._look_on(lists)
        for name in lists.names:
            if listing := self._parts.get(name):
                fresh = self._followers[name].finish(listing.parts, self._clock.now())
                self._hand_on([(name, *pair) for pair in fresh.pairs], {name: listing})

    async def _look_on(self, lists: Lists) -> None:
        """Look at lists again and again, until there is nothing more, or enough."""
        pace = LookPace()
        reached = changed_at = self._clock.now()
        while True:
            begun = self._clock.now()
            try:
                listings = await lists.look()
            except (NetworkError, FormatError) as problem:
                now = self._clock.now()
                for name in lists.names:  # what is out of reach has no parts either
                    self._parts.pop(name, None)
                if not self._followers[lists.names[0]].begun or now - reached > _GIVE_UP:
                    if not self._followers[lists.names[0]].begun:
                        raise
                    self._finish(f"it was out of reach for {now - reached:.0f} s: {problem.what}")
                    return
                _log.info("looked in vain", extra={"facts": {"why": problem.what}})
                if await self._wait(pace.after_failure()) or self._enough(lists):
                    return
                continue
            now = reached = self._clock.now()
            self.state.looks += 1
            changed = self._take(lists, listings, now)
            changed_at = now if changed else changed_at
            self._on_state(self.state)
            if listings and all(one.ended for one in listings.values()):
                self._finish("the broadcast has ended")
                return
            if self._enough(lists):
                return
            target = max((one.target or 0.0 for one in listings.values()), default=0.0)
            last = max((one.segments[-1].duration for one in listings.values() if len(one.segments)), default=0.0)
            if now - changed_at > max(_OVER, _TARGETS * min(target or last, 30.0)):
                self._finish(f"its list has not changed for {now - changed_at:.0f} s")
                return
            if await self._wait(pace.after(target, last, changed=changed, took=now - begun)):
                return

    def _take(self, lists: Lists, listings: dict[str, Listing], now: float) -> bool:
        """Hand on what is new, by the time at which it plays; True if there was anything."""
        fresh: dict[str, Fresh] = {}
        for name, listing in listings.items():
            follower = self._followers[name]
            first = None if follower.begun else first_of(listing.segments, self._span.begin, now)
            fresh[name] = follower.update(listing.segments, now, first, listing.modified, listing.origin)
            self._parts[name] = listing
        for name, one in fresh.items():
            if one.restarted:
                self.state.restarts += 1
            if one.missed and name == self._main:
                self.state.gaps += 1
                self.state.missed += one.missed
        arrivals = [(name, *pair) for name, one in fresh.items() for pair in one.pairs]
        self._hand_on(arrivals, listings)
        if self._main in fresh:
            self.state.length = self._followers[self._main].length
            if fresh[self._main].pairs:
                last = fresh[self._main].pairs[-1][0]
                moment, origin = moment_of(last), listings[self._main].origin
                if moment is None and origin is not None:
                    moment = origin + fresh[self._main].pairs[-1][1].begin
                self.state.behind = now - moment - last.duration if moment is not None else None
        _log.info(
            "looked",
            extra={
                "facts": {
                    "new": {name: len(one.pairs) for name, one in fresh.items()},
                    "ended": [name for name, listing in listings.items() if listing.ended],
                }
            },
        )
        return bool(arrivals)

    def _hand_on(self, fresh: list[tuple[str, Segment, Segment]], listings: Mapping[str, Listing]) -> None:
        """Hand on segments, each in its place in the recording and as it was listed, by the time at which they play."""
        for name, segment, listed in sorted(fresh, key=lambda one: (one[1].stretch, one[1].begin)):
            origin = listings[name].origin
            if origin is not None and not segment.moment:
                segment = replace(segment, moment=as_moment(origin + listed.begin))
            if self._span.length is not None and segment.begin >= self._span.length:
                continue
            self._queue.put_nowait(Arrival(name, self._counts[name], segment, listed))
            self._counts[name] += 1

    def _enough(self, lists: Lists) -> bool:
        """True if there is as much as was wanted, or somebody wants no more."""
        if self.stop.is_set():
            self.state.why = self.state.why or "it was ended here"
            return True
        if self._span.until is not None and self._clock.now() >= self._span.until:
            self.state.why = "it was to last until now"
            return True
        length = self._span.length
        if length is not None and all(self._followers[name].length >= length for name in lists.names):
            self.state.why = "it is as long as was wanted"
            return True
        return False

    def _finish(self, why: str) -> None:
        self.state.why = why

    async def _wait(self, seconds: float) -> bool:
        """Wait; True if it was told to stop meanwhile."""
        if self._span.until is not None:
            seconds = min(seconds, max(0.0, self._span.until - self._clock.now()))
        sleeping = asyncio.ensure_future(self._clock.sleep(seconds))
        stopping = asyncio.ensure_future(self.stop.wait())
        try:
            await asyncio.wait((sleeping, stopping), return_when=asyncio.FIRST_COMPLETED)
        finally:
            for task in (sleeping, stopping):
                task.cancel()
                with suppress(asyncio.CancelledError):
                    await task
        if self.stop.is_set():
            self.state.why = self.state.why or "it was ended here"
        return self.stop.is_set()


def nothing_recorded(address: str) -> NothingFound:
    """What to say where a broadcast brought nothing at all."""
    what = f"{shown(address)} brought nothing while it was recorded."
    return NothingFound(what, "Try again when it is on.", url=address)
