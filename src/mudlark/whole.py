"""Files that are there whole or not at all: written under a temporary name, made durable, then renamed."""

import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from mudlark.errors import StorageError


@contextmanager
def whole_file(path: Path, advice: str, mode: int = 0o666) -> Iterator[BinaryIO]:
    """A file to write bytes to; an earlier one stays until this one is complete. mode: before the umask."""
    temporary = path.with_name(f".{path.name}.partial")
    try:
        temporary.unlink(missing_ok=True)
        with os.fdopen(os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, mode), "wb") as file:
            yield file
            file.flush()
            os.fsync(file.fileno())
        temporary.replace(path)
    except OSError as problem:
        raise StorageError(f"Cannot write {path}: {problem.strerror}.", advice) from problem
    finally:
        temporary.unlink(missing_ok=True)
