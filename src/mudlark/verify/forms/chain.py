"""Sound that is a chain of frames: MP3 and MP2, AAC in ADTS, AC-3 and E-AC-3.

The frames must follow each other from the first to the last byte, tags aside. What the first frame of an MP3 says of
the whole (Xing or Info, VBRI) must hold, and so must the check sums of AC-3 (ETSI TS 102 366 §6.1.7).
"""

from pathlib import Path
from typing import BinaryIO

import msgspec
import numpy as np

from mudlark.errors import FormatError
from mudlark.media.crc import crc16
from mudlark.media.samples import Bytes, Format
from mudlark.media.sound.ac3 import AC3
from mudlark.media.sound.framed import Frames, Syntax, described, frames
from mudlark.media.sound.mpeg_audio import MPEG_AUDIO
from mudlark.media.sound.packed import SYNTAXES
from mudlark.verify.account import Account
from mudlark.verify.forms.found import Found, at_second

_NAMES = {"mp3": "MPEG audio", "adts": "AAC", "ac3": "AC-3"}
_WINDOW = 4 << 20  # bytes
_LARGEST_TAG = 64 << 20
_MOST_HOLES = 1_000  # that are counted one by one
_MOST_TAGS = 20
_TORN = 4_000  # bytes that a torn frame may have
_ID3, _APE, _ID3_1 = 10, 32, 128  # bytes of what begins or ends a tag


class FrameChain(msgspec.Struct):
    """What was seen so far. frames: whole ones, and taken: bytes of them. zeros: bytes of padding behind. holes: byte,
    second and length of what is no frame. bad: byte and second of frames whose check sum is wrong. first: the first
    frame. cut: bytes of an unfinished last frame."""

    syntax: Syntax
    frames: int = 0
    taken: int = 0
    zeros: int = 0
    format: Format | None = None
    holes: list[tuple[int, float, int]] = msgspec.field(default_factory=list)
    bad: list[tuple[int, float]] = msgspec.field(default_factory=list)
    bad_count: int = 0
    first: bytes = b""
    cut: int = 0

    @property
    def seconds(self) -> float:
        """How long the frames last."""
        form = self.format
        return self.frames * form.sample_duration / form.sample_rate if form and form.sample_rate else 0.0

    def take(self, at: int, window: Bytes, *, last: bool, sums: bool) -> int:
        """The frames of a window that begins at a byte of the file; gives where the next window has to begin. sums:
        they carry check sums."""
        layout = frames(window, self.syntax)
        if not len(layout.positions):
            left = len(window) if last else max(1, len(window) - self.syntax.header)
            self._hole(at, left)
            return at + left
        if self.format is None:
            begin, size = int(layout.positions[0]), int(layout.lengths[0])
            self.first = window[begin : begin + size].tobytes()
            self.format = described(window, layout, self.syntax, begin + size)
        ends = layout.positions + layout.lengths
        gaps = np.append(layout.positions, layout.rest) - np.append(0, ends)
        opening = np.ones(len(ends), np.int64)
        if self.syntax.joined is not None:
            opening = 1 - self.syntax.joined(window, layout.positions).astype(np.int64)
        if self.syntax.blocks is not None:
            opening = opening * self.syntax.blocks(window, layout.positions)
        before = np.append(0, np.cumsum(opening))
        starts = np.append(0, ends)
        for place in np.flatnonzero(gaps > 0)[:_MOST_HOLES].tolist():
            self._hole(at + int(starts[place]), int(gaps[place]), int(before[place]))
        if sums:
            self._check_sums(at, window, layout, before)
        self.frames += int(before[-1])
        self.taken += int(layout.lengths.sum())
        if last:
            self._end(at + layout.rest, window[layout.rest :])
            return at + len(window)
        return at + layout.rest

    def _seconds_at(self, frame: int) -> float:
        form = self.format
        return (self.frames + frame) * form.sample_duration / form.sample_rate if form and form.sample_rate else 0.0

    def _hole(self, at: int, length: int, frame: int = 0) -> None:
        if self.holes and self.holes[-1][0] + self.holes[-1][2] == at:
            begin, seconds, before = self.holes.pop()
            self.holes.append((begin, seconds, before + length))
        else:
            self.holes.append((at, self._seconds_at(frame), length))

    def _check_sums(self, at: int, window: Bytes, layout: Frames, before: np.ndarray) -> None:
        wrong = np.flatnonzero(crc16(window, layout.positions + 2, layout.lengths - 2))
        self.bad_count += len(wrong)
        for place in wrong[: _MOST_HOLES - len(self.bad)].tolist():
            self.bad.append((at + int(layout.positions[place]), self._seconds_at(int(before[place]))))

    def _end(self, at: int, rest: Bytes) -> None:
        """What stands behind the last whole frame: the beginning of another, or something else."""
        begun = len(rest) >= self.syntax.header and 0 in self.syntax.marks(rest[: self.syntax.header])
        if begun and int(self.syntax.lengths(rest, np.zeros(1, np.int64))[0]) > len(rest):
            self.cut = len(rest)
        elif rest.any():
            self._hole(at, len(rest))
        else:
            self.zeros = len(rest)


