"""Standard output whose reader may leave (`haul … | head`): the work goes on, and its outcome is the exit status."""

import codecs
import io
import os
import sys
import unicodedata
from typing import Any

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
        errors=before.errors if is_unicode(before.encoding) else "mudlark",
        line_buffering=before.isatty(),
    )
