"""Opening files that come from others: plain ones only. A link leads elsewhere, and a FIFO, socket or device may have
whoever reads it wait for ever; they are named, and not opened."""

import os
import stat
from pathlib import Path
from typing import BinaryIO

from mudlark.errors import StorageError

_KINDS = {
    stat.S_IFLNK: "a link to another place",
    stat.S_IFIFO: "a FIFO",
    stat.S_IFSOCK: "a socket",
    stat.S_IFCHR: "a device",
    stat.S_IFBLK: "a device",
    stat.S_IFDIR: "a folder",
}
_READING = os.O_RDONLY | getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_BINARY", 0)
_ADDING = (
    os.O_WRONLY
    | os.O_APPEND
    | os.O_CREAT
    | getattr(os, "O_NOFOLLOW", 0)
    | getattr(os, "O_NONBLOCK", 0)
    | getattr(os, "O_BINARY", 0)
)


class NotPlain(StorageError):
    """Something that is not opened, as it is no plain file."""

    code = "not-plain"
    exit_status = 1


def kind_of(mode: int) -> str | None:
    """What something is by its mode, in words; None for a plain file."""
    return None if stat.S_ISREG(mode) else _KINDS.get(stat.S_IFMT(mode), "no plain file")


def not_plain(path: Path | str) -> str | None:
    """What stands at a path in words, if it is no plain file; None if it is one. Raises OSError if nothing is there."""
    return kind_of(os.lstat(path).st_mode)


def is_plain(path: Path | str) -> bool:
    """True for a plain file: no link to one, and nothing else."""
    try:
        return not_plain(path) is None
    except (OSError, ValueError):
        return False


def open_plain(path: Path | str) -> BinaryIO:
    """A plain file to read. Raises NotPlain for anything else, OSError where it cannot be opened."""
    if words := not_plain(path):
        raise _refused(path, words)
    return os.fdopen(_checked(path, os.open(path, _READING)), "rb")


def add_to_plain(path: Path | str, mode: int = 0o644, *, lines: bool = False) -> BinaryIO:
    """A plain file to add to, made if there is none. Raises as `open_plain` does. lines: what is added begins on a line
    of its own, also where the last one was cut off."""
    if os.path.lexists(path) and (words := not_plain(path)):
        raise _refused(path, words)
    file = os.fdopen(_checked(path, os.open(path, _ADDING, mode)), "ab")
    if lines and file.tell() and not _ends_a_line(path):
        file.write(b"\n")
    return file


def _ends_a_line(path: Path | str) -> bool:
    with open_plain(path) as file:
        file.seek(-1, os.SEEK_END)
        return file.read(1) == b"\n"


def _checked(path: Path | str, handle: int) -> int:
    """The handle, if what it opened still is a plain file."""
    if words := kind_of(os.fstat(handle).st_mode):
        os.close(handle)
        raise _refused(path, words)
    return handle


def _refused(path: Path | str, words: str) -> NotPlain:
    return NotPlain(f"{path} is {words}, and was not opened.")


def read_plain(path: Path | str, largest: int) -> bytes:
    """All of a plain file. largest: bytes that it may have. Raises as `open_plain` does, and NotPlain for more."""
    with open_plain(path) as file:
        size = os.fstat(file.fileno()).st_size
        if size > largest:
            raise NotPlain(f"{path} is larger than any such file ({size:,} bytes), and was not read.")
        return file.read(largest)
