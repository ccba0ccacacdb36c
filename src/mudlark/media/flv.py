"""FLV: the tags of picture and sound as the tracks of a film (Video File Format Specification 10.1, Annex E; and its
enhanced form, in which codecs have names of four letters).

A file that was recorded over a break holds several streams, one behind the other; what is torn between them is passed
over and said. Sans-I/O: a callable is asked for bytes.
"""

from array import array

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.errors import FormatError
from mudlark.media.codecs import codec_of
from mudlark.media.movie import CutOff, Movie, ReadAt, TrackIndex, Unread, Windowed, growing
from mudlark.media.picture.avc import AVC
from mudlark.media.picture.hevc import HEVC
from mudlark.media.picture.inband import parameter_sets
from mudlark.media.picture.nal import Dialect
from mudlark.media.samples import Format
from mudlark.media.sound.aac import read_config

_SIGN = b"FLV"
_HEADER, _TAG = 9, 11  # bytes
_AUDIO, _VIDEO, _SCRIPT = 8, 9, 18
_WINDOW = 4 << 20
_LARGEST_TAG = 1 << 24
_CLOCK = 1000  # ticks a second
_KEY = (1, 4)  # kinds of pictures at which decoding may begin
_MOST_FORMATS = 1_000
_EXTENDED_SOUND = 9
_PICTURES = {2: "Sorenson H.263", 3: "Screen Video", 4: "VP6", 5: "VP6 with transparency", 6: "Screen Video 2"}
_SOUNDS = {0: "PCM", 1: "ADPCM", 3: "PCM", 4: "Nellymoser", 5: "Nellymoser", 6: "Nellymoser", 11: "Speex"}
_LAWS = {7: "alaw", 8: "ulaw"}
_BY_FOURCC = {
    b"avc1": "avc1",
    b"hvc1": "hvc1",
    b"av01": "av01",
    b"vp09": "vp09",
    b"vp08": "vp08",
    b"mp4a": "mp4a.40",
    b".mp3": "mp3",
    b"Opus": "opus",
    b"fLaC": "flac",
    b"ac-3": "ac-3",
    b"ec-3": "ec-3",
}
_WITH_OFFSET = frozenset({"avc1", "hvc1"})  # whose pictures are shown at another time than they are decoded
_BEGIN, _FRAMES, _END, _FRAMES_AT_ONCE = 0, 1, 2, 3  # kinds of packets


class FlvMovie(Movie):
    """A film with what an FLV says of itself. size: bytes that it states, 0 if it does not. torn: bytes that lie
    between streams of which one broke off."""

    size: int = 0
    torn: Unread = msgspec.field(default_factory=Unread)


class _Track(msgspec.Struct):
    """The samples of one track as they are met; times in milliseconds."""

    type: str
    formats: list[Format] = msgspec.field(default_factory=list)
    configs: dict[bytes, int] = msgspec.field(default_factory=dict)
    current: int = 0
    sizes: "array[int]" = msgspec.field(default_factory=growing)
    offsets: "array[int]" = msgspec.field(default_factory=growing)
    dts: "array[int]" = msgspec.field(default_factory=growing)
    pts: "array[int]" = msgspec.field(default_factory=growing)
    described: "array[int]" = msgspec.field(default_factory=growing)
    sync: bytearray = msgspec.field(default_factory=bytearray)

    def describe(self, key: bytes, format: Format) -> None:
        """What comes from now on is of this format."""
        if key not in self.configs:
            if len(self.formats) >= _MOST_FORMATS:
                raise FormatError("An FLV describes its samples anew too often")
            self.configs[key] = len(self.formats)
            self.formats.append(format)
        self.current = self.configs[key]

    def add(self, place: int, size: int, dts: int, shift: int, *, sync: bool) -> None:
        """One sample."""
        for listed, value in (
            (self.sizes, size),
            (self.offsets, place),
            (self.dts, dts),
            (self.pts, dts + shift),
            (self.described, self.current),
        ):
            listed.append(value)
        self.sync.append(sync)


