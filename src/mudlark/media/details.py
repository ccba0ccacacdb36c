"""What a format says of itself beyond its codec, in the words of its standard: profile and level, depth and sampling of
the picture, its aspect, rotation and colours; and how regular the pictures of a track are."""

import math
from collections.abc import Iterable
from contextlib import suppress

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.errors import FormatError
from mudlark.media.codecs import codec_of
from mudlark.media.movie import ReadAt, TrackIndex
from mudlark.media.picture import avc, hevc
from mudlark.media.picture.inband import parameter_sets
from mudlark.media.samples import Format
from mudlark.media.sound.aac import read_config
from mudlark.media.sound.hints import LONGEST, SOME, hints_in

_AVC = {66: "Baseline", 77: "Main", 88: "Extended", 100: "High", 110: "High 10", 122: "High 4:2:2", 244: "High 4:4:4"}
_HEVC = {1: "Main", 2: "Main 10", 3: "Main Still Picture", 4: "Range Extensions", 9: "Screen Content"}
_AV1 = ("Main", "High", "Professional")
_SAMPLING = ("4:0:0", "4:2:0", "4:2:2", "4:4:4")
_PRIMARIES = {1: "BT.709", 5: "BT.470 BG", 6: "BT.601", 9: "BT.2020", 11: "DCI-P3", 12: "Display P3"}  # H.273 §8.1
_TRANSFERS = {16: "PQ", 18: "HLG"}  # §8.2: those that are not shown as others are
_ODD, _APART = 0.02, 0.05  # share of pictures that last otherwise, by so much of the usual, where the rate varies


class Details(msgspec.Struct, frozen=True):
    """profile: with its level. depth: bits a sample. sampling: of colours. aspect: width and height of a pixel, if it
    is no square. rotation: degrees clockwise by which it is to be turned. colours: in words. All None if not known."""

    profile: str | None = None
    depth: int | None = None
    sampling: str | None = None
    aspect: tuple[int, int] | None = None
    rotation: int | None = None
    colours: str | None = None


def details_of(format: Format) -> Details:
    """What a format says of itself."""
    codec = codec_of(format.codec)
    words = codec.words if codec else ""
    try:
        profile, depth, sampling = _coded(words, format)
    except (FormatError, IndexError, StopIteration):
        profile, depth, sampling = None, None, None
    square = format.pixel_aspect[0] == format.pixel_aspect[1]
    return Details(
        profile, depth, sampling, None if square else format.pixel_aspect, _rotation(format.matrix), _colours(format)
    )


def _coded(words: str, format: Format) -> tuple[str | None, int | None, str | None]:
    config = format.config
    if words == "AAC" and config:
        return read_config(config, hints=format.hints).words, None, None
    if words == "H.264" and len(config) > 4:
        seen = avc.parse_sps(_first_set(format, 7, 31, 0))
        name = "Constrained Baseline" if seen.profile == 66 and seen.constraints & 0x40 else _AVC.get(seen.profile, "")
        return f"{name} {seen.level / 10:.1f}".strip(), seen.luma_depth, _SAMPLING[seen.chroma_format & 3]
    if words == "HEVC" and len(config) > 22:
        larger = hevc.parse_sps(_first_set(format, 33, 63, 1))
        tier = " High tier" if larger.general[0] & 0x20 else ""
        name = _HEVC.get(larger.general[0] & 31, "")
        profile = f"{name} {larger.general[11] / 30:.1f}{tier}".strip()
        return profile, larger.luma_depth, _SAMPLING[larger.chroma_format & 3]
    if words == "AV1" and len(config) > 3:
        depth = (12 if config[2] & 0x20 else 10) if config[2] & 0x40 else 8
        halved = config[2] >> 2 & 3
        sampling = "4:0:0" if config[2] & 0x10 else {0: "4:4:4", 2: "4:2:2", 3: "4:2:0"}.get(halved)
        level = config[1] & 31
        name = _AV1[config[1] >> 5] if config[1] >> 5 < len(_AV1) else ""
        return f"{name} {2 + (level >> 2)}.{level & 3}".strip(), depth, sampling
    if words == "VP9" and len(config) > 6:
        sampling = ("4:2:0", "4:2:0", "4:2:2", "4:4:4")[min(3, config[6] >> 1 & 7)]
        return f"Profile {config[4]}", config[6] >> 4, sampling
    return None, None, None


def _first_set(format: Format, kind: int, mask: int, shift: int) -> bytes:
    """The first parameter set of the sequence in a configuration."""
    packed, at = parameter_sets(format.codec, format.config), 0
    while at + 5 <= len(packed):
        size = int.from_bytes(packed[at : at + 4], "big")
        if packed[at + 4] >> shift & mask == kind:
            return packed[at + 4 : at + 4 + size]
        at += 4 + size
    raise FormatError("A configuration has no parameter set of its sequence")


def heed_hints(read: ReadAt, tracks: Iterable[TrackIndex]) -> None:
    """Note of each format of AAC what its frames hint at, of which it does not speak."""
    for track in tracks:
        formats = list(track.formats)
        for number, format in enumerate(formats):
            codec = codec_of(format.codec)
            if codec and codec.words == "AAC" and format.config and not format.deflated:
                own = np.flatnonzero(track.described == number)[:SOME].tolist()
                sizes = np.minimum(track.sizes, LONGEST)  # a damaged table may say anything
                frames = [format.prefix + read(int(track.offsets[one]), int(sizes[one])) for one in own]
                formats[number] = replace(format, hints=hints_in(frames))
        track.formats = tuple(formats)


def heard(format: Format) -> tuple[int, int]:
    """Samples a second, and channels, that are heard, which may be more than are coded where there are hints."""
    if format.hints:
        with suppress(FormatError):
            said = read_config(format.config, hints=format.hints)
            return said.rate, said.channels or format.channels
    return format.sample_rate, format.channels


def _rotation(matrix: bytes) -> int | None:
    """Degrees clockwise, by the first row of a matrix (ISO/IEC 14496-12 §8.3.2)."""
    if len(matrix) < 8:
        return None
    across, down = (int.from_bytes(matrix[at : at + 4], "big", signed=True) for at in (0, 4))
    return round(math.degrees(math.atan2(down, across))) % 360 or None


def _colours(format: Format) -> str | None:
    colour = format.colour
    if colour is None:
        return None
    parts = [_PRIMARIES.get(colour.primaries), _TRANSFERS.get(colour.transfer)]
    parts.append({True: "full range", False: None, None: None}[colour.full_range])
    return ", ".join(part for part in parts if part) or None


class Rate(msgspec.Struct, frozen=True):
    """Pictures a second, on average, or by the usual one where nearly all last as long; least and most: None where they
    do."""

    usual: float | None = None
    least: float | None = None
    most: float | None = None


def rate_of(track: TrackIndex) -> Rate:
    """How many pictures a second a track shows."""
    lasts = np.diff(np.sort(track.pts))
    lasts = lasts[lasts > 0]
    usual = float(np.median(track.durations)) if len(track.durations) else 0.0
    if track.format.type != "video" or not usual:
        return Rate()
    scale = track.format.timescale
    varied = np.abs(lasts - np.median(lasts)) > max(_APART * float(np.median(lasts)), 1.5) if len(lasts) else lasts > 0
    if not len(lasts) or varied.mean() <= _ODD:
        return Rate(round(scale / usual, 3))
    mean = scale * len(lasts) / float(lasts.sum())
    return Rate(round(mean, 3), round(scale / float(lasts.max()), 3), round(scale / float(lasts.min()), 3))
