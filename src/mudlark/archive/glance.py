"""What tells at a glance whether items are as they were: when their records were written and how large they are, and
how long the histories of their checks are.

These calls are most of what a list of a hundred thousand items costs, so of many a second process looks at the larger
part.
"""

import os
import threading
from array import array
from collections.abc import Sequence

from mudlark.archive.layout import HISTORY, RECORD

WIDTH = 3  # numbers of an item: nanoseconds, bytes of the record, bytes of the history
MISSING = -1  # bytes of a record that is not there
_MANY = 5000
_OWN = 0.3  # of them; what was known of all is read meanwhile, too


class Glance:
    """A look at many folders, which begins at once and is over when it is asked for what it saw."""

    def __init__(self, folders: Sequence[str]) -> None:
        self._folders = folders
        self._own, self._pipe, self._process = len(folders), -1, 0
        if len(folders) >= _MANY and hasattr(os, "fork") and threading.active_count() == 1:
            self._begin_beside(int(len(folders) * _OWN))

    def _begin_beside(self, own: int) -> None:
        """Have a second process look at all but the first so many; where there can be none, all are looked at here."""
        self._pipe, out = os.pipe()
        try:
            self._process = os.fork()
        except OSError:
            os.close(self._pipe)
            os.close(out)
            return
        if self._process:
            os.close(out)
            self._own = own
            return
        try:
            with os.fdopen(out, "wb") as file:
                _stamps(self._folders[own:]).tofile(file)
        finally:
            os._exit(0)

    def stamps(self) -> "array[int]":
        """`WIDTH` numbers of each folder, in order."""
        stamps = _stamps(self._folders[: self._own])
        if not self._process:
            return stamps
        with os.fdopen(self._pipe, "rb") as file:
            beside = file.read()
        os.waitpid(self._process, 0)
        rest = array("q")
        if len(beside) == WIDTH * rest.itemsize * (len(self._folders) - self._own):
            rest.frombytes(beside)
        else:  # it was ended
            rest = _stamps(self._folders[self._own :])
        return stamps + rest


def _stamps(folders: Sequence[str]) -> "array[int]":
    stamps = array("q")
    for folder in folders:
        try:
            record = os.lstat(f"{folder}{os.sep}{RECORD}")
        except OSError:
            stamps.extend((0, MISSING, 0))
        else:
            stamps.extend((record.st_mtime_ns, record.st_size, _length(f"{folder}{os.sep}{HISTORY}")))
    return stamps


def _length(history: str) -> int:
    try:
        return os.lstat(history).st_size if os.access(history, os.F_OK) else 0  # no error to be raised costs less
    except OSError:
        return 0
