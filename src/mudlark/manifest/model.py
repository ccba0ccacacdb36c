"""What a manifest promises: a presentation has tracks, tracks have segments.

A plain file is a presentation with one track of one segment, so everything after this point is one path.
"""

from dataclasses import dataclass, field
from typing import Literal


@dataclass(frozen=True, slots=True)
class ByteRange:
    """A part of a resource: first byte and number of bytes."""

    start: int
    length: int


@dataclass(frozen=True, slots=True)
class Segment:
    """number: from 0 in its track. duration: seconds as promised, 0 if unknown.

    validator: the entity tag that the resource must still have when this part of it is fetched.
    """

    number: int
    url: str
    duration: float = 0.0
    byte_range: ByteRange | None = None
    discontinuity: bool = False
    validator: str | None = None


@dataclass(slots=True)
class Track:
    """One rendition. segments: None while its own playlist has not been read. bitrate: bits a second, peak.

    sound_within: its group of sounds has one that is inside of it, in its own language; sound_default: as the default.
    """

    name: str
    type: Literal["video", "audio", "subtitles", "file", "images"]
    url: str
    codecs: tuple[str, ...] = ()
    width: int | None = None
    height: int | None = None
    frame_rate: float | None = None
    bitrate: int | None = None
    language: str | None = None
    label: str | None = None
    group: str | None = None
    audio_group: str | None = None
    default: bool = False
    sound_within: bool = False
    sound_default: bool = False
    segments: list[Segment] | None = None

    @property
    def duration(self) -> float | None:
        """Seconds, the sum of what the segments promise; None while unknown."""
        total = sum(segment.duration for segment in self.segments or ())
        return total or None


@dataclass(frozen=True, slots=True)
class Document:
    """A manifest as it was served, kept for the record."""

    url: str
    body: bytes


@dataclass(slots=True)
class Presentation:
    """url: final address of the manifest or file. kind: what it is. documents: the manifests read so far.

    Of a plain file also: length in bytes, the name that the server gives it, digests it states (hexadecimal), its
    entity tag and date as stated (ETag, Last-Modified), and its first bytes.
    """

    url: str
    kind: Literal["hls", "file", "images", "series"]
    tracks: list[Track]
    documents: list[Document] = field(default_factory=list)
    length: int | None = None
    filename: str | None = None
    digests: dict[str, str] = field(default_factory=dict)
    validator: str | None = None
    modified: str | None = None
    head: bytes = b""

    @property
    def duration(self) -> float | None:
        """The longest of its tracks, in seconds."""
        return max((track.duration or 0.0 for track in self.tracks), default=0.0) or None
