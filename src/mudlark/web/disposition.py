"""The name that a server gives a file: the Content-Disposition field.

Follows RFC 6266 and RFC 8187, as leniently as browsers do: what is not quite legal is still read, what cannot be read
is no name.
"""

import re
from urllib.parse import unquote_to_bytes

_EXTENDED = re.compile(r"filename\*\s*=\s*\"?([\w!#$%&+^`{}~-]+)'[\w-]*'([^;\"]*)", re.I)
_QUOTED = re.compile(r'filename\s*=\s*"((?:[^"\\]|\\.)*)"', re.I)
_PLAIN = re.compile(r"filename\s*=\s*([^;\"]+)", re.I)
_LONGEST = 4_096  # characters of a field that are looked at


def filename(field: str | None) -> str | None:
    """The name in a field's value, as it was meant; None if there is none. Paths are not part of a name."""
    field = (field or "")[:_LONGEST]
    field_name = _extended(field)
    if field_name is None and (match := _QUOTED.search(field)):
        field_name = _repaired(re.sub(r"\\(.)", r"\1", match[1]))
    if field_name is None and (match := _PLAIN.search(field)):
        field_name = _repaired(match[1].strip())
    name = re.split(r"[/\\]", field_name)[-1].strip() if field_name else ""
    return name or None


def _extended(field: str) -> str | None:
    match = _EXTENDED.search(field)
    if match is None:
        return None
    try:
        return unquote_to_bytes(match[2].strip()).decode(match[1], "strict")
    except (LookupError, UnicodeError, ValueError):
        return None


def _repaired(text: str) -> str:
    """Bytes beyond ASCII as what they are: UTF-8 if they are that, else Latin."""
    raw = text.encode("utf-8", "surrogateescape")
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("cp1252", "replace")
