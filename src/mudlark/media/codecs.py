"""The codecs that readers and writers know, one row each: what describes them in each container.

Sample entries are registered for ISO/IEC 14496-12 files; the Matroska names are those of
its codec registry. `config` of a Format holds the content of `config_box` (of `esds` only the AudioSpecificConfig).
"""

from collections.abc import Callable
from typing import Any

from mudlark.media.codec_names import CODEC_NAMES, CodecName
from mudlark.media.matroska import private
from mudlark.media.matroska.private import Private
from mudlark.media.picture import avc, hevc, vp
from mudlark.media.picture.av1 import label as av1_label
from mudlark.media.plausible import (
    Misfits,
    aac_blocks,
    ac3_frames,
    anything,
    av1_units,
    flac_frames,
    jpeg_pictures,
    mpeg_frames,
    nal_units,
    opus_packets,
    prores_pictures,
    start_codes,
    texts,
    time_codes,
    vorbis_packets,
    vp8_dependent,
    vp8_frames,
    vp9_dependent,
    vp9_frames,
)
from mudlark.media.samples import Bytes, Flags, Format, Ints
from mudlark.media.sound import ac3, ac3_silence, adts, mpeg_audio, opus


def _silence_of_ac3(format: Format, neighbour: bytes) -> bytes | None:
    return ac3_silence.silence(neighbour, ac3.frame_size(neighbour))


def _as_named(config: bytes, kind: str) -> str:
    return kind


def _no_silence(format: Format, neighbour: bytes) -> bytes | None:
    return None


class Codec(CodecName, frozen=True):
    """entry: its MP4 sample entry. config_box: the box inside of that. matroska: its name there, and private: what
    is said of it there. misfits: finds samples that do not look like it. label: its RFC 6381 name, of a
    configuration and the kind of its sample entry. silence: a frame in which nothing is heard, of a format and the
    head of another frame; it gives None where none is known. extension: of a file that holds nothing else. zeros:
    bytes of zeros in a row that no sample of it holds; 0 where they may be any number. filled: its encoders may leave
    more of them in the midst of a sample, so that so many are damage only over its beginning. lax: there are writers
    whose samples do not look like it all the way through. reorders: pictures are decoded in another order than they
    are shown in. varies: its frames may last differently. dependent: finds samples at which decoding cannot begin;
    None where that is not easily seen.
    """

    entry: str
    config_box: str
    matroska: str
    private: Private
    misfits: Misfits
    label: Callable[[bytes, str], str] = _as_named
    silence: Callable[[Format, bytes], bytes | None] = _no_silence
    extension: str = ""
    zeros: int = 0
    filled: bool = False
    lax: bool = False
    reorders: bool = False
    varies: bool = False
    dependent: Callable[[Bytes, Ints, Ints], Flags] | None = None


_NAMES = {name.short: name for name in CODEC_NAMES}


def _row(short: str, *given: Any, **named: Any) -> Codec:
    name = _NAMES[short]
    return Codec(name.words, short, name.type, name.prefixes, *given, **named)


# NAL units hold no three zeros in a row (H.264 §7.4.1, H.265 §7.4.2.1); entropy codes have no long runs of them
CODECS = (
    _row("avc", "avc1", "avcC", "V_MPEG4/ISO/AVC", private.AVC, nal_units, avc.label, zeros=32, reorders=True),
    _row("hevc", "hvc1", "hvcC", "V_MPEGH/ISO/HEVC", private.HEVC, nal_units, hevc.label, zeros=32, reorders=True),
    _row("av1", "av01", "av1C", "V_AV1", private.AS_IT_IS, av1_units, av1_label, zeros=512),
    _row("vp9", "vp09", "vpcC", "V_VP9", private.VP9, vp9_frames, vp.label, zeros=512, dependent=vp9_dependent),
    _row("vp8", "vp08", "vpcC", "V_VP8", private.VP8, vp8_frames, zeros=512, dependent=vp8_dependent),
    _row(
        "aac",
        "mp4a",
        "esds",
        "A_AAC",
        private.AAC,
        aac_blocks,
        silence=lambda format, _: adts.silence(format.config),
        extension=".aac",
        zeros=512,
        lax=True,
    ),
    _row(
        "mp3",
        "mp4a",
        "esds",
        "A_MPEG/L3",
        private.MP3,
        mpeg_frames,
        silence=lambda _, neighbour: mpeg_audio.silence(neighbour),
        extension=".mp3",
    ),
    _row("ac3", "ac-3", "dac3", "A_AC3", private.AC3, ac3_frames, silence=_silence_of_ac3, extension=".ac3"),
    _row("eac3", "ec-3", "dec3", "A_EAC3", private.AC3, ac3_frames, silence=_silence_of_ac3, extension=".eac3"),
    _row(
        "opus",
        "Opus",
        "dOps",
        "A_OPUS",
        private.OPUS,
        opus_packets,
        silence=lambda format, _: opus.silence(format.sample_duration * opus.RATE // format.timescale),
        extension=".opus",
        zeros=256,
        filled=True,  # between what is coded from the front and what from the back (RFC 6716 §5.1.5)
        varies=True,
    ),
    _row("vorbis", "", "", "A_VORBIS", private.AS_IT_IS, vorbis_packets, extension=".ogg", zeros=256, varies=True),
    _row("flac", "fLaC", "dfLa", "A_FLAC", private.FLAC, flac_frames, extension=".flac", varies=True),
)
IN_PIECES = "{} in pieces"  # sound of AVI whose frames do not begin where chunks do
# what is not read into films, and still is known well enough to be looked at
_OTHERS: dict[str, Misfits] = {
    **dict.fromkeys(("tx3g", "text"), texts),
    "tmcd": time_codes,
    **dict.fromkeys(("jpeg", "mjpa", "V_MJPEG"), jpeg_pictures),
    **dict.fromkeys(("apch", "apcn", "apcs", "apco", "ap4h", "ap4x"), prores_pictures),
    **dict.fromkeys(("mp4v", "V_MPEG2", "V_MPEG1", "m2v1"), start_codes),
    **dict.fromkeys(("sowt", "twos", "lpcm", "ipcm", "fpcm", "in24", "in32", "fl32", "fl64", "raw "), anything),
    **dict.fromkeys(("ulaw", "alaw", "A_PCM", "S_TEXT"), anything),
    **dict.fromkeys((IN_PIECES.format(words) for words in ("MP3", "AC-3", "AAC")), anything),
}


WEBM = frozenset({"VP8", "VP9", "AV1", "Opus", "Vorbis"})  # what a WebM file may hold


def codec_of(name: str) -> Codec | None:
    """The codec that an RFC 6381 name, or a sample entry, means, with all that is known of it."""
    return next((codec for codec in CODECS if name.startswith(codec.prefixes)), None)


def misfits_of(name: str) -> Misfits | None:
    """What finds samples that do not look like a codec; None for one of which nothing is known."""
    codec = codec_of(name)
    return codec.misfits if codec else next((look for begin, look in _OTHERS.items() if name.startswith(begin)), None)


def silent_frame(format: Format, neighbour: bytes) -> bytes | None:
    """A frame of a format in which nothing is heard; None where none is known. neighbour: how a frame of it begins."""
    codec = codec_of(format.codec)
    return codec.silence(format, neighbour) if codec else None
