"""H.264 elementary streams: parameter sets, and what they say of the picture.

Follows ITU-T H.264 (§7.3, §7.4.1, Annex E) and ISO/IEC 14496-15 §5 (decoder configuration).
"""

from collections.abc import Sequence

import msgspec
import numpy as np

from mudlark.errors import FormatError
from mudlark.media.bits import Bits
from mudlark.media.picture.nal import CLOCK, Dialect, PictureFacts, unescape
from mudlark.media.samples import Bytes, Flags, Ints

IDR, SEI, SPS, PPS, DELIMITER = 5, 6, 7, 8, 9
SLICES = (1, 2, IDR)  # that begin a picture
_MOST_BUFFERS = 32  # §E.2.2
_RECOVERY_POINT, _MESSAGES = 6, 4  # the type of that message; how many of a unit are looked at
_WITH_CHROMA_FIELDS = (100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135)
_PIXEL_ASPECTS = (
    (0, 1),
    (1, 1),
    (12, 11),
    (10, 11),
    (16, 11),
    (40, 33),
    (24, 11),
    (20, 11),
    (32, 11),
    (80, 33),
    (18, 11),
    (15, 11),
    (64, 33),
    (160, 99),
    (4, 3),
    (3, 2),
    (2, 1),
)


class AvcSequence(msgspec.Struct, frozen=True):
    """What a sequence parameter set (§7.3.2.1.1) says about the picture. number_bits: of the number that each slice has
    (frame_num); gaps: whether such numbers may be left out. place_bits: of its place among those that are shown
    (pic_order_cnt_lsb), 0 where slices do not state it. ticks_per_frame: of CLOCK, 0 if not stated."""

    identifier: int
    profile: int
    constraints: int
    level: int
    width: int
    height: int
    chroma_format: int
    luma_depth: int
    chroma_depth: int
    separate_planes: bool
    number_bits: int
    gaps: bool
    place_bits: int
    frames_only: bool
    pixel_aspect: tuple[int, int]
    ticks_per_frame: int


def parse_sps(unit: bytes) -> AvcSequence:
    """Read a sequence parameter set, header byte included."""
    return _sequence(Bits(unescape(unit)[1:]))


def is_whole_sps(unit: bytes) -> bool:
    """True if a sequence parameter set ends where its fields do: one in which a bit was changed hardly does."""
    bits = Bits(unescape(unit)[1:])
    try:
        _sequence(bits, whole=True)
        return _is_trailing(bits)
    except FormatError:
        return False


def is_whole_pps(unit: bytes, chroma_format: int) -> bool:
    """The same of a picture parameter set (§7.3.2.2). chroma_format: of its sequence. True for slice groups, which are
    not followed."""
    bits = Bits(unescape(unit)[1:])
    try:
        bits.unsigned()
        bits.unsigned()
        bits.take(2)
        if bits.unsigned():
            return True
        bits.unsigned()
        bits.unsigned()
        bits.take(3)
        for _ in range(3):
            bits.signed()
        bits.take(3)
        if _is_trailing(bits):
            return True
        large = bits.flag()
        if bits.flag():
            for index in range(6 + (6 if chroma_format == 3 else 2) * large):
                if bits.flag():
                    _skip_scaling_list(bits, 16 if index < 6 else 64)
        bits.signed()
        return _is_trailing(bits)
    except FormatError:
        return False


def _is_trailing(bits: Bits) -> bool:
    """True if a one and zeros are all that is left (§7.3.2.11); nothing is taken."""
    return bits.left > 0 and bits.rest == 1 << bits.left - 1


def _sequence(bits: Bits, *, whole: bool = False) -> AvcSequence:
    """whole: what nobody asks for is read, too."""
    profile, constraints, level = bits.take(8), bits.take(8), bits.take(8)
    identifier = bits.unsigned()
    chroma, luma_depth, chroma_depth, separate = 1, 8, 8, False
    if profile in _WITH_CHROMA_FIELDS:
        chroma = bits.unsigned()
        separate = chroma == 3 and bits.flag()
        luma_depth, chroma_depth = 8 + bits.unsigned(), 8 + bits.unsigned()
        bits.flag()
        if bits.flag():
            for index in range(12 if chroma == 3 else 8):
                if bits.flag():
                    _skip_scaling_list(bits, 16 if index < 6 else 64)
    number_bits = 4 + bits.unsigned()
    order, place_bits = bits.unsigned(), 0
    if order == 0:
        place_bits = 4 + bits.unsigned()
    elif order == 1:
        bits.flag()
        bits.signed()
        bits.signed()
        for _ in range(bits.unsigned()):
            bits.signed()
    bits.unsigned()
    gaps = bits.flag()
    columns, rows = bits.unsigned() + 1, bits.unsigned() + 1
    frames_only = bits.flag()
    if not frames_only:
        bits.flag()
        rows *= 2
    bits.flag()
    left = right = top = bottom = 0
    if bits.flag():
        left, right, top, bottom = (bits.unsigned() for _ in range(4))
    sampled = 0 if separate else chroma
    unit_x = 2 if sampled in (1, 2) else 1
    unit_y = (2 if sampled == 1 else 1) * (1 if frames_only else 2)
    aspect, ticks = _usability(bits, whole=whole) if bits.flag() else ((1, 1), 0)
    width, height = columns * 16 - unit_x * (left + right), rows * 16 - unit_y * (top + bottom)
    if not 0 < width < 65536 or not 0 < height < 65536:
        raise FormatError(f"A sequence parameter set gives a picture of no possible size, {width}×{height}")
    return AvcSequence(
        identifier,
        profile,
        constraints,
        level,
        width,
        height,
        chroma,
        luma_depth,
        chroma_depth,
        separate,
        number_bits,
        gaps,
        place_bits,
        frames_only,
        aspect,
        ticks,
    )


