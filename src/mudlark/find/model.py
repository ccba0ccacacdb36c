"""What looking through a page gives: finds, with all their evidence, and what the page says of itself."""

from dataclasses import dataclass, field
from typing import Literal

Kind = Literal["video", "audio", "image", "hls", "dash", "subtitle", "document", "package"]
Role = Literal["main", "rendition", "advert", "thumbnail", "segment", "other"]

PLAYED = frozenset({"video", "audio", "hls", "dash"})


@dataclass(frozen=True, slots=True)
class Evidence:
    """One place that names a find. where: what kind of place, in words. at: the line in the page's source, if known.

    weight: how strongly such a place speaks for the find being what the page is about, in points.
    """

    where: str
    at: str | None
    weight: int


@dataclass(slots=True)
class Find:
    """A candidate address with everything that is known of it. why: the score's parts in words, as (points, words).

    bytes, duration (seconds), type and status are what the server and the first bytes said; None while not asked.
    """

    url: str
    kind: Kind
    role: Role = "other"
    score: int = 0
    why: list[tuple[int, str]] = field(default_factory=list)
    evidence: list[Evidence] = field(default_factory=list)
    label: str | None = None
    status: int | None = None
    type: str | None = None
    bytes: int | None = None
    duration: float | None = None
    problem: str | None = None

    @property
    def reasons(self) -> list[str]:
        """The score's parts, each as points and words."""
        return [f"{points:+d} {words}" for points, words in self.why]


@dataclass(slots=True)
class Page:
    """A page that was looked through. duration: seconds that its metadata states for its main media."""

    url: str
    title: str | None = None
    description: str | None = None
    creator: str | None = None
    date: str | None = None
    duration: float | None = None
    finds: list[Find] = field(default_factory=list)
