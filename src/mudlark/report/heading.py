"""What stands at the head of a report: for whom, of which time, from where."""

import calendar
import re
from datetime import date
from typing import Self

import msgspec

from mudlark.errors import UsageError

_FORM = re.compile(r"(\d{4})(?:-(?:Q([1-4])|(\d{2})))?$")
_FROM_TO = re.compile(r"(\d{4}-\d{2}-\d{2})\.\.(\d{4}-\d{2}-\d{2})$")


class Period(msgspec.Struct, frozen=True):
    """first, last: its days (2031-05-17). words: what people call it."""

    first: str
    last: str
    words: str

    @classmethod
    def of(cls, text: str) -> Self:
        """A year, quarter, month, or from one day to another. Raises UsageError for anything else."""
        try:
            if match := _FROM_TO.match(text):
                first, last = date.fromisoformat(match[1]), date.fromisoformat(match[2])
                if first > last:
                    raise ValueError
                return cls(match[1], match[2], f"{_day(first)} to {_day(last)}")
            if not (match := _FORM.match(text)):
                raise ValueError
            year = int(match[1])
            begin, end = (int(match[2]) * 3 - 2, int(match[2]) * 3) if match[2] else (1, 12)
            if match[3]:
                begin = end = int(match[3])
            last = date(year, end, calendar.monthrange(year, end)[1])
        except (ValueError, calendar.IllegalMonthError) as problem:
            advice = "Write it as 2026, 2026-Q3, 2026-07, or 2026-07-01..2026-08-15."
            raise UsageError(f"{text!r} is no period.", advice) from problem
        names = calendar.month_name
        months = f"{names[begin]} to {names[end]} {year}" if begin != end else f"{names[begin]} {year}"
        return cls(f"{year:04}-{begin:02}-01", last.isoformat(), str(year) if end - begin == 11 else months)


def _day(day: date) -> str:
    return f"{day.day} {calendar.month_name[day.month]} {day.year}"


class Heading(msgspec.Struct, frozen=True):
    """title: instead of the folder's name. institution: whose report it is. period: that it is about."""

    title: str | None = None
    institution: str | None = None
    period: Period | None = None
