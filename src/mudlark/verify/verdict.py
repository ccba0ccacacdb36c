"""What a verification says: checks with their outcomes, problems with codes, and the verdict that follows."""

from typing import Literal

import msgspec

Verdict = Literal["sound", "flawed", "broken", "refused", "failed"]


class Check(msgspec.Struct, frozen=True):
    """One thing that was looked at. detail: the measured facts in words."""

    name: str
    outcome: Literal["passed", "failed", "skipped"]
    detail: str


class Problem(msgspec.Struct, frozen=True):
    """code: stable, for programs. grave: the file cannot be trusted to play at all."""

    code: str
    message: str
    grave: bool = False


class Report(msgspec.Struct):
    """All checks and problems of one item or file."""

    checks: list[Check] = []
    problems: list[Problem] = []

    @property
    def verdict(self) -> Verdict:
        """broken if any problem is grave, flawed if there is any, else sound."""
        if any(problem.grave for problem in self.problems):
            return "broken"
        return "flawed" if self.problems else "sound"

    def passed(self, name: str, detail: str) -> None:
        """Note a check that held."""
        self.checks.append(Check(name, "passed", detail))

    def failed(self, name: str, code: str, message: str, *, grave: bool = False) -> None:
        """Note a check that did not hold, and the problem it shows."""
        self.checks.append(Check(name, "failed", message))
        self.problems.append(Problem(code, message, grave))

    def skipped(self, name: str, reason: str) -> None:
        """Note a check that could not be made."""
        self.checks.append(Check(name, "skipped", reason))
