"""MPEG program streams (ISO/IEC 13818-1 §2.5, 11172-1 §2.4): packs and packets from the first byte to the last.

Pictures of MPEG-2 have slices for each of their rows (13818-2 §6.1.2), frames of sound follow each other; so packets
that are missing show, although nothing numbers them.
"""

import re
from fractions import Fraction
from pathlib import Path

import msgspec
import numpy as np

from mudlark.media.bits import Bits
from mudlark.media.picture.nal import start_codes
from mudlark.media.samples import Bytes, Format
from mudlark.media.sound.ac3 import AC3
from mudlark.media.sound.mpeg_audio import MPEG_AUDIO
from mudlark.verify.account import Account
from mudlark.verify.forms.chain import FrameChain
from mudlark.verify.forms.found import Found, at_second

_WINDOW = 8 << 20
_PACK, _SYSTEM, _END, _PRIVATE, _PADDING = 0xBA, 0xBB, 0xB9, 0xBD, 0xBE
_FIRST, _PICTURE, _SEQUENCE, _EXTENSION, _LAST_SLICE = b"\0\0\1\xba", 0x00, 0xB3, 0xB5, 0xAF
_CLOCK = 90_000
_RATES = (0, 24000 / 1001, 24, 25, 30000 / 1001, 30, 50, 60000 / 1001, 60)
_SHAPES = {2: Fraction(4, 3), 3: Fraction(16, 9), 4: Fraction(221, 100)}  # of the whole picture (§6.3.3)
_HOLE = re.compile(rb"\0{512}[^\0\1]")  # more zeros than any picture has, and not as stuffing before a start code
_MOST_STREAMS = 64


class _Pictures(msgspec.Struct):
    """A stream of pictures as far as it came. rest: what may go on. first, last: times that are stated, 90 kHz."""

    format: Format | None = None
    rate: float = 0.0
    rows: int = 0
    extended: bool = False
    count: int = 0
    torn: list[int] = msgspec.field(default_factory=list)
    rest: bytes = b""

    def take(self, data: bytes, *, last: bool) -> None:
        """Whole pictures in what came; the last one may go on."""
        stream = np.frombuffer(self.rest + data, np.uint8)
        codes = start_codes(np.append(stream, np.zeros(len(stream) & 1, np.uint8)))
        codes = codes[codes + 3 < len(stream)]
        kinds = stream[codes + 3]
        opening = np.flatnonzero(kinds == _PICTURE)
        if not self.format and len(found := np.flatnonzero(kinds == _SEQUENCE)):
            self._describe(stream, codes, kinds, int(found[0]))
        if not len(opening):
            self.rest = b"" if last else self.rest + data
            return
        stop = len(kinds) if last else int(opening[-1])
        slices = np.flatnonzero((kinds > 0) & (kinds <= _LAST_SLICE))
        slices = slices[(slices > opening[0]) & (slices < stop)]
        whole = opening if last else opening[:-1]
        if len(whole) and self.rows:
            own = np.searchsorted(whole, slices, "right") - 1
            held = np.zeros((len(whole), _LAST_SLICE + 1), np.bool_)
            held[own, kinds[slices]] = True
            rows = held[:, 1 : self.rows + 1].sum(1)
            fields = rows * 2 == self.rows  # a field has half of them
            odd = ~(rows == self.rows) & ~fields if self.extended else ~held[:, 1]
            self.torn += (self.count + np.flatnonzero(odd)).tolist()
        self.count += len(whole)
        self.rest = b"" if last else stream[codes[opening[-1]] :].tobytes()

    def _describe(self, stream: Bytes, codes: np.ndarray, kinds: Bytes, number: int) -> None:
        """A sequence header (§6.2.2.1), and whether its extension follows, as in MPEG-2."""
        at = int(codes[number]) + 4
        bits = Bits(stream[at : at + 8].tobytes().ljust(8, b"\0"))
        width, height, aspect, rate = bits.take(12), bits.take(12), bits.take(4), bits.take(4)
        self.extended = number + 1 < len(kinds) and kinds[number + 1] == _EXTENSION
        self.rate = float(_RATES[rate]) if rate < len(_RATES) else 0.0
        self.rows = (height + 15) // 16
        frame = round(_CLOCK / self.rate) if self.rate else 0
        shape = _SHAPES.get(aspect) if self.extended and width and height else None  # MPEG-1 states that of the pixels
        pixels = (shape * height / width).as_integer_ratio() if shape else (1, 1)
        codec = "mp4v.61" if self.extended else "mp4v.6A"
        self.format = Format("video", codec, _CLOCK, b"", frame, width, height, pixels)