def check_chain(path: Path, form: str, account: Account, *, endless: bool = False) -> Found:
    """Look into a file of frames. form: mp3, adts or ac3. endless: it was cut out of what has no beginning and no
    end, so that its first and last frames may be torn."""
    name, syntax = _NAMES[form], SYNTAXES[form]
    chain = FrameChain(syntax)
    with path.open("rb") as file:
        begin, end = edges_of(file, path.stat().st_size)
        head = _at(file, begin, 4)
        tagged = _at(file, 0, 3) == b"ID3"
        at = begin
        try:
            while at < end:
                window = np.frombuffer(_at(file, at, min(_WINDOW, end - at)), np.uint8)
                at = chain.take(at, window, last=at + _WINDOW >= end, sums=form == "ac3")
        except FormatError as problem:
            account.failed("content", "sound", f"The sound cannot be read: {problem.what}", grave=True)
            return Found()
    if tagged and begin >= end:
        account.failed("content", "empty", "The file holds no sound: a tag takes all of it", grave=True)
        return Found()
    if chain.format is None or sum(length for *_, length in chain.holes) > (end - begin) // 2:
        if tagged or _is_free(head):  # which may be sound of a form that is not known here
            account.skipped("content", f"{path.name}: it holds no sound of a form that Mudlark looks into")
        else:
            account.failed("content", "sound", f"The file is not made of frames of {name}", grave=True)
        return Found()
    if endless:
        account.cover("samples", chain.cut)
        chain.cut = 0
        torn = [one for one in chain.holes if not (begin < one[0] < end - one[2] or one[2] > _TORN)]
        account.cover("samples", sum(length for *_, length in torn))
        chain.holes = [one for one in chain.holes if one not in torn]
    _judge(chain, name, account)
    account.cover("samples", chain.taken)
    account.cover("padding", path.stat().st_size - (end - begin) + chain.zeros)
    stated = stated_frames(chain.first) if form == "mp3" else None
    length = chain.seconds
    if stated is not None:
        length -= chain.format.sample_duration / chain.format.sample_rate  # that frame is not heard
        if chain.frames == 1:
            account.failed("content", "empty", f"The file holds no frame of {name} that is heard", grave=True)
    return Found(length, [chain.format])


def _judge(chain: FrameChain, name: str, account: Account) -> None:
    problems = len(account.problems)
    for at, seconds, length in chain.holes[:5]:
        text = f"{length:,} bytes at byte {at:,} ({at_second(seconds)}) are no frames of {name}"
        account.failed("frames", "stray-bytes", text, at=seconds, offset=at)
    if len(chain.holes) > 5:
        account.failed("frames", "stray-bytes", f"{len(chain.holes) - 5} more such places are between its frames")
    if chain.cut:
        text = f"The last frame is cut off after {chain.cut:,} bytes, at {at_second(chain.seconds)}"
        account.failed("frames", "cut-off", text, at=chain.seconds)
    stated = stated_frames(chain.first) if chain.syntax is MPEG_AUDIO else None
    counts_itself = stated == chain.frames
    if stated is not None and stated not in (chain.frames, chain.frames - 1):
        text = f"Its first frame states {stated:,} frames; there are {chain.frames - 1:,}"
        account.failed("frames", "cut-off" if stated > chain.frames else "frame-count", text, at=chain.seconds)
    elif counts_itself and (size := stated_bytes(chain.first)) is not None and size > chain.taken:
        text = f"Its first frame states {size:,} bytes; its frames have {chain.taken:,}"
        account.failed("frames", "cut-off", text, at=chain.seconds)
    if chain.bad_count and chain.bad_count < chain.frames:
        at, seconds = chain.bad[0]
        text = (
            f"{chain.bad_count:,} frames do not have their check sum, the first at byte {at:,} ({at_second(seconds)})"
        )
        account.failed("check-sums", "check-sum", text, at=seconds, offset=at)
    elif chain.bad_count:
        account.skipped("check-sums", "its writer left out the check sums of all frames")
    elif chain.syntax is AC3:
        account.passed("check-sums", f"{chain.frames:,} frames, each with its check sum")
    if len(account.problems) == problems:
        more = ", as many as it states" if stated is not None else ""
        account.passed("frames", f"{chain.frames:,} frames of {name} from the first to the last byte{more}")
        if stated is None:
            account.leave_open(f"a chain of frames of {name} without a count")
        elif counts_itself and stated_bytes(chain.first) is None:
            account.leave_open("an MP3 with one frame less than it states, which may count the one that states it,")


