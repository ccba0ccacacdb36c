"""Colours of a picture as containers state them beside its codec, and what a decoder must know to show them right.

Code points are those of ISO/IEC 23091-2 (ITU-T H.273); mastering data are those of SMPTE ST 2086, light levels those of
CTA-861.3. MP4 has them in the boxes `colr`, `mdcv` and `clli` (ISO/IEC 14496-12 §12.1.5), Matroska in the element
Colour (RFC 9559 §5.1.4.1.28.16).
"""

from collections.abc import Mapping

import msgspec

_CHROMATICITY, _LUMINANCE = 50_000, 10_000  # steps of 1 and of a candela a square metre in `mdcv`


class Mastering(msgspec.Struct, frozen=True):
    """Of the display on which a picture was mastered. red, green, blue, white: chromaticities x and y; brightest and
    darkest: candela a square metre."""

    red: tuple[float, float]
    green: tuple[float, float]
    blue: tuple[float, float]
    white: tuple[float, float]
    brightest: float
    darkest: float


class Colour(msgspec.Struct, frozen=True):
    """primaries, transfer, matrix: code points, 2 where not stated. full_range: None where not stated. light: largest
    level of a picture and of the average of one, candela a square metre."""

    primaries: int = 2
    transfer: int = 2
    matrix: int = 2
    full_range: bool | None = None
    mastering: Mastering | None = None
    light: tuple[int, int] | None = None


def from_boxes(boxes: Mapping[str, bytes]) -> Colour | None:
    """The colours that the boxes of a sample entry state; None if none does."""
    stated, mastering, light = boxes.get("colr", b""), None, None
    primaries = transfer = matrix = 2
    full_range = None
    if stated[:4] in (b"nclx", b"nclc") and len(stated) >= 10:
        primaries, transfer, matrix = (int.from_bytes(stated[at : at + 2], "big") for at in (4, 6, 8))
        full_range = bool(stated[10] & 0x80) if stated[:4] == b"nclx" and len(stated) > 10 else None
    if len(data := boxes.get("mdcv", b"")) >= 24:
        green, blue, red, white = (_point(data, at) for at in (0, 4, 8, 12))
        lights = (int.from_bytes(data[at : at + 4], "big") / _LUMINANCE for at in (16, 20))
        mastering = Mastering(red, green, blue, white, *lights)
    if len(data := boxes.get("clli", b"")) >= 4:
        light = int.from_bytes(data[:2], "big"), int.from_bytes(data[2:4], "big")
    found = Colour(primaries, transfer, matrix, full_range, mastering, light)
    return found if found != Colour() else None


def _point(data: bytes, at: int) -> tuple[float, float]:
    x, y = (int.from_bytes(data[place : place + 2], "big") / _CHROMATICITY for place in (at, at + 2))
    return x, y


def to_boxes(colour: Colour) -> dict[str, bytes]:
    """The content of the boxes that state these colours, by their kinds."""
    boxes = {}
    if (colour.primaries, colour.transfer, colour.matrix, colour.full_range) != (2, 2, 2, None):
        codes = b"".join(code.to_bytes(2, "big") for code in (colour.primaries, colour.transfer, colour.matrix))
        boxes["colr"] = b"nclx" + codes + bytes([0x80 if colour.full_range else 0])
    if (display := colour.mastering) is not None:
        points = (display.green, display.blue, display.red, display.white)
        steps = b"".join(_steps(value, _CHROMATICITY, 2) for point in points for value in point)
        boxes["mdcv"] = steps + _steps(display.brightest, _LUMINANCE, 4) + _steps(display.darkest, _LUMINANCE, 4)
    if colour.light is not None:
        boxes["clli"] = b"".join(min(level, 0xFFFF).to_bytes(2, "big") for level in colour.light)
    return boxes


def _steps(value: float, scale: int, size: int) -> bytes:
    return min(max(0, round(value * scale)), (1 << 8 * size) - 1).to_bytes(size, "big")
