"""Standard output whose reader may leave (`haul … | head`): the work goes on, and its outcome is the exit status."""

import io
import os
import sys
from typing import Any


class _Heard(io.RawIOBase):
    """Writes to a descriptor; when nobody reads any more, into nothing."""

    def __init__(self, descriptor: int) -> None:
        self._descriptor = descriptor

    def writable(self) -> bool:
        return True

    def fileno(self) -> int:
        return self._descriptor

    def isatty(self) -> bool:
        return os.isatty(self._descriptor)

    def write(self, data: Any, /) -> int:
        try:
            return os.write(self._descriptor, data)
        except BrokenPipeError:
            nowhere = os.open(os.devnull, os.O_WRONLY)
            os.dup2(nowhere, self._descriptor)
            os.close(nowhere)
            return len(data)


def heed_only_who_listens() -> None:
    """Have standard output take what is written, whether it is read or not."""
    before = sys.stdout
    try:
        descriptor = before.fileno()
    except (AttributeError, OSError, ValueError):  # it is none, or of a test
        return
    sys.stdout = io.TextIOWrapper(
        io.BufferedWriter(_Heard(descriptor)),
        encoding=before.encoding,
        errors=before.errors,
        line_buffering=before.isatty(),
    )
