"""VP8 and VP9: what their first pictures say, and the box that describes them in MP4.

Follows RFC 6386 §9.1 (VP8), the VP9 bitstream specification §6.2 and §7.2, and the registered encapsulation in ISO base
media files (vpcC).
"""

from collections.abc import Mapping

import msgspec

from mudlark.errors import FormatError
from mudlark.media.bits import Bits

_SYNC = 0x498342
# the largest picture of each level (VP9, Annex A), in samples of luma
_LEVELS = (
    (36_864, 10),
    (73_728, 11),
    (122_880, 20),
    (245_760, 21),
    (552_960, 30),
    (983_040, 31),
    (2_228_224, 40),
    (8_912_896, 50),
    (35_651_584, 60),
)
_RGB = 7
_UNKNOWN = 2  # colours that are not stated (ISO/IEC 23091-2)


class VpPicture(msgspec.Struct, frozen=True):
    """What a picture that stands alone says. depth: bits; chroma: 1 for 4:2:0, 2 for 4:2:2, 3 for 4:4:4."""

    profile: int = 0
    depth: int = 8
    chroma: int = 1
    full_range: bool = False
    width: int = 0
    height: int = 0


def read_vp9(frame: bytes) -> VpPicture | None:
    """The head of a VP9 frame; None if it does not stand alone."""
    bits = Bits(frame[:64])
    if bits.take(2) != 2:
        return None
    profile = bits.take(1) | bits.take(1) << 1
    if profile == 3:
        bits.take(1)
    if bits.take(1):
        return None  # shows an earlier one again
    if bits.take(1):
        return None
    bits.take(2)
    if bits.take(24) != _SYNC:
        return None
    depth = (12 if bits.take(1) else 10) if profile >= 2 else 8
    chroma, full_range = 1, False
    if bits.take(3) != _RGB:
        full_range = bits.flag()
        if profile in (1, 3):
            across, down = bits.take(1), bits.take(1)
            bits.take(1)
            chroma = 1 if down else 2 if across else 3
    else:
        full_range, chroma = True, 3
        if profile in (1, 3):
            bits.take(1)
    return VpPicture(profile, depth, chroma, full_range, bits.take(16) + 1, bits.take(16) + 1)


def vp9_configuration(frame: bytes, features: Mapping[int, int], size: tuple[int, int]) -> bytes:
    """The content of a vpcC box, by the first frame and what Matroska states (profile 1, level 2, depth 3, chroma
    4)."""
    try:
        seen = read_vp9(frame) or VpPicture()
    except FormatError:
        seen = VpPicture()
    profile, depth = features.get(1, seen.profile), features.get(3, seen.depth)
    samples = size[0] * size[1]
    level = features.get(2) or next((level for most, level in _LEVELS if samples <= most), 62)
    chroma = features.get(4, seen.chroma)
    mixed = depth << 4 | chroma << 1 | seen.full_range
    return bytes([1, 0, 0, 0, profile & 255, level & 255, mixed & 255, _UNKNOWN, _UNKNOWN, _UNKNOWN, 0, 0])


def vp8_configuration() -> bytes:
    """The content of a vpcC box for VP8, which has one form only."""
    return bytes([1, 0, 0, 0, 0, 0, 8 << 4 | 1 << 1, _UNKNOWN, _UNKNOWN, _UNKNOWN, 0, 0])


def label(config: bytes, kind: str) -> str:
    """The RFC 6381 name of VP9 by the content of a vpcC box, in a sample entry of a kind."""
    if len(config) < 8:
        return kind
    return f"{kind}.{config[4]:02d}.{config[5]:02d}.{config[6] >> 4:02d}"
