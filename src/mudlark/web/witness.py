"""What an exchange was like, whole: for whoever keeps a copy of all that is asked and answered."""

from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from tempfile import SpooledTemporaryFile
from typing import IO

import aiohttp

Body = IO[bytes]
_IN_MEMORY = 1 << 20  # bytes of a body that stay in memory


@dataclass(slots=True)
class Seen:
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


Witness = Callable[[Seen], Awaitable[None]]


def new_body() -> Body:
    """A place for a body of any length."""
    return SpooledTemporaryFile(_IN_MEMORY)


def seen(
    response: aiohttp.ClientResponse, moment: float, body: Body, cut: str | None, peer: str | None, form: bytes
) -> Seen:
    """An exchange, as the client knows it."""
    info = response.request_info
    version = f"HTTP/{response.version.major}.{response.version.minor}" if response.version else "HTTP/1.1"
    came = [
        (name.decode("utf-8", "surrogateescape"), value.decode("utf-8", "surrogateescape"))
        for name, value in response.raw_headers
    ]
    sent = [(str(name), str(value)) for name, value in info.headers.items()]
    return Seen(
        str(response.url),
        response.method,
        moment,
        sent,
        form,
        response.status,
        response.reason or "",
        version,
        came,
        body,
        cut,
        peer,
    )
