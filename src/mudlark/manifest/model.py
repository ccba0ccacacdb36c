"""What a manifest promises: a presentation has renditions, renditions have segments. All of them are values.

A plain file is a presentation with one rendition of one segment, so everything after this point is one path.
"""

from collections.abc import Sequence
from typing import Literal

import msgspec
from msgspec.structs import replace

from mudlark.web.resource import Resource, Span

RenditionType = Literal["video", "audio", "subtitles", "captions", "other"]
PresentationKind = Literal["hls", "dash", "file", "images", "series", "stream", "tap"]
STREAMED: frozenset[PresentationKind] = frozenset({"hls", "dash", "series", "tap"})  # made of segments, put together
LONGEST_GAP = 43_200.0  # seconds: what is missing for longer is no gap in a film, whatever the times that are stated


class Cipher(msgspec.Struct, frozen=True):
    """AES-128 in CBC mode over a whole segment (RFC 8216 §4.3.2.4). iv: 16 bytes."""

    key: Resource
    iv: bytes


class Initialization(msgspec.Struct, frozen=True):
    """The section that must be read before the segments that name it (EXT-X-MAP)."""

    resource: Resource
    cipher: Cipher | None = None


class Segment(msgspec.Struct, frozen=True, gc=False):
    """sequence: its number in the manifest (media sequence number). begin, duration: seconds as promised.

    stretch: the number of the part in which all renditions share one clock. gap: said to be missing (EXT-X-GAP).
    moment: the time of day at which it begins (RFC 3339), as stated. offset: seconds to add to the time of its media
    for the time since its stretch began, None where only the media tells.
    shown: seconds since its stretch began from and until which it is presented, where it holds more than that.
    rest: it is what is left of a stretch behind its last whole segment, and nothing lists it: it may well not be there.
    """

    sequence: int
    resource: Resource
    begin: float = 0.0
    duration: float = 0.0
    stretch: int = 0
    init: Initialization | None = None
    cipher: Cipher | None = None
    gap: bool = False
    moment: str | None = None
    offset: float | None = None
    shown: tuple[float, float] | None = None
    rest: bool = False


class IndexedFile(msgspec.Struct, frozen=True):
    """Segments that an index inside of a file lists (SegmentBase of ISO/IEC 23009-1). index: where that is said to be.
    begin, length: seconds of the stretch in the presentation; offset: as that of its segments."""

    resource: Resource
    index: Span | None
    init: Initialization | None
    begin: float
    length: float | None
    stretch: int
    offset: float


class Rendition(msgspec.Struct, frozen=True):
    """One way to see or hear a presentation. segments: None while its own playlist, or an index, has not been read.

    bitrate, average: bits a second, peak and average. score: how much its maker likes it (the more the better).
    range: SDR, HLG or PQ. group: of those that are alternatives. sound_group, subtitle_group: those that go with it.
    sound_within: its group of sounds has one that is inside of it; sound_default: as the default.
    pathway: the set of copies that it belongs to. others: other playlists of the same. protected: by what, where it is.
    precision: seconds by which each promised duration may be off. length: seconds in all, where they are stated.
    pieces: its segments stretch by stretch, or the files whose indexes list them. alternative: what it has in common
    with those that are the same at other bit rates. liking: how much its maker would have it chosen (the more the
    better).
    """

    name: str
    type: RenditionType
    url: str
    codecs: tuple[str, ...] = ()
    width: int | None = None
    height: int | None = None
    frame_rate: float | None = None
    bitrate: int | None = None
    average: int | None = None
    score: float | None = None
    range: str | None = None
    channels: str | None = None
    language: str | None = None
    label: str | None = None
    group: str | None = None
    sound_group: str | None = None
    subtitle_group: str | None = None
    default: bool = False
    forced: bool = False
    characteristics: tuple[str, ...] = ()
    sound_within: bool = False
    sound_default: bool = False
    pathway: str | None = None
    others: tuple[str, ...] = ()
    protected: tuple[str, ...] = ()
    segments: Sequence[Segment] | None = None
    precision: float = 0.01
    length: float | None = None
    pieces: tuple[Sequence[Segment] | IndexedFile, ...] = ()
    alternative: str | None = None
    liking: int = 0

    @property
    def duration(self) -> float | None:
        """Seconds: stated, or the sum of what the segments promise; None while unknown."""
        if self.length is not None:
            return self.length
        total = sum(segment.duration for segment in self.segments or ())
        return total or None

    @property
    def tolerance(self) -> float:
        """Seconds by which the sum of the promised durations may be off."""
        return len(self.segments or ()) * self.precision


