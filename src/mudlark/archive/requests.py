"""The requests that made an item, a line of JSON each, as they ended: kept, so that one sees later how it went."""

from collections.abc import Iterable
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec

from mudlark.errors import StorageError


class EarlyRequests(list[dict[str, Any]]):
    """The requests that were made before it was known which item they lead to."""

    def __call__(self, facts: dict[str, Any]) -> None:
        """Add a request."""
        self.append(facts)


class RequestLog:
    """A file of requests, gone on with when a haul is. before: those that led to the item."""

    def __init__(self, path: Path, before: Iterable[dict[str, Any]] = ()) -> None:
        self.path = path
        try:
            self._file = path.open("ab")
        except OSError as problem:
            raise StorageError(f"Cannot write {path}: {problem.strerror}.", "Make room, and haul again.") from problem
        for facts in before:
            self(facts)

    def __call__(self, facts: dict[str, Any]) -> None:
        """Add a request. What the disk does not take is lost here; the haul itself will say that it is full."""
        try:
            self._file.write(msgspec.json.encode(facts) + b"\n")
        except OSError:
            return

    def flush(self) -> None:
        """Have all lines in the file."""
        self._file.flush()

    def close(self) -> None:
        """No more comes."""
        with suppress(OSError):  # of a disk that is full, which the haul itself says
            self._file.close()
