"""Reading the index of a progressive MP4: its tracks, and where, when and how large each sample is.

Follows ISO/IEC 14496-12 §8. Sans-I/O: `scan` asks a callable for bytes, everything else works on the `moov` box alone.
Raises Mp4Error (with the byte offset) on what contradicts itself; whether samples are where the index says is the
business of verification.
"""

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import IO

import numpy as np

from mudlark.media.mp4.boxes import Box, Mp4Error, children, header
from mudlark.media.mp4.entries import insist_on_clear, read_entry
from mudlark.media.samples import Flags, Format, Ints

ReadAt = Callable[[int, int], bytes]
LARGEST_INDEX = 1 << 30


@dataclass(frozen=True, slots=True)
class Edit:
    """One row of an edit list: length in ticks of the movie, first media time in ticks of the track (-1: nothing)."""

    length: int
    media_time: int


@dataclass(slots=True)
class TrackIndex:
    """One track: its format and, a row a sample: sizes and offsets in bytes; dts, pts and durations in ticks; sync.

    label: its name. default: played unless another is chosen.
    """

    number: int
    format: Format
    sizes: Ints
    offsets: Ints
    dts: Ints
    pts: Ints
    durations: Ints
    sync: Flags
    edits: list[Edit]
    language: str = "und"
    label: str = ""
    default: bool = True

    def presented(self, movie_scale: int) -> tuple[float, float]:
        """When this track begins and ends on the movie's clock, in seconds."""
        if not len(self.pts):
            return 0.0, 0.0
        first, last = int(self.pts.min()), int((self.pts + self.durations).max())
        delay, start, length = 0.0, first, last - first
        for edit in self.edits:
            if edit.media_time < 0:
                delay += edit.length / movie_scale
            else:
                start = max(first, edit.media_time)
                length = min(last - start, round(edit.length * self.format.timescale / movie_scale) or last - start)
                break
        return delay, delay + length / self.format.timescale


@dataclass(frozen=True, slots=True)
class Defaults:
    """Duration in ticks, size in bytes and flags of samples that do not state their own."""

    duration: int = 0
    size: int = 0
    flags: int = 0


@dataclass(slots=True)
class Movie:
    """A whole file: timescale and duration in its ticks, the tracks, and how many others are of an unknown kind.

    defaults: by track, of one that goes on in fragments; None if it does not.
    """

    timescale: int
    duration: int
    tracks: list[TrackIndex]
    unknown: list[str] = field(default_factory=list)
    defaults: dict[int, Defaults] | None = None

    @property
    def seconds(self) -> float:
        """Duration as the movie header states it."""
        return self.duration / self.timescale if self.timescale else 0.0

    @property
    def end(self) -> float | None:
        """The second at which the last of its tracks ends; None without tracks."""
        return max((track.presented(self.timescale)[1] for track in self.tracks), default=None)


def reader_of(file: IO[bytes]) -> ReadAt:
    """What gives so many bytes of a file from a place on; fewer where it ends before, however far away that is."""

    size = file.seek(0, 2)

    def read(at: int, count: int) -> bytes:
        if not 0 <= at < size:
            return b""
        file.seek(at)
        return file.read(count)

    return read


def scan(read: ReadAt, size: int) -> list[Box]:
    """The boxes at the top of a file of `size` bytes. The last one may reach past the end: its `end` shows it."""
    listed: list[Box] = []
    at = 0
    while at < size:
        box = header(read(at, 16), at, size)
        listed.append(box)
        at = box.end
    if not listed or listed[0].kind not in ("ftyp", "styp", "moov", "mdat", "free", "skip", "wide"):
        raise Mp4Error("This is not an MP4 file", 0)
    return listed


PLAYED = frozenset({"vide", "soun"})  # handlers of tracks with pictures and sound (§8.4.3)


