"""Everything that can go wrong, as one small tree; each branch knows the exit status it leads to.

An error states facts (what happened, where) and, where there is something to do, `advice`: the user's next step.
The core raises; only the command line prints.
"""


class MudlarkError(Exception):
    """Base of all errors meant for the user. `exit_status` is what the program ends with."""

    exit_status = 1

    def __init__(self, what: str, advice: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.advice = advice

    def __str__(self) -> str:
        return f"{self.what} {self.advice}".rstrip()


class FormatError(MudlarkError):
    """Bytes that are not what their format says. `offset` is the byte at which that showed."""

    def __init__(self, what: str, offset: int | None = None, advice: str = "") -> None:
        super().__init__(what if offset is None else f"{what} (at byte {offset:,})", advice)
        self.offset = offset


class ManifestError(FormatError):
    """A manifest that cannot be read."""


class UsageError(MudlarkError):
    """The user asked for something that cannot be."""

    exit_status = 2


class NothingFound(MudlarkError):
    """No media where media was expected."""

    exit_status = 3


class Refused(MudlarkError):
    """Protected media, or something this program will not do."""

    exit_status = 4


class NetworkError(MudlarkError):
    """The network or a server failed for good. `status` is the HTTP status, if there was one."""

    exit_status = 5

    def __init__(self, what: str, advice: str = "", status: int | None = None) -> None:
        super().__init__(what, advice)
        self.status = status


class StorageError(MudlarkError):
    """The local disk would not take or give the bytes."""

    exit_status = 6