class _Streams(msgspec.Struct):
    """What was seen. first, last: stated times of each stream, 90 kHz. stray: places and lengths of what is no packet.
    left: bytes of streams that are not read. zeros: places of holes in coded data."""

    pictures: dict[int, _Pictures] = msgspec.field(default_factory=dict)
    sounds: dict[int, FrameChain] = msgspec.field(default_factory=dict)
    pending: dict[int, bytearray] = msgspec.field(default_factory=dict)
    first: dict[int, int] = msgspec.field(default_factory=dict)
    last: dict[int, int] = msgspec.field(default_factory=dict)
    taken: int = 0
    padding: int = 0
    left: dict[int, int] = msgspec.field(default_factory=dict)
    stray: list[tuple[int, int]] = msgspec.field(default_factory=list)
    zeros: list[int] = msgspec.field(default_factory=list)
    ended: bool = False
    cut: int = 0


def check_program(path: Path, account: Account) -> Found:
    """Look into a program stream."""
    size = path.stat().st_size
    data = np.memmap(path, np.uint8, "r")
    seen = _walk(data, size)
    for number in list(seen.pending):
        _hand_over(seen, number, last=True)
    formats = [one.format for one in seen.pictures.values() if one.format]
    formats += [one.format for one in seen.sounds.values() if one.format]
    length = max((seen.last[n] - seen.first[n] for n in seen.first), default=0) / _CLOCK
    lasting = max((one.count / one.rate for one in seen.pictures.values() if one.rate), default=0.0)
    lasting = max([lasting, *(one.seconds for one in seen.sounds.values())])
    if not formats:
        account.failed("content", "sound", "The program stream holds no picture and no sound", grave=True)
        return Found()
    _judge(seen, account)
    account.cover("samples", seen.taken)
    account.cover("padding", seen.padding)
    strayed = sum(count for _, count in seen.stray) + seen.cut
    account.cover("structure", size - seen.taken - seen.padding - strayed - sum(seen.left.values()))
    for number, count in sorted(seen.left.items()):
        account.leave_out(f"{count:,} bytes of stream {number:#04x}, which no one reads")
    if not seen.ended:
        account.leave_open("a program stream without its end code")
    return Found(max(length, lasting), formats)


def _walk(data: Bytes, size: int) -> _Streams:
    """Go through packs and packets."""
    seen, at = _Streams(), 0
    while at + 4 <= size:
        head = data[at : at + 16].tobytes()
        end = _end_of(head, at) if head[:3] == b"\0\0\1" else None
        if end is None:
            following = _next_pack(data, at, size)
            if data[at:following].any() or following < size:
                seen.stray.append((at, following - at))
            else:
                seen.padding += following - at
            at = following
            continue
        if end > size:
            seen.cut = size - at
            break
        number = head[3]
        seen.ended = number == _END
        if number == _PADDING:
            seen.padding += end - at
        elif number == _PRIVATE or number >= 0xC0:
            _packet(seen, number, data[at:end].tobytes(), at)
        at = end
    return seen


def _end_of(head: bytes, at: int) -> int | None:
    """Where what begins here ends; None for what no program stream holds."""
    number = head[3]
    if number == _PACK:
        return at + (14 + (head[13] & 7) if len(head) > 13 and head[4] >> 6 == 1 else 12)
    if number == _END:
        return at + 4
    return at + 6 + int.from_bytes(head[4:6], "big") if number >= _SYSTEM else None


def _next_pack(data: Bytes, at: int, size: int) -> int:
    """Where the next pack begins, or where the file ends."""
    while at < size:
        found = data[at + 1 : at + _WINDOW].tobytes().find(_FIRST)
        if found >= 0:
            return at + 1 + found
        at += _WINDOW - 8
    return size


