"""Which of its addresses a resource is asked for next, and when: a policy without clock or network.

What may pass is tried again, first at the other addresses, then after a while; what is gone may be back on a second
look; what is refused is not asked for again.
"""

from mudlark.errors import NetworkError
from mudlark.web.passing import Backoff, Passing

GONE = frozenset({404, 410})
_LOOKS = 2  # tries at something that is said to be gone


class Tries:
    """Of one resource. addresses: how many there are; best: the index of the one to ask first."""

    def __init__(self, addresses: int, best: int, patience: Backoff, *, looks: int = _LOOKS) -> None:
        self._order = [best, *(index for index in range(addresses) if index != best)]
        self._left = dict.fromkeys(self._order, patience.tries)
        self._failures = dict.fromkeys(self._order, 0)
        self._asked: dict[int, float | None] = {}
        self._patience = patience
        self._looks = min(looks, patience.tries)
        self._problem: NetworkError | None = None
        self.count = 0

    def next(self) -> tuple[int, float] | None:
        """The index of the address to ask, and the seconds to wait before; None if there is none left."""
        alive = [index for index in self._order if self._left[index] > 0]
        if not alive:
            return None
        index = min(alive, key=lambda one: self._failures[one])
        failures = self._failures[index]
        self.count += 1
        return index, self._patience.wait(failures, self._asked.get(index)) if failures else 0.0

    def failed(self, index: int, problem: NetworkError, *, free: bool = False) -> bool:
        """A try failed; True if there will be another. free: it does not count, as the server had only too much to
        do, and serves others."""
        if not isinstance(self._problem, Passing) or isinstance(problem, Passing):
            self._problem = self._problem or problem
        self._failures[index] += 1
        if isinstance(problem, Passing):
            self._asked[index] = problem.retry_after
            self._left[index] -= 0 if free else 1
        elif problem.status in GONE:
            self._left[index] = min(self._left[index] - 1, self._looks - self._failures[index])
        else:
            self._left[index] = 0
        return any(left > 0 for left in self._left.values())

    @property
    def problem(self) -> NetworkError:
        """Why it cannot be had."""
        assert self._problem
        if not isinstance(self._problem, Passing):
            return self._problem
        tries = "1 try" if self.count == 1 else f"{self.count} tries"
        problem = self._problem
        return NetworkError(f"{problem.what.rstrip('.')} ({tries}).", problem.advice, problem.status, url=problem.url)
