"""Who may send the next request: a bounded number in flight in all, for each host as many as it serves well, and where
the user wants it, a while between two requests to one host.

Whoever waits is let through in the order in which they came.
"""

import asyncio
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

import msgspec

from mudlark.web.pace import HostPace


class _Host(msgspec.Struct):
    pace: HostPace
    door: asyncio.Lock = msgspec.field(default_factory=asyncio.Lock)
    freed: asyncio.Event = msgspec.field(default_factory=asyncio.Event)
    next_at: float = 0.0


class Lanes:
    """most: requests in flight. gap: seconds between two requests to one host."""

    def __init__(self, most: int, gap: float = 0.0) -> None:
        self.most = most
        self._gap = gap
        self._open = asyncio.Semaphore(most)
        self._hosts: dict[str, _Host] = {}
        self._numbers = list(range(most, 0, -1))

    def pace(self, host: str) -> HostPace:
        """How a host is asked."""
        return self._host(host).pace

    def _host(self, name: str) -> _Host:
        return self._hosts.setdefault(name, _Host(HostPace(self.most)))

    async def turn(self, name: str) -> None:
        """Wait until a host may be asked something that takes no lane."""
        if self._gap:
            host = self._host(name)
            async with host.door:
                await self._keep_gap(host)

    @asynccontextmanager
    async def take(self, name: str) -> AsyncIterator[int]:
        """A lane to a host, by its number, for as long as its request is in flight."""
        host = self._host(name)
        async with host.door:
            while not host.pace.free(now := time.monotonic()):
                if host.pace.busy < host.pace.allowed:
                    await asyncio.sleep(host.pace.resume - now)
                    continue
                host.freed.clear()
                await host.freed.wait()
            await self._open.acquire()
            try:
                await self._keep_gap(host)
            except BaseException:
                self._open.release()
                raise
            host.pace.busy += 1
        number = self._numbers.pop()
        try:
            yield number
        finally:
            self._numbers.append(number)
            host.pace.busy -= 1
            host.freed.set()
            self._open.release()

    async def _keep_gap(self, host: _Host) -> None:
        if self._gap:
            now = time.monotonic()
            await asyncio.sleep(max(0.0, host.next_at - now))
            host.next_at = max(now, host.next_at) + self._gap
