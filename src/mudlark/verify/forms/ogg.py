"""Ogg (RFC 3533): every page has its check sum and comes after the one before it, and each stream ends as it should.

Streams may follow each other (a chain), or stand beside each other. Opus (RFC 7845), Vorbis, FLAC, Speex and Theora are
told by their first packet.
"""

import mmap
from pathlib import Path

import msgspec

from mudlark.media.crc import crc32_forward, mirrored
from mudlark.media.samples import Format
from mudlark.verify.account import Account
from mudlark.verify.forms.found import Found, at_second
from mudlark.verify.forms.ogg_heads import Heads

_PAGE = 27  # bytes of a page's header without its segment table
_BEGIN, _END = 2, 4
_MOST_TOLD = 5
_LATE = 10  # seconds from which a first page cannot hold all that is before it


class _Logical(msgspec.Struct):
    """A stream. rate: ticks a second. skip: ticks before the first that is heard. first: of its first page of sound.
    begin, end: ticks. next: the number that its next page should have. size, aspect: of its pictures and their pixels;
    frame: ticks of a picture, and shift: bits of a granule behind the number of the last picture that stands alone.
    heads: its first packets."""

    codec: str
    rate: int
    channels: int
    heads: Heads | None = None
    skip: int = 0
    first: int | None = None
    begin: int | None = None
    end: int = 0
    next: int = 0
    ended: bool = False
    size: tuple[int, int] = (0, 0)
    aspect: tuple[int, int] = (1, 1)
    frame: int = 0
    shift: int = 0

    def ticks(self, granule: int) -> int:
        """When what ends with a granule ends."""
        if not self.frame:
            return granule
        return ((granule >> self.shift) + (granule & (1 << self.shift) - 1)) * self.frame

    @property
    def format(self) -> Format:
        """What is known of it."""
        if self.codec == "theora":
            return Format("video", self.codec, self.rate or 1, b"", self.frame, *self.size, self.aspect)
        rate, channels = self.rate, self.channels
        if self.codec == "kate":
            return Format("text", self.codec, 1, b"")
        return Format("audio", self.codec, rate or 1, b"", channels=channels, sample_rate=rate)

    @property
    def seconds(self) -> float:
        return max(0, self.end - self.skip - (self.begin or 0)) / self.rate if self.rate else 0.0


class _Seen(msgspec.Struct):
    """What was seen so far. bytes: of pages, and of what was torn at the ends of a recording. endless: it is one."""

    endless: bool = False
    pages: int = 0
    bytes: int = 0
    logical: dict[int, _Logical] = msgspec.field(default_factory=dict)
    done: list[_Logical] = msgspec.field(default_factory=list)
    problems: list[tuple[str, str, int]] = msgspec.field(default_factory=list)

    @property
    def seconds(self) -> float:
        """How long the streams before the running ones last, and the longest of these."""
        return sum(one.seconds for one in self.done) + max((one.seconds for one in self.logical.values()), default=0.0)


def check_ogg(path: Path, account: Account, *, endless: bool = False) -> Found:
    """Look into an Ogg file. endless: it was cut out of what has no beginning and no end: it may be joined in the
    middle of pages, and leave off in the middle of them."""
    with path.open("rb") as file, mmap.mmap(file.fileno(), 0, access=mmap.ACCESS_READ) as data:
        seen = _walk(data, endless=endless)
    logical = [*seen.done, *seen.logical.values()]
    formats = [one.format for one in logical if one.codec != "skeleton"]  # which tells of the others
    if not logical:
        account.failed("content", "sound", "The Ogg file holds no stream", grave=True)
        return Found()
    if fault := next((words for one in logical if one.heads and (words := one.heads.fault())), ""):
        account.failed("content", "sound", f"Nothing can decode it: {fault}", grave=True)
    elif not endless and all(one.rate and not one.seconds for one in logical if one.codec != "skeleton"):
        account.failed("content", "empty", "The Ogg file holds no picture and no sound", grave=True)
    for code, text, at in seen.problems[:_MOST_TOLD]:
        account.failed("pages-of-ogg", code, text, offset=at)
    if len(seen.problems) > _MOST_TOLD:
        code = seen.problems[_MOST_TOLD][0]
        account.failed("pages-of-ogg", code, f"{len(seen.problems) - _MOST_TOLD:,} more such places")
    unended = [one for one in logical if not one.ended and not endless]
    if unended:
        text = f"The last page of the {unended[-1].codec} stream is missing; it ends at {at_second(seen.seconds)}"
        account.failed("ending", "cut-off", text, at=seen.seconds)
    if not seen.problems and not unended:
        names = ", ".join(dict.fromkeys(one.codec for one in logical))
        account.cover("content", seen.bytes)
        if endless:
            account.leave_open("an Ogg stream that was recorded")
        account.passed("frames", f"{seen.pages:,} pages of Ogg ({names}), each with its check sum, in their order")
    return Found(seen.seconds or None, formats)


