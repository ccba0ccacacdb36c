"""How many requests at once a server is sent: as many as it serves well.

Begins with all that the user allows, as most servers can take them; halves when the server refuses for want of room
(429, 503), breaks connections, or lets everyone wait much longer without giving more; grows again, one by one, as long
as more comes for it. No clock of its own: every call is told the time, in seconds.
"""

import math
from statistics import median

_ROUND = 4  # requests at least over which is judged
_SLOW, _SLACK = 3.0, 0.2  # a first byte is late after so many times the shortest wait and so many seconds more
_GAIN = 1.05  # what another lane must bring
_REST = 8  # rounds for which a lane that brought nothing is not tried again
_LONGEST_REST = 300.0  # seconds for which a server is believed that it wants to be left alone


class HostPace:
    """One server's. most: requests at once that the user allows."""

    def __init__(self, most: int) -> None:
        self.most = most
        self.allowed = most
        self.busy = 0
        self.resume = -math.inf  # when it may be asked again
        self._halved = -math.inf
        self._shortest = math.inf
        self._before = 0.0
        self._rest = 0
        self._grew = False
        self._begin_round(-math.inf)

    def _begin_round(self, now: float) -> None:
        self._since, self._bytes, self._waits = now, 0, list[float]()

    def free(self, now: float) -> bool:
        """True if one more may be sent."""
        return self.busy < self.allowed and now >= self.resume

    def served(self, sent: float, first: float, ended: float, size: int) -> None:
        """A request was answered in full: when it was sent, when its first byte and its last came, and its bytes."""
        if not self._waits:
            self._since = max(self._since, sent)
        self._shortest = min(self._shortest, first - sent)
        self._waits.append(first - sent)
        self._bytes += size
        if len(self._waits) >= max(_ROUND, self.allowed):
            self._judge(ended)

    def _judge(self, now: float) -> None:
        rate = self._bytes / max(now - self._since, 1e-6)
        late = median(self._waits) > _SLOW * self._shortest + _SLACK
        if late and self.allowed > 1 and 0 < rate < _GAIN * self._before:
            self._halve(now)
        elif self.allowed < self.most:
            self._grow(rate)
        self._before = rate
        self._begin_round(now)

    def _grow(self, rate: float) -> None:
        if self._rest:
            self._rest -= 1
        elif self._grew and rate < _GAIN * self._before:
            self.allowed, self._grew, self._rest = max(1, self.allowed - 1), False, _REST
        else:
            self.allowed, self._grew = self.allowed + 1, True

    def _halve(self, now: float) -> None:
        self.allowed, self._halved, self._grew = max(1, self.allowed // 2), now, False

    def crowded(self, sent: float, now: float, wait: float | None = None) -> None:
        """A request that was sent then was refused for want of room, or its connection broke. wait: seconds that the
        server wants to be left alone. Those that were on their way together count once."""
        if sent >= self._halved:
            self._halve(now)
            self._begin_round(now)
        if wait:
            self.resume = max(self.resume, now + min(wait, _LONGEST_REST))
