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


class Resource(msgspec.Struct, frozen=True, gc=False):
    """span: the part that is wanted, None for all. validator: the entity tag that the resource must still have when a
    part of it is fetched. others: other addresses of the same bytes.
    """

    url: str
    span: Span | None = None
    validator: str | None = None
    others: tuple[str, ...] = ()
