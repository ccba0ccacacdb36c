"""The record of an item: where it came from, what was fetched and when, and how it was checked. Kept as record.json.

The schema is documented in docs/record.md; `mudlark_record` is its version. Readers accept fields they do not know.
"""

from pathlib import Path
from typing import Any, Literal

import msgspec

from mudlark.archive.layout import LARGEST_RECORD, RECORD
from mudlark.errors import FormatError, unreadable
from mudlark.media.details import details_of, heard, rate_of
from mudlark.media.movie import TrackIndex
from mudlark.media.samples import Format
from mudlark.plain import read_plain
from mudlark.text import escaped_json
from mudlark.verify.account import Check, Count, Problem, Seconds, Verdict, Whole
from mudlark.verify.media import Checked
from mudlark.web.redact import redacted

VERSION = 1
_LARGEST_PART = 16_000_000  # bytes of a record but for its segments, which may be hundreds of thousands


class FileFacts(msgspec.Struct, frozen=True, omit_defaults=True):
    """path: relative to the item. role: media, subtitle, poster, manifest, capture, page,
    exchanges. language: of subtitles. media_type, pronom: what it is by its content, as the registries of IANA and
    PRONOM name it."""

    path: str
    role: str
    bytes: Count
    sha256: str
    language: str | None = None
    media_type: str | None = None
    pronom: str | None = None


class Note(msgspec.Struct, frozen=True):
    """Something to know of an item that is no problem of its files. code: stable, for programs."""

    code: str
    message: str


class TrackFacts(msgspec.Struct, omit_defaults=True):
    """What the finished file itself says of a track. bitrate: bits a second, on average. label: its name.

    default: played unless another is chosen. frame_rate: on average, where it varies; then least_rate and most_rate are
    its bounds. profile: with its level. depth: bits a sample. sampling: of colours. pixel_aspect: width and height of a
    pixel that is no square. rotation: degrees clockwise. colours: in words.

    coded_frames, coded_digest: number and digest (XXH3, 128 bits) of the coded frames that came; file_digest: of those
    in the finished file. added: frames of silence put in.
    """

    type: str
    codec: str
    width: Count | None = None
    height: Count | None = None
    frame_rate: Seconds | None = None
    language: str | None = None
    label: str | None = None
    default: bool = True
    channels: Count | None = None
    sample_rate: Count | None = None
    bitrate: Count | None = None
    samples: Count = 0
    duration: Seconds = 0.0
    coded_frames: Count | None = None
    coded_digest: str | None = None
    file_digest: str | None = None
    added: Count = 0
    least_rate: Seconds | None = None
    most_rate: Seconds | None = None
    profile: str | None = None
    depth: Count | None = None
    sampling: str | None = None
    pixel_aspect: tuple[Count, Count] | None = None
    rotation: Count | None = None
    colours: str | None = None

    @classmethod
    def of(cls, track: TrackIndex) -> "TrackFacts":
        """The facts of a track of a film."""
        form = track.format
        length = float(track.durations.sum()) / form.timescale
        rate = rate_of(track)
        return msgspec.structs.replace(
            cls.of_format(form, round(length, 3)),
            frame_rate=rate.usual,
            least_rate=rate.least,
            most_rate=rate.most,
            language=track.language if track.language != "und" else None,
            label=track.label or None,
            default=track.default,
            bitrate=round(int(track.sizes.sum()) * 8 / length) if length else None,
            samples=len(track.sizes),
        )

    @classmethod
    def of_format(cls, form: Format, length: float) -> "TrackFacts":
        """What a format alone says. length: seconds."""
        details, (rate, channels), pictures = details_of(form), heard(form), form.type == "video"
        return cls(
            type=form.type,
            codec=form.codec,
            width=form.width or None,
            height=form.height or None,
            frame_rate=round(form.timescale / form.sample_duration, 3) if pictures and form.sample_duration else None,
            channels=channels or None,
            sample_rate=rate or None,
            duration=length,
            profile=details.profile,
            depth=details.depth,
            sampling=details.sampling,
            pixel_aspect=details.aspect,
            rotation=details.rotation,
            colours=details.colours,
        )


def tracks_of(checked: Checked) -> list[TrackFacts]:
    """The tracks of a file that was looked into."""
    if checked.movie:
        return [TrackFacts.of(track) for track in checked.movie.tracks]
    return [TrackFacts.of_format(form, checked.seconds or 0.0) for form in checked.formats]


