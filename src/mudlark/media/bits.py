"""Reading single bits and Exp-Golomb codes (ITU-T H.264 §9.1), of one small header or at many places at once."""

import numpy as np
from numpy.typing import NDArray

from mudlark.errors import FormatError
from mudlark.media.samples import Bytes, Ints

_PADDING = 16  # bytes behind the data, so that any place in it can be read
MOST_ZEROS = 1 << 16  # that are counted in a row


class Bits:
    """A cursor over the bits of `data`, most significant first. Raises FormatError when read past the end."""

    def __init__(self, data: bytes) -> None:
        self._value = int.from_bytes(data, "big")
        self._left = len(data) * 8
        self._size = len(data)

    def take(self, count: int) -> int:
        """The next `count` bits as an unsigned number."""
        if count > self._left:
            raise FormatError("A header ends in the middle of a value", self._size)
        self._left -= count
        return (self._value >> self._left) & ((1 << count) - 1)

    @property
    def left(self) -> int:
        """Bits that have not been read."""
        return self._left

    @property
    def rest(self) -> int:
        """All of them, as an unsigned number."""
        return self._value & ((1 << self._left) - 1)

    def flag(self) -> bool:
        """The next bit."""
        return bool(self.take(1))

    def unsigned(self) -> int:
        """ue(v)."""
        zeros = 0
        while not self.take(1):
            zeros += 1
            if zeros > 32:
                raise FormatError("An Exp-Golomb code is longer than 32 bits", self._size - self._left // 8)
        return (1 << zeros) - 1 + self.take(zeros)

    def signed(self) -> int:
        """se(v)."""
        code = self.unsigned()
        return (code + 1) // 2 if code % 2 else -(code // 2)


class ManyBits:
    """Numbers of bits at any bits of some bytes, many at once; behind the end there are zeros. Places are arrays of
    bits, shape (n,)."""

    def __init__(self, data: Bytes) -> None:
        padded = np.concatenate([data, np.zeros(_PADDING, np.uint8)])
        self._at: NDArray[np.uint64] = np.ndarray((len(padded) - 7,), ">u8", padded.data, strides=(1,))
        self._last = len(data) * 8

    def from_bit(self, places: Ints) -> NDArray[np.uint64]:
        """The bits from some places on, at the upper end of 64; at least 57 of them count."""
        inside = np.minimum(places, self._last)
        words: NDArray[np.uint64] = self._at[inside >> 3].astype(np.uint64) << (inside & 7).astype(np.uint64)
        return words

    def read(self, places: Ints, count: Ints | int) -> Ints:
        """Numbers of so many bits (up to 57) each."""
        return top(self.from_bit(places), count)

    def signed(self, places: Ints, count: Ints) -> Ints:
        """The same in two's complement; 0 for no bits."""
        value = self.read(places, count)
        return value - ((value >> np.maximum(count - 1, 0) & 1) << count)

    def exp_golomb(self, places: Ints) -> tuple[Ints, Ints]:
        """ue(v), and the places behind; codes of more than 53 bits give nonsense."""
        zeros = np.minimum(leading_zeros(self.from_bit(places)), 26)
        return self.read(places + zeros, zeros + 1) - 1, places + 2 * zeros + 1

    def zeros(self, places: Ints) -> Ints:
        """How many zeros stand before the next one; more than MOST_ZEROS where there are too many."""
        count = leading_zeros(self.from_bit(places))
        for number in np.flatnonzero(count > 50).tolist():  # hardly ever
            place, found = int(places[number]) + 50, 50
            while found <= MOST_ZEROS and (more := int(leading_zeros(self.from_bit(np.array([place])))[0])) > 50:
                place, found = place + 50, found + 50
            count[number] = MOST_ZEROS + 1 if found > MOST_ZEROS else found + more
        return count


def top(word: NDArray[np.uint64], count: Ints | int) -> Ints:
    """The upper bits of words as numbers."""
    away = np.asarray(63 - count).astype(np.uint64)
    return (word >> away >> np.uint64(1)).astype(np.int64)


def leading_zeros(word: NDArray[np.uint64]) -> Ints:
    """Zeros at the upper end of words, exact up to 52: the exponent of the same number as a float says it."""
    exponent = (word >> np.uint64(11)).astype(np.float64).view(np.int64) >> 52
    return np.where(exponent == 0, 64, 1023 + 52 - exponent)
