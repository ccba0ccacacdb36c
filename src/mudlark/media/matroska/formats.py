"""How Matroska describes the format of a track, and how the middle does: one into the other (RFC 9559 §5.1.4)."""

from collections.abc import Mapping
from math import gcd

from msgspec.structs import replace

from mudlark.media.codecs import CODECS, Codec, codec_of
from mudlark.media.matroska import names
from mudlark.media.matroska.ebml import element, number_in, real, real_number, unsigned
from mudlark.media.picture.colour import Colour, Mastering
from mudlark.media.samples import Format
from mudlark.media.sound import opus

_HEAD = 64  # bytes of a frame that are looked at
_MOST_PIXELS, _MOST_CHANNELS = (1 << 31) - 1, 255  # that other files can state, and the middle has; more is a mistake


def format_of(values: Mapping[int, bytes], kind: int) -> Format:
    """The format that a track entry describes, as far as it does without its first frame. kind: 1 video, 2 sound."""
    name = codec_id(values)
    codec = _codec(name)
    described = codec.prefixes[0] if codec else name
    if kind == 1:
        sides = (number_in(values.get(key, b"")) for key in (names.PIXEL_WIDTH, names.PIXEL_HEIGHT))
        width, height = (min(side, _MOST_PIXELS) for side in sides)
        aspect, colour = _aspect(values, width, height), _colour(values)
        format = Format("video", described, 1000, b"", 0, width, height, aspect, colour=colour)
    else:
        rate = round(real_number(values.get(names.SAMPLING_FREQUENCY, b"")))
        channels = min(number_in(values.get(names.CHANNELS, b"\1")), _MOST_CHANNELS)
        format = Format("audio", described, rate or 1000, b"", channels=channels, sample_rate=rate)
    return codec.private.read(format, values.get(names.CODEC_PRIVATE, b"")) if codec else format


def codec_id(values: Mapping[int, bytes]) -> str:
    """The codec that a track entry names."""
    return values.get(names.CODEC_ID, b"").decode("ascii", "replace").rstrip("\0")


def completed(format: Format, private: bytes, frame: bytes) -> Format:
    """The format with what only its first frame tells."""
    codec = codec_of(format.codec)
    if codec is None:
        return format
    told = codec.private.complete(format, private, frame[:_HEAD])
    return told if told is format else replace(told, prefix=format.prefix, deflated=format.deflated)


def codec_private(format: Format) -> bytes:
    """What a decoder must know, as Matroska has it."""
    codec = codec_of(format.codec)
    return codec.private.write(format) if codec else b""


def codec_delay(format: Format) -> int:
    """Nanoseconds of sound before the first that is heard."""
    codec = codec_of(format.codec)
    if codec is None or codec.words != "Opus" or len(format.config) < 4:
        return format.priming * 1_000_000_000 // format.timescale
    return int.from_bytes(format.config[2:4], "big") * 1_000_000_000 // opus.RATE


def _colour(values: Mapping[int, bytes]) -> Colour | None:
    """The colours that a track entry states, with all that is inside of its Colour; None if it states none."""
    primaries, transfer, matrix = (
        number_in(values.get(key, b"\2")) for key in (names.PRIMARIES, names.TRANSFER, names.MATRIX)
    )
    places = [real_number(values.get(key, b"")) for key in names.CHROMATICITIES]
    mastering = None
    if any(places):
        red, green, blue, white = zip(places[::2], places[1::2], strict=True)
        brightest, darkest = (real_number(values.get(key, b"")) for key in (names.LUMINANCE_MAX, names.LUMINANCE_MIN))
        mastering = Mastering(red, green, blue, white, brightest, darkest)
    light = None
    if names.MAX_CLL in values or names.MAX_FALL in values:
        light = number_in(values.get(names.MAX_CLL, b"")), number_in(values.get(names.MAX_FALL, b""))
    spread = {1: False, 2: True}.get(number_in(values.get(names.RANGE, b"")))
    found = Colour(primaries, transfer, matrix, spread, mastering, light)
    return found if found != Colour() else None


def colour_element(colour: Colour) -> bytes:
    """The element that states these colours (RFC 9559 §5.1.4.1.28.16)."""
    parts = [
        unsigned(names.MATRIX, colour.matrix),
        unsigned(names.RANGE, {None: 0, False: 1, True: 2}[colour.full_range]),
        unsigned(names.TRANSFER, colour.transfer),
        unsigned(names.PRIMARIES, colour.primaries),
    ]
    if colour.light is not None:
        parts += [unsigned(names.MAX_CLL, colour.light[0]), unsigned(names.MAX_FALL, colour.light[1])]
    if (display := colour.mastering) is not None:
        places = [value for point in (display.red, display.green, display.blue, display.white) for value in point]
        inside = [real(key, value) for key, value in zip(names.CHROMATICITIES, places, strict=True)]
        inside += [real(names.LUMINANCE_MAX, display.brightest), real(names.LUMINANCE_MIN, display.darkest)]
        parts.append(element(names.MASTERING, *inside))
    return element(names.COLOUR, *parts)


def _codec(name: str) -> Codec | None:
    name = "A_MPEG/L3" if name.startswith("A_MPEG/L") else name  # layers that one reader reads
    return next((codec for codec in CODECS if codec.matroska and name.startswith(codec.matroska)), None)


def _aspect(values: Mapping[int, bytes], width: int, height: int) -> tuple[int, int]:
    """Width and height of one pixel, by the size at which the picture is to be shown."""
    if number_in(values.get(names.DISPLAY_UNIT, b"")):
        return (1, 1)
    wide = number_in(values.get(names.DISPLAY_WIDTH, b"")) or width
    high = number_in(values.get(names.DISPLAY_HEIGHT, b"")) or height
    if not (width and height) or wide * height == high * width:
        return (1, 1)
    common = gcd(wide * height, high * width)
    aspect = wide * height // common, high * width // common
    return aspect if max(aspect) < 1 << 32 else (1, 1)  # more is a mistake
