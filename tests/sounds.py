"""Sound files as other programs write them, made byte by byte."""

import struct
import wave
import zlib
from collections.abc import Iterable, Sequence
from io import BytesIO

import numpy as np

from mudlark.media.sound.mpeg_audio import silence

MP3_HEADER = b"\xff\xfb\x90\x64"  # layer 3, 44,100 Hz, 128 kbit/s


def mp3(count: int, stated: int | None = None, tag: bytes = b"Xing", size: int | None = None) -> bytes:
    """So many frames; behind one that states a number of them, if there is one, and their bytes, if there are such."""
    frame = silence(MP3_HEADER) or b""
    first = b""
    if stated is not None and tag == b"VBRI":
        first = frame[:36] + tag + bytes(10) + stated.to_bytes(4, "big") + frame[54:]
    elif stated is not None and size is not None:
        numbers = (3).to_bytes(4, "big") + stated.to_bytes(4, "big") + size.to_bytes(4, "big")
        first = frame[:36] + tag + numbers + frame[52:]
    elif stated is not None:
        first = frame[:36] + tag + (1).to_bytes(4, "big") + stated.to_bytes(4, "big") + frame[48:]
    return first + frame * count


def id3(body: int = 500) -> bytes:
    """A tag before the sound, of so many bytes."""
    size = bytes(body >> shift & 127 for shift in (21, 14, 7, 0))
    return b"ID3\x04\0\0" + size + bytes(body)


ID3_1 = b"TAG" + bytes(125)
APE = b"APETAGEX" + struct.pack("<IIII", 2000, 32 + 40, 1, 1 << 31) + bytes(8)
APE_TAG = APE + bytes(40) + b"APETAGEX" + struct.pack("<IIII", 2000, 32 + 40, 1, 1 << 31) + bytes(8)


def crc16(data: bytes, register: int = 0) -> int:
    """The slow and plain form of the CRC-16 with x^16 + x^15 + x^2 + 1."""
    for byte in data:
        register ^= byte << 8
        for _ in range(8):
            register = (register << 1 ^ (0x8005 if register & 0x8000 else 0)) & 0xFFFF
    return register


def crc8(data: bytes) -> int:
    """The CRC-8 of FLAC's headers."""
    register = 0
    for byte in data:
        register ^= byte
        for _ in range(8):
            register = (register << 1 ^ (7 if register & 0x80 else 0)) & 0xFF
    return register


def ac3(count: int) -> bytes:
    """Frames of AC-3 at 48,000 Hz and 64 kbit/s (256 bytes), each with a check sum that holds."""
    frames = []
    for number in range(count):
        body = b"\0\0" + b"\x08\x40\x40" + number.to_bytes(2, "big") + bytes(256 - 2 - 7 - 2)
        frames.append(b"\x0b\x77" + body + crc16(body).to_bytes(2, "big"))
    return b"".join(frames)


def flac(samples: np.ndarray, block: int = 576, rate: int = 44_100, stated: int | None = None) -> bytes:
    """Mono sound of 16 bits in verbatim subframes (RFC 9639 §9.2.2), with a picture block before it."""
    count = len(samples) if stated is None else stated
    packed = rate << 44 | 0 << 41 | 15 << 36 | count
    info = struct.pack(">HH", block, block) + bytes(6) + packed.to_bytes(8, "big") + bytes(16)
    blocks = b"\0" + len(info).to_bytes(3, "big") + info + b"\x86" + (70_000).to_bytes(3, "big") + bytes(70_000)
    return b"fLaC" + blocks + b"".join(flac_frames(samples, block))


def flac_frames(samples: np.ndarray, block: int = 576) -> list[bytes]:
    """The frames alone."""
    frames = []
    for number, at in enumerate(range(0, len(samples), block)):
        part = samples[at : at + block]
        header = b"\xff\xf8" + bytes([0x79, 0x08]) + _coded(number) + (len(part) - 1).to_bytes(2, "big")
        frame = header + bytes([crc8(header)]) + b"\x02" + part.astype(">i2").tobytes()
        frames.append(frame + crc16(frame).to_bytes(2, "big"))
    return frames


def _coded(number: int) -> bytes:
    """A number as UTF-8 has it."""
    return chr(number).encode("utf-8", "surrogatepass")


def noise(count: int, seed: int = 1) -> np.ndarray:
    """Sound of 16 bits in which anything may look like a header."""
    return np.random.default_rng(seed).integers(-32768, 32767, count, np.int16)


def wav(samples: np.ndarray, rate: int = 8000) -> bytes:
    """A WAV file."""
    out = BytesIO()
    with wave.open(out, "wb") as file:
        file.setparams((1, 2, rate, 0, "NONE", ""))
        file.writeframes(samples.astype("<i2").tobytes())
    return out.getvalue()


def aiff(samples: np.ndarray, rate: int = 8000) -> bytes:
    """An AIFF file, its sound before what describes it."""
    shift = 63 - rate.bit_length() + 1
    extended = struct.pack(">HQ", 16383 + 63 - shift, rate << shift)
    common = struct.pack(">hIh", 1, len(samples), 16) + extended
    sound = bytes(8) + samples.astype(">i2").tobytes()
    chunks = b"SSND" + len(sound).to_bytes(4, "big") + sound + b"COMM" + len(common).to_bytes(4, "big") + common
    return b"FORM" + (len(chunks) + 4).to_bytes(4, "big") + b"AIFF" + chunks


def _ogg_crc(data: bytes) -> int:
    register = 0
    for byte in data:
        register ^= byte << 24
        for _ in range(8):
            register = (register << 1 ^ (0x04C11DB7 if register & 0x80000000 else 0)) & 0xFFFFFFFF
    return register


def ogg_page(
    serial: int, number: int, granule: int, packets: Sequence[bytes], flags: int = 0, table: bytes = b""
) -> bytes:
    """A page of whole packets; with a segment table of its own (RFC 3533 §6), of what is part of some."""
    table = table or b"".join(bytes([255]) * (len(one) // 255) + bytes([len(one) % 255]) for one in packets)
    head = b"OggS\0" + bytes([flags]) + struct.pack("<qIII", granule, serial, number, 0) + bytes([len(table)]) + table
    page = head + b"".join(packets)
    return page[:22] + struct.pack("<I", _ogg_crc(page)) + page[26:]


def ogg_pages(count: int, serial: int = 7, *, ended: bool = True) -> list[bytes]:
    """Opus: two pages of headers and so many of sound, a second each."""
    opus = b"OpusHead\x01\x02" + struct.pack("<HIh", 312, 48_000, 0) + b"\0"
    pages = [ogg_page(serial, 0, 0, [opus], 2), ogg_page(serial, 1, 0, [b"OpusTags" + bytes(8)])]
    for number in range(count):
        last = 4 if ended and number == count - 1 else 0
        packets = [bytes([number & 255]) * 100] * 50
        pages.append(ogg_page(serial, number + 2, 312 + 48_000 * (number + 1), packets, last))
    return pages


def joined(parts: Iterable[bytes]) -> bytes:
    """All of them."""
    return b"".join(parts)


def gzip_of(data: bytes) -> bytes:
    """Packed."""
    packer = zlib.compressobj(6, zlib.DEFLATED, 31)
    return packer.compress(data) + packer.flush()
