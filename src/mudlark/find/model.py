"""What looking through a page gives: finds, with all their evidence, and what the page says of itself."""

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

from mudlark.web.referrer import Referrer

if TYPE_CHECKING:
    from mudlark.find.questions import Form, Step

Kind = Literal["video", "audio", "image", "hls", "dash", "subtitle", "document", "package"]
Role = Literal["main", "rendition", "advert", "thumbnail", "segment", "other"]
Place = Literal[
    "element",
    "metadata",
    "json-ld",
    "script",
    "style",
    "attribute",
    "link",
    "header",
    "form",
    "frame",
    "feed",
    "network",
    "comment",
    "given",
]
Hint = Literal["poster", "thumbnail", "download", "advert", "control", "tiny", "unfinished"]

PLAYED = frozenset({"video", "audio", "hls", "dash"})


@dataclass(frozen=True, slots=True)
class Evidence:
    """One place that names a find. place: what kind of place, for programs; where: the same in words, for people.

    at: the line in the source, if known. weight: how strongly such a place speaks for the find being what the page is
    about, in points. frame: address of the frame in whose source it stands, None for the page itself. act: it is no
    place, but something that happened while the page was open. hint: what the place makes of it. group: what stands
    together as sources of one player; item: what stands together as one thing (a film with its subtitles and picture).
    """

    place: Place
    where: str
    at: str | None
    weight: int
    frame: str | None = None
    act: bool = False
    hint: Hint | None = None
    group: str | None = None
    item: str | None = None

    @property
    def words(self) -> str:
        """The place or act, as it stands in a sentence."""
        return self.where if self.act else f"named in {self.where}"


@dataclass(frozen=True, slots=True)
class Frame:
    """A page inside a page. where: the place that names it. advert: its markup speaks of advertising."""

    url: str
    where: str
    advert: bool = False


@dataclass(slots=True)
class Find:
    """A candidate address with everything that is known of it. why: the score's parts, as (points, words).

    standing: the part of the score that neither kind nor size nor name gave. advert: why it is taken for one.
    number: its place in the ranking of the page, from 1, whatever is filtered or sorted later.
    larger: address of the full one of which this is a smaller version; versions: the other way round. linked: the
    larger one that the page itself ties it to. declared: height of
    the picture in pixels, as the page declares it. language: of a subtitle.
    members: the numbered files that this one stands for, in order; missing: numbers that should be among them.
    sent: header fields that a browser sent with its request; referrer: the document that names it;
    asked: the place of that request in the capture.
    renditions: addresses that this playlist lists.
    final: where redirects lead. bytes, duration (seconds), type, status, form (what the first bytes are), ranges and
    width and height are what the server and the first bytes said; None while not asked. expires: Unix time.
    problem: why it cannot be had; protected: because a key system guards it.
    """

    url: str
    kind: Kind
    role: Role = "other"
    number: int = 0
    score: int = 0
    standing: int = 0
    advert: str | None = None
    why: list[tuple[int, str]] = field(default_factory=list)
    evidence: list[Evidence] = field(default_factory=list)
    label: str | None = None
    language: str | None = None
    declared: int | None = None
    linked: str | None = None
    larger: str | None = None
    versions: list[str] = field(default_factory=list)
    members: list[str] = field(default_factory=list)
    missing: list[int] = field(default_factory=list)
    sent: dict[str, str] = field(default_factory=dict)
    referrer: Referrer | None = None
    asked: int | None = None
    renditions: list[str] = field(default_factory=list)
    final: str | None = None
    status: int | None = None
    type: str | None = None
    form: str | None = None
    bytes: int | None = None
    ranges: bool | None = None
    duration: float | None = None
    width: int | None = None
    height: int | None = None
    expires: float | None = None
    problem: str | None = None
    protected: bool = False

    @property
    def count(self) -> int:
        """How many files this stands for."""
        return len(self.members) or 1

    @property
    def tall(self) -> int:
        """Height of the picture in pixels: as the file says, else as the page declares; 0 if neither does."""
        return self.height or self.declared or 0

    def hinted(self, *hints: Hint) -> bool:
        """True if any of its places makes it one of these."""
        return any(evidence.hint in hints for evidence in self.evidence)

    @property
    def reasons(self) -> list[str]:
        """The score's parts, each as points and words."""
        return [f"{points:+d} {words}" for points, words in self.why]


@dataclass(frozen=True, slots=True)
class ListEntry:
    """One entry of a page that lists others. url: the page that it leads to. duration: seconds. date: as stated."""

    title: str
    url: str
    description: str | None = None
    media: str | None = None
    cover: str | None = None
    duration: float | None = None
    date: str | None = None


@dataclass(slots=True)
class Page:
    """A page that was looked through. duration: seconds that its metadata states for its main media.

    left_out: how many finds there were beyond what is kept. wants_login: it asks for a password.
    itself: it is no page but the media itself, its own only find. capture: where its requests were recorded, in words.
    key_systems: those that its scripts asked for. entries: what it lists. notes: what happened while it was open.
    forms: the questions that it asks. walk: the answers that led here. feeds: feeds that it names. is_list: it is a
    feed or site map. asked: servers were asked about its finds. policy: its referrer policy. onward: where it leads by
    itself, with the way in words.
    """

    url: str
    title: str | None = None
    description: str | None = None
    creator: str | None = None
    date: str | None = None
    duration: float | None = None
    dimensions: tuple[int, int] | None = None
    finds: list[Find] = field(default_factory=list)
    frames: list[Frame] = field(default_factory=list)
    oembed: str | None = None
    wants_login: bool = False
    itself: bool = False
    left_out: int = 0
    capture: str | None = None
    key_systems: list[str] = field(default_factory=list)
    entries: list[ListEntry] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    forms: "list[Form]" = field(default_factory=list)
    walk: "list[Step]" = field(default_factory=list)
    feeds: list[str] = field(default_factory=list)
    is_list: bool = False
    asked: bool = False
    policy: str | None = None
    onward: tuple[str, str] | None = None

    @property
    def asks(self) -> bool:
        """True if it offers choices that lead on."""
        return any(question.options for form in self.forms if not form.refused for question in form.questions)
