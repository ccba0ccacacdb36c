"""Things to ask for, as values: an address, the part of it that is wanted, and what goes with the request."""

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Span:
    """A part of a resource: first byte and number of bytes."""

    start: int
    length: int

    @property
    def end(self) -> int:
        """The byte after the last."""
        return self.start + self.length


@dataclass(frozen=True, slots=True)
class Resource:
    """span: the part that is wanted, None for all. validator: the entity tag that the resource must still have when a
    part of it is fetched. others: other addresses of the same bytes.
    """

    url: str
    span: Span | None = None
    validator: str | None = None
    others: tuple[str, ...] = ()
