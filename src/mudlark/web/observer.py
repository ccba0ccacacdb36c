"""What an exchange was like, whole: for whoever keeps a copy of all that is asked and answered."""

from collections.abc import Awaitable, Callable
from tempfile import SpooledTemporaryFile
from typing import IO

import msgspec

from mudlark.web.transport import HopAnswer

Body = IO[bytes]
_IN_MEMORY = 1 << 20  # bytes of a body that stay in memory


class Seen(msgspec.Struct):
    """A request and its answer. moment: when it was sent (Unix time). sent, came: header fields as they were, in their
    order. form: the body that was sent. version: of HTTP, as in the status line. body: as far as it came, without
    transfer and content codings, at its beginning. cut: why it is not whole, by the words of WARC 1.1 §5.13. peer: the
    address of the server.
    """

    url: str
    method: str
    moment: float
    sent: list[tuple[str, str]]
    form: bytes
    status: int
    reason: str
    version: str
    came: list[tuple[str, str]]
    body: Body
    cut: str | None = None
    peer: str | None = None


Observer = Callable[[Seen], Awaitable[None]]


def new_body() -> Body:
    """A place for a body of any length."""
    return SpooledTemporaryFile(_IN_MEMORY)


def seen(answer: HopAnswer, moment: float, body: Body, cut: str | None, form: bytes) -> Seen:
    """An exchange, as the client knows it."""
    return Seen(
        answer.url,
        answer.method,
        moment,
        answer.sent,
        form,
        answer.status,
        answer.reason,
        answer.version,
        answer.fields,
        body,
        cut,
        answer.peer,
    )
