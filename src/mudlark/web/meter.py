"""A limit to the bytes of a second, for all that is fetched together."""

import asyncio
import time


class Meter:
    """Keeps all lanes together under a number of bytes a second."""

    def __init__(self, rate: float) -> None:
        self._rate = rate
        self._free_at = time.monotonic()

    async def spend(self, size: int) -> float:
        """Wait as long as so many bytes take; gives the seconds."""
        now = time.monotonic()
        self._free_at = max(now, self._free_at) + size / self._rate
        wait = max(0.0, self._free_at - now)
        await asyncio.sleep(wait)
        return wait
