"""How much trouble a run bears before it says that the server is gone: a policy without a clock of its own.

As many tries may fail as have succeeded, and some more; and nothing may fail for minutes without anything coming.
"""

from collections import Counter

import msgspec

from mudlark.errors import NetworkError

_SPARE = 60  # tries that may fail beyond those that succeed
_LONGEST = 180.0  # seconds without success, while tries fail
_FEW = 8  # failed tries that say nothing yet
_HOPELESS = 4  # segments in a row that are given up, without one that comes


class Budget(msgspec.Struct):
    """hopeful: nothing ends it but what it is not asked about, as a broadcast that is away may come back."""

    hopeful: bool = False
    good: int = 0
    _bad: int = 0
    _in_a_row: int = 0
    _since: float | None = None
    _given_up: int = 0
    _reasons: Counter[str] = msgspec.field(default_factory=Counter)

    def succeeded(self) -> None:
        """Something came."""
        self.good += 1
        self._in_a_row = self._given_up = 0
        self._since = None
        self._reasons.clear()

    def failed(self, problem: NetworkError, now: float) -> None:
        """A try failed, at a time in seconds. Raises NetworkError when that was one too many."""
        self._bad += 1
        self._in_a_row += 1
        self._since = now if self._since is None else self._since
        self._reasons[str(problem.status) if problem.status else "no answer"] += 1
        gone = self._in_a_row > _FEW and now - self._since > _LONGEST
        if not self.hopeful and (gone or self._bad > self.good + _SPARE):
            raise self._account(problem, now)

    def gave_up(self, problem: NetworkError) -> None:
        """A segment cannot be had. Raises NetworkError when too many in a row cannot."""
        self._given_up += 1
        if not self.hopeful and self._given_up >= _HOPELESS:
            raise problem

    def _account(self, problem: NetworkError, now: float) -> NetworkError:
        reasons = ", ".join(f"{count} × {reason}" for reason, count in self._reasons.most_common(4))
        since = max(0.0, now - (now if self._since is None else self._since))
        when = f"for {since:.0f} s, since {self.good} pieces came" if self._in_a_row > _FEW else f"{self._bad} times"
        return NetworkError(
            f"The server has failed {when} ({reasons}). The last: {problem.what}",
            "It may be down or refuse so many requests. The same command goes on from here.",
            problem.status,
            url=problem.url,
        )
