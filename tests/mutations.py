"""Good files of every kind, what damage does to them, and what of them a decoder gets to see.

Damage is dealt by chance from a seed: a cut, a hole of zeros, a flipped bit, bytes that are dropped, that come twice or
that are swapped. `essence` is what must be the same for a damaged file to be called sound.
"""

import bz2
import gzip
import io
import lzma
import tarfile
import zipfile
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from random import Random

import numpy as np
from PIL import Image
from pypdf import PdfWriter

from mudlark.demo.site import media_folder
from mudlark.media.index import movie_in
from mudlark.media.sniff import sniff
from tests import sounds


def _picture(form: str, **how: object) -> bytes:
    y, x = np.mgrid[0:120, 0:160]
    grain = np.random.default_rng(7).integers(0, 60, (120, 160, 3))
    pixels = (np.stack([x, y, x + y], axis=2) % 196 + grain).astype(np.uint8)
    out = io.BytesIO()
    Image.fromarray(pixels).save(out, form, **how)
    return out.getvalue()


def _zip() -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(5):
            archive.writestr(f"tide-{number}.txt", Random(number).randbytes(3000))
    return out.getvalue()


def _tar() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for number in range(5):
            entry = tarfile.TarInfo(f"tide-{number}.txt")
            entry.size = 3000
            archive.addfile(entry, io.BytesIO(Random(number).randbytes(3000)))
    return out.getvalue()


def _pdf() -> bytes:
    writer, out = PdfWriter(), io.BytesIO()
    for _ in range(4):
        writer.add_blank_page(200, 300)
    writer.write(out)
    return out.getvalue()


@cache
def good_files() -> dict[str, bytes]:
    """By name, with the extension that they would have."""
    media = media_folder()
    noise = Random(3).randbytes(40_000)
    return {
        "film.mp4": (media / "gift-shop.mp4").read_bytes(),
        "sound.m4a": (media / "fog-bell.m4a").read_bytes(),
        "film.webm": (media / "dark.webm").read_bytes(),
        "sound.webm": (media / "ferry-sound.webm").read_bytes(),
        "film.ts": (media / "slipway-0.ts").read_bytes(),
        "sound.mp3": sounds.mp3(200, 200, b"Info"),
        "sound.ac3": sounds.ac3(60),
        "sound.flac": sounds.flac(sounds.noise(12_000)),
        "sound.ogg": sounds.joined(sounds.ogg_pages(12)),
        "picture.png": _picture("PNG"),
        "picture.jpg": _picture("JPEG", quality=85),
        "progressive.jpg": _picture("JPEG", quality=85, progressive=True),
        "picture.gif": _picture("GIF"),
        "picture.webp": _picture("WEBP"),
        "picture.avif": _picture("AVIF"),
        "archive.zip": _zip(),
        "archive.tar": _tar(),
        "packed.gz": gzip.compress(noise),
        "packed.bz2": bz2.compress(noise),
        "packed.xz": lzma.compress(noise),
        "pages.pdf": _pdf(),
    }


def cut(data: bytes, chance: Random) -> bytes:
    """The beginning alone."""
    return data[: chance.randrange(1, len(data))]


def hole(data: bytes, chance: Random) -> bytes:
    """Zeros in place of a part."""
    size = chance.randrange(1024, max(1025, len(data) // 3))
    at = chance.randrange(max(1, len(data) - size))
    return data[:at] + bytes(len(data[at : at + size])) + data[at + size :]


def flip(data: bytes, chance: Random) -> bytes:
    """One bit the other way round."""
    at = chance.randrange(len(data))
    return data[:at] + bytes([data[at] ^ 1 << chance.randrange(8)]) + data[at + 1 :]


def drop(data: bytes, chance: Random) -> bytes:
    """A part is missing."""
    at, size = chance.randrange(len(data) - 1), chance.randrange(1, 4096)
    return data[:at] + data[at + size :]


def repeat(data: bytes, chance: Random) -> bytes:
    """A part comes twice."""
    at, size = chance.randrange(len(data) - 1), chance.randrange(1, 4096)
    return data[: at + size] + data[at:]


def swap(data: bytes, chance: Random) -> bytes:
    """Two parts of one size have changed places."""
    size = chance.randrange(64, max(65, min(4096, len(data) // 4)))
    one, other = sorted(chance.randrange(max(1, len(data) - size)) for _ in range(2))
    if other < one + size:
        return data
    swapped = bytearray(data)
    swapped[one : one + size], swapped[other : other + size] = data[other : other + size], data[one : one + size]
    return bytes(swapped)


MUTATIONS: tuple[Callable[[bytes, Random], bytes], ...] = (cut, hole, flip, drop, repeat, swap)


def mutants(name: str, seed: int, count: int) -> Iterator[tuple[str, bytes]]:
    """So many damaged versions of a good file, each with what was done to it."""
    whole = good_files()[name]
    chance = Random(f"{name} {seed}")
    for number in range(count):
        mutate = MUTATIONS[number % len(MUTATIONS)]
        damaged = mutate(whole, chance)
        if damaged != whole:
            yield mutate.__name__, damaged


def essence(path: Path) -> tuple[object, object]:
    """What a decoder gets of a file that was called sound: what describes it (times, sizes, configuration), and what is
    coded or packed inside (pixels, samples, members)."""
    data = path.read_bytes()
    form = sniff(data)
    if form in ("mp4", "matroska"):
        told, coded = [], []
        for track in movie_in(path).tracks:
            coded += [data[at : at + size] for at, size in zip(track.offsets, track.sizes, strict=True)]
            config = [(one.codec, one.config, one.width, one.height, one.channels) for one in track.formats]
            times = [(times - times.min()).tolist() for times in (track.pts, track.dts)]
            told.append((times, track.sync.tolist(), track.sizes.tolist(), config, track.described.tolist()))
        return told, coded
    if form in ("png", "jpeg", "gif", "webp", "avif"):
        with Image.open(path) as picture:
            return picture.size, picture.convert("RGBA").tobytes()
    if form == "zip":
        with zipfile.ZipFile(path) as archive:
            return archive.namelist(), [archive.read(name) for name in archive.namelist()]
    if form == "tar":
        with tarfile.open(path) as archive:
            files = [(one.name, file.read()) for one in archive if (file := archive.extractfile(one))]
        return [(name, len(body)) for name, body in files], [body for _, body in files]
    unpack = {"gzip": gzip.decompress, "bzip2": bz2.decompress, "xz": lzma.decompress}.get(form)
    return form, unpack(data) if unpack else data
