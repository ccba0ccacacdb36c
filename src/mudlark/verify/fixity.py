"""Are the bytes still the ones that were recorded? SHA-256 of files against a record."""

import hashlib
from io import FileIO
from pathlib import Path
from threading import Event
from typing import TYPE_CHECKING

from mudlark.errors import StorageError, Withheld, unreadable
from mudlark.plain import not_plain

if TYPE_CHECKING:
    from _typeshed import WriteableBuffer


class _Heeding(FileIO):
    """A file of which no more is read once that is not wanted."""

    unwanted: Event

    def readinto(self, buffer: "WriteableBuffer", /) -> int:
        return 0 if self.unwanted.is_set() else super().readinto(buffer)


def digest(path: Path, algorithm: str = "sha256", unwanted: Event | None = None) -> tuple[int, str]:
    """Size and digest of a file, in hexadecimal. unwanted: when this is set, another thread that waits for the end need
    not wait long; what is given then is worth nothing."""
    try:
        with _Heeding(path) as file:
            file.unwanted = unwanted or Event()
            computed = hashlib.file_digest(file, algorithm).hexdigest()
            return file.tell(), computed
    except OSError as problem:
        raise unreadable(path, problem) from problem


def compare(path: Path, size: int, sha256: str, unwanted: Event | None = None) -> str | None:
    """What is wrong with a file that should have this size and digest, in words; None if nothing is. unwanted: see
    `digest`. Raises Withheld if that cannot be known."""
    try:
        if words := not_plain(path):
            return f"{path.name} is {words}, and was not opened"
        actual_size, actual = digest(path, unwanted=unwanted)
    except Withheld:
        raise
    except PermissionError as problem:  # of its folder
        raise unreadable(path, problem) from problem
    except FileNotFoundError:
        return f"{path.name} is missing"
    except (OSError, ValueError, StorageError) as problem:
        return f"{path.name} cannot be read: {problem}"
    if actual_size != size:
        return f"{path.name} has {actual_size:,} bytes, not {size:,}"
    if actual != sha256:
        return f"{path.name} has changed: its SHA-256 is {actual[:12]}…, not {sha256[:12]}…"
    return None