class Document(msgspec.Struct, frozen=True):
    """A manifest as it was served, kept for the record."""

    url: str
    body: bytes


class ManifestRemark(msgspec.Struct, frozen=True):
    """Something that a manifest says beside its media: a date range, session data. name: its tag or identifier."""

    name: str
    value: str


class Facts(msgspec.Struct, frozen=True):
    """What a server says of a plain file. length: bytes. filename: the name it gives. digests: stated, by algorithm, in
    hexadecimal. validator, modified: entity tag and date as stated. head: its first bytes. headers: fields of the
    answer that matter to whoever asks later, of manifests too.
    """

    length: int | None = None
    filename: str | None = None
    digests: tuple[tuple[str, str], ...] = ()
    validator: str | None = None
    modified: str | None = None
    head: bytes = b""
    headers: tuple[tuple[str, str], ...] = ()


class Live(msgspec.Struct, frozen=True):
    """It is still running. depth: seconds that the server keeps, if it is known. target: seconds that no segment
    exceeds, as stated."""

    depth: float | None = None
    target: float | None = None


class Tile(msgspec.Struct, frozen=True):
    """A part of a picture that stands in a file of its own. left, top, width, height: pixels of its place in the
    picture. before, above, behind, below: pixels at the left, top, right and bottom of its file that repeat what its
    neighbours show."""

    left: int
    top: int
    width: int
    height: int
    before: int = 0
    above: int = 0
    behind: int = 0
    below: int = 0

    @property
    def size(self) -> tuple[int, int]:
        """Pixels across and down that its file must have."""
        return self.before + self.width + self.behind, self.above + self.height + self.below


class Picture(msgspec.Struct, frozen=True):
    """A picture of a document: whole in one file, or in tiles, row by row. width, height: pixels, 0 if unknown."""

    width: int
    height: int
    label: str | None = None
    tiles: tuple[Tile, ...] = ()

    @property
    def files(self) -> int:
        """In how many files it stands."""
        return len(self.tiles) or 1


class Presentation(msgspec.Struct, frozen=True):
    """url: final address of the manifest or file. documents: the manifests read so far. notes: what they say beside.
    live: None for what is finished. pictures: what its segments make up, where they are those of a described document.
    alone: it is one picture, no document. title: its own."""

    url: str
    kind: PresentationKind
    renditions: tuple[Rendition, ...]
    documents: tuple[Document, ...] = ()
    notes: tuple[ManifestRemark, ...] = ()
    facts: Facts = Facts()
    live: Live | None = None
    pictures: tuple[Picture, ...] = ()
    alone: bool = False
    title: str | None = None

    @property
    def duration(self) -> float | None:
        """The longest of its renditions, in seconds."""
        return max((rendition.duration or 0.0 for rendition in self.renditions), default=0.0) or None

    def _repr_html_(self) -> str:
        """As notebooks show it."""
        from mudlark.notebook import presentation_table  # few are looked at in a notebook

        return presentation_table(self)

    def named(self, name: str) -> Rendition:
        """The rendition of a name."""
        return next(rendition for rendition in self.renditions if rendition.name == name)

    def with_renditions(self, changed: dict[str, Rendition], documents: tuple[Document, ...]) -> "Presentation":
        """The same with some renditions, by their names, known better, and the documents that told of them."""
        renditions = tuple(changed.get(rendition.name, rendition) for rendition in self.renditions)
        return replace(self, renditions=renditions, documents=(*self.documents, *documents))
