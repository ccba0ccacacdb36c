"""Pictures put together from their tiles, band by band, as PNG (ISO/IEC 15948): nothing is scaled, and nothing is
packed with loss again. Memory grows with the width of a picture, not with its height.
"""

import struct
import zlib
from collections.abc import Iterator, Sequence
from contextlib import suppress
from io import BytesIO
from itertools import groupby
from pathlib import Path
from typing import BinaryIO

import numpy as np
from numpy.typing import NDArray
from PIL import Image

from mudlark.assemble.bind import eight_bits
from mudlark.errors import FormatError
from mudlark.fetch.place import Place
from mudlark.guard import reading
from mudlark.manifest.model import Picture, Tile

_LEVEL = 5
_MOST_HELD = 300_000_000  # bytes of a tile or a band that are held at once
_ABSENT = 0x80  # the grey where a tile is missing
_UP = 2  # the filter that takes each byte as its difference from the one above (§9.2)
Pixels = NDArray[np.uint8]


def join_tiles(picture: Picture, places: Sequence[Place | None], target: Path) -> list[int]:
    """Write a picture. places: where its tiles are, in their order; None for what is missing. Gives the numbers of the
    tiles that are not there or cannot be read, from 0; they are grey."""
    bad: list[int] = []
    if any(picture.width * tile.height * 3 > _MOST_HELD or _area(tile.size) * 4 > _MOST_HELD for tile in picture.tiles):
        raise FormatError(
            f"Its tiles are larger than can be put together here ({picture.tiles[0].width:,} pixels wide).",
            advice="Haul them one by one: `mudlark tracks` names their addresses.",
        )
    first = next((place for place in places if place), None)
    colour, profile = _colour(first)
    with target.open("wb") as file:
        out = _Png(file, picture.width, picture.height, colour, profile)
        numbered = zip(range(len(places)), picture.tiles, places, strict=True)
        for _, row in groupby(numbered, key=lambda one: one[1].top):
            tiles = list(row)
            band = np.full((tiles[0][1].height, picture.width, colour), _ABSENT, np.uint8)
            for number, tile, place in tiles:
                pixels = _pixels(place, tile, colour)
                if pixels is None:
                    bad.append(number)
                else:
                    band[:, tile.left : tile.left + tile.width] = pixels
            out.rows(band)
        out.end()
    return bad


def _colour(place: Place | None) -> tuple[int, bytes | None]:
    """How many colours pictures of one kind have, 1 or 3, and their profile."""
    with suppress(FormatError), reading("The tile"), Image.open(BytesIO(place.read() if place else b"")) as image:
        grey = image.mode in ("L", "1") or image.mode.startswith(("I", "F"))
        return (1 if grey else 3), image.info.get("icc_profile")
    return 3, None


def _pixels(place: Place | None, tile: Tile, colour: int) -> Pixels | None:
    """What a tile shows of its own part of the picture; None if it is not there, or of another size than is stated:
    then it is another picture, such as a notice of the server."""
    if place is None:
        return None
    mode = "L" if colour == 1 else "RGB"
    try:
        with reading("The tile"), Image.open(BytesIO(place.read())) as image:
            if image.size != tile.size:
                return None
            plain = eight_bits(image)
            pixels = np.asarray(plain if plain.mode == mode else plain.convert(mode), np.uint8)
    except FormatError:
        return None
    part = pixels.reshape(*pixels.shape[:2], colour)[tile.above :, tile.before :]
    return part[: tile.height, : tile.width]


def _area(size: tuple[int, int]) -> int:
    return size[0] * size[1]


class _Png:
    """A PNG whose rows come one band after the other. colour: 1 for grey, 3 for RGB."""

    def __init__(self, file: BinaryIO, width: int, height: int, colour: int, profile: bytes | None) -> None:
        self._file = file
        self._packer = zlib.compressobj(_LEVEL)
        self._above: Pixels = np.zeros((1, width * colour), np.uint8)
        file.write(b"\x89PNG\r\n\x1a\n")
        self._chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 0 if colour == 1 else 2, 0, 0, 0))
        if profile:
            self._chunk(b"iCCP", b"profile\0\0" + zlib.compress(profile))

    def rows(self, band: Pixels) -> None:
        """Add rows (height × width × colour)."""
        flat = band.reshape(len(band), -1)
        above = np.concatenate([self._above, flat[:-1]])
        lines = np.empty((len(flat), flat.shape[1] + 1), np.uint8)
        lines[:, 0] = _UP
        np.subtract(flat, above, out=lines[:, 1:])
        self._above = flat[-1:].copy()
        if packed := self._packer.compress(lines.tobytes()):
            self._chunk(b"IDAT", packed)

    def end(self) -> None:
        """No more rows come."""
        self._chunk(b"IDAT", self._packer.flush())
        self._chunk(b"IEND", b"")

    def _chunk(self, name: bytes, body: bytes) -> None:
        for part in _pieces(body):
            self._file.write(struct.pack(">I", len(part)) + name + part + struct.pack(">I", zlib.crc32(name + part)))


def _pieces(body: bytes, most: int = 1 << 30) -> Iterator[bytes]:
    yield from (body[at : at + most] for at in range(0, max(1, len(body)), most))


def check_size(picture: Picture, path: Path) -> str | None:
    """What is not right with the size of a picture that came whole."""
    if not picture.width or not picture.height:
        return None
    with reading(path.name), Image.open(path) as image:
        size = image.size
    if size == (picture.width, picture.height):
        return None
    return f"{size[0]}×{size[1]} pixels came where {picture.width}×{picture.height} are stated"
