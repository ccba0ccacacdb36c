"""What looking through a page gives: finds, with all their evidence, and what the page says of itself."""

import re
from collections.abc import Mapping
from typing import TYPE_CHECKING, Literal

import msgspec
from msgspec.structs import replace

from mudlark.manifest.model import Live
from mudlark.media.forms import Category

if TYPE_CHECKING:
    from mudlark.find.questions import Form, Step
    from mudlark.web.referrer import Referrer

Kind = Literal[Category, "tap"]
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
    "text",
    "given",
]
_RUNNING = (b"<script", b"<iframe", b"<frame", b"<video", b"<audio", b"<object", b"<embed")
Hint = Literal["poster", "thumbnail", "download", "advert", "control", "tiny", "unfinished", "guessed"]

_TAP = re.compile(r"(?P<page>[^#]+)#tap-(?P<number>[1-9]\d{0,3})")
PLAYED = frozenset({"video", "audio", "hls", "dash", "tap"})


def tap_address(frame: str, number: int) -> str:
    """What the tap of a player is called: no address serves it, so it is that of the page or frame, with a number."""
    return f"{frame.partition('#')[0]}#tap-{number}"


def tap_in(address: str) -> tuple[str, int] | None:
    """The page and number of such a name; None for any other address."""
    found = _TAP.fullmatch(address)
    return (found["page"], int(found["number"])) if found else None


class Evidence(msgspec.Struct, frozen=True):
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


class Frame(msgspec.Struct, frozen=True):
    """A page inside a page. where: the place that names it. advert: its markup speaks of advertising."""

    url: str
    where: str
    advert: bool = False


class Mention(msgspec.Struct, frozen=True, kw_only=True):
    """What the places that name an address say of it: a page, a feed, a capture.

    declared: height of the picture in pixels. linked: the larger one that the page itself ties it to. language: of a
    subtitle. referrer: the document that names it. members: the numbered files that this one stands for, in order;
    missing: numbers that should be among them. segment: it is one of many numbered ones. type, bytes, duration
    (seconds): as stated, or as the browser of a capture was told; final, sent, asked: where redirects led it, header
    fields of its request, and the place of that in the capture. problem: why it was not to be had then; protected:
    because a key system guards it.
    """

    url: str
    kind: Kind
    evidence: tuple[Evidence, ...] = ()
    label: str | None = None
    language: str | None = None
    declared: int | None = None
    linked: str | None = None
    referrer: "Referrer | None" = None
    members: tuple[str, ...] = ()
    missing: tuple[int, ...] = ()
    segment: bool = False
    type: str | None = None
    bytes: int | None = None
    duration: float | None = None
    final: str | None = None
    sent: Mapping[str, str] = msgspec.field(default_factory=dict)
    asked: int | None = None
    problem: str | None = None
    protected: bool = False

    def joined(self, other: "Mention") -> "Mention":
        """Both in one: all places, and what a request was told before what a place states."""
        evidence = self.evidence + tuple(one for one in other.evidence if one not in self.evidence)
        came = other if other.asked else self
        return replace(
            self,
            evidence=evidence,
            label=self.label or other.label,
            language=self.language or other.language,
            declared=self.declared or other.declared,
            linked=self.linked or other.linked,
            kind=came.kind,
            type=came.type,
            bytes=came.bytes,
            final=came.final,
            sent=came.sent,
            asked=came.asked,
            segment=came.segment,
            problem=came.problem,
            protected=came.protected,
        )

    @property
    def is_guess(self) -> bool:
        """True if no place says for certain that it is media, so that it may be a page."""
        return all(one.hint == "guessed" for one in self.evidence)

    def hinted(self, *hints: Hint) -> bool:
        """True if any of its places makes it one of these."""
        return any(evidence.hint in hints for evidence in self.evidence)


class Response(msgspec.Struct, frozen=True, kw_only=True):
    """What the server and the first bytes say; all None while nobody asked.

    final: where redirects lead. format: what the first bytes are. duration: seconds. renditions: addresses that this
    manifest lists. part: what it is, where it is only a part of a film. expires: Unix time. problem: why it cannot be
    had; protected: because a key system guards it. live: it is a broadcast that is running.
    """

    status: int | None = None
    kind: Kind | None = None
    final: str | None = None
    type: str | None = None
    format: str | None = None
    bytes: int | None = None
    ranges: bool | None = None
    duration: float | None = None
    width: int | None = None
    height: int | None = None
    renditions: tuple[str, ...] = ()
    part: str | None = None
    expires: float | None = None
    problem: str | None = None
    protected: bool = False
    live: Live | None = None


class Rank(msgspec.Struct, frozen=True, kw_only=True):
    """What the ranking concludes.

    number: the place on the page, from 1, whatever is filtered or sorted later. why: the score's parts, as (points,
    words). standing: the part of the score that neither kind nor size nor name gave. advert: why it is taken for one.
    larger: address of the full one of which this is a smaller version; versions: the other way round.
    """

    number: int = 0
    role: Role = "other"
    score: int = 0
    standing: int = 0
    advert: str | None = None
    why: tuple[tuple[int, str], ...] = ()
    larger: str | None = None
    versions: tuple[str, ...] = ()

    @property
    def reasons(self) -> list[str]:
        """The score's parts, each as points and words."""
        return [f"{points:+d} {words}" for points, words in self.why]


