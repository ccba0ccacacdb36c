"""JSON as people write it into pages: in a comment or a CDATA section, with line breaks and halves of characters in its
strings, with backslashes and commas that do not belong there. A browser cannot read that; whoever looks for media can.
"""

import json
import math
import re
from contextlib import suppress
from typing import Any

from mudlark.find.places.hidden import decode_json

_ESCAPE = re.compile(r'(\\["\\/bfnrtu])|\\')  # the first are those of JSON (RFC 8259 §7)
_HIGH, _LOW = r"\\u[dD][89abAB][0-9a-fA-F]{2}", r"\\u[dD][c-fC-F][0-9a-fA-F]{2}"
_HALF = re.compile(rf"{_HIGH}(?!{_LOW})|(?<!{_HIGH}){_LOW}")
_COMMA = re.compile(r",(\s*[}\]])")


def embedded_json(text: str) -> Any:
    """What it says, or None if it is none."""
    data = decode_json(text)
    if data is not None:
        return data
    bare = text.replace("<![CDATA[", "").replace("]]>", "")
    begin = min((at for at in (bare.find("{"), bare.find("[")) if at >= 0), default=0)
    end = max(bare.rfind("}"), bare.rfind("]")) + 1
    bare = _ESCAPE.sub(lambda match: match[1] or "", bare[begin:end])
    bare = _HALF.sub(r"\\ufffd", bare)
    for mended in (bare, _COMMA.sub(r"\1", bare)):
        with suppress(ValueError, RecursionError):
            return json.loads(mended, strict=False, parse_constant=lambda _: None, parse_float=_finite)
    return None


def _finite(number: str) -> float | None:
    value = float(number)
    return value if math.isfinite(value) else None
