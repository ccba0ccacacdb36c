"""Reading the index of a progressive MP4: its tracks, and where, when and how large each sample is.

Follows ISO/IEC 14496-12 §8. Sans-I/O: `scan` asks a callable for bytes, everything else works on the `moov` box alone.
Raises Mp4Error (with the byte offset) on what contradicts itself; whether samples are where the index says is the
business of verification.
"""

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.media.movie import Edit, Movie, ReadAt, TrackIndex
from mudlark.media.mp4.boxes import Box, Mp4Error, header
from mudlark.media.mp4.entries import read_entry
from mudlark.media.mp4.headers import UPRIGHT, is_odd
from mudlark.media.mp4.tree import BoxTree
from mudlark.media.samples import Format, Ints

LARGEST_INDEX = 1 << 30


class Defaults(msgspec.Struct, frozen=True):
    """Duration in ticks, size in bytes, flags, and number of the format (from 0) of samples that do not state their
    own."""

    duration: int = 0
    size: int = 0
    flags: int = 0
    described: int = 0


class IndexedMovie(Movie):
    """A movie as its `moov` box describes it. timescale: ticks a second of its header.

    defaults: by track, of one that goes on in fragments; None if it does not. fragments_last: ticks that it is said to
    last with all its fragments (mehd, §8.8.2), 0 if that is not said. is_bent: its matrices show no picture as it is.
    """

    timescale: int = 0
    defaults: dict[int, Defaults] | None = None
    fragments_last: int = 0
    is_bent: bool = False


# boxes that a file may begin with, old QuickTime's preview and the private ones of some writers among them
_FIRST = frozenset({"ftyp", "styp", "moov", "mdat", "free", "skip", "wide", "pnot", "uuid", "udta"})


def scan(read: ReadAt, size: int) -> list[Box]:
    """The boxes at the top of a file of `size` bytes. The last one may reach past the end: its `end` shows it."""
    listed: list[Box] = []
    at = 0
    while at < size:
        box = header(read(at, 16), at, size)
        listed.append(box)
        at = box.end
    if not listed or listed[0].kind not in _FIRST:
        raise Mp4Error("This is not an MP4 file", 0)
    return listed


PLAYED = frozenset({"vide", "soun"})  # handlers of tracks with pictures and sound (§8.4.3)


def parse_movie(
    data: bytes, base: int = 0, *, fragments: bool = False, handlers: frozenset[str] = PLAYED
) -> IndexedMovie:
    """Read a `moov` box, header included, that begins at byte `base` of its file. fragments: it may go on in some.
    handlers: the kinds of tracks that are wanted; the rest are among its others."""
    top = header(data[:16], base, base + len(data))
    reader = _Reader(data, base, handlers)
    try:
        boxes = reader.tree(top)
        timescale, duration = reader.movie_header(boxes["mvhd"][0])
        if not timescale:
            raise Mp4Error("The film has a timescale of zero", boxes["mvhd"][0].start)
        movie = IndexedMovie(duration / timescale, [], timescale=timescale)
        movie.is_bent = is_odd(reader.matrix(boxes["mvhd"][0], 28))
        if "mvex" in boxes:
            if not fragments:
                raise Mp4Error("This is the index of a fragmented MP4, whose samples stand elsewhere", base)
            movie.defaults, movie.fragments_last = reader.extension(boxes["mvex"][0])
        for trak in boxes.get("trak", []):
            reader.track(trak, movie)
    except (IndexError, KeyError, ValueError) as problem:
        raise Mp4Error(f"The index of the MP4 is incomplete or contradicts itself ({problem})", base) from problem
    return movie


def _running(values: Ints) -> Ints:
    """The sum of all before each of them."""
    sums = np.zeros(len(values), np.int64)
    np.cumsum(values[:-1], out=sums[1:])
    return sums


