"""AVI: the chunks of picture and sound as the tracks of a film (Multimedia Programming Interface and Data Specification
1.0, RIFF; and its OpenDML extensions 1.02, for files of more than a gigabyte).

Pictures last as long as their header says, one after the other; one without bytes shows the one before once more. The
chunks themselves are walked; what the indexes say is compared with them. Sans-I/O: a callable is asked for bytes.
"""

from array import array

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.errors import FormatError
from mudlark.media.codecs import IN_PIECES, codec_of
from mudlark.media.movie import CutOff, Movie, ReadAt, TrackIndex, Windowed, growing
from mudlark.media.samples import Format, Ints
from mudlark.media.sound.aac import read_config

_RIFF, _LIST = b"RIFF", b"LIST"
_LARGEST_HEADER = 1 << 24
_MOST_STREAMS = 100
_PADDING = frozenset({b"JUNK", b"PAD ", b"junk"})
_KNOWN = frozenset({b"ISFT", b"IDIT", b"IARL", b"vprp", b"strn", b"strd", b"INAM", b"ICMT", b"ICRD", b"IART", b"DISP"})
_DATA = frozenset({b"dc", b"db", b"wb", b"tx", b"sb", b"pc"})
_PICTURES = {
    **dict.fromkeys((b"H264", b"X264", b"AVC1", b"DAVC"), "avc1"),
    **dict.fromkeys((b"HEVC", b"H265", b"HVC1"), "hvc1"),
    **dict.fromkeys((b"MJPG", b"DMB1", b"IJPG"), "jpeg"),
    **dict.fromkeys((b"XVID", b"DIVX", b"DX50", b"FMP4", b"MP4V", b"3IV2", b"M4S2"), "mp4v.20"),
    **dict.fromkeys((b"MPG1", b"MPG2", b"MPEG"), "m2v1"),
    **dict.fromkeys((bytes(4), b"DIB ", b"RGB ", b"YUY2", b"UYVY", b"I420", b"YV12"), "raw "),
    b"VP80": "vp08",
    b"VP90": "vp09",
    b"AV01": "av01",
}
_SOUNDS = {
    0x01: "lpcm",
    0x03: "fpcm",
    0x06: "alaw",
    0x07: "ulaw",
    0x50: "mp3",
    0x55: "mp3",
    0xFF: "mp4a.40",
    0x2000: "ac-3",
}
_EXTENSIBLE = 0xFFFE  # what it is stands in a GUID, whose first two bytes are the same number


class AviStream(msgspec.Struct):
    """A stream as its header has it, and its chunks. length: units that it states. unit: bytes of one, 0 where a chunk
    is one. offsets, sizes: bytes of each chunk."""

    type: str
    format: Format
    scale: int
    rate: int
    length: int
    unit: int
    offsets: "array[int]" = msgspec.field(default_factory=growing)
    sizes: "array[int]" = msgspec.field(default_factory=growing)


class AviMovie(Movie):
    """A film with what an AVI says of itself. streams: by number. padding: bytes. index: of idx1, as rows of stream,
    place and size, None without one; base: the byte from which its places may count. behind: where the last RIFF
    ends."""

    streams: list[AviStream] = msgspec.field(default_factory=list)
    padding: int = 0
    index: Ints | None = None
    base: int = 0
    behind: int = 0


class _Reader:
    """Goes through the chunks of a file. `read_avi` is its entrance."""

    def __init__(self, read: ReadAt, size: int) -> None:
        self._read, self._size = read, size
        self._bytes = Windowed(read)
        self.movie = AviMovie(0.0, [])

    def run(self) -> AviMovie:
        at = 0
        while at + 12 <= self._size and self._bytes(at, 4) == _RIFF:
            end = self._end_of(at, self._size)
            kind = self._bytes(at + 8, 4)
            if kind not in ((b"AVI ",) if not at else (b"AVIX",)):
                raise FormatError("This is no AVI file", at)
            self._inside(at + 12, end)
            at = end + (end & 1)
        self.movie.behind = min(at, self._size)
        if not self.movie.streams:
            raise FormatError("This AVI describes no stream", 0)
        self.movie.tracks = [
            _index(number, stream)
            for number, stream in enumerate(self.movie.streams, start=1)
            if stream.type in ("video", "audio") and len(stream.sizes)
        ]
        return self.movie

    def _end_of(self, at: int, limit: int) -> int:
        size = int.from_bytes(self._bytes(at + 4, 4), "little")
        end = at + 8 + size
        if end > limit:
            raise CutOff(f"A part of this AVI reaches {end - limit:,} bytes past what is around it", at)
        return end

    def _inside(self, at: int, end: int) -> None:
        """The chunks of a RIFF or of a list, lists in lists."""
        pending = [(at, end)]
        while pending:
            at, end = pending.pop()
            while at + 8 <= end:
                kind = self._bytes(at, 4)
                stop = self._end_of(at, end)
                if kind == _LIST:
                    name = self._bytes(at + 8, 4)
                    if name == b"movi" and not self.movie.base:
                        self.movie.base = at + 8
                    pending.append((stop + (stop & 1), end))
                    at, end = at + 12, stop
                    continue
                self._chunk(kind, at, stop)
                at = stop + (stop & 1)

    def _chunk(self, kind: bytes, at: int, end: int) -> None:
        movie = self.movie
        if kind[2:] in _DATA and kind[:2].isdigit():
            number = int(kind[:2])
            if number < len(movie.streams):
                movie.streams[number].offsets.append(at + 8)
                movie.streams[number].sizes.append(end - at - 8)
            else:
                movie.unread.note(at, end)
        elif kind == b"avih":
            fields = np.frombuffer(self._bytes(at + 8, 20).ljust(20, b"\0"), "<u4")
            movie.stated = int(fields[0]) * int(fields[4]) / 1e6
        elif kind == b"dmlh" and movie.streams:
            frames, first = int.from_bytes(self._bytes(at + 8, 4), "little"), movie.streams[0]
            movie.stated = frames * first.scale / first.rate
        elif kind == b"strh":
            if len(movie.streams) >= _MOST_STREAMS:
                raise FormatError("This AVI has more streams than are read", at)
            movie.streams.append(_stream(self._bytes(at + 8, min(end - at - 8, 64))))
        elif kind == b"strf" and movie.streams:
            if end - at > _LARGEST_HEADER:
                raise FormatError("A header of this AVI is larger than any can be", at)
            _describe(movie.streams[-1], self._bytes(at + 8, end - at - 8))
        elif kind == b"idx1":
            movie.index = _entries(self._read(at + 8, end - at - 8))
        elif kind in _PADDING:
            movie.padding += end - at
        elif not (kind in _KNOWN or kind == b"indx" or b"ix" in (kind[:2], kind[2:])):
            movie.unread.note(at, end)


