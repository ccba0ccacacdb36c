"""Packed sound: segments of nothing but frames of AAC, MPEG audio, AC-3 or E-AC-3, behind an ID3 tag with the time.

Follows RFC 8216 §3.4 and, for the tag, the informal standard ID3 2.4.0 (§3 header, §4.27 private frame).
"""

from collections.abc import Callable
from functools import partial

import numpy as np

from mudlark.errors import FormatError
from mudlark.media.id3 import sized, tagged
from mudlark.media.samples import Event, Loss, LossCode, Samples
from mudlark.media.sound.ac3 import AC3
from mudlark.media.sound.adts import ADTS
from mudlark.media.sound.framed import FramedStream, Syntax, frames
from mudlark.media.sound.mpeg_audio import MPEG_AUDIO

_TIME = "com.apple.streaming.transportStreamTimestamp"  # owner of the private frame with the time (RFC 8216 §3.4)
_OWNER = _TIME.encode() + b"\0"
_WRAP = 1 << 33
_HOLE, _FARTHEST = 4_500, 90_000 * 43_200  # ticks by which a stated time must be ahead to count, and may be
_TRACK = 2
_HEADER = 10
_LONGEST_TAG = 1 << 16  # bytes of which the frames are read
_LEAST_CHAIN, _LATEST_CHAIN, _MOST_OF_IT = 8, 8192, 0.95  # frames, bytes before the first, share that they are


def skip_tags(data: bytes | memoryview) -> tuple[int, int | None]:
    """Where the frames begin behind ID3 tags, and the 33-bit time in ticks of 90 kHz that a tag states."""
    at, time = 0, None
    while bytes(data[at : at + 3]) == b"ID3" and len(data) >= at + _HEADER:
        size = sized(data[at + 6 : at + _HEADER])
        tag = bytes(data[at : at + _HEADER + min(size, 1 << 16)])
        place = tag.find(_OWNER)
        if place >= 0 and len(tag) >= place + len(_OWNER) + 8:
            place += len(_OWNER)
            time = int.from_bytes(tag[place : place + 8], "big") % _WRAP
        at += _HEADER + size + (_HEADER if len(tag) > 5 and tag[5] & 0x10 else 0)
    return min(at, len(data)), time


class PackedReader:
    """Reads the segments of one rendition that is packed sound."""

    def __init__(self, syntax: Syntax) -> None:
        self._syntax = syntax
        self._stream = FramedStream(_TRACK, syntax)
        self._timed = False
        self._stated = False
        self._strays = 0
        self._tags: list[tuple[str, str]] = []  # as they are now: tags say the same again and again
        self._events: list[Event] = []
        self._origin: float | None = None

    @property
    def wraps(self) -> float:
        """Seconds after which the stated time starts anew; -1 if none was stated."""
        return _WRAP / 90_000 if self._stated else -1.0

    def begin(self, init: bytes | None = None) -> None:
        """The next time that a tag states starts a new count."""
        self._stream.restart()
        self._timed = self._stated = False
        self._origin = None

    def feed(self, data: memoryview) -> list[Samples]:
        """Take one whole segment; every one begins and ends with whole frames."""
        begin, time = skip_tags(data)
        stream = np.frombuffer(data[begin:], np.uint8).copy()
        stated = self._time(time)
        known = stated is not None
        starts = np.zeros(int(known), np.int64)
        pts = np.full(int(known), stated or 0, np.int64)
        samples, rest = self._stream.samples(stream, starts, pts)
        if samples is None or int(samples.sizes.sum()) * 2 < len(stream):
            raise FormatError("The segment does not hold frames of sound", begin)
        self._timed = True
        self._stated = self._stated or known
        self._strays += (
            len(stream) - int(samples.sizes.sum()) - self._headers(len(samples)) if rest < len(stream) else 0
        )
        self._hear(bytes(data[: min(begin, _LONGEST_TAG)]), float(samples.pts[0]) / samples.format.timescale)
        return [samples]

    def _hear(self, tag: bytes, at: float) -> None:
        """Note what a tag says besides the time, where that is new. at: seconds."""
        self._origin = at if self._origin is None else self._origin
        tags = [one for one in tagged(tag) if not one[1].startswith(_TIME)] if tag else []
        new = [one for one in tags if one not in self._tags]
        self._events += [Event("ID3", name, round(at - self._origin, 3), words) for name, words in new]
        self._tags = tags or self._tags

    def _time(self, time: int | None) -> int | None:
        """The time that counts for a segment: the first that is stated, and each later one that leaves a hole behind
        the frames so far (RFC 8216 §3.4). One that goes back is none: some writers state the first again and again."""
        if time is None:
            return None
        following = self._stream.following
        if not self._timed or following is None:
            return time
        ahead = (time - following + _WRAP // 2) % _WRAP - _WRAP // 2
        return following + ahead if _HOLE < ahead < _FARTHEST else None

    def _headers(self, count: int) -> int:
        return 7 * count if self._syntax.stripped else 0

    def flush(self) -> list[Samples]:
        """Nothing is held back."""
        return []

    def losses(self) -> list[Loss]:
        """What was left out since this was last asked."""
        strays, self._strays = self._strays, 0
        return [Loss(LossCode.STRAY_BYTES, strays)] if strays > 0 else []

    def events(self) -> list[Event]:
        """What tags say beside the sound since this was last asked, in seconds from where the stretch begins."""
        events, self._events = self._events, []
        return events


SYNTAXES: dict[str, Syntax] = {"mp3": MPEG_AUDIO, "adts": ADTS, "ac3": AC3}


def sound_within(head: bytes) -> str | None:
    """Which sound a body is that was cut into while it ran, so that it begins inside of a frame: the one whose frames
    follow each other from some place on; None if there is none."""
    stream = np.frombuffer(head, np.uint8)
    for name, syntax in SYNTAXES.items():
        layout = frames(stream, syntax)
        if len(layout.positions) >= _LEAST_CHAIN:
            begin, taken = int(layout.positions[0]), int(layout.lengths.sum())
            if begin < _LATEST_CHAIN and taken >= _MOST_OF_IT * (layout.rest - begin):
                return name
    return None


READERS: dict[str, Callable[[], PackedReader]] = {
    name: partial(PackedReader, syntax) for name, syntax in SYNTAXES.items()
}
