"""The index of an MP4 as a tree of boxes, and what its headers alone say: enough for a list, and without arrays.

Follows ISO/IEC 14496-12 §8.2 to §8.5.
"""

import msgspec

from mudlark.errors import Refused
from mudlark.media.mp4.boxes import Box, Mp4Error, children, header

_PROTECTED = ("encv", "enca", "enct", "encs")


def insist_on_clear(kind: str) -> None:
    """Raises Refused for a sample entry of protected samples (ISO/IEC 14496-12 §8.12), wherever they begin."""
    if kind in _PROTECTED:
        raise Refused("The file is protected (common encryption); without its keys it cannot be read.")


class BoxTree:
    """Boxes, and the numbers in them. data: begins at byte `base` of its file."""

    def __init__(self, data: bytes, base: int) -> None:
        self.data = data
        self.base = base

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
        """What is in a box."""
        return self.data[box.content - self.base : box.end - self.base]

    def number(self, box: Box, at: int, size: int) -> int:
        """The unsigned number of `size` bytes, `at` bytes into a box."""
        begin = box.content - self.base + at
        part = self.data[begin : min(begin + size, box.end - self.base)]
        if len(part) < size:
            raise Mp4Error(f"Box '{box.kind}' is too short", box.start)
        return int.from_bytes(part, "big")

    def movie_header(self, box: Box) -> tuple[int, int]:
        """Timescale and duration of an mvhd or mdhd; 0 where it could not be determined (§8.2.2.3)."""
        if self.number(box, 0, 1) > 1:
            raise Mp4Error(f"Box '{box.kind}' is of a version that is not known", box.start)
        at, width = (20, 8) if self.number(box, 0, 1) else (12, 4)
        duration = self.number(box, at + 4, width)
        return self.number(box, at, 4), 0 if duration == (1 << 8 * width) - 1 else duration

    def handler(self, media: Box) -> str:
        """What kind of track it is (§8.4.3): vide, soun, and others."""
        return self.content(self.one(media, "hdlr"))[8:12].decode("latin-1")

    def entries(self, stsd: Box) -> list[Box]:
        """The sample entries of a track. Raises Refused if any of them is of protected samples."""
        entries = list(children(self.data, self.base, stsd.content + 8, stsd.end))
        if not entries:
            raise Mp4Error("A track describes no format", stsd.start)
        self.insist_on_count(stsd, entries)
        for entry in entries:
            insist_on_clear(entry.kind)
        return entries

    def insist_on_count(self, box: Box, entries: list[Box]) -> None:
        """A box holds as many others as it states (§8.5.2, §8.7.2)."""
        if (count := self.number(box, 4, 4)) != len(entries):
            raise Mp4Error(f"Box '{box.kind}' promises {count:,} entries and has {len(entries):,}", box.start)

    def insist_on_own_media(self, dref: Box) -> None:
        """The media stand in the file itself (§8.7.2): a reference has the flag for that, or leads nowhere else."""
        entries = list(children(self.data, self.base, dref.content + 8, dref.end))
        self.insist_on_count(dref, entries)
        for entry in entries:
            if not self.number(entry, 3, 1) & 1 and self.content(entry)[4:].strip(b"\0"):
                raise Mp4Error("The media of a track stand in another file, which it refers to", entry.start)


class Sketch(msgspec.Struct, frozen=True):
    """What the headers of a film say. duration: seconds, 0 if they do not say. size: of its first picture, in pixels,
    None of sound alone."""

    duration: float
    size: tuple[int, int] | None


def sketch(index: bytes, base: int = 0) -> Sketch:
    """What a `moov` box, header included, says of a film that is whole. Raises Mp4Error if it does not, Refused where
    samples are protected."""
    reader = BoxTree(index, base)
    boxes = reader.tree(header(index[:16], base, base + len(index)))
    if "mvhd" not in boxes or "mvex" in boxes:
        raise Mp4Error("This is no index of a whole MP4", base)
    timescale, duration = reader.movie_header(boxes["mvhd"][0])
    if not timescale:
        raise Mp4Error("The film has a timescale of zero", base)
    size = None
    for track in boxes.get("trak", []):
        media = reader.one(track, "mdia")
        entry = reader.entries(reader.one(media, "minf", "stbl", "stsd"))[0]
        if reader.handler(media) == "vide" and size is None:  # width and height (§12.1.3.2)
            size = reader.number(entry, 24, 2), reader.number(entry, 26, 2)
    return Sketch(duration / timescale, size)