def parse_movie(data: bytes, base: int = 0, *, fragments: bool = False, handlers: frozenset[str] = PLAYED) -> Movie:
    """Read a `moov` box, header included, that begins at byte `base` of its file. fragments: it may go on in some.
    handlers: the kinds of tracks that are read."""
    top = header(data[:16], base, base + len(data))
    reader = _Reader(data, base, handlers)
    try:
        boxes = reader.tree(top)
        timescale, duration = reader.movie_header(boxes["mvhd"][0])
        if not timescale:
            raise Mp4Error("The film has a timescale of zero", boxes["mvhd"][0].start)
        movie = Movie(timescale, duration, [])
        if "mvex" in boxes:
            if not fragments:
                raise Mp4Error("This is the index of a fragmented MP4, whose samples stand elsewhere", base)
            movie.defaults = reader.defaults(boxes["mvex"][0])
        for trak in boxes.get("trak", []):
            reader.track(trak, movie)
    except (IndexError, KeyError, ValueError) as problem:
        raise Mp4Error(f"The index of the MP4 is incomplete or contradicts itself ({problem})", base) from problem
    return movie


class _Reader:
    def __init__(self, data: bytes, base: int, handlers: frozenset[str]) -> None:
        self.data = data
        self.base = base
        self.handlers = handlers

    def tree(self, parent: Box) -> dict[str, list[Box]]:
        """The direct children of a box, by kind."""
        listed: dict[str, list[Box]] = {}
        for box in children(self.data, self.base, parent.content, parent.end):
            listed.setdefault(box.kind, []).append(box)
        return listed

    def one(self, parent: Box, *path: str) -> Box:
        """The box at `path` below `parent`."""
        for kind in path:
            inside = self.tree(parent)
            if kind not in inside:
                raise Mp4Error(f"Box '{parent.kind}' has no '{kind}' inside", parent.start)
            parent = inside[kind][0]
        return parent

    def content(self, box: Box) -> bytes:
        return self.data[box.content - self.base : box.end - self.base]

    def number(self, box: Box, at: int, size: int) -> int:
        part = self.content(box)[at : at + size]
        if len(part) < size:
            raise Mp4Error(f"Box '{box.kind}' is too short", box.start)
        return int.from_bytes(part, "big")

    def movie_header(self, box: Box) -> tuple[int, int]:
        """Timescale and duration of an mvhd or mdhd."""
        if self.number(box, 0, 1):
            return self.number(box, 20, 4), self.number(box, 24, 8)
        return self.number(box, 12, 4), self.number(box, 16, 4)

    def table(self, box: Box, columns: int, width: str = ">u4", skip: int = 0) -> Ints:
        """The rows of a counted table as int64, shape (n, columns)."""
        count, content = self.number(box, 4 + skip, 4), self.content(box)[8 + skip :]
        size = count * columns * np.dtype(width).itemsize
        if size > len(content):
            raise Mp4Error(f"Box '{box.kind}' promises {count:,} entries and is too short for them", box.start)
        return np.frombuffer(content[:size], width).astype(np.int64).reshape(count, columns)

    def track(self, trak: Box, movie: Movie) -> None:
        media = self.one(trak, "mdia")
        handler = self.content(self.one(media, "hdlr"))
        kind = handler[8:12].decode("latin-1")
        if kind not in self.handlers:
            movie.unknown.append(kind)
            return
        head, media_head = self.one(trak, "tkhd"), self.one(media, "mdhd")
        number = self.number(head, 20 if self.number(head, 0, 1) else 12, 4)
        timescale, _ = self.movie_header(media_head)
        if not timescale:
            raise Mp4Error("A track has a timescale of zero", media_head.start)
        code = self.number(media_head, 32 if self.number(media_head, 0, 1) else 20, 2)
        language = "".join(chr(0x60 + (code >> shift & 31)) for shift in (10, 5, 0))
        if "elng" in (inside := self.tree(media)):
            language = self.content(inside["elng"][0])[4:].split(b"\0")[0].decode("utf-8", "replace") or language
        tables = self.tree(self.one(media, "minf", "stbl"))
        form = self.format(tables["stsd"][0], timescale, kind)
        sizes = self.sizes(tables)
        durations = self.spread(tables["stts"][0], len(sizes))
        dts = np.concatenate([[0], np.cumsum(durations)[:-1]]) if len(sizes) else durations
        pts = dts
        if "ctts" in tables:
            pts = dts + self.spread(tables["ctts"][0], len(sizes), ">i4")
        sync = np.ones(len(sizes), np.bool_)
        if "stss" in tables:
            sync[:] = False
            numbers = self.table(tables["stss"][0], 1)[:, 0]
            if len(numbers) and (numbers.min() < 1 or numbers.max() > len(sizes)):
                raise Mp4Error("The table of sync samples names samples that do not exist", tables["stss"][0].start)
            sync[numbers - 1] = True
        offsets = self.offsets(tables, sizes)
        edits = self.edits(trak)
        track = TrackIndex(number, form, sizes, offsets, dts, pts, durations, sync, edits, language)
        track.label = handler[24:].split(b"\0")[0].decode("utf-8", "replace")
        track.default = bool(self.number(head, 3, 1) & 1)
        movie.tracks.append(track)

    def sizes(self, tables: dict[str, list[Box]]) -> Ints:
        box = tables["stsz"][0]
        same, count = self.number(box, 4, 4), self.number(box, 8, 4)
        if same:
            if count > 1 << 28:
                raise Mp4Error(f"Box 'stsz' promises {count:,} samples", box.start)
            return np.full(count, same, np.int64)
        return self.table(box, 1, skip=4)[:, 0]

    def spread(self, box: Box, count: int, width: str = ">u4") -> Ints:
        """A table of runs, a row a sample."""
        runs = self.table(box, 2)
        if int(runs[:, 0].sum()) != count:
            raise Mp4Error(f"Box '{box.kind}' describes {int(runs[:, 0].sum()):,} samples, not {count:,}", box.start)
        values = runs[:, 1].astype(">u4").view(width).astype(np.int64) if width != ">u4" else runs[:, 1]
        return np.repeat(values, runs[:, 0])

    def offsets(self, tables: dict[str, list[Box]], sizes: Ints) -> Ints:
        """Where each sample begins: chunk by chunk (§8.7.4, §8.7.5)."""
        wide = "co64" in tables
        box = tables["co64" if wide else "stco"][0]
        chunks = self.table(box, 1, ">u8" if wide else ">u4")[:, 0]
        runs = self.table(tables["stsc"][0], 3)
        if not len(sizes):
            return sizes
        first = runs[:, 0] - 1
        if not len(runs) or first[0] != 0 or (np.diff(first) <= 0).any() or first[-1] >= len(chunks):
            raise Mp4Error("The table of chunks contradicts itself", tables["stsc"][0].start)
        per_chunk = np.repeat(runs[:, 1], np.diff(np.append(first, len(chunks))))
        if int(per_chunk.sum()) != len(sizes):
            raise Mp4Error(
                f"The chunks hold {int(per_chunk.sum()):,} samples, the index lists {len(sizes):,}", box.start
            )
        before = np.concatenate([[0], np.cumsum(sizes)[:-1]])
        first_of_chunk = np.cumsum(per_chunk) - per_chunk
        filled = per_chunk > 0
        start = np.repeat(chunks[filled] - before[first_of_chunk[filled]], per_chunk[filled])
        places: Ints = start + before
        return places

    def edits(self, trak: Box) -> list[Edit]:
        inside = self.tree(trak)
        if "edts" not in inside or "elst" not in (edts := self.tree(inside["edts"][0])):
            return []
        box = edts["elst"][0]
        size = 8 if self.number(box, 0, 1) else 4
        listed = []
        for row in range(self.number(box, 4, 4)):
            at = 8 + row * (2 * size + 4)
            time = self.number(box, at + size, size)
            listed.append(Edit(self.number(box, at, size), time - (1 << 8 * size) if time >> (8 * size - 1) else time))
        return listed

    def format(self, stsd: Box, timescale: int, handler: str) -> Format:
        """The first sample description of a track. Raises Refused if any of them is of protected samples."""
        entries = list(children(self.data, self.base, stsd.content + 8, stsd.end))
        if not entries:
            raise Mp4Error("A track describes no format", stsd.start)
        for entry in entries[1:]:
            insist_on_clear(entry.kind)
        return read_entry(self.data[entries[0].start - self.base : entries[0].end - self.base], timescale, handler)

    def defaults(self, extends: Box) -> dict[int, "Defaults"]:
        """What holds for samples of fragments where they do not say otherwise (§8.8.3), by track."""
        listed = {}
        for trex in self.tree(extends).get("trex", []):
            number, _, duration, size, flags = (self.number(trex, 4 + 4 * at, 4) for at in range(5))
            listed[number] = Defaults(duration, size, flags)
        return listed
