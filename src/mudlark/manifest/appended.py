"""What a page appended to the buffers of a player, as renditions with segments: each piece at its own time plus the
offset that was set for it, within the window in which it is presented. Where the same second came twice, the later
append has it, as in the buffer of a browser (MSE §3.5.11).
"""

from bisect import bisect_left
from collections.abc import Iterable, Sequence

import msgspec
from msgspec.structs import replace

from mudlark.media.appended import GENERATED, Extent, Piece
from mudlark.media.codec_names import is_sound

_EDGE = 0.06  # seconds by which neighbours may overlap, and that may be missing between them


class Setting(msgspec.Struct, frozen=True):
    """How an append is presented: offset in seconds, and the window, None for no end."""

    offset: float = 0.0
    window: tuple[float, float | None] = (0.0, None)


class Presented(msgspec.Struct, frozen=True):
    """A piece as it is presented: from, until in seconds of the player's time. shift: of its clock; whole: all of it
    is presented."""

    piece: Piece
    extent: Extent
    begin: float
    end: float
    shift: float
    whole: bool = True


def presented(found: Iterable[tuple[Piece, Extent, Setting]]) -> list[Presented]:
    """What a viewer has seen of the pieces of one buffer, given as they were appended; in order of time."""
    kept: list[Presented] = []
    counted = 0.0
    for piece, extent, setting in found:
        shift = setting.offset
        if piece.form in GENERATED:  # whose time is counted on
            shift = counted - extent.begin
            counted += extent.end - extent.begin
        first, last = setting.window
        begin, end = extent.begin + shift, extent.end + shift
        opening = max(begin, first - _EDGE if begin < first <= begin + _EDGE else first) if begin < first else begin
        closing = end if last is None or last >= end - _EDGE else last
        if extent.random is not None and opening > begin + _EDGE:
            opening = _next_random(extent, shift, opening)
        if opening >= closing - 1e-6:
            continue
        one = Presented(piece, extent, opening, closing, shift, (opening, closing) == (begin, end))
        kept = [part for earlier in kept for part in _without(earlier, one)]
        kept.append(one)
    return sorted(kept, key=lambda one: one.begin)


def _next_random(extent: Extent, shift: float, moment: float) -> float:
    """The first moment from which pictures can be decoded again; behind all of them if there is none."""
    starts = [at + shift for at in extent.random or ()]
    number = bisect_left(starts, moment - _EDGE)
    return starts[number] if number < len(starts) else extent.end + shift


def _without(earlier: Presented, later: Presented) -> list[Presented]:
    """What is left of a piece when a later one has come: what is before it, and what is behind it from the next picture
    on that can be decoded alone."""
    if later.begin >= earlier.end - _EDGE or later.end <= earlier.begin + _EDGE:
        return [earlier]
    left = []
    if earlier.begin < later.begin - _EDGE:
        left.append(replace(earlier, end=later.begin, whole=False))
    if earlier.end > later.end + _EDGE:
        begin = later.end
        if earlier.extent.random is not None:
            begin = _next_random(earlier.extent, earlier.shift, begin)
        if begin < earlier.end - _EDGE:
            left.append(replace(earlier, begin=begin, whole=False))
    return left


def holes(shown: Sequence[Presented], length: float | None, least: float) -> list[tuple[float, float]]:
    """Seconds from 0 to the length, or to the end of what is there, in which nothing is presented for so long."""
    missing, reached = [], 0.0
    for one in shown:
        if one.begin - reached > least:
            missing.append((reached, one.begin))
        reached = max(reached, one.end)
    if length is not None and length - reached > least:
        missing.append((reached, length))
    return missing


def codecs_in(type_: str) -> tuple[str, ...]:
    """The codecs that a media type names (RFC 6381)."""
    named = type_.partition("codecs=")[2].strip().strip("\"'").partition('"')[0]
    return tuple(one.strip() for one in named.split(",") if one.strip())


def is_only_sound(type_: str) -> bool:
    """True if a buffer of this type takes sound alone."""
    codecs = codecs_in(type_)
    return type_.lower().startswith("audio") or (bool(codecs) and all(map(is_sound, codecs)))
