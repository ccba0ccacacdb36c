"""When an item was checked, by whom and with what outcome: a line of JSON for each, beside the record.

The words for events are those of the PREMIS vocabulary for event types (docs/verification.md).
"""

import os
from contextlib import suppress
from pathlib import Path

import msgspec

from mudlark import __version__
from mudlark.archive.layout import HISTORY
from mudlark.plain import NotPlain, add_to_plain, open_plain, read_plain
from mudlark.verify.account import Account, Verdict

_LAST = 8192  # bytes at the end of the file in which the last line is looked for
_LARGEST = 50_000_000


class PastCheck(msgspec.Struct, omit_defaults=True):
    """One check. event: of PREMIS. when: RFC 3339. verdict: that it came to. problems: their codes. operator: who
    answers for it, if that is configured."""

    event: str
    when: str
    verdict: Verdict
    mudlark: str = __version__
    problems: list[str] = []
    operator: str | None = None


_decoder = msgspec.json.Decoder(PastCheck)  # made once, as threads use it


def note_check(folder: Path, account: Account, when: str, *, validated: bool, operator: str | None = None) -> bool:
    """Add a line to the history of an item; false where the folder takes none. validated: more than the digests was
    looked at."""
    codes = list(dict.fromkeys(problem.code for problem in account.problems))
    checked = PastCheck("validation" if validated else "fixity check", when, account.verdict, problems=codes)
    checked.operator = operator
    try:
        with add_to_plain(folder / HISTORY) as file:
            file.write(msgspec.json.encode(checked) + b"\n")
    except (OSError, NotPlain):
        return False
    return True


def checks_of(folder: Path) -> list[PastCheck]:
    """All checks of an item, the earliest first; lines that are none are passed over."""
    checks = []
    with suppress(OSError, NotPlain):
        for line in read_plain(folder / HISTORY, _LARGEST).splitlines():
            with suppress(ValueError, RecursionError):
                checks.append(_decoder.decode(line))
    return checks


def last_check(folder: str) -> PastCheck | None:
    """The last check of an item; None if there was none. A line that is torn counts for nothing."""
    with suppress(OSError, NotPlain), open_plain(f"{folder}{os.sep}{HISTORY}") as file:
        file.seek(max(0, file.seek(0, os.SEEK_END) - _LAST))
        for line in reversed(file.read().splitlines()):
            with suppress(ValueError, RecursionError):
                return _decoder.decode(line)
    return None