def _is_free(head: bytes) -> bool:
    """True for MPEG audio of a free bit rate, whose frames do not say how long they are (ISO/IEC 11172-3 §2.4.2.3)."""
    return head[:1] == b"\xff" and len(head) > 2 and head[2] >> 4 == 0


def of_frames(count: int) -> str:
    """So many frames, in a sentence that goes on with what they do not."""
    return "One frame does" if count == 1 else f"{count:,} frames do"


def stated_frames(frame: bytes) -> int | None:
    """How many frames the first frame of an MP3 says that there are behind it; None if it is a frame like others."""
    for tag in (b"Xing", b"Info"):
        place = frame.find(tag, 4, 48)
        if place > 0 and len(frame) >= place + 12:
            flags = int.from_bytes(frame[place + 4 : place + 8], "big")
            return int.from_bytes(frame[place + 8 : place + 12], "big") if flags & 1 else None
    if frame[36:40] == b"VBRI" and len(frame) >= 54:
        return int.from_bytes(frame[50:54], "big")
    return None


def stated_bytes(frame: bytes) -> int | None:
    """How many bytes the first frame of an MP3 says that all frames have, itself included; None if it does not."""
    for tag in (b"Xing", b"Info"):
        place = frame.find(tag, 4, 48)
        if place > 0 and len(frame) >= place + 16:
            flags = int.from_bytes(frame[place + 4 : place + 8], "big")
            skip = 8 + 4 * (flags & 1)
            return int.from_bytes(frame[place + skip : place + skip + 4], "big") if flags & 2 else None
    if frame[36:40] == b"VBRI" and len(frame) >= 50:
        return int.from_bytes(frame[46:50], "big")
    return None


def edges_of(file: BinaryIO, size: int) -> tuple[int, int]:
    """Where the frames begin and end: tags stand before and behind them (ID3 1 and 2, APE)."""
    begin, end = 0, size
    for _ in range(_MOST_TAGS):
        if not (length := _tag_length(_at(file, begin, _ID3))):
            break
        begin = min(size, begin + length)
    for _ in range(_MOST_TAGS):
        if not (length := _length_behind(file, end)) or length > end - begin:
            break
        end -= length
    return begin, end


def _length_behind(file: BinaryIO, end: int) -> int:
    """Bytes of the tag that ends here; 0 if none does."""
    if _at(file, end - _ID3_1, 3) == b"TAG":
        return _ID3_1
    foot = _at(file, end - _APE, _APE)
    if foot[:8] == b"APETAGEX":
        length = int.from_bytes(foot[12:16], "little") + (_APE if foot[23] & 0x80 else 0)
        return length if length <= _LARGEST_TAG else 0
    foot = _at(file, end - 15, 15)
    if foot[6:] == b"LYRICS200" and foot[:6].isdigit():  # six digits of size stand before it
        return int(foot[:6]) + 15
    if _at(file, end - _ID3, 3) == b"3DI":
        return _tag_length(b"ID3" + _at(file, end - 7, 7))
    return 0


def _tag_length(head: bytes) -> int:
    """Bytes of the ID3 2 tag that begins so (§3.1), 0 if none does."""
    if head[:3] != b"ID3" or len(head) < _ID3 or any(byte & 0x80 for byte in head[6:10]):
        return 0
    size = head[6] << 21 | head[7] << 14 | head[8] << 7 | head[9]
    return _ID3 + size + (_ID3 if head[5] & 0x10 else 0)


def _at(file: BinaryIO, place: int, count: int) -> bytes:
    if place < 0:
        return b""
    file.seek(place)
    return file.read(count)
