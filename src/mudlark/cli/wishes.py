"""The options that say which renditions of a stream are wanted; `haul` and `tracks` take the same."""

import re
from typing import Any

from mudlark.cli.command import F, option
from mudlark.errors import UsageError
from mudlark.manifest.wish import ALL, NONE, Wish

_SIZE = re.compile(r"(?:(\d{1,6})\s*[x×X]\s*)?(\d{1,6})p?", re.A)
_RATE = re.compile(r"(\d{1,9}(?:\.\d{1,6})?)\s*([kKMG]?)", re.A)
_FACTORS = {"": 1, "k": 1_000, "K": 1_000, "M": 1_000_000, "G": 1_000_000_000}

_WISHES = (
    option(
        "--within",
        default=None,
        metavar="[WIDTHx]HEIGHT",
        group="Renditions",
        help="No larger picture than this (720, 1280x720).",
    ),
    option("--under", default=None, metavar="BITS/S", group="Renditions", help="No higher peak bit rate (800k, 3M)."),
    option(
        "--codecs",
        default=None,
        metavar="LIST",
        group="Renditions",
        help="Only these codecs, in this order of liking (avc,aac).",
    ),
    option(
        "--languages",
        default=None,
        metavar="LIST|all",
        group="Renditions",
        help="Sound in these languages (cy,en), or all; else the presentation's own default.",
    ),
    option(
        "--subtitles",
        default=ALL,
        show_default=True,
        metavar="LIST|all|none",
        group="Renditions",
        help="Subtitles in these languages.",
    ),
    option(
        "--rendition",
        default=None,
        metavar="NAME",
        group="Renditions",
        help="Exactly the one that `mudlark tracks` names so.",
    ),
)


def wish_options(function: F) -> F:
    """Which renditions of a stream are meant."""
    for one in reversed(_WISHES):
        function = one(function)
    return function


def wish(given: dict[str, Any]) -> Wish:
    """Take the wish out of what a command was given."""
    return Wish(
        within=_size(given.pop("within")),
        under=_rate(given.pop("under")),
        codecs=_names(given.pop("codecs"), "--codecs"),
        languages=_names(given.pop("languages"), "--languages"),
        subtitles=_names(given.pop("subtitles"), "--subtitles") or (NONE,),
        rendition=given.pop("rendition"),
    )


def _size(text: str | None) -> tuple[int | None, int] | None:
    if text is None:
        return None
    match = _SIZE.fullmatch(text.strip())
    if not match or not int(match[2]):
        raise UsageError(f"{text!r} is no size of a picture.", "Write it as 720 or 1280x720.")
    return (int(match[1]) if match[1] else None, int(match[2]))


def _rate(text: str | None) -> int | None:
    if text is None:
        return None
    match = _RATE.fullmatch(text.strip())
    if not match or not float(match[1]):
        raise UsageError(f"{text!r} is no bit rate.", "Write it as 800k or 3M.")
    return int(float(match[1]) * _FACTORS[match[2]])


def _names(text: str | None, name: str) -> tuple[str, ...]:
    if text is None:
        return ()
    names = tuple(part.strip() for part in text.split(",") if part.strip())
    if not names:
        raise UsageError(f"{name} names nothing.", "Write names with commas between them, or leave it out.")
    return names
