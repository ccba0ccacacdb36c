"""Time, as a recording sees it: the time of day, and waiting. Tests have one of their own, that does not wait."""

import asyncio
import time
from typing import Protocol


class Clock(Protocol):
    """now: seconds since 1970 (UTC)."""

    def now(self) -> float: ...

    async def sleep(self, seconds: float) -> None: ...


class WallClock:
    """The time of this machine."""

    def now(self) -> float:
        """Seconds since 1970."""
        return time.time()

    async def sleep(self, seconds: float) -> None:
        """Wait."""
        await asyncio.sleep(seconds)
