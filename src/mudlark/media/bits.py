"""Reading single bits and Exp-Golomb codes (ITU-T H.264 §9.1) out of small headers."""

from mudlark.errors import FormatError


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
