"""Hints of what is made up again of AAC when it is heard, bands above those that are coded (SBR) and a second channel
(PS), as they stand in frames of which no configuration speaks (ISO/IEC 14496-3 §1.6.5.3).

Frames are not decoded for that: what says where hints begin is looked for from the end of a frame, where they stand. A
few bytes of sound look like it by chance, those of frame after frame do not.
"""

from collections.abc import Callable, Sequence
from functools import partial

from mudlark.media.samples import Hints

SOME, LONGEST = 16, 65_536  # frames that are looked into, and bytes of one
_FEWEST = 8  # frames that tell anything
_NEARLY_ALL = 0.9  # of them have hints where there are any
_LONGEST_FILL = 270  # bytes, with that of its length
_FILL, _END, _BANDS = 6, 7, (13, 14)  # elements of a frame (§4.5.2.1); what a fill element may hold (§4.5.2.9)
_CHANNEL = 2  # what an extension of the hints of bands may hold (§4.5.2.8.2)

_Taken = Callable[[int, int], int]  # so many bits of a frame from a place on


def hints_in(frames: Sequence[bytes]) -> Hints:
    """What is hinted at in frames of AAC."""
    ends = [end for frame in frames if (end := _end_of_bands(frame))]
    if len(frames) < _FEWEST or len(ends) < _NEARLY_ALL * len(frames):
        return ""
    return "parametric" if sum(_ends_with_channel(*end) for end in ends) >= _NEARLY_ALL * len(frames) else "bands"


def _end_of_bands(frame: bytes) -> tuple[_Taken, int] | None:
    """The bits of a frame, and the place behind the fill element with hints that ends it; None if there is none."""
    value, size = int.from_bytes(frame, "big"), len(frame) * 8
    padding = (value & -value).bit_length() - 1 if value else size
    if padding > 7 or value >> padding & 7 != _END:
        return None
    taken, end = partial(_bits, value, size), size - padding - 3
    for behind in range(1, min(_LONGEST_FILL, (end - 7) // 8) + 1):  # 3 bits of its name, and 4 of its length
        begin = end - 7 - 8 * behind
        if behind < 15 and taken(begin, 7) == _FILL << 4 | behind and taken(begin + 7, 4) in _BANDS:
            return taken, end
        extra = behind - 15  # a longer one has a byte of length more, of what is above 14
        if extra > 0 and taken(begin, 15) == _FILL << 12 | 15 << 8 | extra and taken(begin + 15, 4) in _BANDS:
            return taken, end
    return None


def _ends_with_channel(taken: _Taken, end: int) -> bool:
    """Whether hints of bands that end at a place hold an extension with those of a channel, behind which they are
    filled up with zeros to a whole byte."""
    for filled in range(8):
        if taken(end - filled, filled):
            return False
        last = end - filled
        for size in range(1, min(270, (last - 15) // 8)):
            marked, long = (1 << 4 | size, 5) if size < 15 else (1 << 12 | 15 << 8 | size - 15, 13)
            begin = last - 8 * size - long
            if begin > 0 and taken(begin, long + 2) == marked << 2 | _CHANNEL:
                return True
    return False


def _bits(value: int, size: int, place: int, count: int) -> int:
    return value >> (size - place - count) & ((1 << count) - 1)
