"""FLAC (RFC 9639): the frames follow each other, each with its check sums, and are as many samples as the stream says.

Frames are found by their headers: a sync code, a check sum that holds, and the number that comes next. Where the stream
states the MD5 of its sound, they are decoded.
"""

import hashlib
from pathlib import Path
from typing import BinaryIO

import msgspec
import numpy as np
from numpy.typing import NDArray

from mudlark.media.crc import crc16
from mudlark.media.samples import Bytes, Flags, Format, Ints
from mudlark.media.sound.flac import FlacFrames, batches, decoded
from mudlark.verify.account import Account
from mudlark.verify.forms.chain import edges_of, of_frames
from mudlark.verify.forms.found import Found, at_second

_WINDOW = 8 << 20  # bytes
_LONGEST = 16 + 8 * 65535 * 5  # bytes that one frame may have, more or less
_HEADER = 16  # bytes of a frame header at most
_MOST_BLOCKS = 128
_SIZES = np.array([0, 192, 576, 1152, 2304, 4608, 0, 0, *(256 << n for n in range(8))], np.int64)
_EXTRA = {"size": np.array([0] * 6 + [1, 2] + [0] * 8, np.int64), "rate": np.array([0] * 12 + [1, 2, 2, 0], np.int64)}


def _crc8_table() -> NDArray[np.uint8]:
    table = []
    for value in range(256):
        for _ in range(8):
            value = (value << 1 ^ (0x07 if value & 0x80 else 0)) & 0xFF
        table.append(value)
    return np.array(table, np.uint8)


def _coded_lengths() -> Ints:
    """Bytes of a number by its first (§9.1.5); 0 where none begins so."""
    table = [1] * 128 + [0] * 64
    for length in range(2, 8):
        table += [length] * (1 << max(0, 7 - length))
    return np.array([*table, 0], np.int64)


_CODED = _coded_lengths()


class _Stream(msgspec.Struct, frozen=True):
    """What STREAMINFO says (§8.2). samples: of each channel, 0 if unknown. digest: MD5 of all samples, None where none
    is stated. begin: byte of the first frame."""

    rate: int
    channels: int
    bits: int
    samples: int
    digest: bytes | None
    begin: int


class _Headers(msgspec.Struct):
    """Frame headers found: where they begin, the bytes of each, the number that it states, and its samples."""

    places: Ints
    lengths: Ints
    numbers: Ints
    sizes: Ints


