"""Where the bytes of something fetched are on the disk."""

from collections.abc import Iterator
from pathlib import Path
from typing import Self

import msgspec

_BLOCK = 1 << 20  # bytes


class Place(msgspec.Struct, frozen=True):
    """So many bytes of a file, from an offset on."""

    path: Path
    offset: int
    length: int

    @classmethod
    def of(cls, path: Path) -> Self:
        """All of a file."""
        return cls(path, 0, path.stat().st_size)

    def read(self) -> bytes:
        """All of them; fewer where the file is shorter."""
        return b"".join(self.blocks())

    def blocks(self, size: int = _BLOCK) -> Iterator[bytes]:
        """All of them, block by block."""
        with self.path.open("rb", buffering=0) as file:
            file.seek(self.offset)
            left = self.length
            while left and (block := file.read(min(size, left))):
                yield block
                left -= len(block)
