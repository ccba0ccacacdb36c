"""Hints of bands above those that are coded (SBR), as they stand in frames of AAC of which no configuration speaks
(ISO/IEC 14496-3 §1.6.5.3): what is heard then has twice the rate that the headers state."""

from collections.abc import Sequence

_LONGEST_FILL = 270  # bytes, with that of its length
_FILL, _END, _BAND_HINTS = 6, 7, (13, 14)  # elements of a frame (§4.5.2.1); what a fill element may hold (§4.5.2.9)
_FEWEST = 8  # frames that tell anything
_NEARLY_ALL = 0.9  # of them have hints where there are any


def has_hints(frames: Sequence[bytes]) -> bool:
    """Whether frames of AAC hold hints of bands that no configuration speaks of: a fill element with them, which ends
    just before its frame does. A few bytes of sound look like one by chance, those of frame after frame do not."""
    return len(frames) >= _FEWEST and sum(map(_ends_with_hints, frames)) >= _NEARLY_ALL * len(frames)


def _ends_with_hints(frame: bytes) -> bool:
    value, size = int.from_bytes(frame, "big"), len(frame) * 8
    padding = (value & -value).bit_length() - 1 if value else size
    if padding > 7 or value >> padding & 7 != _END:
        return False
    end = size - padding - 3  # the bit at which the fill element ends, from the first of the frame

    def at(place: int, count: int) -> int:
        return value >> (size - place - count) & ((1 << count) - 1)

    for behind in range(1, min(_LONGEST_FILL, end // 8) + 1):  # bytes behind 3 bits of its name and 4 of its length
        begin = end - 7 - 8 * behind
        if begin < 0:
            return False
        if behind < 15 and at(begin, 7) == _FILL << 4 | behind and at(begin + 7, 4) in _BAND_HINTS:
            return True
        extra = behind - 15  # a longer one has a byte of length more, of what is above 14
        if extra > 0 and at(begin, 15) == _FILL << 12 | 15 << 8 | extra and at(begin + 15, 4) in _BAND_HINTS:
            return True
    return False
