"""The account of a file or an item: evidence in, verdict out.

Checks bring evidence: what was looked at and how it came out, which bytes of the file belong to what, and whether it is
stated where the file ends. No check can say that anything is sound: that follows here, and only if every byte belongs
to something that was read, the end is stated by somebody, and nothing is wrong; or if a digest says so. What proves
which kind of file is the table in `media/forms.py`.
"""

from typing import Annotated, Literal

import msgspec
from msgspec import Meta

Verdict = Literal["sound", "unproven", "flawed", "broken", "refused", "failed"]
WORTH: dict[Verdict, int] = {"sound": 5, "unproven": 4, "flawed": 3, "broken": 2, "refused": 1, "failed": 0}
Share = Literal["structure", "samples", "padding", "content"]
END = "end"  # where a file ends is what its manifest says; or, skipped, is stated nowhere
BYTES = "bytes"  # each byte of a file belongs to something; or, skipped, some belong to nothing that was read
_PAGES = "pages"
_ENDS = frozenset({END, "length"})  # checks that prove where a file ends that does not say so itself
UNOPENED = "not-opened"  # what nothing is known of
_BY_DIGEST = frozenset({"stated-digest", "expected-digest", "coded-frames"})
_MOST_TOLD = 3  # places of bytes that belong to nothing

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


class Account(msgspec.Struct):
    """All evidence about one item or file. covered: bytes of the file that is looked into, by what they belong to.
    unknown: what of it belongs to nothing that was read, in words."""

    checks: list[Check] = []
    problems: list[Problem] = []
    covered: dict[Share, int] = {}
    unknown: list[str] = []

    @property
    def verdict(self) -> Verdict:
        """broken if any problem is grave, flawed if there is any, sound if all of it is accounted for, else
        unproven."""
        if any(problem.grave for problem in self.problems):
            return "broken"
        if self.problems:
            return "flawed"
        return "sound" if self.proven else "unproven"

    @property
    def proven(self) -> bool:
        """True if it is proven whole: by a digest, or as each of its bytes and its end are accounted for. The end of
        some kinds of file is stated nowhere in them; then a manifest or a server must have stated it. Nothing is proven
        of what could not be opened."""
        if any(check.name == UNOPENED for check in self.checks):
            return False
        held = {check.name for check in self.checks if check.outcome == "passed"}
        if held & _BY_DIGEST:
            return True
        return bool(held & {BYTES, _PAGES}) and not self.has_gaps and bool(held & _ENDS or not self.open_ended)

    @property
    def has_gaps(self) -> bool:
        """True if bytes of a file, or pages, were not looked into."""
        return any(check.name in (BYTES, _PAGES) and check.outcome == "skipped" for check in self.checks)

    @property
    def open_ended(self) -> bool:
        """True if nothing in a file states where it ends."""
        return any(check.name == END and check.outcome == "skipped" for check in self.checks)

    @property
    def reason(self) -> str:
        """Why the verdict is that, in one sentence."""
        if self.problems:
            first = next((problem for problem in self.problems if problem.grave), self.problems[0])
            more = len({problem.message for problem in self.problems}) - 1
            return f"{first.message.rstrip('.')}{f'; and {more} more' if more else ''}."
        if self.proven:
            proofs = [check for check in self.checks if check.outcome == "passed" and check.name != END]
            first_by = (_BY_DIGEST, {"samples", "frames", "content", _PAGES}, {BYTES})
            best = next(check for names in first_by for check in proofs if check.name in names)
            return f"It is whole: {best.detail}{', and more' if len(proofs) > 1 else ''}."
        unopened = next((check.detail for check in self.checks if check.name == UNOPENED), None)
        if unopened:
            return f"{unopened}."
        if self.has_gaps:
            return "Nothing looked wrong, and not all of it is accounted for: only a digest can prove it whole."
        if self.open_ended:
            return (
                "All that is there is good, and nothing states where it ends: a manifest, a server or a digest would."
            )
        return "Nothing proves that it is whole, and nothing looked wrong."

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

    def skipped(self, name: str, reason: str) -> None:
        """Note a check that could not be made."""
        self.checks.append(Check(name, "skipped", reason))

    def cover(self, share: Share, count: int) -> None:
        """Note that so many bytes of the file belong to something that was read and understood."""
        if count:
            self.covered[share] = self.covered.get(share, 0) + count

    def leave_out(self, words: str) -> None:
        """Note what no reader looked into, with how much it is; its bytes stay without an account."""
        self.unknown.append(words)

    def leave_open(self, kind: str) -> None:
        """Note that a file of this kind does not state where it ends."""
        self.skipped(END, f"{kind} does not state where it ends: only a manifest, a server or a digest can prove that")

    def close(self, size: int) -> None:
        """Draw the balance of a file of `size` bytes: whether each of them belongs to something."""
        total = sum(self.covered.values())
        parts = ", ".join(f"{count:,} of {share}" for share, count in self.covered.items())
        told = "; ".join(self.unknown[:_MOST_TOLD])
        told += f"; and {len(self.unknown) - _MOST_TOLD} more" if len(self.unknown) > _MOST_TOLD else ""
        if self.unknown or total != size:
            left = f"{size - total:,} of {size:,} bytes" if total < size else "some bytes"
            self.skipped(BYTES, f"{left} are not accounted for{f': {told}' if told else ''}")
        elif size:
            self.passed(BYTES, f"each of its {size:,} bytes belongs to something ({parts})", **self.covered)
        self.covered, self.unknown = {}, []

    def add(self, other: "Account") -> None:
        """Note all that another account has."""
        self.checks += other.checks
        self.problems += other.problems

    def carry(self, checks: list[Check]) -> None:
        """Take over what digests proved when the item was made: its files are still the same bytes."""
        carried = _BY_DIGEST | _ENDS
        self.checks += [check for check in checks if check.name in carried and check.outcome == "passed"]
