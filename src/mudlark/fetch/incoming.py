"""A body on its way to the disk: in memory while it is small, else in a file under a temporary name, or at its offset
in one that it is a part of.

All methods but `bytes` are for worker threads, one call at a time. StorageError is raised for what the disk refuses, so
that a full one is never taken for a broken connection.
"""

import hashlib
import os
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

import msgspec
from xxhash import xxh3_128

from mudlark.errors import StorageError

SMALL = 256 * 1024  # bytes up to which many share a file


class Body(msgspec.Struct, frozen=True):
    """A body that is complete. check: its XXH3, by which its bytes are known again. sha256: if it is one for the
    record. offset: in its file. data: its bytes, where they are in no file yet."""

    length: int
    check: str
    sha256: str = ""
    offset: int = 0
    data: bytes | None = None


class Incoming:
    """path: of its file. at: the offset of a part. hashed: with its SHA-256. apart: in a file also when it is small."""

    def __init__(self, path: Path, *, at: int | None = None, hashed: bool = True, apart: bool = False) -> None:
        self.path = path
        self.bytes = 0
        self._at = at
        self._small = 0 if apart or at is not None else SMALL
        self._check = xxh3_128()
        self._sha256 = hashlib.sha256() if hashed else None
        self._file: BinaryIO | None = None
        self._temporary = path if at is not None else path.with_name(f"{path.name}.{os.urandom(4).hex()}.part")
        self._held: list[bytes] = []

    def write(self, chunks: Sequence[bytes]) -> None:
        """Append chunks."""
        for chunk in chunks:
            self._check.update(chunk)
            if self._sha256:
                self._sha256.update(chunk)
            self.bytes += len(chunk)
        self._held += chunks
        if self.bytes > self._small:
            self._spill()

    def stays_in_memory(self, count: int) -> bool:
        """True if a body of so many bytes is not written to a file of its own."""
        return 0 < count <= self._small

    def _spill(self) -> None:
        with words(self.path):
            file = self._open()
            for chunk in self._held:
                view = memoryview(chunk)
                while len(view):
                    view = view[file.write(view) :]
        self._held = []

    @property
    def beginning(self) -> Body:
        """What is written of a part so far."""
        return Body(self.bytes, self._check.hexdigest(), offset=self._at or 0)

    def end(self, chunks: Sequence[bytes]) -> Body:
        """Append the last chunks."""
        self.write(chunks)
        if self._small == 0:
            self._spill()
        sha256 = self._sha256.hexdigest() if self._sha256 else ""
        data = None if self._file else b"".join(self._held)
        return Body(self.bytes, self._check.hexdigest(), sha256, self._at or 0, data)

    def flush(self) -> None:
        """Make what is in a file durable."""
        if self._file:
            with words(self.path):
                os.fsync(self._file.fileno())

    def settle(self) -> None:
        """Give the file its name."""
        if self._file:
            with words(self.path):
                self._file.close()
                if self._temporary != self.path:
                    self._temporary.replace(self.path)

    def abandon(self) -> None:
        """Drop what was written."""
        self._held = []
        if self._file is not None:
            self._file.close()
            if self._temporary != self.path:
                self._temporary.unlink(missing_ok=True)

    def _open(self) -> BinaryIO:
        if self._file is None:
            if self._at is None:
                self._file = _create(self._temporary, os.O_EXCL)
            else:
                self._file = _create(self.path)
                self._file.seek(self._at)
        return self._file


def _create(path: Path, flag: int = 0) -> BinaryIO:
    flags = os.O_WRONLY | os.O_CREAT | flag | getattr(os, "O_NOFOLLOW", 0)
    return os.fdopen(os.open(path, flags, 0o666), "wb", buffering=0)


@contextmanager
def words(path: Path) -> Iterator[None]:
    """What the disk refuses, as an error with words."""
    try:
        yield
    except OSError as problem:
        raise StorageError(f"Cannot write {path}: {problem.strerror}.", what_to_do(problem)) from problem


def what_to_do(problem: OSError) -> str:
    """About something in a store that cannot be written or read."""
    if isinstance(problem, FileNotFoundError):
        return "It was moved or removed meanwhile; the same command fetches it again."
    return "Make room; the same command goes on from here."