class _Sound:
    """The MD5 of the sound of a stream. undecoded: byte and sample at which frames begin that cannot be decoded."""

    def __init__(self, stream: _Stream) -> None:
        self.undecoded: tuple[int, int] | None = None
        self._stream = stream
        self._md5 = hashlib.md5(usedforsecurity=False)
        self._width = -(-stream.bits // 8)

    @property
    def is_stated(self) -> bool:
        """True if it is the one that the stream states."""
        return self._md5.digest() == self._stream.digest

    def hear(self, window: Bytes, frames: FlacFrames, at: int, samples: int) -> None:
        """Decode some frames. at, samples: the byte at which the window begins, and the samples before its frames."""
        for part in batches(frames.sizes):
            if self.undecoded:
                return
            few = FlacFrames(frames.begins[part], frames.ends[part], frames.lengths[part], frames.sizes[part])
            sound = decoded(window, few, self._stream.channels, self._stream.bits)
            if sound is None:
                self.undecoded = (at + int(few.begins[0]), samples)
                return
            samples += len(sound)
            octets = sound.astype("<i8").view(np.uint8).reshape(*sound.shape, 8)
            self._md5.update(octets[..., : self._width].tobytes())


class _Seen(msgspec.Struct):
    """What was seen of the frames. sound: None where no MD5 is stated."""

    sound: _Sound | None
    frames: int = 0
    samples: int = 0
    bad: list[tuple[int, int]] = msgspec.field(default_factory=list)
    gaps: list[tuple[int, int, int]] = msgspec.field(default_factory=list)


def check_flac(path: Path, account: Account) -> Found:
    """Look into a FLAC file."""
    size = path.stat().st_size
    with path.open("rb") as file:
        begin, end = edges_of(file, size)  # tags of another kind may stand around it
        stream = _stream_info(file, begin, end)
    if stream is None:
        account.failed("content", "sound", "The FLAC file has no description of its stream", grave=True)
        return Found()
    seen = _frames(path, stream, end)
    form = Format("audio", "flac", stream.rate, b"", 0, channels=stream.channels, sample_rate=stream.rate)
    if not seen.frames:
        account.failed("content", "sound", "The FLAC file holds no frames", grave=True)
        return Found(None, [form])
    before = len(account.problems)
    _judge(seen, stream, account)
    if len(account.problems) == before:  # frames with their check sums follow each other to the end
        account.cover("structure", stream.begin - begin)
        account.cover("samples", end - stream.begin)
        account.cover("padding", size - (end - begin))
    return Found(seen.samples / stream.rate, [form])


def _stream_info(file: BinaryIO, begin: int, size: int) -> _Stream | None:
    """What the first metadata block says, and where the frames begin behind the last."""
    at, found = begin + 4, None
    for _ in range(_MOST_BLOCKS):
        file.seek(at)
        block = file.read(4)
        if len(block) < 4:
            return None
        length = int.from_bytes(block[1:], "big")
        if block[0] & 127 == 0 and length >= 34:
            found = file.read(34)
        at += 4 + length
        if block[0] & 128:
            break
    if found is None or at > size:
        return None
    packed = int.from_bytes(found[10:18], "big")
    rate = packed >> 44
    if not rate:
        return None
    digest = found[18:] if any(found[18:]) else None
    return _Stream(rate, (packed >> 41 & 7) + 1, (packed >> 36 & 31) + 1, packed & (1 << 36) - 1, digest, at)


def _frames(path: Path, stream: _Stream, size: int) -> _Seen:
    seen = _Seen(_Sound(stream) if stream.digest else None)
    data = np.memmap(path, np.uint8, "r")
    at, following = stream.begin, None
    table = _crc8_table()
    while at < size:
        end = min(size, at + _WINDOW)
        window = np.asarray(data[at:end])
        headers = _headers(window, table)
        chain = _chained(headers, following)
        last = end == size
        if not len(chain) or (len(chain) == 1 and not last):
            if last or _WINDOW >= _LONGEST:
                seen.bad.append((at, seen.samples))
                break
            at = end - _HEADER
            continue
        ends = np.append(headers.places[chain[1:]], len(window))
        kept = slice(None) if last else slice(-1)
        chain, ends = chain[kept], ends[kept]
        frames = FlacFrames(headers.places[chain], ends, headers.lengths[chain], headers.sizes[chain])
        numbers = headers.numbers[chain]
        _note(seen, at, window, frames, numbers, following)
        following = _next(int(numbers[-1]), int(frames.sizes[-1]), headers)
        at = end if last else at + int(ends[-1])
    return seen


def _note(seen: _Seen, at: int, window: Bytes, frames: FlacFrames, numbers: Ints, following: int | None) -> None:
    places, sizes = frames.begins, frames.sizes
    if following is not None and int(numbers[0]) != following:
        seen.gaps.append((at + int(places[0]), seen.samples, int(numbers[0]) - following))
    elif places[0] > 0:
        seen.bad.append((at, seen.samples))
    before = seen.samples + np.append(0, np.cumsum(sizes))
    for place in np.flatnonzero(crc16(window, places, frames.ends - places))[:1000].tolist():
        seen.bad.append((at + int(places[place]), int(before[place])))
    jumps = np.flatnonzero(np.diff(numbers) != _steps(numbers, sizes)) if len(numbers) > 1 else np.zeros(0, np.int64)
    for place in jumps[:1000].tolist():
        missing = int(numbers[place + 1] - numbers[place]) - 1
        seen.gaps.append((at + int(places[place + 1]), int(before[place + 1]), missing))
    if seen.sound and not seen.bad and not seen.gaps:
        seen.sound.hear(window, frames, at, seen.samples)
    seen.frames += len(places)
    seen.samples = int(before[-1])


def _steps(numbers: Ints, sizes: Ints) -> Ints:
    """By how much each number is to rise: by one, or by the samples of a frame where blocks differ."""
    steps = np.ones(len(numbers) - 1, np.int64)
    return sizes[:-1] if len(numbers) > 1 and numbers[1] - numbers[0] == sizes[0] != 1 else steps


def _next(number: int, size: int, headers: _Headers) -> int:
    """The number that comes next."""
    numbers, sizes = headers.numbers, headers.sizes
    by_samples = len(numbers) > 1 and int(np.median(np.diff(numbers))) == int(np.median(sizes)) != 1
    return number + (size if by_samples else 1)


def _headers(window: Bytes, table: NDArray[np.uint8]) -> _Headers:
    """Everything that is a frame header by its form and its check sum (§9.1)."""
    usable, nothing = len(window), np.zeros(0, np.int64)
    window = np.append(window, np.zeros(_HEADER, np.uint8))  # the last frame may be shorter than the longest header
    places = np.flatnonzero((window[:usable] == 0xFF) & (window[1 : usable + 1] & 0xFE == 0xF8))
    places = places[_may_be(window, places)]
    if not len(places):
        return _Headers(nothing, nothing, nothing, nothing)
    coded = _CODED[window[places + 4]]
    places, coded = places[coded > 0], coded[coded > 0]
    size_code, rate_code = window[places + 2] >> 4, window[places + 2] & 15
    lengths = 4 + coded + _EXTRA["size"][size_code] + _EXTRA["rate"][rate_code]
    register = np.zeros(len(places), np.uint8)
    for column in range(_HEADER - 1):
        inside = column < lengths
        register = np.where(inside, table[register ^ window[places + np.minimum(column, lengths)]], register)
    held = register == window[places + lengths]
    places, coded, lengths, size_code = places[held], coded[held], lengths[held], size_code[held]
    numbers = window[places + 4].astype(np.int64) & np.where(coded == 1, 0x7F, (1 << np.maximum(0, 7 - coded)) - 1)
    for extra in range(1, 7):
        more = extra < coded
        numbers = np.where(more, numbers << 6 | (window[places + 4 + np.minimum(extra, coded)] & 0x3F), numbers)
    behind = places + 4 + coded
    sizes = np.where(size_code == 6, window[behind].astype(np.int64) + 1, _SIZES[size_code])
    wide = (window[behind].astype(np.int64) << 8 | window[behind + 1]) + 1
    return _Headers(places, lengths + 1, numbers, np.where(size_code == 7, wide, sizes))


def _may_be(window: Bytes, places: Ints) -> Flags:
    """True where nothing that is reserved stands."""
    third, fourth = window[places + 2], window[places + 3]
    possible: Flags = (third >> 4 != 0) & (third & 15 != 15) & (fourth >> 4 <= 10) & (fourth & 1 == 0)
    possible &= fourth >> 1 & 7 != 3
    return possible


def _chained(headers: _Headers, following: int | None) -> Ints:
    """The headers whose numbers follow each other: what only looks like a header inside of a frame has another."""
    numbers, sizes = headers.numbers, headers.sizes
    if not len(numbers):
        return np.zeros(0, np.int64)
    if following is None or following not in numbers[:50]:
        rising = np.flatnonzero((np.diff(numbers) == 1) | (np.diff(numbers) == sizes[:-1]))
        first = int(rising[0]) if len(rising) else 0
    else:
        first = int(np.flatnonzero(numbers == following)[0])
    straight = (np.diff(numbers[first:]) == 1) | (np.diff(numbers[first:]) == sizes[first:-1])
    if straight.all():
        return np.arange(first, len(numbers))
    chain, last = [first], first
    for place in range(first + 1, len(numbers)):  # few: only where something looks like a header that is none
        step = int(numbers[place] - numbers[last])
        if 0 < step <= max(1000, 4 * int(sizes[last])):
            chain.append(place)
            last = place
    return np.array(chain, np.int64)


def _judge(seen: _Seen, stream: _Stream, account: Account) -> None:
    rate, problems = stream.rate, len(account.problems)
    if seen.bad:
        at, samples = seen.bad[0]
        where = f"first at byte {at:,} ({at_second(samples / rate)})"
        text = f"{of_frames(len(seen.bad))} not have the check sum, {where}"
        account.failed("frames", "check-sum", text, at=samples / rate, offset=at)
    for at, samples, _ in seen.gaps[:5]:
        text = f"Frames are missing before byte {at:,} ({at_second(samples / rate)})"
        account.failed("frames", "gap", text, at=samples / rate, offset=at)
    if stream.samples and stream.samples != seen.samples:
        text = f"It states {stream.samples / rate:.3f} s; its frames last {seen.samples / rate:.3f} s"
        account.failed(
            "frames", "cut-off" if seen.samples < stream.samples else "frame-count", text, at=seen.samples / rate
        )
    if seen.sound and len(account.problems) == problems:
        _judge_sound(seen.sound, rate, account)
    if len(account.problems) == problems:
        more = ", as long as it states" if stream.samples else ""
        more += "; decoded, their sound has the MD5 that it states" if seen.sound else ""
        account.passed("frames", f"{seen.frames:,} frames of FLAC, each with its check sum{more}")
        if not stream.samples:
            account.leave_open("a FLAC stream without a number of samples")


def _judge_sound(sound: _Sound, rate: int, account: Account) -> None:
    if sound.undecoded:
        at, samples = sound.undecoded
        text = (
            f"Frames from byte {at:,} ({at_second(samples / rate)}) on cannot be decoded, or differ from their stream"
        )
        account.failed("frames", "undecoded", text, at=samples / rate, offset=at)
    elif not sound.is_stated:
        account.failed("frames", "sound-digest", "The MD5 of the sound is not the one that the file states")
