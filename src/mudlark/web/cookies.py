"""Cookies that were kept: by a browser, or in a file as browsers export them.

A file of cookies may be anyone's: what is wrong in it is said by its line, and never with what stands there.
"""

import stat
import time
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from mudlark.errors import UsageError
from mudlark.text import whole_number

_LARGEST = 20_000_000  # bytes of a file
_COLUMNS = 7
_HTTP_ONLY = "#HttpOnly_"


@dataclass(frozen=True, slots=True)
class Cookie:
    """A cookie that was kept. domain: with a dot in front if its subdomains get it too. expires: Unix time, None if it
    ends with the browser's session.
    """

    name: str
    value: str = field(repr=False)
    domain: str
    path: str = "/"
    secure: bool = False
    expires: int | None = None

    def has_expired(self, now: float) -> bool:
        """True if it is no longer sent. now: seconds since 1970."""
        return self.expires is not None and 0 < self.expires < now

    @property
    def address(self) -> str:
        """An address that it belongs to."""
        return f"{'https' if self.secure else 'http'}://{self.domain.removeprefix('.')}{self.path}"


def read_cookies(path: str) -> list[Cookie]:
    """The cookies of a file, without those that have expired. Raises UsageError for a file that is none."""
    now = time.time()
    return [cookie for cookie in cookies_in(path) if not cookie.has_expired(now)]


def cookies_in(path: str) -> list[Cookie]:
    """All cookies of a file as browsers export them: a line each, seven columns parted by tabs (domain, whether its
    subdomains get it, path, whether only over TLS, end, name, value). Raises UsageError for a file that is none."""
    try:
        status = Path(path).stat()
        if not stat.S_ISREG(status.st_mode) or status.st_size > _LARGEST:
            raise UsageError(f"{path} is no plain file of cookies.", "Give the file that the browser exported.")
        data = Path(path).read_bytes()
    except OSError as problem:
        raise UsageError(f"Cannot read the cookie file {path}: {problem.strerror}.") from problem
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        text = data.decode("latin-1")  # as servers send it
    return list(_lines_in(text, path))


def _lines_in(text: str, path: str) -> Iterator[Cookie]:
    for number, line in enumerate(text.split("\n"), 1):
        line = line.rstrip("\r").removeprefix(_HTTP_ONLY)
        if not line.strip() or line.startswith("#"):
            continue
        columns = line.split("\t")
        end = whole_number(columns[4].partition(".")[0] or "0") if len(columns) == _COLUMNS else None
        if end is None:
            raise UsageError(
                f"{path} is not a cookie file: line {number} does not have the {_COLUMNS} columns of a cookie.",
                "Export the browser's cookies as a text file, a line for each cookie.",
            )
        domain, below, place, secure, _, name, value = columns
        domain = domain.lstrip(".")
        if not domain:
            continue
        place = place if place.startswith("/") else "/"
        wide = f".{domain}" if below.upper() == "TRUE" or columns[0].startswith(".") else domain
        # a cookie without a name stands in the column of the value
        yield Cookie(name, value, wide, place, secure.upper() == "TRUE", end or None)
