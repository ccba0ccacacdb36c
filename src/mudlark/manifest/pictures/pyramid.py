"""Deep-zoom pictures: a small description (XML or JSON) beside a folder of tiles, a level a power of two.

The tiles of the last level make up the picture; neighbours share `Overlap` pixels at their edges.
"""

import math
import re
from typing import Any

import msgspec
from lxml import etree

from mudlark.errors import ManifestError
from mudlark.manifest.model import Picture, Tile
from mudlark.manifest.pictures.service import MOST_TILES
from mudlark.web.resource import Resource


def read_pyramid(body: bytes, url: str) -> tuple[Picture, list[Resource]]:
    """The picture of a description, and its tiles row by row. Raises ManifestError where it is none."""
    try:
        facts = _json(body) if body.lstrip()[:1] == b"{" else _xml(body)
        side, overlap = int(facts["TileSize"]), int(facts["Overlap"])
        width, height, form = int(facts["Width"]), int(facts["Height"]), str(facts["Format"])
    except (KeyError, TypeError, ValueError, OverflowError, StopIteration, etree.LxmlError, RecursionError) as problem:
        raise ManifestError(
            f"{url} does not describe a deep-zoom picture.", advice="Open it in a browser."
        ) from problem
    columns, rows = math.ceil(width / side) if side > 0 else 0, math.ceil(height / side) if side > 0 else 0
    if not (0 < columns * rows <= MOST_TILES and 0 <= overlap < side and re.fullmatch(r"\w{1,5}", form)):
        raise ManifestError(f"{url} describes a picture of {width}×{height} pixels in tiles of {side}.")
    path, mark, query = url.partition("?")
    folder = re.sub(r"\.(?:dzi|xml|json)$", "", path, flags=re.I) + "_files"
    level = (max(width, height) - 1).bit_length()
    tiles, resources = [], []
    for row in range(rows):
        for column in range(columns):
            left, top = column * side, row * side
            wide, high = min(side, width - left), min(side, height - top)
            before = (overlap if column else 0, overlap if row else 0)
            behind = (min(overlap, width - left - wide), min(overlap, height - top - high))
            tiles.append(Tile(left, top, wide, high, *before, *behind))
            resources.append(Resource(f"{folder}/{level}/{column}_{row}.{form}{mark}{query}"))
    return Picture(width, height, None, tuple(tiles)), resources


def _xml(body: bytes) -> dict[str, Any]:
    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False)
    root = etree.fromstring(body, parser)
    size = next(root.iter("{*}Size"))
    return {str(name): value for name, value in (*root.attrib.items(), *size.attrib.items())}


def _json(body: bytes) -> dict[str, Any]:
    image = msgspec.json.decode(body, type=dict[str, Any])["Image"]
    return {**image, **image["Size"]}
