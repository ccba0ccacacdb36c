"""Time, as a recording sees it: the time of day, and waiting. Tests have one of their own, that does not wait."""

import asyncio
import time
from typing import Protocol


class WallClock(Protocol):
    """now: seconds since 1970 (UTC)."""

    def now(self) -> float: ...

    async def sleep(self, seconds: float) -> None: ...


class SteadyClock:
    """The time of day as it was when this began, and steadily on from there: whoever sets the machine's clock meanwhile
    makes nothing longer or shorter, and no gap where there is none."""

    def __init__(self) -> None:
        self._ahead = time.time() - time.monotonic()

    def now(self) -> float:
        """Seconds since 1970."""
        return time.monotonic() + self._ahead

    async def sleep(self, seconds: float) -> None:
        """Wait."""
        await asyncio.sleep(seconds)
