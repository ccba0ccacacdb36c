"""WAV (RIFF, RIFX, RF64 and BW64) and AIFF: their chunks fill the file, and there is as much sound as they say.

Neither carries check sums, so nothing is proven of the sound itself.
"""

from pathlib import Path
from typing import BinaryIO, Literal

import msgspec

from mudlark.media.samples import Format
from mudlark.verify.account import Account
from mudlark.verify.forms.found import Found, at_second

_OPEN = 0xFFFFFFFF  # a length that stands elsewhere, or was never written
_MOST_CHUNKS = 100_000
_PLAIN = frozenset({1, 3, 0xFFFE})  # whole numbers, real ones, and either with more said of them
_KNOWN = frozenset({"wav-0002", "wav-0006", "wav-0007", "wav-0011"})  # coded, as many bytes each frame
_LARGEST_SAMPLE = 8  # bytes


class _Sound(msgspec.Struct):
    """rate, channels: of the sound. frame: bytes of a sample of all channels. sound: where it begins and how long it is
    said to be. frames: how many are stated apart from that. end: of the last chunk, as stated. open: a length was never
    written. odd: what the description says against itself."""

    rate: int = 0
    channels: int = 0
    frame: int = 0
    codec: str = "pcm"
    sound: tuple[int, int] | None = None
    frames: int | None = None
    end: int = 0
    open: bool = False
    odd: str = ""
    chunks: list[tuple[bytes, int, int]] = msgspec.field(default_factory=list)


def check_riff(path: Path, account: Account) -> Found:
    """Look into a WAV or AIFF file."""
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(12)
        order: Literal["little", "big"] = "big" if head[:4] in (b"FORM", b"RIFX") else "little"
        sound = _read(file, size, head, order)
    name = "AIFF" if head[:4] == b"FORM" else "WAV"
    if sound.sound is None or not sound.rate or not sound.frame:
        account.failed("content", "sound", f"The {name} file does not say what its sound is", grave=True)
        return Found()
    begin, stated = sound.sound
    there = max(0, min(size - begin, stated))
    per_second = sound.rate * sound.frame
    length = there / per_second
    form = Format("audio", sound.codec, sound.rate, b"", 1, channels=sound.channels, sample_rate=sound.rate)
    if not there:
        account.failed("content", "empty", f"The {name} file holds no sound", grave=True)
    if sound.odd:
        account.failed("chunks", "sound", f"The {name} file contradicts itself: {sound.odd}")
    if sound.open:
        account.failed("chunks", "cut-off", f"The length of the {name} file was never written; it was likely cut short")
    elif begin + stated > size:
        text = f"It states {stated / per_second:.3f} s of sound; the file ends at {at_second(length)}"
        account.failed("chunks", "cut-off", text, at=length, offset=size)
    elif sound.end > size:
        account.failed("chunks", "cut-off", f"The last chunk ends at byte {sound.end:,}, behind the file", offset=size)
    elif sound.frames is not None and sound.frames * sound.frame > stated:
        text = f"It states {sound.frames:,} samples; there are {stated // sound.frame:,}"
        account.failed("chunks", "cut-off", text, at=length)
    elif sound.end + 1 < size:
        text = f"{size - sound.end:,} bytes at byte {sound.end:,} belong to no chunk"
        account.failed("chunks", "stray-bytes", text, offset=sound.end)
    else:
        text = f"{len(sound.chunks)} chunks of {name} fill the file; {length:.3f} s of sound, as many as it states"
        account.passed("frames", text, seconds=length)
        if sound.codec.startswith("wav-") and sound.codec not in _KNOWN:
            account.leave_out(f"{there:,} bytes of sound of a form that no one looks into ({sound.codec})")
        else:
            account.cover("samples", there)
        account.cover("structure", size - there)
    return Found(length, [form])


def _read(file: BinaryIO, size: int, head: bytes, order: Literal["little", "big"]) -> _Sound:
    sound = _Sound(open=int.from_bytes(head[4:8], order) in (0, _OPEN) and head[:4] in (b"RIFF", b"RIFX", b"FORM"))
    at, large = 12, 0
    while at + 8 <= size and len(sound.chunks) < _MOST_CHUNKS:
        file.seek(at)
        chunk = file.read(8)
        name, length = chunk[:4], int.from_bytes(chunk[4:], order)
        if not all(32 <= byte < 127 for byte in name):
            break
        body = file.read(min(length, 64)) if name in (b"fmt ", b"COMM", b"ds64") else b""
        if name == b"ds64":
            large = int.from_bytes(body[8:16], "little")
        elif name == b"data" and length == _OPEN and large:
            length = large
        if name == b"fmt " and len(body) >= 16:
            kind = int.from_bytes(body[:2], order)
            sound.channels, sound.rate = int.from_bytes(body[2:4], order), int.from_bytes(body[4:8], order)
            sound.frame = int.from_bytes(body[12:14], order)
            sound.codec = "pcm" if kind in _PLAIN else f"wav-{kind:04x}"
            sound.odd = _contradiction(sound, int.from_bytes(body[8:12], order), int.from_bytes(body[14:16], order))
        elif name == b"COMM" and len(body) >= 18:
            _common(sound, body)
        elif name == b"data":
            sound.sound = (at + 8, length)
            sound.open = sound.open or length in (0, _OPEN)
        elif name == b"SSND":
            sound.sound = (at + 16, max(0, length - 8))
        sound.chunks.append((name, at, length))
        at += 8 + length + length % 2
        sound.end = at if at <= size or length % 2 == 0 else at - 1
    return sound


def _contradiction(sound: _Sound, a_second: int, bits: int) -> str:
    """What the description of plain sound says against itself, in words. a_second: bytes, 0 if that is not said. bits:
    of a sample."""
    if sound.codec != "pcm" or not sound.channels or not sound.frame:
        return ""
    sample, rest = divmod(sound.frame, sound.channels)
    if rest or not (bits + 7) // 8 <= sample <= _LARGEST_SAMPLE or not bits:
        return f"{sound.channels} channels of {bits} bits do not fill {sound.frame} bytes"
    if a_second and a_second != sound.rate * sound.frame:
        return f"{a_second:,} bytes a second are not {sound.rate:,} times {sound.frame}"
    return ""


def _common(sound: _Sound, body: bytes) -> None:
    """The common chunk of AIFF, whose rate is an 80-bit float (IEEE 754 extended)."""
    sound.channels, sound.frames = int.from_bytes(body[:2], "big"), int.from_bytes(body[2:6], "big")
    bits = int.from_bytes(body[6:8], "big")
    exponent = (body[8] & 0x7F) << 8 | body[9]
    shift = exponent - 16383 - 63
    mantissa = int.from_bytes(body[10:18], "big")
    sound.rate = mantissa >> -shift if -64 < shift <= 0 else 0
    sound.frame = sound.channels * ((bits + 7) // 8)
    if len(body) >= 22 and body[18:22] not in (b"NONE", b"twos", b"sowt", b"raw ", b"fl32", b"FL32", b"fl64", b"FL64"):
        sound.codec = body[18:22].decode("ascii", "replace").strip().lower()
