"""May decoding begin with a picture? Where a film begins with one that is made from others, nothing that is shown
before the next that is not can be right."""

from collections.abc import Callable

import numpy as np

from mudlark.media.bits import Bits
from mudlark.media.picture import av1
from mudlark.media.picture.avc import IDR, SEI, SLICES
from mudlark.media.picture.nal import units_of
from mudlark.media.picture.numbers import INTRA
from mudlark.media.plausible import vp8_dependent, vp9_dependent
from mudlark.media.samples import Bytes, Flags, Format, Ints

_HEAD = 16  # bytes of a unit that are looked at
_HEVC_PICTURES, _HEVC_ALONE, _HEVC_SEI = range(32), range(16, 24), 39  # of H.265 (§7.4.2.2)
_INTER = 1  # of AV1 (§6.8.2)


def begins_alone(sample: bytes, format: Format) -> bool | None:
    """True if decoding may begin with this picture, False if it is made from others; None where that is not seen."""
    look = _LOOKS.get(format.codec[:4])
    return look(sample, format) if look and sample and not format.prefix and not format.deflated else None


def _avc(sample: bytes, format: Format) -> bool | None:
    for unit in units_of(sample, format):
        kind = unit[0] & 31
        if kind == SEI:  # which may say that decoding can begin here
            return None
        if kind in SLICES:
            bits = Bits(unit[1:_HEAD] + bytes(_HEAD))
            bits.unsigned()  # its first macroblock
            return kind == IDR or bits.unsigned() % 5 in INTRA
    return None


def _hevc(sample: bytes, format: Format) -> bool | None:
    for unit in units_of(sample, format):
        kind = unit[0] >> 1 & 63
        if kind in _HEVC_PICTURES:
            return kind in _HEVC_ALONE
        if kind == _HEVC_SEI:
            return None
    return None


def _av1(sample: bytes, _: Format) -> bool | None:
    for kind, at in av1.units(sample):
        if kind == av1.SEQUENCE_HEADER:
            return True
        if kind in (av1.FRAME_HEADER, av1.FRAME) and at < len(sample):
            shown_again, made = sample[at] >> 7, sample[at] >> 5 & 3
            return not shown_again and made != _INTER
    return None


def _by(dependent: Callable[[Bytes, Ints, Ints], Flags]) -> Callable[[bytes, Format], bool | None]:
    """By what is known of whole samples."""

    def look(sample: bytes, _: Format) -> bool | None:
        data = np.frombuffer(sample[:_HEAD], np.uint8)
        return not dependent(data, np.zeros(1, np.int64), np.array([len(sample)]))[0]

    return look


_LOOKS: dict[str, Callable[[bytes, Format], bool | None]] = {
    **dict.fromkeys(("avc1", "avc3"), _avc),
    **dict.fromkeys(("hvc1", "hev1"), _hevc),
    "av01": _av1,
    "vp08": _by(vp8_dependent),
    "vp09": _by(vp9_dependent),
}
