"""HEVC elementary streams: parameter sets, and what they say of the picture.

Follows ITU-T H.265 (§7.3.2.2, §7.3.3, §7.4.2.2) and ISO/IEC 14496-15 §8 (decoder configuration).
"""

from collections.abc import Sequence

import msgspec
import numpy as np

from mudlark.errors import FormatError
from mudlark.media.bits import Bits
from mudlark.media.picture.nal import Dialect, PictureFacts, unescape

VPS, SPS, PPS, DELIMITER = 32, 33, 34, 35
_HEADER = 2  # bytes of a unit's header


class HevcSequence(msgspec.Struct, frozen=True):
    """What a sequence parameter set (§7.3.2.2.1) says. general: the 12 bytes of profile, tier and level (§7.3.3)."""

    identifier: int
    general: bytes
    sub_layers: int
    nested: bool
    width: int
    height: int
    chroma_format: int
    luma_depth: int
    chroma_depth: int


def parse_sps(unit: bytes) -> HevcSequence:
    """Read a sequence parameter set, header included."""
    data = unescape(unit)[_HEADER:]
    bits = Bits(data)
    bits.take(4)
    sub_layers, nested = bits.take(3) + 1, bits.flag()
    general = bits.take(96).to_bytes(12, "big")
    present = [(bits.flag(), bits.flag()) for _ in range(sub_layers - 1)]
    if sub_layers > 1:
        bits.take(2 * (9 - sub_layers))
    for profile, level in present:
        bits.take((88 if profile else 0) + (8 if level else 0))
    identifier = bits.unsigned()
    chroma = bits.unsigned()
    separate = chroma == 3 and bits.flag()
    width, height = bits.unsigned(), bits.unsigned()
    if bits.flag():
        unit_x = 2 if chroma in (1, 2) and not separate else 1
        unit_y = 2 if chroma == 1 and not separate else 1
        left, right, top, bottom = (bits.unsigned() for _ in range(4))
        width, height = width - unit_x * (left + right), height - unit_y * (top + bottom)
    luma, chroma_depth = 8 + bits.unsigned(), 8 + bits.unsigned()
    if not 0 < width < 65536 or not 0 < height < 65536 or chroma > 3:
        raise FormatError("A sequence parameter set gives a picture of no possible size")
    return HevcSequence(identifier, general, sub_layers, nested, width, height, chroma, luma, chroma_depth)


def codec_name(general: bytes, entry: str = "hvc1") -> str:
    """The name as ISO/IEC 14496-15 Annex E has it, out of the 12 bytes of profile, tier and level."""
    space = ("", "A", "B", "C")[general[0] >> 6]
    compatible = int(f"{int.from_bytes(general[1:5], 'big'):032b}"[::-1], 2)
    tier = "H" if general[0] & 0x20 else "L"
    constraints = general[5:11].rstrip(b"\0")
    parts = [entry, f"{space}{general[0] & 31}", f"{compatible:X}", f"{tier}{general[11]}"]
    return ".".join([*parts, *(f"{byte:X}" for byte in constraints)])


def label(config: bytes, kind: str) -> str:
    """The RFC 6381 name of a configuration record, in a sample entry of a kind."""
    return codec_name(config[1:13], kind) if len(config) > 12 else kind


def configuration(sets: Sequence[bytes]) -> bytes:
    """An HEVCDecoderConfigurationRecord (ISO/IEC 14496-15 §8.3.3.1) with four-byte lengths."""
    first = parse_sps(next(unit for unit in sets if unit[0] >> 1 == SPS))
    record = b"\1" + first.general + b"\xf0\0\xfc"
    record += bytes([0xFC | first.chroma_format, 0xF8 | first.luma_depth - 8, 0xF8 | first.chroma_depth - 8, 0, 0])
    record += bytes([first.sub_layers << 3 | first.nested << 2 | 3])
    arrays = {kind: [unit for unit in sets if unit[0] >> 1 == kind] for kind in (VPS, SPS, PPS)}
    record += bytes([sum(bool(units) for units in arrays.values())])
    for kind, units in arrays.items():
        if units:
            record += bytes([0x80 | kind]) + len(units).to_bytes(2, "big")
            record += b"".join(len(unit).to_bytes(2, "big") + unit for unit in units)
    return record


def _picture(sets: Sequence[bytes]) -> PictureFacts:
    first = parse_sps(next(unit for unit in sets if unit[0] >> 1 == SPS))
    return PictureFacts(codec_name(first.general), first.width, first.height)


def _identifier(unit: bytes) -> int:
    kind = unit[0] >> 1
    if kind == SPS:
        return parse_sps(unit).identifier
    bits = Bits(unescape(unit)[_HEADER:])
    return bits.take(4) if kind == VPS else bits.unsigned()


_KINDS = np.arange(64)
HEVC = Dialect(
    kinds=(np.arange(256) >> 1 & 63).astype(np.uint8),
    sets=(SPS, VPS, PPS),
    delimiter=DELIMITER,
    dropped=np.isin(_KINDS, [DELIMITER, 36, 37, 38]),  # delimiters, ends of sequence and stream, filler
    sync=(_KINDS >= 16) & (_KINDS <= 23),  # pictures of random access (§7.4.2.2)
    slices=_KINDS < 32,
    trailing=np.isin(_KINDS, [36, 37, 38, 40]),
    header=_HEADER,
    in_band="hev1",
    identifier=_identifier,
    picture=_picture,
    configuration=configuration,
)
