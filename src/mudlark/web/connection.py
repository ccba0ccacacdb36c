"""How to talk to servers: the settings behind a session, without the session and its libraries."""

from dataclasses import dataclass, field

from mudlark.errors import UsageError
from mudlark.text import printable
from mudlark.web.guise import PLAIN, Guise
from mudlark.web.retry import Patience


@dataclass(frozen=True, slots=True)
class Connection:
    """How to talk to servers. stall: seconds without a byte. rate: bytes a second of all lanes together, if limited."""

    lanes: int = 8
    patience: Patience = field(default_factory=Patience)
    stall: float = 20.0
    rate: float | None = None
    headers: tuple[tuple[str, str], ...] = ()
    proxy: str | None = None
    trust: str | None = None
    cookie_file: str | None = None
    guise: Guise = PLAIN


def header_pair(text: str) -> tuple[str, str]:
    """Read `Name: value` as a user gives it."""
    name, colon, value = text.partition(":")
    name, value = name.strip(), value.strip()
    if not colon or not name or any(c in "\r\n\0" for c in text) or " " in name:
        raise UsageError(f"{printable(text)!r} is not a header.", "Write it as 'Name: value'.")
    return name, value
