"""How long an address lives, read out of it: query values, signed policies, JSON Web Tokens (RFC 7519).

Only times that make sense are believed: not older than twenty years, not more than twenty years ahead.
"""

import base64
import binascii
import re
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from mudlark.find.places.hidden import decode_json

_NAMES = frozenset(
    {"expires", "expire", "expiry", "exp", "e", "se", "deadline", "validto", "valid_until", "token_expires"}
)
_INSIDE = re.compile(r"(?:^|[~;&,])(?:exp|expires?|e)=(\d{9,11})(?=[~;&,]|$)", re.I)
_TOKEN = re.compile(r"\beyJ[\w-]+\.(eyJ[\w-]+)\.[\w-]*")
_YEARS = 20 * 366 * 86400.0
_POLICY_TIME = re.compile(rb'"[A-Za-z:]*EpochTime"\s*:\s*(\d{9,11})|"expiration"\s*:\s*"([^"]+)"', re.I)


def expires_at(address: str, now: float) -> float | None:
    """The Unix time at which an address stops working, the earliest if it states several; None if it states none."""
    times = [time for time in _stated(address, now) if abs(time - now) < _YEARS]
    return min(times, default=None)


def _stated(address: str, now: float) -> Iterator[float]:
    try:
        parts = urlsplit(address)
    except ValueError:
        return
    query = dict(parse_qsl(parts.query))
    lower = {name.lower(): value for name, value in query.items()}
    for name, value in lower.items():
        if name in _NAMES or name.endswith(("-expires", "_expires")):
            yield from _time(value)
        for match in _INSIDE.finditer(value):
            yield float(match[1])
        if name in ("policy", "token", "signature") and len(value) > 20:
            yield from _policy(value)
    since = next((value for name, value in lower.items() if name.endswith("-date")), None)
    span = next((value for name, value in lower.items() if name.endswith("-expires")), None)
    if since and span and re.fullmatch("[0-9]{1,9}", span):
        with suppress(ValueError, OverflowError):
            yield datetime.strptime(since, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC).timestamp() + int(span)
    for match in _TOKEN.finditer(address):
        claims = _claims(match[1])
        if isinstance(claims, dict) and isinstance(claims.get("exp"), int | float):
            yield float(claims["exp"])


def _time(value: str) -> Iterator[float]:
    """A time as Unix seconds or milliseconds, or as ISO 8601."""
    if re.fullmatch("[0-9]+", value):
        if 9 <= len(value) <= 11:
            yield float(value)
        elif len(value) == 13:
            yield float(value) / 1000
        return
    try:
        moment = datetime.fromisoformat(value.replace(" ", "+"))
    except ValueError:
        return
    yield (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()


def _decoded(text: str) -> bytes:
    """base64 in either alphabet, also with the replacements that signed policies use."""
    plain = text.replace("-", "+").replace("_", "/").replace("~", "/").rstrip("=")
    try:
        return base64.b64decode(plain + "=" * (-len(plain) % 4))
    except (binascii.Error, ValueError):
        return b""


def _policy(text: str) -> Iterator[float]:
    for match in _POLICY_TIME.finditer(_decoded(text)):
        if match[1]:
            yield float(match[1])
        else:
            yield from _time(match[2].decode("ascii", "replace"))


def _claims(text: str) -> Any:
    return decode_json(_decoded(text).decode("utf-8", "replace"))