def read_avi(read: ReadAt, size: int) -> AviMovie:
    """The tracks of a file of `size` bytes. Raises FormatError where its chunks do not fit into each other."""
    return _Reader(read, size).run()


def _entries(data: bytes) -> Ints:
    """The rows of idx1: stream, place and size of each chunk that is no list."""
    rows = np.frombuffer(data[: len(data) // 16 * 16], "<u4").reshape(-1, 4).astype(np.int64)
    names = rows[:, 0]
    stream = (names & 0xFF) * 10 + (names >> 8 & 0xFF) - 11 * ord("0")
    listed = np.stack([stream, rows[:, 2], rows[:, 3]], axis=1)
    return listed[(stream >= 0) & (stream < 100)]


def _stream(data: bytes) -> AviStream:
    """A stream header (AVISTREAMHEADER)."""
    fields = np.frombuffer(data[:48].ljust(48, b"\0"), "<u4")
    kind = {b"vids": "video", b"auds": "audio"}.get(data[:4], "text")
    scale, rate = max(1, int(fields[5])), max(1, int(fields[6]))
    codec = _PICTURES.get(data[4:8].upper(), "") if kind == "video" else ""
    format = Format("video" if kind == "video" else "audio", codec, rate, b"")
    return AviStream(kind, format, scale, rate, int(fields[8]), int(fields[11]))


def _describe(stream: AviStream, data: bytes) -> None:
    """What is coded: BITMAPINFOHEADER or WAVEFORMATEX."""
    if stream.type == "video" and len(data) >= 40:
        width, height = (abs(int(value)) for value in np.frombuffer(data[4:12], "<i4"))
        name = data[16:20]
        codec = _PICTURES.get(name.upper()) or stream.format.codec or name.decode("ascii", "replace")
        config = data[40:] if codec in ("avc1", "hvc1") and data[40:41] == b"\1" else b""
        stream.format = replace(stream.format, codec=codec, width=width, height=height, config=config)
        if codec == "raw " and stream.unit:
            stream.unit = 0
    elif stream.type == "audio" and len(data) >= 14:
        tag, channels = int.from_bytes(data[:2], "little"), int.from_bytes(data[2:4], "little")
        rate = int.from_bytes(data[4:8], "little")
        config = data[18 : 18 + int.from_bytes(data[16:18], "little")]
        if tag == _EXTENSIBLE and len(config) >= 8:
            tag = int.from_bytes(config[6:8], "little")
        codec = _SOUNDS.get(tag, f"sound {tag:#06x} of AVI")
        known = codec_of(codec)
        if known and (stream.unit or known.words != "AAC"):
            codec = IN_PIECES.format(known.words)
        elif known and config:
            try:
                said = read_config(config)
                rate, channels, codec = said.rate, said.channels, f"mp4a.40.{said.object}"
            except FormatError:
                config = b""
        stream.format = replace(
            stream.format, codec=codec, channels=channels, sample_rate=rate, config=config if known else b""
        )


def _index(number: int, stream: AviStream) -> TrackIndex:
    """Chunks as samples. Pictures without bytes are none: the one before them lasts longer."""
    sizes, offsets = np.array(stream.sizes, np.int64), np.array(stream.offsets, np.int64)
    lasts = sizes // stream.unit if stream.unit else np.ones(len(sizes), np.int64)
    begins = np.append(0, np.cumsum(lasts)) * stream.scale
    kept = sizes > 0
    dts = begins[:-1][kept]
    durations = np.diff(np.append(dts, begins[-1]))
    count = int(kept.sum())
    sync = np.ones(count, np.bool_) if stream.type == "audio" else np.arange(count) == 0
    return TrackIndex(
        number,
        (stream.format,),
        sizes[kept],
        offsets[kept],
        dts,
        dts.copy(),
        durations,
        sync,
        np.zeros(count, np.int64),
    )
