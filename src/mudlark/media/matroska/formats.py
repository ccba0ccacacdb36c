"""How Matroska describes the format of a track, and how the middle does: one into the other.

Follows RFC 9559 §5.1.4 and the codec mappings of Matroska and WebM; Opus after RFC 7845 §5.1, FLAC after RFC 9639 §8.
"""

from collections.abc import Mapping
from dataclasses import replace

from mudlark.media.codecs import CODECS, Codec, codec_of
from mudlark.media.matroska import names
from mudlark.media.matroska.ebml import element, number_in, real, real_number, unsigned
from mudlark.media.picture import hevc, vp
from mudlark.media.picture.colour import Colour, Mastering
from mudlark.media.samples import Format
from mudlark.media.sound import ac3, mpeg_audio, opus

_BARE = frozenset({"MP3", "AC-3", "E-AC-3", "VP8", "VP9"})  # need no description beside their frames
_OPUS_HEAD = b"OpusHead"


def format_of(values: Mapping[int, bytes], kind: int) -> Format:
    """The format that a track entry describes, as far as it does without its first frame. kind: 1 video, 2 sound."""
    name = codec_id(values)
    codec = _codec(name)
    private = values.get(names.CODEC_PRIVATE, b"")
    described = codec.prefixes[0] if codec else name
    if kind == 1:
        width, height = (number_in(values.get(key, b"")) for key in (names.PIXEL_WIDTH, names.PIXEL_HEIGHT))
        if codec and codec.words == "H.264":
            described = f"avc1.{private[1:4].hex()}"
        elif codec and codec.words == "HEVC" and len(private) > 12:
            described = hevc.codec_name(private[1:13], "hvc1")
        config = private if codec and codec.words not in _BARE else b""
        aspect, colour = _aspect(values, width, height), _colour(values)
        return Format("video", described, 1000, config, 0, width, height, aspect, colour=colour)
    rate = round(real_number(values.get(names.SAMPLING_FREQUENCY, b"")))
    channels = number_in(values.get(names.CHANNELS, b"\1"))
    config, duration = private, 0
    if codec and codec.words == "AAC" and private:
        described = f"mp4a.40.{private[0] >> 3}"
        duration = 1024
    elif codec and codec.words == "Opus":
        config, rate = _opus_config(private, channels), opus.RATE
    elif codec and codec.words == "FLAC":
        config = bytes(4) + private.removeprefix(b"fLaC")
        least, most = int.from_bytes(config[8:10], "big"), int.from_bytes(config[10:12], "big")
        duration = most if least == most else 0
    elif codec and codec.words in _BARE:
        config = b""
    return Format("audio", described, rate or 1000, config, duration, channels=channels, sample_rate=rate)


def codec_id(values: Mapping[int, bytes]) -> str:
    """The codec that a track entry names."""
    return values.get(names.CODEC_ID, b"").decode("ascii", "replace").rstrip("\0")


def completed(format: Format, private: bytes, frame: bytes) -> Format:
    """The format with what only its first frame tells."""
    codec = codec_of(format.codec)
    if codec is None:
        return format
    if codec.words == "VP9" and not format.config:
        config = vp.vp9_configuration(frame, _features(private), (format.width, format.height))
        name = f"vp09.{config[4]:02d}.{config[5]:02d}.{config[6] >> 4:02d}"
        return replace(format, config=config, codec=name)
    if codec.words == "VP8" and not format.config:
        return replace(format, config=vp.vp8_configuration(), codec="vp08")
    if codec.words == "Opus" and not format.sample_duration:
        return replace(format, sample_duration=opus.packet_duration(frame))
    told = None
    if codec.words in ("AC-3", "E-AC-3") and len(frame) >= 8:
        told = ac3.audio_format(frame[:64])
    elif codec.words == "MP3" and len(frame) >= 4:
        told = mpeg_audio.audio_format(frame[:4])
    if told is None:
        return format
    return replace(told, language=format.language, timescale=format.timescale, sample_duration=told.sample_duration)


def codec_private(format: Format) -> bytes:
    """What a decoder must know, as Matroska has it."""
    codec = codec_of(format.codec)
    if codec is None or codec.words in _BARE:
        return b""
    config = format.config
    if codec.words == "Opus" and len(config) >= 11:
        skip, rate, gain = config[2:4][::-1], config[4:8][::-1], config[8:10][::-1]
        return _OPUS_HEAD + b"\1" + config[1:2] + skip + rate + gain + config[10:]
    if codec.words == "FLAC":
        return b"fLaC" + config[4:]
    return config


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


def _opus_config(private: bytes, channels: int) -> bytes:
    if private[:8] != _OPUS_HEAD or len(private) < 19:
        return opus.audio_format(channels).config
    skip, rate, gain = private[10:12][::-1], private[12:16][::-1], private[16:18][::-1]
    return bytes([0]) + private[9:10] + skip + rate + gain + private[18:]


def _features(private: bytes) -> dict[int, int]:
    """What a VP9 track states: identifiers and values of one byte each."""
    features, at = {}, 0
    while at + 2 < len(private) and private[at + 1] == 1:
        features[private[at]] = private[at + 2]
        at += 3
    return features


def _aspect(values: Mapping[int, bytes], width: int, height: int) -> tuple[int, int]:
    """Width and height of one pixel, by the size at which the picture is to be shown."""
    if number_in(values.get(names.DISPLAY_UNIT, b"")):
        return (1, 1)
    wide = number_in(values.get(names.DISPLAY_WIDTH, b"")) or width
    high = number_in(values.get(names.DISPLAY_HEIGHT, b"")) or height
    if not (width and height) or wide * height == high * width:
        return (1, 1)
    return (wide * height, high * width)
