"""What tells at a glance whether items are as they were: when their records were written and how large they are, and
how long the histories of their checks are.

These calls are most of what a list of a hundred thousand items costs, so of many a second process looks at some.
"""

import os
import threading
from array import array
from collections.abc import Iterator, Sequence

from mudlark.archive.layout import HISTORY, RECORD

WIDTH = 3  # numbers of an item: nanoseconds, bytes of the record, bytes of the history
MISSING = -1  # bytes of a record that is not there
_MANY = 5000
_PARTS = 100  # of many; fewer than a byte has values


class Glance:
    """A look at many folders, which begins at once and is over when it is asked for what it saw."""

    def __init__(self, folders: Sequence[str]) -> None:
        step = -(-len(folders) // _PARTS) or 1
        self._parts = [folders[at : at + step] for at in range(0, len(folders), step)]
        self._queue, self._beside, self._process = -1, -1, 0
        if len(folders) >= _MANY and hasattr(os, "fork") and threading.active_count() == 1:
            self._begin_beside()

    def _begin_beside(self) -> None:
        """Have a second process take parts, too, by their numbers in a queue."""
        (self._queue, numbers), (self._beside, told) = os.pipe(), os.pipe()
        os.write(numbers, bytes(range(len(self._parts))))
        os.close(numbers)
        try:
            self._process = os.fork()
        except OSError:
            for end in (self._queue, self._beside, told):
                os.close(end)
            return
        if self._process:
            os.close(told)
            return
        try:
            seen = b"".join(bytes([number]) + _stamps(self._parts[number]) for number in self._taken())
            with os.fdopen(told, "wb") as file:
                file.write(seen)
        finally:
            os._exit(0)

    def _taken(self) -> Iterator[int]:
        """Numbers of parts that only this process has."""
        while number := os.read(self._queue, 1):
            yield number[0]

    def stamps(self) -> "array[int]":
        """`WIDTH` numbers of each folder, in order."""
        seen = dict[int, bytes]()
        if self._process:
            seen = {number: _stamps(self._parts[number]) for number in self._taken()}
            seen |= self._seen_beside()
        stamps = array("q")
        for number, part in enumerate(self._parts):
            known = seen.get(number, b"")
            stamps.frombytes(known if len(known) == _bytes(part) else _stamps(part))
        return stamps

    def _seen_beside(self) -> dict[int, bytes]:
        """What the second process saw, by the numbers of its parts; not all of it where it was ended."""
        with os.fdopen(self._beside, "rb") as file:
            told, at = file.read(), 0
        os.close(self._queue)
        os.waitpid(self._process, 0)
        seen = dict[int, bytes]()
        while at < len(told):
            number, begin = told[at], at + 1
            at = begin + _bytes(self._parts[number])
            seen[number] = told[begin:at]
        return seen


def _bytes(part: Sequence[str]) -> int:
    return len(part) * WIDTH * array("q").itemsize


def _stamps(folders: Sequence[str]) -> bytes:
    stamps, lstat, access, record, history = list[int](), os.lstat, os.access, os.sep + RECORD, os.sep + HISTORY
    for folder in folders:
        try:
            seen, path = lstat(folder + record), folder + history
            length = lstat(path).st_size if access(path, os.F_OK) else 0  # no error to be raised costs less
        except OSError:
            stamps += (0, MISSING, 0)
        else:
            stamps += (seen.st_mtime_ns, seen.st_size, length)
    return array("q", stamps).tobytes()