def _packet(seen: _Streams, number: int, packet: bytes, at: int) -> None:
    """What a packet carries, and its time (§2.4.3.7; 11172-1 §2.4.3.3)."""
    begin, stamp = _payload(packet)
    body = packet[begin:]
    if number == _PRIVATE:
        if not body:
            return
        number = 0x100 | body[0]
        body = body[4:] if 0x80 <= body[0] < 0x88 else body
    read = 0xC0 <= number < 0xF0 or 0x180 <= number < 0x188
    if not read or len(seen.pending) >= _MOST_STREAMS:
        seen.left[number] = seen.left.get(number, 0) + len(body)
        return
    if stamp is not None:
        seen.first.setdefault(number, stamp)
        seen.last[number] = max(stamp, seen.last.get(number, stamp))
    if 0xE0 <= number < 0xF0 and _HOLE.search(body):
        seen.zeros.append(at)
    seen.taken += len(body)
    waiting = seen.pending.setdefault(number, bytearray())
    waiting += body
    if len(waiting) > _WINDOW // 2:
        _hand_over(seen, number, last=False)


def _payload(packet: bytes) -> tuple[int, int | None]:
    """Where what a packet carries begins, and the time that it states."""
    if len(packet) < 9:
        return len(packet), None
    at = 6
    if packet[6] >> 6 == 2:
        at = 9 + packet[8]
        stamp = 9 if packet[7] & 0x80 and packet[8] >= 5 else None
    else:
        while at < min(len(packet), 22) and packet[at] == 0xFF:
            at += 1
        if at < len(packet) and packet[at] >> 6 == 1:
            at += 2
        kind = packet[at] >> 4 if at < len(packet) else 0
        stamp = at if kind in (2, 3) else None
        at += {2: 5, 3: 10}.get(kind, 1)
    if stamp is None or stamp + 5 > len(packet):
        return at, None
    time = int.from_bytes(packet[stamp : stamp + 5], "big")
    return at, (time >> 33 & 7) << 30 | (time >> 17 & 0x7FFF) << 15 | time >> 1 & 0x7FFF


def _hand_over(seen: _Streams, number: int, *, last: bool) -> None:
    """Give what has gathered of a stream to whoever looks at it."""
    waiting = seen.pending[number]
    if 0xE0 <= number < 0xF0:
        seen.pictures.setdefault(number, _Pictures()).take(bytes(waiting), last=last)
        waiting.clear()
        return
    chain = seen.sounds.setdefault(number, FrameChain(AC3 if number >= 0x100 else MPEG_AUDIO))
    taken = chain.take(0, np.frombuffer(bytes(waiting), np.uint8), last=last, sums=False)
    del waiting[:taken]


def _judge(seen: _Streams, account: Account) -> None:
    before = len(account.problems)
    for at, count in seen.stray[:5]:
        account.failed("frames", "stray-bytes", f"{count:,} bytes at byte {at:,} are no packets", offset=at)
    if seen.cut:
        account.failed("frames", "cut-off", f"The last packet is cut off after {seen.cut:,} bytes")
    if seen.zeros:
        text = f"Zeros stand in place of coded data in {len(seen.zeros):,} packets, the first at byte {seen.zeros[0]:,}"
        account.failed("holes", "zeros", text, offset=seen.zeros[0])
    for number, one in seen.pictures.items():
        torn = [picture for picture in one.torn if picture < one.count - 1]  # the last may be cut off, as one cuts
        if torn:
            second = torn[0] / one.rate if one.rate else 0.0
            where = f"of stream {number:#04x} lack rows, the first at {at_second(second)}"
            text = f"{len(torn):,} of {one.count:,} pictures {where}"
            account.failed("coded-form", "coded-form", text, at=second)
    for number, chain in seen.sounds.items():
        holes = [one for one in chain.holes if one[1] > 0]  # it may begin inside of a frame
        if holes:
            where = f"are no frames of sound, the first at {at_second(holes[0][1])}"
            text = f"{len(holes):,} places in stream {number:#04x} {where}"
            account.failed("frames", "stray-bytes", text, at=holes[0][1])
    if len(account.problems) == before:
        pictures = sum(one.count for one in seen.pictures.values())
        sounds = sum(one.frames for one in seen.sounds.values())
        account.passed(
            "frames", f"packets from the first to the last byte: {pictures:,} pictures, {sounds:,} frames of sound"
        )