class SegmentFacts(msgspec.Struct, omit_defaults=True):
    """One segment of the plan. duration: seconds promised. problem: why it is not there, if it is not.

    moment: the time of day at which it begins, as the manifest states it. lane: in which it came; sent, took: when it
    was asked for, in seconds since the fetching began, and how many seconds it took. stretch: a new one begins at each
    discontinuity. came_from: the address that served it in the end, where that is another than `url`.
    """

    track: str
    number: Count
    url: str
    duration: Seconds = 0.0
    byte_range: tuple[Count, Count] | None = None
    bytes: Count | None = None
    sha256: str | None = None
    fetched: str | None = None
    tries: Count = 0
    problem: str | None = None
    moment: str | None = None
    lane: Count | None = None
    sent: Seconds | None = None
    took: Seconds | None = None
    stretch: Count = 0
    came_from: str | None = None


class PageFacts(msgspec.Struct, omit_defaults=True):
    """The page and what it says of itself."""

    url: str
    title: str | None = None
    description: str | None = None
    creator: str | None = None
    date: str | None = None
    duration: Seconds | None = None
    dimensions: tuple[Count, Count] | None = None


class EvidenceFacts(msgspec.Struct):
    """Where a find stood: in words, at which line, and what kind of place it is, for programs."""

    where: str
    at: str | None
    place: str | None = None


class FindFacts(msgspec.Struct):
    """The find that was taken, and why."""

    url: str
    kind: str
    role: str
    score: Whole
    why: list[str]
    evidence: list[EvidenceFacts]


class ManifestFacts(msgspec.Struct):
    """A manifest and its kept copy (path relative to the item)."""

    url: str
    path: str
    sha256: str


class ManifestNote(msgspec.Struct):
    """What a manifest says beside its media (a date range, session data), under its tag or identifier."""

    name: str
    value: str


class RequestFacts(msgspec.Struct):
    """As whom the requests were made; secret values are left out."""

    guise: str
    headers: dict[str, str]


class CaptureFacts(msgspec.Struct):
    """The recorded requests that the find comes from. origin: the browser, or the capture's file name.

    path: of the copy in the item, None if the capture was the user's own.
    """

    origin: str
    path: str | None
    sha256: str


class WalkFacts(msgspec.Struct):
    """One step of the way through the questions of a page: where it led, and what was answered, by name and label."""

    url: str
    method: str
    answered: list[tuple[str, str]]


class Asked(msgspec.Struct, omit_defaults=True):
    """How an item was asked for, so that it can be hauled again: what is not as usual. wish: of renditions. listening:
    how the page was opened in a browser. answers: to its questions."""

    wish: dict[str, Any] | None = None
    container: Literal["mp4", "mkv"] | None = None
    as_images: bool = False
    series: bool = False
    warc: bool = False
    keep_page: bool = True
    listening: dict[str, Any] | None = None
    answers: list[tuple[str, str]] = []


class TapFacts(msgspec.Struct):
    """What was tapped, where no address served it. frame: address of the page or frame whose player it is. element:
    that played it. browser: its version. types: of the player's buffers, with codecs. seconds: that the player said it
    would last; ended: the page said that all of it was there.
    """

    frame: str
    element: str
    browser: str
    types: list[str] = []
    seconds: Seconds | None = None
    ended: bool = False


class Source(msgspec.Struct):
    """target: as given by the user. choice: the find the user chose, if not the best; its address without its query.

    identity: what the item is known by, alike: with others whose links differ in what is handed out anew each time
    (see docs/record.md). validator, modified, length: what the server says of a
    file (ETag, Last-Modified, bytes), to see later whether it is still the same there.
    address: of the manifest or file that was fetched, after redirects. kind: hls, dash, file, images (page images),
    series (numbered segments without a manifest), stream (radio) or tap (what a player was fed). listed: what a list
    that named it says of it, by its columns. filename: what the server, or the address, calls it. response: header
    fields of its answer that matter.
    asked: how it was asked for. tap: what it was fed to, where it was tapped.
    """

    target: str
    choice: str | None
    address: str
    page: PageFacts | None
    find: FindFacts | None
    manifests: list[ManifestFacts]
    request: RequestFacts
    kind: str = "file"
    capture: CaptureFacts | None = None
    walk: list[WalkFacts] = []
    identity: str | None = None
    alike: str | None = None
    validator: str | None = None
    modified: str | None = None
    length: Count | None = None
    manifest_notes: list[ManifestNote] = []
    listed: dict[str, str] = {}
    filename: str | None = None
    response: dict[str, str] = {}
    asked: Asked = msgspec.field(default_factory=Asked)
    tap: TapFacts | None = None


