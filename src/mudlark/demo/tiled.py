"""Logbooks by IIIF and a chart as a deep-zoom picture: documents and pictures that are served in pieces."""

import json
import re
from functools import lru_cache
from io import BytesIO
from typing import Any

from aiohttp import web
from PIL import Image

from mudlark.demo.pages import Exhibit, Origins, page
from mudlark.demo.pictures import leaf, picture

KEEPER, HARBOUR = range(1, 4), range(1, 3)  # leaves of the two logbooks
LEAF = (1100, 1500)  # pixels of a leaf
CHART = (1500, 1000)  # pixels of the chart
SIDE = 512  # pixels of a tile of a leaf
CHART_SIDE, OVERLAP = 254, 1
_MOST_AT_ONCE = 800  # pixels of the widest answer of the harbour's service, which it does not state
_PRESENTATION = "http://iiif.io/api/presentation"
_IMAGE = "http://iiif.io/api/image"


def _viewer(at: Origins) -> str:
    return page(
        "The Keeper's Log, Digitized",
        f"""<h1>The Keeper's Log, Digitized</h1>
<p>Turn its leaves below.</p>
<div id="viewer" data-manifest="{at.media}/iiif/keeper/manifest.json" style="height: 400px"></div>""",
    )


def _harbour(at: Origins) -> str:
    return page(
        "The Harbour Master's Log",
        "<h1>The Harbour Master's Log</h1>\n<p>Three years of comings and goings.</p>",
        f"""<link rel="alternate" href="{at.media}/shelf/harbour-log"
 type='application/ld+json;profile="{_PRESENTATION}/2/context.json"'>
""",
    )


def _chart(at: Origins) -> str:
    return page(
        "A Chart of the Approaches",
        f"""<h1>A Chart of the Approaches</h1>
<div id="chart" style="height: 400px"></div>
<script>const view = openChart({{id: "chart", tileSources: "{at.media}/charts/approaches.dzi"}});</script>""",
    )


TILED = (
    Exhibit("keeper-log", "/logbooks/keeper", "A logbook whose leaves are served in tiles only.", _viewer),
    Exhibit("harbour-log", "/logbooks/harbour", "A logbook whose server gives less than it is asked for.", _harbour),
    Exhibit("deep-chart", "/charts/approaches", "A chart as a deep-zoom picture.", _chart),
)


@lru_cache(8)
def leaf_of(book: str, number: int) -> Image.Image:
    """A leaf of one of the logbooks."""
    return leaf(number + (40 if book == "harbour" else 0), *LEAF)


@lru_cache(1)
def chart() -> Image.Image:
    """The chart."""
    return picture(75, *CHART, "Approaches to Skerrow Bay")


