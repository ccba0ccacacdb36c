"""What Matroska says of a codec in CodecPrivate, codec by codec, and what the middle says: one into the other.

Follows the codec mappings of Matroska and WebM (RFC 9559 §5.1.4.1.22); Opus after RFC 7845 §5.1, FLAC after RFC 9639
§8. Which codec has which of these is in the table of codecs.
"""

from collections.abc import Callable

import msgspec
from msgspec.structs import replace

from mudlark.media.picture import avc, hevc, vp
from mudlark.media.samples import Format
from mudlark.media.sound import ac3, mpeg_audio, opus

_OPUS_HEAD = b"OpusHead"
_AAC_FRAME = 1024


def _kept(format: Format, private: bytes) -> Format:
    return replace(format, config=private)


def _config(format: Format) -> bytes:
    return format.config


def _complete(format: Format, private: bytes, frame: bytes) -> Format:
    return format


class Private(msgspec.Struct, frozen=True):
    """read: a format with what CodecPrivate says of it. write: the CodecPrivate of a format. complete: a format with
    what only its first frame tells, whose head is given."""

    read: Callable[[Format, bytes], Format] = _kept
    write: Callable[[Format], bytes] = _config
    complete: Callable[[Format, bytes, bytes], Format] = _complete


def _read_avc(format: Format, private: bytes) -> Format:
    return replace(format, config=private, codec=avc.label(private, "avc1"))


def _read_hevc(format: Format, private: bytes) -> Format:
    return replace(format, config=private, codec=hevc.label(private, "hvc1"))


def _read_aac(format: Format, private: bytes) -> Format:
    if not private:
        return format
    return replace(format, config=private, codec=f"mp4a.40.{private[0] >> 3}", sample_duration=_AAC_FRAME)


def _read_opus(format: Format, private: bytes) -> Format:
    config = opus.audio_format(format.channels).config
    if private[:8] == _OPUS_HEAD and len(private) >= 19:
        skip, rate, gain = private[10:12][::-1], private[12:16][::-1], private[16:18][::-1]
        config = bytes([0]) + private[9:10] + skip + rate + gain + private[18:]
    elif private:
        config = b""  # something else stands in its place, which no decoder takes
    return replace(format, config=config, timescale=opus.RATE, sample_rate=opus.RATE)


def _write_opus(format: Format) -> bytes:
    config = format.config
    if len(config) < 11:
        return config
    skip, rate, gain = config[2:4][::-1], config[4:8][::-1], config[8:10][::-1]
    return _OPUS_HEAD + b"\1" + config[1:2] + skip + rate + gain + config[10:]


def _complete_opus(format: Format, private: bytes, frame: bytes) -> Format:
    return format if format.sample_duration else replace(format, sample_duration=opus.packet_duration(frame))


def _read_flac(format: Format, private: bytes) -> Format:
    config = bytes(4) + private.removeprefix(b"fLaC")
    least, most = int.from_bytes(config[8:10], "big"), int.from_bytes(config[10:12], "big")
    return replace(format, config=config, sample_duration=most if least == most else 0)


def _write_flac(format: Format) -> bytes:
    return b"fLaC" + format.config[4:]


def _nothing(format: Format, private: bytes) -> Format:
    return format


def _no_bytes(format: Format) -> bytes:
    return b""


def _complete_vp9(format: Format, private: bytes, frame: bytes) -> Format:
    if format.config:
        return format
    config = vp.vp9_configuration(frame, _features(private), (format.width, format.height))
    return replace(format, config=config, codec=vp.label(config, "vp09"))


def _complete_vp8(format: Format, private: bytes, frame: bytes) -> Format:
    return format if format.config else replace(format, config=vp.vp8_configuration(), codec="vp08")


def _features(private: bytes) -> dict[int, int]:
    """What a VP9 track states: identifiers and values of one byte each."""
    features, at = {}, 0
    while at + 2 < len(private) and private[at + 1] == 1:
        features[private[at]] = private[at + 2]
        at += 3
    return features


def _by_frame(describe: Callable[[bytes], Format], least: int) -> Callable[[Format, bytes, bytes], Format]:
    """Completes a format by the header of a frame, of so many bytes at least."""

    def complete(format: Format, private: bytes, frame: bytes) -> Format:
        if len(frame) < least:
            return format
        return replace(describe(frame), language=format.language, timescale=format.timescale)

    return complete


AS_IT_IS = Private()
AVC, HEVC, AAC = Private(_read_avc), Private(_read_hevc), Private(_read_aac)
VP9 = Private(_nothing, _no_bytes, _complete_vp9)
VP8 = Private(_nothing, _no_bytes, _complete_vp8)
MP3 = Private(_nothing, _no_bytes, _by_frame(mpeg_audio.audio_format, 4))
AC3 = Private(_nothing, _no_bytes, _by_frame(ac3.audio_format, 8))
OPUS = Private(_read_opus, _write_opus, _complete_opus)
FLAC = Private(_read_flac, _write_flac)