class _Reader:
    """Goes through the tags of a file. `read_flv` is its entrance."""

    def __init__(self, read: ReadAt, size: int) -> None:
        self._read, self._size = read, size
        self._bytes = Windowed(read)
        self._tracks = {_VIDEO: _Track("video"), _AUDIO: _Track("audio")}
        self._shift: int | None = None  # milliseconds from the clock of a stream to that of the film
        self._last = 0  # milliseconds at which the last frame is decoded
        self.movie = FlvMovie(0.0, [])

    def run(self, *, torn: bool) -> FlvMovie:
        """torn: the file was recorded, and may break off and begin anew anywhere."""
        at = self._opening(0)
        while at < self._size:
            if at and self._bytes(at, 3) == _SIGN:
                self._shift = None
                at = self._opening(at)
                continue
            behind = self._tag(at)
            if behind is None and torn and (rest := self._torn_tag(at)):
                behind = rest
                self.movie.torn.note(at, behind)
            elif behind is None:
                raise self._no_tag(at)
            at = behind
        self.movie.tracks = [_index(track) for track in self._tracks.values() if track.sizes]
        return self.movie

    def _opening(self, at: int) -> int:
        head = self._bytes(at, _HEADER)
        length = int.from_bytes(head[5:9], "big")
        if head[:3] != _SIGN or len(head) < _HEADER or not _HEADER <= length <= _HEADER + 64:
            raise FormatError("This is no FLV file", at)
        return at + length + 4

    def _no_tag(self, at: int) -> FormatError:
        """Words for what stands where a tag should."""
        head = self._bytes(at, _TAG)
        if len(head) < _TAG or at + _TAG + int.from_bytes(head[1:4], "big") + 4 > self._size:
            return CutOff("A tag of this FLV is cut off", at)
        return FormatError("Here no tag of an FLV begins", at)

    def _torn_tag(self, at: int) -> int | None:
        """Where the stream begins that follows a tag that broke off, or where the file ends; None if there is no such
        tag, or if more stands there than it could hold."""
        head = self._bytes(at, _TAG)
        following = self._next_stream(at)
        whole = _TAG + int.from_bytes(head[1:4], "big") + 4
        is_tag = not head or head[0] in (_AUDIO, _VIDEO, _SCRIPT)
        return following if is_tag and (len(head) < _TAG or following - at < whole) else None

    def _next_stream(self, at: int) -> int:
        """Where the next stream begins; the end of the file if none does."""
        at += 1
        while at < self._size:
            data = self._read(at, _WINDOW)
            found = data.find(_SIGN + b"\1")
            if found >= 0:
                return at + found
            at += max(1, len(data) - 4)
        return self._size

    def _tag(self, at: int) -> int | None:
        """Note what a tag holds, and give the byte behind it; None if there is none, or not all of it."""
        head = self._bytes(at, _TAG)
        size = int.from_bytes(head[1:4], "big")
        end = at + _TAG + size
        if len(head) < _TAG or head[0] & 0xC0 or head[8:11] != b"\0\0\0" or end + 4 > self._size:
            return None
        kind, behind = head[0] & 0x1F, int.from_bytes(self._bytes(end, 4), "big")
        unstated = behind == 0 and size > 0 and kind in (_AUDIO, _VIDEO, _SCRIPT)  # as some writers have it
        if behind != size + _TAG and not unstated:
            return None
        time = int.from_bytes(head[7:8] + head[4:7], "big")
        opening = self._bytes(at + _TAG, min(size, 64))
        if head[0] & 0x20:
            raise FormatError("The tags of this FLV are encrypted", at)
        if kind == _SCRIPT:
            if at < _WINDOW:
                self._note_facts(self._bytes(at + _TAG, min(size, 1 << 16)))
        elif kind in self._tracks and size:
            packet = (_picture if kind == _VIDEO else _sound)(opening)
            self._take(self._tracks[kind], packet, at + _TAG, size, time)
        elif kind not in self._tracks:
            self.movie.unread.note(at, end + 4)
        return end + 4

    def _take(self, track: _Track, packet: "_Packet", place: int, size: int, time: int) -> None:
        """Note a packet. A live stream begins at any time; one behind another goes on where that ended."""
        if packet.kind == _BEGIN:
            config = self._bytes(place + packet.head, min(size - packet.head, 1 << 16))
            track.describe(config + packet.codec.encode(), _described(track.type, packet.codec, config))
        elif packet.kind in (_FRAMES, _FRAMES_AT_ONCE) and size > packet.head:
            if not packet.configured:
                frame = self._bytes(place + packet.head, min(size - packet.head, 64))
                track.describe(packet.key, _completed(_described(track.type, packet.codec, b""), frame))
            elif not track.formats:
                track.describe(b"", _described(track.type, packet.codec, b""))
            if self._shift is None:
                self._shift = self._last - time
            self._last = max(self._last, time + self._shift)
            track.add(place + packet.head, size - packet.head, time + self._shift, packet.shift, sync=packet.sync)

    def _note_facts(self, data: bytes) -> None:
        """The numbers in the description of a file (onMetaData, §E.5): a name, its type 0, and eight bytes."""
        for name in (b"duration", b"filesize"):
            place = data.find(len(name).to_bytes(2, "big") + name + b"\0")
            value = data[place + len(name) + 3 : place + len(name) + 11] if place >= 0 else b""
            number = float(np.frombuffer(value, ">f8")[0]) if len(value) == 8 else 0.0
            if not 0 < number < 1e15:
                continue
            if name == b"duration":
                self.movie.stated = self.movie.stated or number
            else:
                self.movie.size = self.movie.size or int(number)


