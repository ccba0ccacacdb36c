"""Options that say what part of a broadcast is wanted: how long, until when, from when."""

import re
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any, Literal

from mudlark.cli.command import option
from mudlark.errors import UsageError
from mudlark.manifest.live.pace import Airtime

_DURATION = re.compile(r"(?:(\d{1,5})h)?(?:(\d{1,6})m(?:in)?)?(?:(\d{1,8})s?)?$", re.I | re.A)
_HOURS, _MINUTES = 3600, 60


def span_options(command: Callable[..., Any]) -> Callable[..., Any]:
    """--for, --until, --from."""
    for decorate in (
        option(
            "--from",
            "begin",
            metavar="earliest|now|TIME",
            default="now",
            show_default=True,
            group="Broadcasts",
            help="Where the recording begins; a time to come is waited for.",
        ),
        option("--until", metavar="TIME", group="Broadcasts", help="Record until then (21:30, or a date and time)."),
        option("--for", "lasting", metavar="DURATION", group="Broadcasts", help="Record so much (1h30m, 45m, 90s)."),
    ):
        command = decorate(command)
    return command


def span_of(given: dict[str, Any], now: datetime) -> Airtime:
    """What the options say; takes them out of `given`. now: in the local zone."""
    lasting, until, begin = given.pop("lasting"), given.pop("until"), given.pop("begin")
    named: dict[str, Literal["earliest", "now"]] = {"earliest": "earliest", "now": "now"}
    start = named.get(begin) or _moment(begin, now, to_come=False).timestamp()
    end = _moment(until, now, to_come=True).timestamp() if until else None
    if end is not None and end <= (start if isinstance(start, float) else now.timestamp()):
        raise UsageError(f"{until} is over before the recording begins.", "Give a time to come with --until.")
    return Airtime(start, seconds_in(lasting) if lasting else None, end)


def seconds_in(text: str) -> float:
    """A duration as people write it."""
    match = _DURATION.match(text.strip().replace(" ", ""))
    hours, minutes, rest = (int(part or 0) for part in match.groups()) if match else (0, 0, 0)
    seconds = hours * _HOURS + minutes * _MINUTES + rest
    if not seconds:
        raise UsageError(f"{text!r} is no duration.", "Write it like 1h30m, 45m or 90s.")
    return float(seconds)


def _moment(text: str, now: datetime, *, to_come: bool) -> datetime:
    """A time of day, or a date and time, in the local zone unless it states another. A time of day that is over today
    is that of tomorrow, where it is to come; else one that has not come yet is to come today."""
    cleaned = text.strip()
    match = re.fullmatch(r"(\d{1,2}):(\d{2})(?::(\d{2}))?", cleaned, re.A)
    try:
        if match:
            hour, minute, second = int(match[1]), int(match[2]), int(match[3] or 0)
            wall = now.replace(tzinfo=None, hour=hour, minute=minute, second=second, microsecond=0)
            moment = wall.astimezone()  # by the clock on the wall, which may be set forward or back until then
            return (wall + timedelta(days=1)).astimezone() if to_come and moment <= now else moment
        stated = datetime.fromisoformat(cleaned.replace("Z", "+00:00"))
    except ValueError:
        raise UsageError(f"{text!r} is no time.", "Write it like 21:30, or 2031-05-17 21:30.") from None
    return stated if stated.tzinfo else stated.astimezone()