class Find(msgspec.Struct, frozen=True):
    """A candidate address: what is said of it, what its server answered, and what the ranking makes of both.

    The properties join the first two: a server knows better than a page, and what a capture saw fail has failed.
    """

    mention: Mention
    response: Response = Response()
    rank: Rank = Rank()

    @property
    def url(self) -> str:
        return self.mention.url

    @property
    def kind(self) -> Kind:
        return self.response.kind or self.mention.kind

    @property
    def evidence(self) -> tuple[Evidence, ...]:
        return self.mention.evidence

    @property
    def label(self) -> str | None:
        return self.mention.label

    @property
    def language(self) -> str | None:
        return self.mention.language

    @property
    def members(self) -> tuple[str, ...]:
        return self.mention.members

    @property
    def count(self) -> int:
        """How many files this stands for."""
        return len(self.mention.members) or 1

    @property
    def final(self) -> str | None:
        return self.mention.final if self.response.status is None else self.response.final

    @property
    def type(self) -> str | None:
        return self.response.type or self.mention.type

    @property
    def bytes(self) -> int | None:
        return self.mention.bytes if self.response.bytes is None else self.response.bytes

    @property
    def duration(self) -> float | None:
        return self.response.duration or self.mention.duration

    @property
    def tall(self) -> int:
        """Height of the picture in pixels: as the file says, else as the page declares; 0 if neither does."""
        return self.response.height or self.mention.declared or 0

    @property
    def problem(self) -> str | None:
        return self.mention.problem or self.response.problem

    @property
    def protected(self) -> bool:
        return self.mention.protected or self.response.protected

    @property
    def role(self) -> Role:
        return self.rank.role

    @property
    def number(self) -> int:
        return self.rank.number

    @property
    def score(self) -> int:
        return self.rank.score


class ListEntry(msgspec.Struct, frozen=True):
    """One entry of a page that lists others. url: the page that it leads to. duration: seconds. date: as stated."""

    title: str
    url: str
    description: str | None = None
    media: str | None = None
    cover: str | None = None
    duration: float | None = None
    date: str | None = None


class Page(msgspec.Struct):
    """A page that was looked through. duration: seconds that its metadata states for its main media.

    left_out: how many finds there were beyond what is kept. wants_login: it asks for a password.
    itself: it is no page but the media itself, its own only find. capture: where its requests were recorded, in words.
    key_systems: those that its scripts asked for. entries: what it lists. links: as it stood at the end, where it lists
    nothing. notes: what happened while it was open.
    forms: the questions that it asks. walk: the answers that led here. feeds: feeds that it names. is_list: it is a
    feed or site map. asked: servers were asked about its finds. policy: its referrer policy. onward: where it leads by
    itself, with the way in words. received: its source as the server sent it. failed: what media were asked for in
    vain while it was open, in words. scripts: of its own host that it runs, and JSON there that it or they name.
    unfetched: media by other protocols than are fetched.
    """

    url: str
    title: str | None = None
    description: str | None = None
    creator: str | None = None
    date: str | None = None
    duration: float | None = None
    dimensions: tuple[int, int] | None = None
    finds: list[Find] = msgspec.field(default_factory=list)
    frames: list[Frame] = msgspec.field(default_factory=list)
    oembed: str | None = None
    wants_login: bool = False
    itself: bool = False
    left_out: int = 0
    capture: str | None = None
    key_systems: list[str] = msgspec.field(default_factory=list)
    entries: list[ListEntry] = msgspec.field(default_factory=list)
    links: list[ListEntry] = msgspec.field(default_factory=list)
    notes: list[str] = msgspec.field(default_factory=list)
    forms: "list[Form]" = msgspec.field(default_factory=list)
    walk: "list[Step]" = msgspec.field(default_factory=list)
    feeds: list[str] = msgspec.field(default_factory=list)
    is_list: bool = False
    asked: bool = False
    policy: str | None = None
    onward: tuple[str, str] | None = None
    received: bytes = b""
    failed: list[str] = msgspec.field(default_factory=list)
    scripts: list[str] = msgspec.field(default_factory=list)
    unfetched: list[str] = msgspec.field(default_factory=list)

    def _repr_html_(self) -> str:
        """As notebooks show it."""
        from mudlark.notebook import page_table  # few are looked at in a notebook

        return page_table(self)

    @property
    def runs(self) -> bool:
        """True if something on it may ask for media later: a script, a frame or a player; or if nobody knows."""
        source = self.received.lower()
        return not source or any(one in source for one in _RUNNING)

    @property
    def asks(self) -> bool:
        """True if it offers choices that lead on."""
        return any(question.options for form in self.forms if not form.refused for question in form.questions)