class _Reader(BoxTree):
    def __init__(self, data: bytes, base: int, handlers: frozenset[str]) -> None:
        super().__init__(data, base)
        self.handlers = handlers

    def table(self, box: Box, columns: int, width: str = ">u4", skip: int = 0) -> Ints:
        """The rows of a counted table as int64, shape (n, columns)."""
        count, begin = self.number(box, 4 + skip, 4), box.content + 8 + skip
        if count * columns * np.dtype(width).itemsize > min(box.end, self.base + len(self.data)) - begin:
            raise Mp4Error(f"Box '{box.kind}' promises {count:,} entries and is too short for them", box.start)
        there = np.frombuffer(self.data, width, count * columns, begin - self.base)
        return there.astype(np.int64).reshape(count, columns)

    def matrix(self, box: Box, behind: int) -> bytes:
        """How a movie or a track is shown; upright where that is not said. behind: bytes between it and the length of
        an mvhd (§8.2.2.2) or tkhd (§8.3.2.2)."""
        at = behind + (20 if self.number(box, 0, 1) else 8)
        matrix = self.content(box)[at : at + len(UPRIGHT)]
        return matrix if len(matrix) == len(UPRIGHT) else UPRIGHT

    def track(self, trak: Box, movie: IndexedMovie) -> None:
        media = self.one(trak, "mdia")
        handler = self.content(self.one(media, "hdlr"))
        kind = handler[8:12].decode("latin-1")
        head, media_head = self.one(trak, "tkhd"), self.one(media, "mdhd")
        number = self.number(head, 20 if self.number(head, 0, 1) else 12, 4)
        timescale, stated = self.movie_header(media_head)
        if not timescale:
            raise Mp4Error("A track has a timescale of zero", media_head.start)
        code = self.number(media_head, 32 if self.number(media_head, 0, 1) else 20, 2)
        language = "".join(chr(0x60 + (code >> shift & 31)) for shift in (10, 5, 0))
        language = language if language.isalpha() else "und"  # QuickTime has numbers there
        if "elng" in (inside := self.tree(media)):
            language = self.content(inside["elng"][0])[4:].split(b"\0")[0].decode("utf-8", "replace") or language
        tables = self.tree(self.one(media, "minf", "stbl"))
        for dinf in self.tree(self.one(media, "minf")).get("dinf", []):
            for dref in self.tree(dinf).get("dref", []):
                self.insist_on_own_media(dref)
        matrix = self.matrix(head, 32)
        turned = matrix if kind == "vide" and matrix != UPRIGHT else b""
        movie.is_bent |= bool(turned) and is_odd(turned)
        formats = tuple(replace(one, matrix=turned) for one in self.formats(tables["stsd"][0], timescale, kind))
        sizes = self.sizes(tables)
        durations = self.spread(tables["stts"][0], len(sizes))
        dts = _running(durations)
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
        offsets, described = self.places(tables, sizes, len(formats))
        delay, edits = self.edits(trak, timescale / movie.timescale)
        listed = movie.tracks if kind in self.handlers else movie.others
        listed.append(
            TrackIndex(
                number,
                formats,
                sizes,
                offsets,
                dts,
                pts,
                durations,
                sync,
                described,
                delay,
                edits,
                language,
                label=handler[24:].split(b"\0")[0].decode("utf-8", "replace"),
                default=bool(self.number(head, 3, 1) & 1),
                stated=stated,
            )
        )

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
        return np.broadcast_to(values[0], count) if len(runs) == 1 else np.repeat(values, runs[:, 0])

    def places(self, tables: dict[str, list[Box]], sizes: Ints, formats: int) -> tuple[Ints, Ints]:
        """Where each sample begins, and which format describes it: chunk by chunk (§8.7.4, §8.7.5)."""
        wide = "co64" in tables
        box = tables["co64" if wide else "stco"][0]
        chunks = self.table(box, 1, ">u8" if wide else ">u4")[:, 0]
        runs = self.table(tables["stsc"][0], 3)
        if not len(sizes):
            return sizes, sizes
        first = runs[:, 0] - 1
        if not len(runs) or first[0] != 0 or (np.diff(first) <= 0).any() or first[-1] >= len(chunks):
            raise Mp4Error("The table of chunks contradicts itself", tables["stsc"][0].start)
        if int(runs[:, 2].min()) < 1 or int(runs[:, 2].max()) > formats:
            raise Mp4Error(
                "The table of chunks names a sample description that does not exist", tables["stsc"][0].start
            )
        lasts = np.diff(np.append(first, len(chunks)))
        per_chunk = np.repeat(runs[:, 1], lasts)
        if int(per_chunk.sum()) != len(sizes):
            raise Mp4Error(
                f"The chunks hold {int(per_chunk.sum()):,} samples, the index lists {len(sizes):,}", box.start
            )
        before = _running(sizes)
        first_of_chunk = np.cumsum(per_chunk) - per_chunk
        filled = per_chunk > 0
        start = np.repeat(chunks[filled] - before[first_of_chunk[filled]], per_chunk[filled])
        places: Ints = np.add(start, before, out=before)
        if (runs[:, 2] == runs[0, 2]).all():
            return places, np.broadcast_to(runs[0, 2] - 1, len(sizes))
        return places, np.repeat(np.repeat(runs[:, 2] - 1, lasts), per_chunk)

    def edits(self, trak: Box, rate: float) -> tuple[int, tuple[Edit, ...]]:
        """The edit list (§8.6.6): ticks of the track before anything is presented, and what is, in turn. rate: ticks of
        the track to one of the movie. An edit of no length lasts until the media end (§8.6.6.1)."""
        inside = self.tree(trak)
        if "edts" not in inside or "elst" not in (edts := self.tree(inside["edts"][0])):
            return 0, ()
        box = edts["elst"][0]
        size = 8 if self.number(box, 0, 1) else 4
        delay, listed = 0, list[Edit]()
        for row in range(self.number(box, 4, 4)):
            at = 8 + row * (2 * size + 4)
            length, time = round(self.number(box, at, size) * rate), self.number(box, at + size, size)
            if time < 1 << (8 * size - 1):
                listed.append(Edit(time, length or None))
            elif listed:
                listed.append(Edit(None, length))
            else:
                delay += length
        return delay, tuple(listed)

    def formats(self, stsd: Box, timescale: int, handler: str) -> tuple[Format, ...]:
        """The sample descriptions of a track. Raises Refused if any of them is of protected samples."""
        return tuple(
            read_entry(self.data[entry.start - self.base : entry.end - self.base], timescale, handler)
            for entry in self.entries(stsd)
        )

    def extension(self, extends: Box) -> tuple[dict[int, "Defaults"], int]:
        """What holds for samples of fragments where they do not say otherwise (§8.8.3), by track; and the ticks that
        the movie lasts with all of them, 0 if that is not stated (§8.8.2)."""
        inside = self.tree(extends)
        listed = {}
        for trex in inside.get("trex", []):
            number, described, duration, size, flags = (self.number(trex, 4 + 4 * at, 4) for at in range(5))
            listed[number] = Defaults(duration, size, flags, max(0, described - 1))
        stated = [self.number(mehd, 4, 8 if self.number(mehd, 0, 1) else 4) for mehd in inside.get("mehd", [])]
        return listed, stated[0] if stated else 0
