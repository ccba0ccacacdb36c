"""Page images bound into one PDF, a page each, their bytes as they came wherever PDF can hold them.

Follows ISO 32000-1 (PDF 1.7). A JPEG goes in whole (§7.4.8, DCTDecode), a plain PNG with its own compressed data
(§7.4.4.4, the PNG predictors); whatever else is packed anew without loss. Nothing is scaled or compressed with loss.
"""

import os
import struct
import zlib
from collections.abc import Callable, Iterator, Sequence
from io import BytesIO
from pathlib import Path

import msgspec
import numpy as np
from PIL import Image

from mudlark.guard import reading

_DPI = 150.0  # where a picture does not say how large it is on paper
_TURNS = {3: 180, 6: 90, 8: 270}  # EXIF orientation to degrees clockwise
_GREYS = {1: b"/DeviceGray", 3: b"/DeviceRGB", 4: b"/DeviceCMYK"}


class _Picture(msgspec.Struct):
    """An image as PDF has it. entries: of its dictionary. mask: its transparency, as bytes of grey."""

    width: int
    height: int
    entries: bytes
    data: bytes
    dpi: float = _DPI
    turn: int = 0
    mask: bytes | None = None
    profile: tuple[int, bytes] | None = None


def bind(pictures: Sequence[Path], target: Path, title: str) -> None:
    """Write the pictures, in this order, into a PDF at `target`."""
    with target.open("wb") as file:
        out = _Writer(file.write)
        out.raw(b"%PDF-1.7\n%\xe2\xe3\xcf\xd3\n")
        tree = out.reserve()
        pages = [_page(out, _picture(path), tree) for path in pictures]
        kids = b" ".join(b"%d 0 R" % page for page in pages)
        out.put(tree, b"<< /Type /Pages /Count %d /Kids [%s] >>" % (len(pages), kids))
        root = out.add(b"<< /Type /Catalog /Pages %d 0 R >>" % tree)
        about = out.add(b"<< /Title <feff%s> /Producer (Mudlark) >>" % title.encode("utf-16-be").hex().encode())
        out.end(root, about)
        file.flush()
        os.fsync(file.fileno())


class _Writer(msgspec.Struct):
    """Objects one after the other, and the table of where they begin."""

    write: Callable[[bytes], object]
    at: int = 0
    places: list[int] = msgspec.field(default_factory=list)

    def raw(self, data: bytes) -> None:
        self.write(data)
        self.at += len(data)

    def reserve(self) -> int:
        """The number of an object that is written later."""
        self.places.append(0)
        return len(self.places)

    def put(self, number: int, body: bytes, stream: bytes | None = None) -> None:
        self.places[number - 1] = self.at
        self.raw(b"%d 0 obj\n" % number + body + b"\n")
        if stream is not None:
            self.raw(b"stream\n")
            self.raw(stream)
            self.raw(b"\nendstream\n")
        self.raw(b"endobj\n")

    def add(self, body: bytes, stream: bytes | None = None) -> int:
        number = self.reserve()
        self.put(number, body, stream)
        return number

    def end(self, root: int, about: int) -> None:
        """The cross-reference table and the trailer (§7.5.4, §7.5.5)."""
        start = self.at
        self.raw(b"xref\n0 %d\n0000000000 65535 f \n" % (len(self.places) + 1))
        self.raw(b"".join(b"%010d 00000 n \n" % place for place in self.places))
        self.raw(b"trailer\n<< /Size %d /Root %d 0 R /Info %d 0 R >>\n" % (len(self.places) + 1, root, about))
        self.raw(b"startxref\n%d\n%%%%EOF\n" % start)


def _page(out: _Writer, picture: _Picture, tree: int) -> int:
    entries = picture.entries
    if picture.profile:
        components, profile = picture.profile
        packed = zlib.compress(profile)
        about = b"<< /N %d /Filter /FlateDecode /Length %d >>" % (components, len(packed))
        entries = entries.replace(_GREYS[components], b"[/ICCBased %d 0 R]" % out.add(about, packed), 1)
    size = b"/Type /XObject /Subtype /Image /Width %d /Height %d" % (picture.width, picture.height)
    if picture.mask is not None:
        packed = zlib.compress(picture.mask, 6)
        grey = b"/ColorSpace /DeviceGray /BitsPerComponent 8 /Filter /FlateDecode /Length %d" % len(packed)
        entries += b" /SMask %d 0 R" % out.add(b"<< %s %s >>" % (size, grey), packed)
    image = out.add(b"<< %s %s /Length %d >>" % (size, entries, len(picture.data)), picture.data)
    width, height = picture.width * 72 / picture.dpi, picture.height * 72 / picture.dpi
    draw = b"q %.3f 0 0 %.3f 0 0 cm /P Do Q" % (width, height)
    content = out.add(b"<< /Length %d >>" % len(draw), draw)
    return out.add(
        b"<< /Type /Page /Parent %d 0 R /MediaBox [0 0 %.3f %.3f] /Rotate %d /Contents %d 0 R "
        b"/Resources << /XObject << /P %d 0 R >> >> >>" % (tree, width, height, picture.turn, content, image)
    )


