"""What a verification says: checks with their outcomes, problems with codes, and the verdict that follows.

What it takes for each kind of file to be sound is the table in docs/verification.md: something that was looked at must
prove that the file is whole. Where nothing does and nothing is wrong, it is unproven.
"""

from typing import Annotated, Literal

import msgspec
from msgspec import Meta

Verdict = Literal["sound", "unproven", "flawed", "broken", "refused", "failed"]
WORTH: dict[Verdict, int] = {"sound": 5, "unproven": 4, "flawed": 3, "broken": 2, "refused": 1, "failed": 0}
END = "end"  # where a file ends is what its manifest says; or, skipped, is stated nowhere
_ENDS = frozenset({END, "length"})  # checks that prove where a file ends that does not say so itself
_BY_DIGEST = frozenset({"stated-digest", "expected-digest", "coded-frames"})
PROOFS = (
    frozenset({"picture-units", "samples", "frames", "content", "pages"}) | _BY_DIGEST
)  # checks that prove a file whole


# numbers as records may have them, so that whatever is reckoned with them ends well
Whole = Annotated[int, Meta(ge=-(1 << 62), le=1 << 62)]
Count = Annotated[int, Meta(ge=0, le=1 << 62)]
Seconds = Annotated[float, Meta(ge=-1e12, le=1e12)]


class Check(msgspec.Struct, frozen=True):
    """One thing that was looked at. detail: the measured facts in words; measured: the same for programs."""

    name: str
    outcome: Literal["passed", "failed", "skipped"]
    detail: str
    measured: dict[str, Seconds | Whole | str] = {}


class Problem(msgspec.Struct, frozen=True):
    """code: stable, for programs. grave: the file cannot be trusted to play at all. at, offset: the second and the byte
    at which it shows, if it has a place."""

    code: str
    message: str
    grave: bool = False
    at: Seconds | None = None
    offset: Whole | None = None


class Report(msgspec.Struct):
    """All checks and problems of one item or file."""

    checks: list[Check] = []
    problems: list[Problem] = []

    @property
    def verdict(self) -> Verdict:
        """broken if any problem is grave, flawed if there is any, sound if a check proves it, else unproven."""
        if any(problem.grave for problem in self.problems):
            return "broken"
        if self.problems:
            return "flawed"
        return "sound" if self.proven else "unproven"

    @property
    def proven(self) -> bool:
        """True if a check that was made proves the file to be whole: its bytes, and where it ends. The end of some
        kinds of file is stated nowhere in them; then a manifest, a server or a digest must have stated it."""
        held = {check.name for check in self.checks if check.outcome == "passed"}
        return bool(held & _BY_DIGEST) or bool(held & PROOFS and (held & _ENDS or not self.open_ended))

    @property
    def open_ended(self) -> bool:
        """True if nothing in the file states where it ends."""
        return any(check.name == END and check.outcome == "skipped" for check in self.checks)

    @property
    def reason(self) -> str:
        """Why the verdict is that, in one sentence."""
        if self.problems:
            first = next((problem for problem in self.problems if problem.grave), self.problems[0])
            more = len({problem.message for problem in self.problems}) - 1
            return f"{first.message.rstrip('.')}{f'; and {more} more' if more else ''}."
        proofs = [check.detail for check in self.checks if check.outcome == "passed" and check.name in PROOFS]
        if proofs and not self.proven:
            return (
                "All that is there is good, and nothing states where it ends: a manifest, a server or a digest would."
            )
        if proofs:
            return f"It is whole: {proofs[0]}{', and more' if len(proofs) > 1 else ''}."
        unopened = next((check.detail for check in self.checks if check.name == "not-opened"), None)
        return f"{unopened}." if unopened else "Nothing proves that it is whole, and nothing looked wrong."

    def passed(self, name: str, detail: str, **measured: float | int | str) -> None:
        """Note a check that held."""
        self.checks.append(Check(name, "passed", detail, measured))

    def failed(
        self,
        name: str,
        code: str,
        message: str,
        *,
        grave: bool = False,
        at: float | None = None,
        offset: int | None = None,
        **measured: float | int | str,
    ) -> None:
        """Note a check that did not hold, and the problem it shows, with its place."""
        self.checks.append(Check(name, "failed", message, measured))
        self.problems.append(Problem(code, message, grave, at, offset))

    def leave_open(self, kind: str) -> None:
        """Note that a file of this kind does not state where it ends."""
        self.skipped(END, f"{kind} does not state where it ends: only a manifest, a server or a digest can prove that")

    def skipped(self, name: str, reason: str) -> None:
        """Note a check that could not be made."""
        self.checks.append(Check(name, "skipped", reason))

    def carry(self, checks: list[Check]) -> None:
        """Take over what digests proved when the item was made: its files are still the same bytes."""
        carried = _BY_DIGEST | _ENDS
        self.checks += [check for check in checks if check.name in carried and check.outcome == "passed"]