def read_flv(read: ReadAt, size: int, *, torn: bool = False) -> FlvMovie:
    """The tracks of a file of `size` bytes. torn: it was recorded, and may break off and begin anew. Raises FormatError
    where a tag is damaged or cut off."""
    return _Reader(read, size).run(torn=torn)


class _Packet(msgspec.Struct, frozen=True):
    """What a tag holds. head: bytes before the coded ones. configured: what describes it came before; if not, key tells
    it from others. shift: milliseconds from decoding to showing."""

    codec: str
    kind: int
    head: int
    configured: bool = True
    key: bytes = b""
    shift: int = 0
    sync: bool = True


def _picture(data: bytes) -> _Packet:
    """§E.4.3.1, and its enhanced form."""
    sync = (data[0] >> 4 & 7) in _KEY
    if data[0] & 0x80:
        codec = _BY_FOURCC.get(data[1:5], data[1:5].decode("ascii", "replace"))
        kind = data[0] & 15
        timed = kind == _FRAMES and codec in _WITH_OFFSET
        return _Packet(codec, kind, 8 if timed else 5, shift=_signed(data[5:8]) if timed else 0, sync=sync)
    number = data[0] & 15
    if number in (7, 12):
        codec = "avc1" if number == 7 else "hvc1"
        return _Packet(codec, data[1] if len(data) > 1 else _END, 5, shift=_signed(data[2:5]), sync=sync)
    return _Packet(_PICTURES.get(number, f"picture {number} of FLV"), _FRAMES, 1, False, bytes([number]), sync=sync)


def _sound(data: bytes) -> _Packet:
    """§E.4.2.1, and its enhanced form."""
    number = data[0] >> 4
    if number == _EXTENDED_SOUND:
        codec = _BY_FOURCC.get(data[1:5], data[1:5].decode("ascii", "replace"))
        alone = codec in ("mp3", "ac-3", "ec-3")
        return _Packet(codec, data[0] & 15, 5, not alone, data[1:5])
    if number == 10:
        return _Packet("mp4a.40", data[1] if len(data) > 1 else _END, 2)
    if number in (2, 14):
        return _Packet("mp3", _FRAMES, 1, False, b"mp3")
    codec = _LAWS.get(number) or _SOUNDS.get(number, f"sound {number} of FLV")
    return _Packet(codec, _FRAMES, 1, False, data[:1])


def _signed(data: bytes) -> int:
    return int.from_bytes(data, "big", signed=True)


def _described(type: str, codec: str, config: bytes) -> Format:
    """The format that a configuration describes, as Matroska would have it in CodecPrivate."""
    format = Format("video" if type == "video" else "audio", codec, _CLOCK, b"")
    known = codec_of(codec)
    if known is None or not config:
        return format
    format = known.private.read(format, config)
    if known.words in ("H.264", "HEVC"):
        return _with_size(format, AVC if known.words == "H.264" else HEVC)
    if known.words == "AAC":
        return _with_sound(format, config)
    return replace(format, timescale=_CLOCK)


def _completed(format: Format, frame: bytes) -> Format:
    """A format with what only its first frame tells."""
    known = codec_of(format.codec)
    if known is None:
        return format
    try:
        return replace(known.private.complete(format, b"", frame), timescale=_CLOCK, sample_duration=0)
    except FormatError:
        return format


def _with_size(format: Format, dialect: Dialect) -> Format:
    """The size of the picture is in its parameter sets."""
    packed, units, at = parameter_sets(format.codec, format.config), list[bytes](), 0
    while at + 5 <= len(packed):
        size = int.from_bytes(packed[at : at + 4], "big")
        units.append(packed[at + 4 : at + 4 + size])
        at += 4 + size
    sets = [unit for unit in units if unit and dialect.kinds[unit[0]] in dialect.sets]
    try:
        seen = dialect.picture(sets)
    except (FormatError, StopIteration, IndexError):
        return format
    return replace(format, width=seen.width, height=seen.height, pixel_aspect=seen.pixel_aspect)


def _with_sound(format: Format, config: bytes) -> Format:
    try:
        said = read_config(config)
    except FormatError:
        return replace(format, timescale=_CLOCK, sample_duration=0)
    return replace(format, timescale=_CLOCK, sample_duration=0, sample_rate=said.rate, channels=said.channels)


def _index(track: _Track) -> TrackIndex:
    dts, pts = np.array(track.dts, np.int64), np.array(track.pts, np.int64)
    steps = np.diff(dts)
    usual = int(np.median(steps)) if len(steps) else 0
    return TrackIndex(
        1 if track.type == "video" else 2,
        tuple(track.formats),
        np.array(track.sizes, np.int64),
        np.array(track.offsets, np.int64),
        dts,
        pts,
        np.append(np.maximum(steps, 0), usual),
        np.frombuffer(bytes(track.sync), np.bool_),
        np.array(track.described, np.int64),
        int(pts.min()),
    )
