"""Are the bytes still the ones that were recorded? SHA-256 of files against a record."""

import hashlib
from pathlib import Path

from mudlark.errors import StorageError
from mudlark.plain import not_plain


def digest(path: Path, algorithm: str = "sha256") -> tuple[int, str]:
    """Size and digest of a file, in hexadecimal."""
    try:
        with path.open("rb", buffering=0) as file:
            computed = hashlib.file_digest(file, algorithm).hexdigest()
            return file.tell(), computed
    except OSError as problem:
        raise StorageError(f"Cannot read {path}: {problem.strerror}.") from problem


def compare(path: Path, size: int, sha256: str) -> str | None:
    """What is wrong with a file that should have this size and digest, in words; None if nothing is."""
    try:
        if words := not_plain(path):
            return f"{path.name} is {words}, and was not opened"
        actual_size, actual = digest(path)
    except FileNotFoundError:
        return f"{path.name} is missing"
    except (OSError, ValueError, StorageError) as problem:
        return f"{path.name} cannot be read: {problem}"
    if actual_size != size:
        return f"{path.name} has {actual_size:,} bytes, not {size:,}"
    if actual != sha256:
        return f"{path.name} has changed: its SHA-256 is {actual[:12]}…, not {sha256[:12]}…"
    return None
