"""AVI by hand (RIFF, AVISTREAMHEADER, OpenDML 1.02): pictures in JPEG, and plain sound."""

import io
import struct

import numpy as np
from PIL import Image

PICTURES, PER_SECOND, RATE = 50, 25, 8000


def chunk(kind: bytes, *parts: bytes) -> bytes:
    """A chunk, and a byte behind it where its size is odd."""
    body = b"".join(parts)
    return kind + struct.pack("<I", len(body)) + body + bytes(len(body) & 1)


def listed(kind: bytes, *parts: bytes, name: bytes = b"LIST") -> bytes:
    return chunk(name, kind, *parts)


def jpeg(number: int) -> bytes:
    y, x = np.mgrid[0:48, 0:64]
    pixels = ((x * 3 + y * 2 + number * 5) % 256).astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, "JPEG")
    return out.getvalue()


def stream(kind: bytes, codec: bytes, scale: int, rate: int, length: int, unit: int, form: bytes) -> bytes:
    """strl: AVISTREAMHEADER, and BITMAPINFOHEADER or WAVEFORMATEX."""
    head = kind + codec + struct.pack("<IHHIIIIIIII4H", 0, 0, 0, 0, scale, rate, 0, length, 0, 0, unit, 0, 0, 64, 48)
    return listed(b"strl", chunk(b"strh", head), chunk(b"strf", form))


def film(
    count: int = PICTURES, *, stated: int | None = None, shift: int = 0, opendml: bool = False, behind: bytes = b""
) -> bytes:
    """Pictures and a fifth of their sound with each five. stated: pictures that the header states. shift: added to a
    place in the index. opendml: the second half in a part of its own."""
    stated = count if stated is None else stated
    picture = struct.pack("<IiiHH4sIiiII", 40, 64, 48, 1, 24, b"MJPG", 64 * 48 * 3, 0, 0, 0, 0)
    sound = struct.pack("<HHIIHHH", 1, 1, RATE, RATE * 2, 2, 16, 0)
    samples = np.random.default_rng(4).integers(-9000, 9000, RATE * count // PER_SECOND, np.int16).astype("<i2")
    avih = struct.pack("<14I", 1_000_000 // PER_SECOND, 0, 0, 0x10, stated, 0, 2, 0, 64, 48, 0, 0, 0, 0)
    header = listed(
        b"hdrl",
        chunk(b"avih", avih),
        stream(b"vids", b"MJPG", 1, PER_SECOND, stated, 0, picture),
        stream(b"auds", bytes(4), 1, RATE, len(samples), 2, sound),
        listed(b"odml", chunk(b"dmlh", struct.pack("<I", stated) + bytes(244))) if opendml else b"",
    )
    parts: list[list[bytes]] = [[], []]
    for number in range(count):
        half = parts[int(opendml and number >= count // 2)]
        half.append(chunk(b"00dc", jpeg(number)))
        if number % 5 == 4:
            some = samples[(number - 4) * RATE // PER_SECOND : (number + 1) * RATE // PER_SECOND]
            half.append(chunk(b"01wb", some.tobytes()))
    rows, at = b"", 4
    for one in parts[0]:
        rows += one[:4] + struct.pack("<III", 0x10, at + shift, struct.unpack("<I", one[4:8])[0])
        at += len(one)
    data = listed(
        b"AVI ", header, chunk(b"JUNK", bytes(500)), listed(b"movi", *parts[0]), chunk(b"idx1", rows), name=b"RIFF"
    )
    return data + (listed(b"AVIX", listed(b"movi", *parts[1]), name=b"RIFF") if opendml else b"") + behind
