"""One guard before the readers of others: whatever a library raises on a damaged file is said of that file.

Such libraries raise more than they document (IndexError, TypeError, RuntimeError of a picture's reader), and what they
raise says nothing of Mudlark: it says that the bytes are not what they should be.
"""

from collections.abc import Iterator
from contextlib import contextmanager

from mudlark.errors import FormatError, MudlarkError


@contextmanager
def reading(what: str) -> Iterator[None]:
    """What is read by a library inside. what: as the sentence has it. Raises FormatError for whatever it raises."""
    try:
        yield
    except MudlarkError:
        raise
    except Exception as problem:
        words = " ".join(str(problem).split()) or type(problem).__name__
        raise FormatError(f"{what} cannot be read: {words[:300]}") from problem
