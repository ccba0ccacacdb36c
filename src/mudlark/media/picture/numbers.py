"""The numbers that H.264 pictures have: of those that others are made from (frame_num, ITU-T H.264 §7.4.3), and of
their places among all that are shown (the picture order count, §8.2.1). They tell whether pictures are missing, come
twice or were swapped, also where all tables of a file agree with that.

Nothing is decoded. Streams whose numbers may have gaps are not judged.
"""

import msgspec
import numpy as np

from mudlark.errors import FormatError
from mudlark.media.bits import ManyBits
from mudlark.media.picture.avc import IDR, SEI, SLICES, SPS, AvcSequence, parse_sps
from mudlark.media.picture.inband import length_size, parameter_sets
from mudlark.media.picture.nal import lengthened
from mudlark.media.samples import Bytes, Flags, Format, Ints

INTRA = (2, 4)  # kinds of slices that are made from no others (§7.4.3, table 7-6)
_MOST_UNITS = 64  # before the first slice of a picture
_HEAD = 20  # bytes of a slice that are looked at
_LATE = 8  # pictures at an end, some of which are shown behind others that were cut off


class Numbering(msgspec.Struct, frozen=True):
    """How the pictures of a format are numbered. bits: of a number. fields: two of them may have the same. planes: a
    slice says which of three planes it is of. place_bits: of a place, 0 where slices state none."""

    bits: int
    fields: bool
    planes: bool
    place_bits: int

    @classmethod
    def of(cls, format: Format) -> "Numbering | None":
        """What the parameter sets of a format say; None if it is not H.264, or if its numbers prove nothing."""
        if not format.codec.startswith(("avc1", "avc3")) or not format.config:
            return None
        found = {
            cls(one.number_bits, not one.frames_only, one.separate_planes, one.place_bits) for one in _sequences(format)
        }
        gaps = any(one.gaps for one in _sequences(format))
        return found.pop() if len(found) == 1 and not gaps else None


def _sequences(format: Format) -> list[AvcSequence]:
    """The sequence parameter sets of a configuration; none if one is damaged."""
    units = lengthened(parameter_sets(format.codec, format.config), 4)
    try:
        return [parse_sps(unit) for unit in units if unit[0] & 31 == SPS]
    except FormatError:
        return []