class SegmentCounts(msgspec.Struct):
    """How many segments were planned, fetched, taken over from an earlier run, tried again, and missing."""

    planned: Count
    fetched: Count
    reused: Count
    retried: Count
    missing: Count


class FetchingFacts(msgspec.Struct):
    """How the fetching went. bytes, seconds: that it took. elsewhere: segments, sections and keys that came from
    another address than their first; renewed: segments under renewed links; raced: that were so slow that they were
    asked for twice at once.
    """

    bytes: Count = 0
    seconds: Seconds = 0.0
    elsewhere: Count = 0
    renewed: Count = 0
    raced: Count = 0


class PlayFacts(msgspec.Struct, omit_defaults=True):
    """How a file played in a browser. when: RFC 3339. full: all of it was decoded. unplayed: what there was no decoder
    for. seeks: places that were shown. pictures, sounds: samples decoded; bad: those that were not. shown, dropped:
    pictures in the fast run to the end. black, frozen, silent: seconds from when to when. loudness: dB of full scale,
    by second. peak: the loudest, in dB. clipped: samples at full scale. seconds: that it took.
    """

    when: str
    full: bool
    started: bool
    ended: bool
    seeks: Count = 0
    pictures: Count = 0
    sounds: Count = 0
    bad: Count = 0
    shown: Count = 0
    dropped: Count = 0
    seconds: Seconds = 0.0
    unplayed: list[str] = []
    black: list[tuple[Seconds, Seconds]] = []
    frozen: list[tuple[Seconds, Seconds]] = []
    silent: list[tuple[Seconds, Seconds]] = []
    loudness: list[tuple[Seconds, Seconds]] = []
    peak: Seconds | None = None
    clipped: Count = 0


class Record(msgspec.Struct):
    """One item. Times are UTC (RFC 3339); durations are seconds. contents: names and bytes inside an archive. reason:
    why the verdict is that, in one sentence.

    command: as it was given, without secrets. operator: who answers for it, if that is configured: name, user, machine.
    """

    title: str
    verdict: Verdict
    problems: list[Problem]
    started: str
    finished: str
    source: Source
    duration: Seconds | None
    planned_duration: Seconds | None
    tracks: list[TrackFacts]
    files: list[FileFacts]
    segments: SegmentCounts
    segment_list: list[SegmentFacts]
    checks: list[Check]
    versions: dict[str, str]
    contents: list[tuple[str, Count]] = []
    notes: list[Note] = []
    fetching: FetchingFacts = msgspec.field(default_factory=FetchingFacts)
    played: PlayFacts | None = None
    reason: str | None = None
    command: str | None = None
    operator: dict[str, str] | None = None
    mudlark_record: Whole = VERSION


_parts = msgspec.json.Decoder(dict[str, msgspec.Raw])
_decoder = msgspec.json.Decoder(Record)  # made once, here: two threads that work out the same type at once crash


def without_access(record: Record) -> Record:
    """The record with what gives access hidden, as it is kept and shown."""
    return _decoder.decode(redacted(msgspec.json.encode(record).decode()))


def to_json(value: Any) -> bytes:
    """Indented JSON that ends with a line break; nothing in it is unseen."""
    return escaped_json(msgspec.json.format(msgspec.json.encode(value), indent=2).decode()).encode() + b"\n"


def read_record(folder: Path, *, segments: bool = True) -> Record:
    """The record of the item in `folder`. segments: with the list of them, which is by far the longest part."""
    path = folder / RECORD
    try:
        record = _decoder.decode(_bounded(read_plain(path, LARGEST_RECORD), path, segments=segments))
    except OSError as problem:
        raise unreadable(path, problem) from problem
    except (ValueError, RecursionError) as problem:
        raise FormatError(f"{path} is not a record that Mudlark can read: {problem}.") from problem
    if record.mudlark_record < 1:
        raise FormatError(f"{path} has no version that there was ({record.mudlark_record}).")
    if record.mudlark_record > VERSION:
        raise FormatError(f"{path} was made by a later version of Mudlark (schema {record.mudlark_record}).")
    return record


def _bounded(data: bytes, path: Path, *, segments: bool) -> bytes:
    """A record of which no part takes more memory than any has: without its segments, if they are not wanted."""
    if len(data) <= _LARGEST_PART:
        return data
    parts = _parts.decode(data)
    listed = parts.pop("segment_list", None)
    if sum(memoryview(part).nbytes for part in parts.values()) > _LARGEST_PART:
        raise FormatError(f"{path} is longer than any record, but for its segments.")
    parts["segment_list"] = listed if listed is not None and segments else msgspec.Raw(b"[]")
    return msgspec.json.encode(parts)
