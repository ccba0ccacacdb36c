"""What codecs are called: for people, by options, and in manifests and sample entries (RFC 6381)."""

from typing import Literal

import msgspec


class CodecName(msgspec.Struct, frozen=True):
    """words: for people. short: as options name it. prefixes: how its RFC 6381 names begin."""

    words: str
    short: str
    type: Literal["video", "audio"]
    prefixes: tuple[str, ...]


CODEC_NAMES = (
    CodecName("H.264", "avc", "video", ("avc1", "avc3")),
    CodecName("HEVC", "hevc", "video", ("hvc1", "hev1")),
    CodecName("AV1", "av1", "video", ("av01",)),
    CodecName("VP9", "vp9", "video", ("vp09", "vp9")),
    CodecName("VP8", "vp8", "video", ("vp08", "vp8")),
    CodecName("AAC", "aac", "audio", ("mp4a.40", "mp4a.66", "mp4a.67", "mp4a.68")),
    CodecName("MP3", "mp3", "audio", ("mp4a.6B", "mp4a.69", "mp4a.6b", "mp3")),
    CodecName("AC-3", "ac3", "audio", ("ac-3", "mp4a.a5", "mp4a.A5")),
    CodecName("E-AC-3", "eac3", "audio", ("ec-3", "mp4a.a6", "mp4a.A6")),
    CodecName("Opus", "opus", "audio", ("opus", "Opus")),
    CodecName("Vorbis", "vorbis", "audio", ("vorbis",)),
    CodecName("FLAC", "flac", "audio", ("flac", "fLaC")),
)


def codec_named(name: str) -> CodecName | None:
    """The codec that an RFC 6381 name, or a sample entry, means."""
    return next((codec for codec in CODEC_NAMES if name.startswith(codec.prefixes)), None)


def is_sound(name: str) -> bool:
    """True for the name of a codec of sound."""
    codec = codec_named(name)
    return codec is not None and codec.type == "audio"
