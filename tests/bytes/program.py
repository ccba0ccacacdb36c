"""Program streams by hand (ISO/IEC 13818-1 §2.5, 13818-2 §6.2): pictures of MPEG-2, and frames of MPEG audio."""

from random import Random

from tests import sounds

ROWS, PER_SECOND = 9, 25  # 144 lines
END = b"\0\0\1\xb9"


def stamp(mark: int, ticks: int) -> bytes:
    """A time of 33 bits (§2.4.3.7)."""
    parts = (ticks >> 30 & 7, ticks >> 15 & 0x7FFF, ticks & 0x7FFF)
    return bytes([mark << 4 | parts[0] << 1 | 1]) + b"".join((part << 1 | 1).to_bytes(2, "big") for part in parts[1:])


def pack(ticks: int) -> bytes:
    """A pack header, its clock and two bytes of stuffing (§2.5.3.3)."""
    clock = (
        1 << 46 | (ticks >> 30 & 7) << 43 | 1 << 42 | (ticks >> 15 & 0x7FFF) << 27 | 1 << 26 | (ticks & 0x7FFF) << 11
    )
    return b"\0\0\1\xba" + (clock | 1 << 10 | 1).to_bytes(6, "big") + b"\0\x10\x83" + b"\xfa" + b"\xff\xff"


def packet(number: int, body: bytes, ticks: int | None) -> bytes:
    """A packet of MPEG-2 (§2.5.3.5)."""
    times = b"" if ticks is None else stamp(2, ticks)
    head = b"\x80" + (b"\x80" if times else b"\0") + bytes([len(times)]) + times
    return b"\0\0\1" + bytes([number]) + (len(head) + len(body)).to_bytes(2, "big") + head + body


def packet_of_mpeg_1(number: int, body: bytes, ticks: int) -> bytes:
    """ISO/IEC 11172-1 §2.4.3.3."""
    head = b"\xff\xff" + stamp(2, ticks)
    return b"\0\0\1" + bytes([number]) + (len(head) + len(body)).to_bytes(2, "big") + head + body


def picture(number: int) -> bytes:
    """A sequence header with its extension before each twelfth, a picture header, a slice of each row."""
    data = b""
    if number % 12 == 0:
        data += b"\0\0\1\xb3" + (176 << 12 | 144).to_bytes(3, "big") + b"\x13\xff\xff\xe0\x18"
        data += b"\0\0\1\xb5\x14\x8a\0\1\0\0"
    data += b"\0\0\1\0" + ((number % 12) << 6 | 0x08).to_bytes(2, "big") + b"\xff\xf8"
    chance = Random(number)
    for row in range(1, ROWS + 1):
        data += b"\0\0\1" + bytes([row]) + bytes(chance.randrange(1, 256) for _ in range(60))
    return data


def film(count: int = 50, *, end: bytes = END, mpeg_1: bool = False) -> list[bytes]:
    """Packs, one for each picture and the sound beside it."""
    sound = sounds.mp3(count * 40 // 26 + 1)
    parts = []
    for number in range(count):
        ticks = 90_000 + number * 3600
        beside = sound[number * len(sound) // count : (number + 1) * len(sound) // count]
        made = packet_of_mpeg_1 if mpeg_1 else packet
        parts.append(pack(ticks) + made(0xE0, picture(number), ticks) + made(0xC0, beside, ticks))
    return [*parts, end]
