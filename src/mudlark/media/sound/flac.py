"""FLAC frames decoded (RFC 9639 §9), as only the samples themselves can be held against the MD5 that a stream states.

The frames of a batch are decoded side by side: step by step through their samples, in arrays over all of them. What is
damaged, or not as its stream says, decodes to nothing and is named.
"""

from collections.abc import Iterator

import msgspec
import numpy as np
from numpy.typing import NDArray

from mudlark.media.bits import MOST_ZEROS, ManyBits, leading_zeros, top
from mudlark.media.samples import Bytes, Flags, Ints

_MOST_SAMPLES = 3 << 20  # of one channel in a batch, which bounds memory
_LONGEST_ORDER = 32
_SIDES = {8: 1, 9: 0, 10: 1}  # channel that is a difference, by channel assignment (§9.1.3)
_BITS = np.array([0, 8, 12, 0, 16, 20, 24, 32], np.int64)  # by code; 0: as the stream says (§9.1.4)
_FIXED = np.array([[0, 0, 0, 0], [1, 0, 0, 0], [2, -1, 0, 0], [3, -3, 1, 0], [4, -6, 4, -1]], np.int64)  # §9.2.5


class FlacFrames(msgspec.Struct, frozen=True):
    """Frames in some bytes. begins, ends: their bytes, shape (n,). lengths: bytes of each header, with its check sum.
    sizes: samples of each channel."""

    begins: Ints
    ends: Ints
    lengths: Ints
    sizes: Ints


def batches(sizes: Ints) -> Iterator[slice]:
    """Runs of frames, by the samples of each, that can be decoded at once in bounded memory."""
    begin, largest = 0, 0
    for number, size in enumerate(sizes.tolist()):
        if number > begin and (number - begin + 1) * max(largest, size) > _MOST_SAMPLES:
            yield slice(begin, number)
            begin, largest = number, 0
        largest = max(largest, size)
    if begin < len(sizes):
        yield slice(begin, len(sizes))