class Numbers(msgspec.Struct, frozen=True):
    """The number of each picture, -1 where none is found; the lower bits of its place; whether others are made from it;
    whether it begins anew; whether it is made from others itself, and no message before it says that decoding may begin
    there. All arrays have shape (n,)."""

    number: Ints
    place: Ints
    reference: Flags
    anew: Flags
    dependent: Flags

    @classmethod
    def empty(cls, count: int) -> "Numbers":
        """Of so many pictures that were not looked at."""
        flags = (np.zeros(count, np.bool_) for _ in range(3))
        return cls(np.full(count, -1), np.zeros(count, np.int64), *flags)

    def put(self, places: Ints, some: "Numbers") -> None:
        """Take over those of some pictures."""
        self.number[places], self.place[places] = some.number, some.place
        self.reference[places], self.anew[places] = some.reference, some.anew
        self.dependent[places] = some.dependent

    def breaks(self, numbering: Numbering, may_begin: Flags, pts: Ints, *, spliced: bool = False) -> list[Ints]:
        """The pictures before which others are missing, or that are out of order: by their number, their place, and the
        time at that place. may_begin: those before which a stream may have been joined. pts: when each is shown, in
        ticks. spliced: what was joined may have been cut off anywhere, also before a picture that begins anew."""
        before = self._reference_before()
        known = self.number >= 0
        judged = known & ~self.anew & ~may_begin & (before >= 0)
        last = self.number[np.maximum(before, 0)]
        follows = self.number == (last + 1) % (1 << numbering.bits)
        if numbering.fields:
            follows |= self.number == last
        found = np.flatnonzero(judged & ~follows)
        if not numbering.place_bits or numbering.fields or not known.any():
            return [found]
        run: Ints = np.cumsum(self.anew | may_begin)
        place = self._places(run, before, 1 << numbering.place_bits)
        return [found, *self._misplaced(run, place, pts, spliced=spliced)]

    def _reference_before(self) -> Ints:
        """The last picture before each from which others are made, if all in between are known; else -1."""
        last = _last(self.reference & (self.number >= 0))
        last = np.append(-1, last[:-1])
        return np.where(last > _last(self.number < 0), last, -1)

    def _places(self, run: Ints, before: Ints, wrap: int) -> Ints:
        """The place of each picture in its run (§8.2.1.1): its upper bits are those of what is nearest to the last
        picture from which others are made."""
        begins = np.append(True, np.diff(run) > 0) | (before < 0)
        from_last = np.where(begins, 0, self.place - self.place[np.maximum(before, 0)])
        from_last = (from_last + wrap // 2) % wrap - wrap // 2
        walked = np.cumsum(np.where(self.reference, from_last, 0))
        return np.where(begins, walked, walked[np.maximum(before, 0)] + from_last)

    def _misplaced(self, run: Ints, place: Ints, pts: Ints, *, spliced: bool) -> tuple[Ints, Ints]:
        """The pictures before which, as they are shown, there is a hole or one with the same place, and those with a
        time that is not later."""
        order = np.lexsort((place, run))
        whole = _last(np.append(True, np.diff(run) > 0)) > _last(
            self.number < 0
        )  # nothing unknown in its run before it
        same = (run[order[1:]] == run[order[:-1]]) & whole[order[1:]] & whole[order[:-1]]
        step = np.diff(place[order])
        usual = int(np.median(step[same])) if same.any() else 0
        ends = np.append(np.flatnonzero(np.diff(run)), len(run) - 1)
        if not spliced:
            ends = ends[(ends == len(run) - 1) | ~self.anew[np.minimum(ends + 1, len(run) - 1)]]
        left = np.append(ends, 2 * len(run))[np.searchsorted(ends, np.arange(len(run)))] - np.arange(len(run))
        holes = (step > usual) & (left[order[1:]] >= _LATE)
        return order[1:][same & (holes | (step < usual))], order[1:][same & (np.diff(pts[order]) <= 0)]


def _last(those: Flags) -> Ints:
    """The number of the last one, up to each, that is one of those; -1 if none is."""
    found: Ints = np.maximum.accumulate(np.where(those, np.arange(len(those)), -1))
    return found


def numbers_of(data: Bytes, begins: Ints, ends: Ints, format: Format, numbering: Numbering) -> Numbers:
    """The numbers of pictures that stand in some bytes as samples of length-prefixed units."""
    size = length_size(format.codec, format.config)
    found, announced = Numbers.empty(len(begins)), np.zeros(len(begins), np.bool_)
    place, active = begins.copy(), np.flatnonzero(begins + size + 2 < ends)
    for _ in range(_MOST_UNITS):
        if not len(active):
            break
        at = place[active]
        lengths = np.zeros(len(active), np.int64)
        for byte in range(size):
            lengths = lengths << 8 | data[at + byte]
        kinds = data[at + size] & 31
        slices = np.isin(kinds, SLICES)
        own = active[slices]
        if len(own):
            heads = at[slices] + size
            anew = kinds[slices] == IDR
            kind, number, shown_at = _numbers_at(data, heads, anew, numbering)
            dependent = ~np.isin(kind % 5, INTRA) & ~announced[own]
            found.put(own, Numbers(number, shown_at, data[heads] >> 5 & 3 != 0, anew, dependent))
        announced[active[kinds == SEI]] = True
        place[active] += size + lengths
        active = active[~slices]
        active = active[place[active] + size + 2 < ends[active]]
    return found


def _numbers_at(data: Bytes, heads: Ints, anew: Flags, numbering: Numbering) -> tuple[Ints, Ints, Ints]:
    """The kind, the number and the lower bits of the place in the header of each slice (§7.3.3) whose unit begins at a
    place."""
    rows = data[np.minimum(heads[:, None] + 1 + np.arange(_HEAD), len(data) - 1)]
    quiet = np.zeros(len(rows), np.int64)  # up to where no byte can be one of emulation prevention
    for column in range(2, _HEAD - 1):  # emulation prevention (§7.4.1)
        spare = (rows[:, column - 2] == 0) & (rows[:, column - 1] == 0) & (rows[:, column] == 3) & (quiet <= column)
        rows[spare, column:-1] = rows[spare, column + 1 :]
        quiet[spare] = column + 2
    bits = ManyBits(rows.reshape(-1))
    places = np.arange(len(rows)) * _HEAD * 8
    _, places = bits.exp_golomb(places)  # the first macroblock
    kind, places = bits.exp_golomb(places)
    _, places = bits.exp_golomb(places)  # the picture parameter set
    places += 2 * numbering.planes
    frame = bits.read(places, numbering.bits)
    places += numbering.bits
    if numbering.fields:
        places += 1 + bits.read(places, 1)
    _, behind = bits.exp_golomb(places)  # the number of a picture that begins anew
    return kind, frame, bits.read(np.where(anew, behind, places), numbering.place_bits)
