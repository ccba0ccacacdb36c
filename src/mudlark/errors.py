"""Everything that can go wrong, as one small tree; each branch knows its code for programs and the exit status it
leads to.

An error states facts (what happened, where) and, where there is something to do, `advice`: the user's next step.
The core raises; only the command line prints.
"""

import errno
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Self

_NOT_NOW = frozenset(
    (errno.EACCES, errno.EPERM, errno.EMFILE, errno.ENFILE, errno.ENOMEM, errno.ETIMEDOUT, errno.ESTALE)
)


class MudlarkError(Exception):
    """Base of all errors meant for the user. code: stable, for programs. exit_status: what the program ends with.

    url: the address that it is about, if it is about one.
    """

    code = "error"
    exit_status = 1

    def __init__(self, what: str, advice: str = "", *, url: str | None = None) -> None:
        super().__init__(what)
        self.what = what
        self.advice = advice
        self.url = url

    def __str__(self) -> str:
        return f"{self.what} {self.advice}".rstrip()


class FormatError(MudlarkError):
    """Bytes that are not what their format says. `offset` is the byte at which that showed."""

    code = "format"

    def __init__(self, what: str, offset: int | None = None, advice: str = "", *, url: str | None = None) -> None:
        super().__init__(what if offset is None else f"{what} (at byte {offset:,})", advice, url=url)
        self.offset, self._bare = offset, what

    def moved(self, by: int) -> Self:
        """The same of bytes that stand so far into what they are a part of."""
        return type(self)(self._bare, None if self.offset is None else self.offset + by, self.advice, url=self.url)


class ManifestError(FormatError):
    """A manifest that cannot be read."""

    code = "manifest"


class UsageError(MudlarkError):
    """The user asked for something that cannot be."""

    code = "usage"
    exit_status = 2


class NothingFound(MudlarkError):
    """No media where media was expected."""

    code = "nothing-found"
    exit_status = 3


class Refused(MudlarkError):
    """Protected media, or something this program will not do."""

    code = "refused"
    exit_status = 4


class NetworkError(MudlarkError):
    """The network or a server failed for good. `status` is the HTTP status, if there was one."""

    code = "network"
    exit_status = 5

    def __init__(self, what: str, advice: str = "", status: int | None = None, *, url: str | None = None) -> None:
        super().__init__(what, advice, url=url)
        self.status = status


class Interrupted(MudlarkError):
    """The user ended it before it was done."""

    code = "interrupted"
    exit_status = 130

    def __init__(self) -> None:
        super().__init__("Interrupted.")


class Internal(MudlarkError):
    """A mistake of Mudlark itself, which nobody foresaw."""

    code = "internal"
    exit_status = 70

    def __init__(self, problem: Exception) -> None:
        super().__init__(
            f"This is an error of Mudlark itself: {type(problem).__name__}: {problem}",
            "Please report it with what --verbose --log FILE says. Nothing was put under a final name.",
        )


class StorageError(MudlarkError):
    """The local disk would not take or give the bytes."""

    code = "storage"
    exit_status = 6


class Withheld(StorageError):
    """Something that may not be read, or not just now: nothing is known of it."""

    code = "withheld"


class Held(StorageError):
    """Another process is at work on it."""

    code = "held"


class Unexamined(MudlarkError):
    """Something on which a reader failed in a way that nobody foresaw. It is likely damaged, and nothing is known."""

    code = "unexamined"


def is_withheld(problem: Exception) -> bool:
    """True if something may not be read, or not just now."""
    return isinstance(problem, OSError) and problem.errno in _NOT_NOW


def unreadable(path: Path, problem: OSError) -> StorageError:
    """That something cannot be read: as nobody lets us, or as it is gone or damaged."""
    words = f"Cannot read {path}: {problem.strerror or problem}."
    return Withheld(words, "See that you may read it.") if is_withheld(problem) else StorageError(words)


@contextmanager
def examining(path: Path) -> Iterator[None]:
    """Whatever goes wrong with one thing of many is said of that thing, so that the others go on."""
    try:
        yield
    except MudlarkError:
        raise
    except OSError as problem:
        raise unreadable(path, problem) from problem
    except Exception as problem:
        raise Unexamined(
            f"{path} could not be looked into: {type(problem).__name__}: {problem}.",
            "Please report that, with the file if you can.",
        ) from problem
