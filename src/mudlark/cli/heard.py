"""Outputs whose reader may leave (`haul … 2>&1 | head`): the work goes on, and its outcome is the exit status. What
standard output does not take for another reason is said once."""

import codecs
import io
import os
import select
import sys
import unicodedata
from typing import Any, TextIO

_PLAIN = str.maketrans("–—…×·•“”‘’━─✓✗⊘←→", "--.x**\"\"''--+x-<>")


def is_unicode(encoding: str | None) -> bool:
    """True for an encoding in which every character can be written."""
    return (encoding or "").lower().replace("-", "").startswith(("utf8", "utf16", "utf32"))


def _in_other_letters(problem: UnicodeError) -> tuple[str, int]:
    """What a terminal that has not all characters shows instead: those without their accents, or a question mark."""
    if not isinstance(problem, UnicodeEncodeError):
        raise problem
    text = unicodedata.normalize("NFKD", problem.object[problem.start : problem.end].translate(_PLAIN))
    return "".join(char if char.isascii() else "" if unicodedata.combining(char) else "?" for char in text), problem.end


codecs.register_error("mudlark", _in_other_letters)


class _Heard(io.RawIOBase):
    """Writes to a descriptor; when nobody reads any more, or after an error, into nothing. what: it is, in the error;
    empty if nobody is told of one."""

    def __init__(self, descriptor: int, what: str) -> None:
        self._descriptor = descriptor
        self._what = what

    def writable(self) -> bool:
        return True

    def fileno(self) -> int:
        return self._descriptor

    def isatty(self) -> bool:
        return os.isatty(self._descriptor)

    def write(self, data: Any, /) -> int:
        while True:
            try:
                return os.write(self._descriptor, data)
            except BlockingIOError:  # of a pipe that has nobody wait
                select.select([], [self._descriptor], [])
            except OSError as problem:
                nowhere = os.open(os.devnull, os.O_WRONLY)
                os.dup2(nowhere, self._descriptor)
                os.close(nowhere)
                if isinstance(problem, BrokenPipeError) or not self._what:
                    return len(data)
                raise OSError(problem.errno, problem.strerror, self._what) from problem


def heed_who_listens() -> None:
    """Have standard output and the messages take what is written, whether it is read or not."""
    sys.stdout = _heard(sys.stdout, "standard output")
    sys.stderr = _heard(sys.stderr, "")


def _heard(before: TextIO, what: str) -> TextIO:
    try:
        descriptor = before.fileno()
    except (AttributeError, OSError, ValueError):  # it is none, or of a test
        return before
    return io.TextIOWrapper(
        io.BufferedWriter(_Heard(descriptor, what)),
        encoding=before.encoding,
        errors=before.errors if is_unicode(before.encoding) else "mudlark",
        line_buffering=bool(before.line_buffering),
    )