def _picture(path: Path) -> _Picture:
    data = path.read_bytes()
    with reading(f"The picture {path.name}"), Image.open(BytesIO(data)) as image:
        dots = image.info.get("dpi", (0, 0))[0]
        made = _jpeg(image, data) if image.format == "JPEG" else _png(image, data) or _packed(image)
        made.dpi = float(dots) if 30 <= dots <= 2400 else _DPI
        made.turn = _TURNS.get(image.getexif().get(0x0112, 1), 0)
        if profile := image.info.get("icc_profile"):
            made.profile = _fitting(profile, made.entries)
        return made


def _fitting(profile: bytes, entries: bytes) -> tuple[int, bytes] | None:
    """A colour profile with its number of components, if the picture is stored in that many."""
    components = {b"GRAY": 1, b"RGB ": 3, b"CMYK": 4}.get(profile[16:20])
    return (components, profile) if components and b"/ColorSpace " + _GREYS[components] in entries else None


def _jpeg(image: Image.Image, data: bytes) -> _Picture:
    components = len(image.getbands())
    entries = b"/ColorSpace %s /BitsPerComponent 8 /Filter /DCTDecode" % _GREYS[components]
    if components == 4 and "adobe" in image.info:  # stored inverted
        entries += b" /Decode [1 0 1 0 1 0 1 0]"
    return _Picture(*image.size, entries, data)


def _png(image: Image.Image, data: bytes) -> _Picture | None:
    """The compressed data of a PNG as it is; None if it is interlaced or transparent, which PDF has otherwise."""
    if image.format != "PNG":
        return None
    chunks = list(_chunks(data))
    header = next(body for name, body in chunks if name == b"IHDR")
    width, height, depth, colour, _, _, interlaced = struct.unpack(">IIBBBBB", header)
    if interlaced or colour in (4, 6) or any(name == b"tRNS" for name, _ in chunks):
        return None
    if colour == 3:
        palette = next(body for name, body in chunks if name == b"PLTE")
        space = b"[/Indexed /DeviceRGB %d <%s>]" % (len(palette) // 3 - 1, palette.hex().encode())
    else:
        space = _GREYS[1 if colour == 0 else 3]
    how = b"/Predictor 15 /Colors %d /BitsPerComponent %d /Columns %d" % (3 if colour == 2 else 1, depth, width)
    entries = b"/ColorSpace %s /BitsPerComponent %d /Filter /FlateDecode /DecodeParms << %s >>" % (space, depth, how)
    return _Picture(width, height, entries, b"".join(body for name, body in chunks if name == b"IDAT"))


def _chunks(data: bytes) -> Iterator[tuple[bytes, bytes]]:
    """The chunks of a PNG (ISO/IEC 15948 §5.3)."""
    at = 8
    while at + 12 <= len(data):
        length = int.from_bytes(data[at : at + 4], "big")
        yield data[at + 4 : at + 8], data[at + 8 : at + 8 + length]
        at += 12 + length


def eight_bits(image: Image.Image) -> Image.Image:
    """A picture of grey with more than eight bits, scaled to eight: what else is done with it would make it white."""
    if not image.mode.startswith(("I", "F")):
        return image
    grey = np.asarray(image)
    top = 65535.0 if grey.dtype.kind in "ui" else max(1.0, float(np.nanmax(grey, initial=1.0)))
    return Image.fromarray(np.clip(np.rint(np.nan_to_num(grey) / top * 255), 0, 255).astype(np.uint8), "L")


def _packed(image: Image.Image) -> _Picture:
    """Any other picture: its pixels, compressed without loss."""
    mask = None
    if image.has_transparency_data:
        full = image.convert("RGBA")
        mask, image = full.getchannel("A").tobytes(), full.convert("RGB")
    image = eight_bits(image)
    plain = image if image.mode in ("L", "RGB") else image.convert("L" if image.mode == "1" else "RGB")
    space = _GREYS[1 if plain.mode == "L" else 3]
    entries = b"/ColorSpace %s /BitsPerComponent 8 /Filter /FlateDecode" % space
    return _Picture(*plain.size, entries, zlib.compress(plain.tobytes(), 6), mask=mask)
