"""How long requests of one kind usually take, so that one that takes much longer is noticed: it may be stuck where a
second one is not."""

from collections import deque
from statistics import median

_KNOWN = 6  # requests before anything is said
_MUCH = 4.0  # times the usual
_LEAST = 1.0  # seconds before which nothing is slow


class Peers:
    """The last requests that were answered."""

    def __init__(self) -> None:
        self._seconds: deque[float] = deque(maxlen=32)
        self._rates: deque[float] = deque(maxlen=32)

    def took(self, seconds: float, size: int) -> None:
        """One was answered."""
        self._seconds.append(seconds)
        self._rates.append(size / max(seconds, 1e-6))

    @property
    def long(self) -> float | None:
        """Seconds after which a request may be slow; None while nothing is known."""
        return max(_LEAST, _MUCH * median(self._seconds)) if len(self._seconds) >= _KNOWN else None

    def slow(self, seconds: float, size: int) -> bool:
        """True if a request that runs for so long, and has so many bytes, is much slower than the others."""
        return self.long is not None and seconds >= self.long and size / seconds < median(self._rates) / _MUCH
