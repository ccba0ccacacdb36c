"""Things to ask for, as values: an address, the part of it that is wanted, and what goes with the request.

Structs, as a list may have a hundred thousand of them.
"""

import msgspec


class Span(msgspec.Struct, frozen=True, gc=False):
    """A part of a resource: first byte and number of bytes."""

    start: int
    length: int

    @property
    def end(self) -> int:
        """The byte after the last."""
        return self.start + self.length


class Version(msgspec.Struct, frozen=True, gc=False):
    """Which of all that stood under an address at some time. tag: a strong entity tag (RFC 9110 §8.8.3). modified: its
    date, as stated. total: bytes of all of it."""

    tag: str
    modified: str | None = None
    total: int | None = None


class Resource(msgspec.Struct, frozen=True, gc=False):
    """span: the part that is wanted, None for all. version: that the resource must still be when a part of it is
    fetched. others: other addresses of the same bytes.
    """

    url: str
    span: Span | None = None
    version: Version | None = None
    others: tuple[str, ...] = ()