def add_routes(get: Any, origins: Any) -> None:
    """What the media host serves of it. origins: gives the addresses of the servers."""

    async def keeper(_: web.Request) -> web.Response:
        return _json(_folio_3(origins()))

    async def harbour(_: web.Request) -> web.Response:
        return _json(_folio_2(origins()))

    async def keeper_service(request: web.Request) -> web.Response:
        base = f"{origins().media}/iiif/keeper/{request.match_info['leaf']}"
        about = {"@context": f"{_IMAGE}/3/context.json", "id": base, "type": "ImageService3", "protocol": _IMAGE}
        tiles = [{"width": SIDE, "scaleFactors": [1, 2, 4]}]
        sizes = [{"width": LEAF[0] // 4, "height": LEAF[1] // 4}]
        size = {"width": LEAF[0], "height": LEAF[1]}
        return _json({**about, "profile": "level0", **size, "sizes": sizes, "tiles": tiles})

    async def harbour_service(request: web.Request) -> web.Response:
        base = f"{origins().media}/iiif/harbour/{request.match_info['leaf']}"
        about = {"@context": f"{_IMAGE}/2/context.json", "@id": base, "protocol": _IMAGE}
        return _json({**about, "profile": [f"{_IMAGE}/2/level2.json"], "width": LEAF[0], "height": LEAF[1]})

    get("/iiif/keeper/manifest.json", keeper)
    get("/shelf/harbour-log", harbour)
    get("/iiif/keeper/{leaf:[1-3]}/info.json", keeper_service)
    get("/iiif/harbour/{leaf:[12]}/info.json", harbour_service)
    get("/iiif/{book:keeper|harbour}/{leaf:[1-3]}/{region}/{size}/0/default.jpg", _part_of_leaf)
    get("/charts/approaches.dzi", _pyramid)
    get("/charts/approaches_files/{level:[0-9]{1,2}}/{column:[0-9]{1,3}}_{row:[0-9]{1,3}}.png", _tile_of_chart)


def _json(facts: dict[str, Any]) -> web.Response:
    return web.Response(text=json.dumps(facts), content_type="application/ld+json")


def _folio_3(at: Origins) -> dict[str, Any]:
    base = f"{at.media}/iiif/keeper"
    size = {"width": LEAF[0], "height": LEAF[1]}

    def canvas(number: int) -> dict[str, Any]:
        service = {"id": f"{base}/{number}", "type": "ImageService3", "profile": "level0"}
        body = {"id": f"{base}/{number}/full/max/0/default.jpg", "type": "Image", **size, "service": [service]}
        painting = {"type": "Annotation", "motivation": "painting", "body": body, "target": f"{base}/canvas/{number}"}
        items = [{"type": "AnnotationPage", "items": [painting]}]
        return {"id": f"{base}/canvas/{number}", "type": "Canvas", "label": {"en": [f"Leaf {number}"]}, "items": items}

    return {
        "@context": f"{_PRESENTATION}/3/context.json",
        "id": f"{base}/manifest.json",
        "type": "Manifest",
        "label": {"en": ["The Keeper's Log"]},
        "metadata": [{"label": {"en": ["Keeper"]}, "value": {"en": ["Ada Penrose"]}}],
        "items": [canvas(number) for number in KEEPER],
    }


def _folio_2(at: Origins) -> dict[str, Any]:
    base = f"{at.media}/iiif/harbour"

    def canvas(number: int) -> dict[str, Any]:
        service = {
            "@id": f"{base}/{number}",
            "profile": f"{_IMAGE}/2/level2.json",
            "@context": f"{_IMAGE}/2/context.json",
        }
        resource = {"@id": f"{base}/{number}/full/full/0/default.jpg", "@type": "dctypes:Image", "service": service}
        images = [{"@type": "oa:Annotation", "motivation": "sc:painting", "resource": resource}]
        return {"@id": f"{base}/canvas/{number}", "@type": "sc:Canvas", "label": f"Year {number}", "images": images}

    return {
        "@context": f"{_PRESENTATION}/2/context.json",
        "@id": f"{at.media}/shelf/harbour-log",
        "@type": "sc:Manifest",
        "label": "The Harbour Master's Log",
        "attribution": "Tidewrack Museum of Skerrow Bay",
        "sequences": [{"@type": "sc:Sequence", "canvases": [canvas(number) for number in HARBOUR]}],
    }


async def _part_of_leaf(request: web.Request) -> web.Response:
    """A region of a leaf. The keeper's tiles lie there as they were cut; the harbour's are cut when asked for."""
    book, number = request.match_info["book"], int(request.match_info["leaf"])
    region, size = request.match_info["region"], request.match_info["size"]
    whole = leaf_of(book, number)
    if region != "full" and not re.fullmatch(r"\d{1,5},\d{1,5},\d{1,5},\d{1,5}", region):
        raise web.HTTPBadRequest
    x, y, w, h = (0, 0, *whole.size) if region == "full" else map(int, region.split(","))
    part = whole.crop((x, y, min(x + w, whole.width), min(y + h, whole.height)))
    wanted = re.fullmatch(r"(\d{0,5}),(\d{0,5})", size)
    if book == "keeper":
        if not wanted or not wanted[1] or not wanted[2] or (region == "full" and int(wanted[1]) > LEAF[0] // 4):
            raise web.HTTPNotFound
        part = part.resize((int(wanted[1]), int(wanted[2])))
    elif part.width > _MOST_AT_ONCE or part.height > _MOST_AT_ONCE:
        part.thumbnail((_MOST_AT_ONCE, _MOST_AT_ONCE))
    data = BytesIO()
    part.save(data, "JPEG", quality=92)
    return web.Response(body=data.getvalue(), content_type="image/jpeg")


async def _pyramid(_: web.Request) -> web.Response:
    size = f'<Size Width="{CHART[0]}" Height="{CHART[1]}"/>'
    text = f'<Image TileSize="{CHART_SIDE}" Overlap="{OVERLAP}" Format="png">{size}</Image>'
    return web.Response(text=text, content_type="application/xml")


async def _tile_of_chart(request: web.Request) -> web.Response:
    level, column, row = (int(request.match_info[name]) for name in ("level", "column", "row"))
    last = (max(CHART) - 1).bit_length()
    if level > last:
        raise web.HTTPNotFound
    scale = 1 << (last - level)
    whole = chart().resize((-(-CHART[0] // scale), -(-CHART[1] // scale))) if scale > 1 else chart()
    left, top = max(0, column * CHART_SIDE - OVERLAP), max(0, row * CHART_SIDE - OVERLAP)
    right, bottom = (column + 1) * CHART_SIDE + OVERLAP, (row + 1) * CHART_SIDE + OVERLAP
    if left >= whole.width or top >= whole.height:
        raise web.HTTPNotFound
    data = BytesIO()
    whole.crop((left, top, min(right, whole.width), min(bottom, whole.height))).save(data, "PNG")
    return web.Response(body=data.getvalue(), content_type="image/png")