def decoded(data: Bytes, frames: FlacFrames, channels: int, bits: int) -> NDArray[np.int64] | None:
    """The samples of some frames, shape (samples, channels); None if one of them cannot be decoded, or is not as long,
    or of as many channels and bits, as it has to be."""
    words = ManyBits(data)
    assigned = data[frames.begins + 3].astype(np.int64) >> 4
    depth = _BITS[data[frames.begins + 3] >> 1 & 7]
    if (np.where(assigned < 8, assigned + 1, 2) != channels).any() or ((depth != bits) & (depth != 0)).any():
        return None
    places = (frames.begins + frames.lengths) * 8
    sound = np.zeros((channels, len(places), int(frames.sizes.max())), np.int64)
    for channel in range(channels):
        side = np.isin(assigned, [code for code, own in _SIDES.items() if own == channel])
        if not _subframes(words, places, frames.sizes, bits + side, sound[channel]):
            return None
    if (((places + 7) // 8) + 2 != frames.ends).any():  # the check sum of the frame follows, and nothing else
        return None
    if channels == 2:
        _undo_sides(sound, assigned)
    inside = np.arange(sound.shape[2]) < frames.sizes[:, None]
    return sound.transpose(1, 2, 0)[inside]


def _undo_sides(sound: NDArray[np.int64], assigned: Ints) -> None:
    """Left and right out of one and a difference (§9.1.3)."""
    first, second = sound
    left_side, side_right, mid_side = (assigned == code for code in (8, 9, 10))
    second[left_side] = first[left_side] - second[left_side]
    first[side_right] += second[side_right]
    doubled, side = first[mid_side] << 1 | (second[mid_side] & 1), second[mid_side]
    first[mid_side], second[mid_side] = (doubled + side) >> 1, (doubled - side) >> 1


def _subframes(words: ManyBits, places: Ints, sizes: Ints, bits: Ints, out: NDArray[np.int64]) -> bool:
    """Decode one subframe of each frame (§9.2) into out, shape (frames, samples), and move the places, in bits, behind
    them; False if one cannot be decoded."""
    head = words.read(places, 8)
    kind = head >> 1
    places += 8
    wasted = np.where(head & 1, words.zeros(places) + 1, 0)
    places += wasted
    bits = bits - wasted
    constant, verbatim, fixed, linear = kind == 0, kind == 1, (kind >= 8) & (kind <= 12), (kind >= 32) & (kind < 64)
    if not (constant | verbatim | fixed | linear).all() or (bits < 1).any():
        return False
    out[constant] = words.signed(places[constant], bits[constant])[:, None]
    places[constant] += bits[constant]
    for number in np.flatnonzero(verbatim).tolist():
        size, width = int(sizes[number]), int(bits[number])
        each = places[number] + np.arange(size) * width
        out[number, :size] = words.signed(each, np.full(size, width))
        places[number] += size * width
    predicted = np.flatnonzero(fixed | linear)
    if len(predicted):
        order = np.where(linear, (kind & 31) + 1, kind & 7)
        lanes = predicted[np.argsort(order[predicted] - sizes[predicted], kind="stable")]  # most residuals first
        plan = _Predicted(words, places[lanes], sizes[lanes], order[lanes], bits[lanes])
        if not plan.decode(linear[lanes], out, lanes):
            return False
        places[lanes] = plan.places
    out <<= wasted[:, None]
    return True


class _Predicted:
    """Subframes with a predictor, the one with the most residuals first, decoded side by side."""

    def __init__(self, words: ManyBits, places: Ints, sizes: Ints, order: Ints, bits: Ints) -> None:
        self.words, self.places, self.sizes, self.order, self.bits = words, places, sizes, order, bits
        self.counts = sizes - order

    def decode(self, linear: Flags, out: NDArray[np.int64], lanes: Ints) -> bool:
        """Decode all of it; False if something cannot be."""
        if (self.counts < 0).any():
            return False
        longest = int(self.order.max())
        rows = np.zeros((longest + int(self.counts[0]), len(lanes)), np.int64)  # a residual of each lane is in one row
        for number in range(longest):  # the first samples as they are
            has = np.flatnonzero(self.order > number)
            rows[longest - self.order[has] + number, has] = self.words.signed(self.places[has], self.bits[has])
            self.places[has] += self.bits[has]
        weights, shift = self._weights(linear, longest)
        if shift is None or not self._residuals(rows[longest:]):
            return False
        alive = np.searchsorted(-self.counts, -np.arange(len(rows) - longest), "left").tolist()
        for number, count in enumerate(alive) if longest else ():
            past = weights[:, :count] * rows[number : number + longest, :count]
            rows[number + longest, :count] += past.sum(0) >> shift[:count]
        for order, size in sorted(set(zip(self.order.tolist(), self.sizes.tolist(), strict=True))):
            own = np.flatnonzero((self.order == order) & (self.sizes == size))
            out[lanes[own], :size] = rows[longest - order : longest - order + size, own].T
        return True

    def _weights(self, linear: Flags, longest: int) -> tuple[NDArray[np.int64], Ints | None]:
        """The weight of each of the last samples, oldest first, and by how much the sum is shifted (§9.2.6)."""
        weights = np.zeros((longest, len(linear)), np.int64)
        for number in range(min(longest, 4)):
            weights[longest - 1 - number] = np.where(linear, 0, _FIXED[np.minimum(self.order, 4), number])
        own = np.flatnonzero(linear)
        shift = np.zeros(len(linear), np.int64)
        if not len(own):
            return weights, shift
        precision = self.words.read(self.places[own], 4) + 1
        shift[own] = self.words.signed(self.places[own] + 4, np.full(len(own), 5))
        self.places[own] += 9
        if (precision == 16).any() or (shift < 0).any():
            return weights, None
        for number in range(longest):
            has = self.order[own] > number
            lanes = own[has]
            weights[longest - 1 - number, lanes] = self.words.signed(self.places[lanes], precision[has])
            self.places[lanes] += precision[has]
        return weights, shift

    def _residuals(self, rows: NDArray[np.int64]) -> bool:
        """The coded residual (§9.2.7), one row after the other."""
        words, places = self.words, self.places
        head = words.read(places, 6)
        places += 6
        method, parts = head >> 4, head & 15
        span = self.sizes >> parts
        if (method > 1).any() or (span << parts != self.sizes).any() or (span < self.order).any():
            return False
        parameters = _Parameters(words, places, method + 4, span, self.order)
        following = parameters.begin(0, len(places), int((self.counts > 0).sum()))
        alive = np.searchsorted(-self.counts, -np.arange(len(rows)), "left").tolist()
        for number, count in enumerate(alive):
            if number == following:
                following = parameters.begin(number, count, count)
            at, low, raw = places[:count], parameters.rice[:count], parameters.raw[:count]
            word = words.from_bit(at)
            high = np.where(raw < 0, leading_zeros(word), 0) if parameters.escaped else leading_zeros(word)
            if int((high + low).max()) > 50:  # not all of it is in one word
                high = np.where(raw < 0, words.zeros(at), 0)
                if int(high.max()) > MOST_ZEROS:
                    return False
                rest = words.read(at + high + 1, low)
            else:
                rest = top(word << (high + 1).astype(np.uint64), low)
            value = high << low | rest
            rows[number, :count] = value >> 1 ^ -(value & 1)
            taken = high + 1 + low
            if parameters.escaped:
                rows[number, :count] = np.where(raw < 0, rows[number, :count], words.signed(at, np.maximum(raw, 0)))
                taken = np.where(raw < 0, taken, raw)
            at += taken
        return True


class _Parameters:
    """The parameters of the parts of a residual. rice: bits that follow the zeros. raw: bits of each residual where
    they are written as they are, else -1. escaped: some are."""

    def __init__(self, words: ManyBits, places: Ints, width: Ints, span: Ints, order: Ints) -> None:
        self._words, self._places, self._width, self._span, self._order = words, places, width, span, order
        self._begins = np.zeros(len(places), np.int64)  # the row at which the next part begins
        self._parts = np.zeros(len(places), np.int64)
        self.rice, self.raw = np.zeros(len(places), np.int64), np.full(len(places), -1)
        self.escaped = False

    def begin(self, number: int, count: int, alive: int) -> int:
        """Read those of the parts that begin at a row; gives the row at which the next does, of those still alive."""
        while len(new := np.flatnonzero(self._begins[:count] == number)):  # again where the first part is empty
            width, places = self._width[new], self._places
            rice = self._words.read(places[new], width)
            is_raw = rice == (1 << width) - 1
            self.raw[new] = np.where(is_raw, self._words.read(places[new] + width, 5), -1)
            self.rice[new] = np.where(is_raw, 0, rice)
            places[new] += width + np.where(is_raw, 5, 0)
            self._parts[new] += 1
            self._begins[new] = self._parts[new] * self._span[new] - self._order[new]
        self.escaped = bool((self.raw[:alive] >= 0).any())
        return int(self._begins[:alive].min()) if alive else number
