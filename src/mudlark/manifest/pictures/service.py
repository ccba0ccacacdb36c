"""What an image service offers of a picture (IIIF Image API 1.1 to 3): all of it at once where it gives that whole,
else its tiles.

https://iiif.io/api/image/3.0/, https://iiif.io/api/image/2.1/
"""

import math
from collections.abc import Iterable, Iterator
from typing import Any

import msgspec

from mudlark.errors import ManifestError
from mudlark.manifest.model import Picture, Tile
from mudlark.web.resource import Resource

MOST_TILES = 200_000
_LARGEST_SIDE = 1_000_000  # pixels
_BLOCK = 1024  # pixels of a region where the service states none


class Service(msgspec.Struct, frozen=True):
    """base: its address. version: 1, 2 or 3. level: of compliance. most: width, height and area of one answer."""

    base: str
    version: int
    level: int
    width: int
    height: int
    sizes: tuple[tuple[int, int], ...]
    tiles: tuple[tuple[int, int, tuple[int, ...]], ...]
    most: tuple[float, float, float]
    format: str

    def address(self, region: str, size: str) -> str:
        """The address of a part of the picture."""
        quality = "native" if self.version == 1 else "default"
        return f"{self.base}/{region}/{size}/0/{quality}.{self.format}"

    @property
    def gives_all(self) -> bool:
        """True if it serves the whole picture in its full size."""
        if self.width > self.most[0] or self.height > self.most[1] or self.width * self.height > self.most[2]:
            return False
        return self.level > 0 or (self.width, self.height) in self.sizes or not (self.sizes or self.tiles)


def read_service(body: bytes, url: str) -> Service:
    """The service that an `info.json` describes. Raises ManifestError where it cannot be one."""
    try:
        facts = msgspec.json.decode(body, type=dict[str, Any])
        width, height = int(facts["width"]), int(facts["height"])
    except (KeyError, TypeError, ValueError, OverflowError, RecursionError) as problem:
        raise ManifestError(f"{url} does not describe an image service.", advice="Open it in a browser.") from problem
    if not (0 < width <= _LARGEST_SIDE and 0 < height <= _LARGEST_SIDE):
        raise ManifestError(f"{url} states a picture of {width}×{height} pixels.")
    profile = facts.get("profile", "")
    about = [one for one in profile if isinstance(one, dict)] if isinstance(profile, list) else []
    named = [one for one in (profile if isinstance(profile, list) else [profile]) if isinstance(one, str)]
    version = _version(facts, named)
    limits = {**facts, **(about[0] if about else {})}
    widest, tallest, area = (_number(limits.get(name)) for name in ("maxWidth", "maxHeight", "maxArea"))
    preferred = [one for one in facts.get("preferredFormats") or () if one in ("jpg", "png", "webp")]
    return Service(
        str(facts.get("id") or facts.get("@id") or url.removesuffix("/info.json")).rstrip("/"),
        version,
        next((level for name in named for level in (2, 1, 0) if f"level{level}" in name), 0),
        width,
        height,
        tuple(_sizes(facts.get("sizes"))),
        tuple(_tiles(facts)),
        (widest, tallest or widest, area),
        preferred[0] if preferred else "jpg",
    )


def _version(facts: dict[str, Any], profile: Iterable[str]) -> int:
    text = f"{facts.get('@context')} {facts.get('type')} {' '.join(profile)}"
    if "ImageService3" in text or "image/3" in text:
        return 3
    return 1 if "image-api/1" in text or "image-api/compliance" in text else 2


def _number(value: Any) -> float:
    return float(value) if isinstance(value, int) and value > 0 else math.inf


def _sizes(listed: Any) -> Iterator[tuple[int, int]]:
    for one in listed if isinstance(listed, list) else ():
        if isinstance(one, dict) and isinstance(one.get("width"), int) and isinstance(one.get("height"), int):
            yield one["width"], one["height"]


def _tiles(facts: dict[str, Any]) -> Iterator[tuple[int, int, tuple[int, ...]]]:
    """Widths, heights and scale factors of tiles (version 1 has them otherwise)."""
    listed = facts.get("tiles")
    if not isinstance(listed, list):
        listed = [
            {
                "width": facts.get("tile_width"),
                "height": facts.get("tile_height"),
                "scaleFactors": facts.get("scale_factors"),
            }
        ]
    for one in listed:
        width = one.get("width") if isinstance(one, dict) else None
        factors = one.get("scaleFactors") if isinstance(one, dict) else None
        if isinstance(width, int) and width > 0 and isinstance(factors, list):
            height = one.get("height")
            usable = tuple(sorted(factor for factor in factors if isinstance(factor, int) and factor > 0))
            yield width, height if isinstance(height, int) and height > 0 else width, usable or (1,)


def largest(service: Service, label: str | None = None) -> tuple[Picture, list[Resource]]:
    """The largest picture that a service offers, and what is to be fetched for it."""
    if service.gives_all:
        return Picture(service.width, service.height, label), [_all(service)]
    tiled = min(service.tiles, key=lambda one: (one[2][0], -one[0]), default=None)
    if tiled is None and service.level > 0:
        side = int(min(_BLOCK, service.most[0], service.most[1], math.isqrt(int(min(service.most[2], 1 << 40)))))
        tiled = (side, side, (1,))
    sizes = max(service.sizes, default=(0, 0))
    if tiled and service.width // tiled[2][0] >= sizes[0]:
        return _mosaic(service, *tiled, label)
    if sizes[0]:
        forms = (f"{sizes[0]},{sizes[1]}", f"{sizes[0]},")
        addresses = [service.address("full", form) for form in (forms if service.version == 3 else forms[::-1])]
        return Picture(*sizes, label), [Resource(addresses[0], others=tuple(addresses[1:]))]
    return Picture(service.width, service.height, label), [_all(service)]


def _all(service: Service) -> Resource:
    """The whole picture: as its version names it, then as others do."""
    exact = f"{service.width},{service.height}" if service.version == 3 else f"{service.width},"
    forms = ("max", exact, "full") if service.version == 3 else ("full", exact, "max")
    addresses = [service.address("full", form) for form in forms]
    return Resource(addresses[0], others=tuple(addresses[1:]))


def _mosaic(
    service: Service, wide: int, high: int, factors: tuple[int, ...], label: str | None
) -> tuple[Picture, list[Resource]]:
    """Tiles at the finest scale, row by row."""
    factor = factors[0]
    width, height = math.ceil(service.width / factor), math.ceil(service.height / factor)
    if math.ceil(width / wide) * math.ceil(height / high) > MOST_TILES:
        raise ManifestError(f"{service.base} has more than {MOST_TILES:,} tiles.")
    tiles, resources = [], []
    for top in range(0, height, high):
        for left in range(0, width, wide):
            columns, rows = min(wide, width - left), min(high, height - top)
            x, y = left * factor, top * factor
            region = f"{x},{y},{min(wide * factor, service.width - x)},{min(high * factor, service.height - y)}"
            if (columns, rows) == (width, height):
                region = "full"
            forms = [f"{columns},{rows}", f"{columns},"]
            addresses = [service.address(region, form) for form in (forms if service.version == 3 else forms[::-1])]
            tiles.append(Tile(left, top, columns, rows))
            resources.append(Resource(addresses[0], others=tuple(addresses[1:])))
    return Picture(width, height, label, tuple(tiles)), resources