def _walk(data: mmap.mmap, *, endless: bool) -> _Seen:
    seen, at, size = _Seen(endless), 0, len(data)
    while at < size:
        head = data[at : at + _PAGE]
        if head[:4] != b"OggS" or len(head) < _PAGE:
            following = data.find(b"OggS\0", at + 1)
            end = following if following >= 0 else size
            if endless and (not at or following < 0):
                seen.bytes += end - at
            else:
                text = f"{end - at:,} bytes at byte {at:,} ({at_second(seen.seconds)}) are no page"
                seen.problems.append(("cut-off" if following < 0 else "stray-bytes", text, at))
            at = end
            continue
        table = data[at + _PAGE : at + _PAGE + head[26]]
        length = _PAGE + head[26] + sum(table)
        if at + length > size:
            if endless:
                seen.bytes += size - at
            else:
                text = f"The page at byte {at:,} ({at_second(seen.seconds)}) is cut off"
                seen.problems.append(("cut-off", text, at))
            break
        page = data[at : at + length]
        if crc32_forward(page[:22], bytes(4), page[26:]) != mirrored(head[22:26]):
            text = f"The page at byte {at:,} ({at_second(seen.seconds)}) does not have its check sum"
            seen.problems.append(("check-sum", text, at))
        _take(seen, at, head, table, page[_PAGE + head[26] :])
        seen.pages += 1
        seen.bytes += length
        at += length
    return seen


def _take(seen: _Seen, at: int, head: bytes, table: bytes, body: bytes) -> None:
    serial, number = int.from_bytes(head[14:18], "little"), int.from_bytes(head[18:22], "little")
    granule = int.from_bytes(head[6:14], "little", signed=True)
    if head[5] & _BEGIN:
        # the next link of a chain; where it was recorded, a source that came back
        if seen.logical and (seen.endless or all(one.ended for one in seen.logical.values())):
            seen.done += seen.logical.values()
            seen.logical.clear()
        seen.logical[serial] = _logical(body)
        seen.logical[serial].heads = Heads(seen.logical[serial].codec)
    stream = seen.logical.get(serial)
    if stream is None:
        if not seen.endless:
            seen.problems.append(("gap", f"The page at byte {at:,} belongs to a stream that never began", at))
        stream = seen.logical[serial] = _Logical("unknown", 0, 0, next=number)
    joined = seen.endless and stream.first is None  # behind the headers the stream is where it was by then
    if number != stream.next and not joined:
        text = f"Pages are missing before byte {at:,} ({at_second(seen.seconds)})"
        seen.problems.append(("gap", text, at))
    stream.next = number + 1 & 0xFFFFFFFF
    if stream.heads and not stream.heads.complete:
        stream.heads.take(table, body)
    if granule > 0 and stream.rate:
        granule = stream.ticks(granule)
        if stream.first is None:
            stream.first = granule
        elif stream.begin is None:  # what the first page of sound holds is taken to be as long as the second
            late = stream.first > _LATE * stream.rate
            stream.begin = max(0, 2 * stream.first - granule) if late else 0
        stream.end = max(stream.end, granule)
    stream.ended = stream.ended or bool(head[5] & _END)


def _logical(packet: bytes) -> _Logical:
    """What a first packet describes."""
    if packet[:8] == b"OpusHead" and len(packet) >= 12:
        return _Logical("opus", 48_000, packet[9], skip=int.from_bytes(packet[10:12], "little"))
    if packet[:7] == b"\x01vorbis" and len(packet) >= 16:
        return _Logical("vorbis", int.from_bytes(packet[12:16], "little"), packet[11])
    if packet[:5] == b"\x7fFLAC" and len(packet) >= 9 + 4 + 4 + 18:
        packed = int.from_bytes(packet[27:35], "big")
        return _Logical("flac", packed >> 44, (packed >> 41 & 7) + 1)
    if packet[:8] == b"Speex   " and len(packet) >= 52:
        return _Logical("speex", int.from_bytes(packet[36:40], "little"), int.from_bytes(packet[48:52], "little") & 7)
    if packet[:7] == b"\x80theora" and len(packet) >= 42:  # Theora I §6.2
        width, height, rate, frame, *aspect, last = (
            int.from_bytes(packet[at : at + size], "big")
            for at, size in ((14, 3), (17, 3), (22, 4), (26, 4), (30, 3), (33, 3), (40, 2))
        )
        pixels = (aspect[0], aspect[1]) if all(aspect) else (1, 1)
        return _Logical("theora", rate, 0, size=(width, height), aspect=pixels, frame=frame, shift=last >> 5 & 31)
    named = {b"fishead\0": "skeleton", b"\x80kate\0\0\0": "kate"}
    return _Logical(named.get(packet[:8], "unknown"), 0, 0)