def _skip_scaling_list(bits: Bits, size: int) -> None:
    last = following = 8
    for _ in range(size):
        if following:
            following = (last + bits.signed()) % 256
        last = following or last


def _usability(bits: Bits, *, whole: bool) -> tuple[tuple[int, int], int]:
    """Pixel aspect and frame duration out of the usability information (Annex E §E.1.1)."""
    aspect = (1, 1)
    if bits.flag():
        code = bits.take(8)
        if code == 255:
            aspect = (bits.take(16), bits.take(16))
        elif code < len(_PIXEL_ASPECTS):
            aspect = _PIXEL_ASPECTS[code]
    if bits.flag():
        bits.flag()
    if bits.flag():
        bits.take(4)
        if bits.flag():
            bits.take(24)
    if bits.flag():
        bits.unsigned()
        bits.unsigned()
    ticks = 0
    timed = bits.flag()
    if timed:
        units, scale = bits.take(32), bits.take(32)
        if units and scale:
            ticks = round(2 * units * CLOCK / scale)
    if whole:
        bits.take(timed)
        buffered = [bits.flag() and _skip_buffer(bits) for _ in range(2)]
        bits.take(any(buffered))
        bits.flag()
        if bits.flag():
            bits.flag()
            for _ in range(6):
                bits.unsigned()
    return (aspect if all(aspect) else (1, 1)), ticks


def _skip_buffer(bits: Bits) -> bool:
    """The parameters of a hypothetical decoder (§E.1.2)."""
    count = bits.unsigned() + 1
    bits.take(8)
    for _ in range(min(count, _MOST_BUFFERS)):
        bits.unsigned()
        bits.unsigned()
        bits.flag()
    bits.take(20)
    return True


def label(config: bytes, kind: str) -> str:
    """The RFC 6381 name of a configuration record, in a sample entry of a kind."""
    return f"{kind}.{config[1:4].hex()}" if len(config) > 3 else kind


def configuration(sps: list[bytes], pps: list[bytes]) -> bytes:
    """An AVCDecoderConfigurationRecord (ISO/IEC 14496-15 §5.3.3.1) with four-byte lengths."""
    first = parse_sps(sps[0])
    record = bytes([1, *sps[0][1:4], 0xFF, 0xE0 | len(sps)])
    record += b"".join(len(unit).to_bytes(2, "big") + unit for unit in sps)
    record += bytes([len(pps)]) + b"".join(len(unit).to_bytes(2, "big") + unit for unit in pps)
    if first.profile in (100, 110, 122, 144):
        record += bytes([0xFC | first.chroma_format, 0xF8 | first.luma_depth - 8, 0xF8 | first.chroma_depth - 8, 0])
    return record


def _picture(sets: Sequence[bytes]) -> PictureFacts:
    first = parse_sps(next(unit for unit in sets if unit[0] & 31 == SPS))
    return PictureFacts(
        name=f"avc1.{sets[0][1:4].hex()}",
        width=first.width,
        height=first.height,
        pixel_aspect=first.pixel_aspect,
        ticks_per_frame=first.ticks_per_frame,
        fields=not first.frames_only,
    )


def _configuration(sets: Sequence[bytes]) -> bytes:
    return configuration([s for s in sets if s[0] & 31 == SPS], [s for s in sets if s[0] & 31 == PPS])


def _identifier(unit: bytes) -> int:
    return parse_sps(unit).identifier if unit[0] & 31 == SPS else Bits(unescape(unit)[1:]).unsigned()


_KINDS = np.arange(32)


def _recovery_points(stream: Bytes, begins: Ints, ends: Ints, kinds: Bytes) -> Flags:
    """Which units hold a recovery point (§D.1.8, §D.2.8) among their first messages (§7.3.2.3.1)."""
    found = np.zeros(len(begins), np.bool_)
    units = np.flatnonzero(kinds == SEI)
    at = begins[units] + 1
    for _ in range(_MESSAGES):
        inside = at + 2 < ends[units]
        units, at = units[inside], at[inside]
        found[units[stream[at] == _RECOVERY_POINT]] = True
        short = (stream[at] != 0xFF) & (stream[at + 1] != 0xFF)  # longer ones are not followed
        units, at = units[short], at[short] + 2 + stream[at[short] + 1].astype(np.int64)
    return found


AVC = Dialect(
    kinds=_KINDS.astype(np.uint8)[np.arange(256) & 31],
    sets=(SPS, PPS),
    delimiter=DELIMITER,
    dropped=np.isin(_KINDS, [DELIMITER, 10, 11, 12]),  # delimiters, ends of sequence and stream, filler
    sync=_KINDS == IDR,
    slices=(_KINDS >= 1) & (_KINDS <= IDR),
    trailing=np.isin(_KINDS, [10, 11, 12]),
    header=1,
    in_band="avc3",
    identifier=_identifier,
    picture=_picture,
    configuration=_configuration,
    recovery=_recovery_points,
)
