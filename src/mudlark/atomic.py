"""Files that are there whole or not at all: written under a temporary name, made durable, then given their own name.

A file that stands there already is never written over, unless that is asked for.
"""

import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

from mudlark.errors import StorageError, UsageError


def refuse_existing(path: Path, option: str, replace: bool) -> None:
    """Raise before any work is done if a file would be written over."""
    if not replace and os.path.lexists(path):
        raise UsageError(
            f"{path} is there already.", f"Choose another name with {option}, or add --replace to write over it."
        )


@contextmanager
def atomic_write(path: Path, advice: str, mode: int = 0o666, *, replace: bool = False) -> Iterator[BinaryIO]:
    """A file to write bytes to. mode: before the umask. replace: an earlier one gives way once this one is complete.

    Raises StorageError if it cannot be written, or if something has come to stand there meanwhile.
    """
    temporary: Path | None = None
    try:
        handle, name = tempfile.mkstemp(prefix=f".{path.name[:40]}.", suffix=".partial", dir=path.parent)
        temporary = Path(name)
        with os.fdopen(handle, "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        temporary.chmod(mode & ~_umask())
        _give_name(temporary, path, replace)
    except FileExistsError as problem:
        raise StorageError(f"{path} has come to be there meanwhile.", advice) from problem
    except OSError as problem:
        raise StorageError(f"Cannot write {path}: {problem.strerror}.", advice) from problem
    finally:
        if temporary is not None:
            with suppress(OSError):
                temporary.unlink(missing_ok=True)


def _umask() -> int:
    """The process's mask; it can only be read by setting it."""
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


def _give_name(temporary: Path, path: Path, replace: bool) -> None:
    """Rename in one step, without writing over anything unless that is meant."""
    if replace:
        temporary.replace(path)
        return
    try:
        path.hardlink_to(temporary)  # fails where something stands; a rename would write over it
    except FileExistsError:
        raise
    except OSError:  # a file system without links
        with path.open("xb"):
            temporary.replace(path)
