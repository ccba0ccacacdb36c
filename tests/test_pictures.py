"""Pictures by standard: documents of canvases, image services, deep-zoom pyramids; no pixel is lost."""

import json
from collections.abc import Callable
from contextlib import suppress
from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image
from pypdf import PdfReader

from mudlark.assemble.mosaic import join_tiles
from mudlark.demo.site import DemoSite
from mudlark.demo.tiled import CHART, HARBOUR, LEAF, chart, leaf_of
from mudlark.errors import ManifestError
from mudlark.fetch.place import Place
from mudlark.find.places.page import read_page
from mudlark.manifest.pictures.canvases import read_folio
from mudlark.manifest.pictures.pyramid import read_pyramid
from mudlark.manifest.pictures.service import largest, read_service
from mudlark.media.sniff import sniff
from tests.conftest import Answer, Ran, Trouble

Run = Callable[..., Ran]
URL = "https://museum.example/iiif/log/manifest.json"
BASE = "https://museum.example/iiif/a"
SERVICE_2 = {"@id": BASE, "profile": "http://iiif.io/api/image/2/level2.json"}
SOUND = {"type": "Sound", "id": "a.mp3"}
SERVICE_3 = {"id": f"{BASE}/", "type": "ImageService3", "profile": "level1"}


def folio(**facts: Any) -> Any:
    return read_folio(json.dumps(facts).encode(), URL)


def test_the_canvases_of_version_3_are_read_in_their_order_with_what_is_said_of_them() -> None:
    def canvas(label: str, body: Any) -> dict[str, Any]:
        return {"type": "Canvas", "label": {"none": [label]}, "items": [{"items": [{"body": body}]}]}

    image = {"id": "/one.jpg", "type": "Image", "service": [{"type": "AuthLogin"}, SERVICE_3]}
    choice = {"type": "Choice", "items": [{"id": "https://museum.example/two.jpg", "type": "Image"}, image]}
    read = folio(
        type="Manifest",
        label={"cy": ["Llyfr"], "en": ["The Log", "of the Keeper"]},
        metadata=[{"label": {"en": ["Keeper"]}, "value": {"none": ["Ada &amp; Bess"]}}, "no pair"],
        requiredStatement={"label": {"en": ["By"]}, "value": {"en": ["the museum"]}},
        items=[canvas("Cover", image), canvas("1r", [choice, image]), {"items": []}, None],
    )
    assert read.title == "The Log; of the Keeper"
    assert [(one.label, one.picture, one.service, one.more) for one in read.canvases] == [
        ("Cover", "https://museum.example/one.jpg", BASE, 0),
        ("1r", "https://museum.example/two.jpg", None, 1),
    ]
    notes = {note.name: note.value for note in read.notes}
    assert notes["Keeper"] == "Ada & Bess" and notes["By"] == "the museum" and notes["canvas 2"] == "1r"


def test_the_canvases_of_version_2_are_read() -> None:
    def canvas(label: Any, **resource: Any) -> dict[str, Any]:
        return {"@type": "sc:Canvas", "label": label, "images": [{"resource": {"@type": "dctypes:Image", **resource}}]}

    read = folio(
        **{"@type": "sc:Manifest"},
        label=[{"@value": "The Log", "@language": "en"}],
        sequences=[
            {"canvases": [canvas("1", **{"@id": "one.jpg", "service": SERVICE_2}), canvas(None, service=SERVICE_2)]}
        ],
    )
    assert read.title == "The Log" and [one.service for one in read.canvases] == [BASE, BASE]
    assert read.canvases[1].picture == f"{BASE}/full/full/0/default.jpg" and read.canvases[1].label is None


@pytest.mark.parametrize(
    ("facts", "words"),
    [
        ({"type": "Collection", "items": [{"id": f"{URL}/2"}]}, f"{URL}/2"),
        (
            {"type": "Manifest", "items": [{"items": [{"items": [{"body": {"type": "Sound", "id": "a.mp3"}}]}]}]},
            "a.mp3",
        ),
        ({"type": "Manifest"}, "browser"),
    ],
)
def test_what_describes_no_pictures_is_told_with_what_to_do(facts: dict[str, Any], words: str) -> None:
    with pytest.raises(ManifestError) as raised:
        folio(**facts)
    assert words in raised.value.advice


def service(**facts: Any) -> Any:
    return read_service(json.dumps({"id": BASE, "width": 3000, "height": 2000, **facts}).encode(), f"{BASE}/info.json")


def urls(**facts: Any) -> list[str]:
    return [resource.url.removeprefix(BASE) for resource in largest(service(**facts))[1]]


IMAGE_2, IMAGE_3 = ({"@context": f"http://iiif.io/api/image/{version}/context.json"} for version in (2, 3))


def test_the_whole_picture_is_asked_for_where_a_service_gives_it() -> None:
    assert urls(**IMAGE_3, profile="level2") == ["/full/max/0/default.jpg"]
    assert urls(**IMAGE_2, profile=["http://iiif.io/api/image/2/level1.json"]) == ["/full/full/0/default.jpg"]
    old = "http://library.museum.example/iiif/image-api/1.1/compliance.html#level2"
    assert urls(**{"@context": "http://library.museum.example/iiif/image-api/1.1/context.json"}, profile=old) == [
        "/full/full/0/native.jpg"
    ]
    size = [{"width": 3000, "height": 2000}]
    assert urls(**IMAGE_3, profile="level0", sizes=size, preferredFormats=["png"]) == ["/full/max/0/default.png"]
    assert urls(**IMAGE_2, profile="http://iiif.io/api/image/2/level0.json") == ["/full/full/0/default.jpg"]


def test_tiles_are_asked_for_where_it_gives_only_those_or_less_at_once() -> None:
    tiles = [{"width": 1024, "scaleFactors": [1, 2, 4]}]
    picture, resources = largest(service(**IMAGE_3, profile="level0", tiles=tiles))
    assert (picture.width, picture.height, len(picture.tiles)) == (3000, 2000, 6)
    assert [one.url.removeprefix(BASE) for one in resources][::5] == [
        "/0,0,1024,1024/1024,1024/0/default.jpg",
        "/2048,1024,952,976/952,976/0/default.jpg",
    ]
    assert urls(**IMAGE_2, profile=["level0"], tiles=tiles)[5] == "/2048,1024,952,976/952,/0/default.jpg"
    assert len(urls(**IMAGE_3, profile="level2", maxWidth=1000)) == 6
    assert len(urls(**IMAGE_3, profile="level1", maxArea=250_000)) == 24
    assert len(urls(**IMAGE_2, profile=["level2", {"maxWidth": 1500}])) == 6


def test_where_nothing_serves_it_whole_the_largest_size_is_taken() -> None:
    sizes = [{"width": 300, "height": 200}, {"width": 1500, "height": 1000}]
    assert urls(**IMAGE_3, profile="level0", sizes=sizes) == ["/full/1500,1000/0/default.jpg"]
    coarse = [{"width": 512, "scaleFactors": [4]}]
    assert largest(service(**IMAGE_3, profile="level0", tiles=coarse))[0].width == 750
    assert largest(service(**IMAGE_3, profile="level0", tiles=coarse, sizes=sizes))[0].width == 1500


NAMES = [
    *("type", "@type", "id", "@id", "items", "sequences", "canvases", "images", "resource"),
    *("body", "service", "label", "value", "metadata", "width", "height", "profile", "tiles"),
    *("sizes", "scaleFactors", "Image", "Size", "TileSize", "Overlap", "Format", "Width", "Height"),
]
json_values = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.sampled_from(NAMES), inner, max_size=5),
    max_leaves=25,
)


@settings(max_examples=300)
@given(json_values)
def test_anything_is_read_or_our_own_error(value: Any) -> None:
    body = json.dumps(value).encode()
    for read in (read_folio, read_pyramid, lambda body, url: largest(read_service(body, url))):
        with suppress(ManifestError):
            read(body, URL)


@settings(max_examples=40)
@given(st.integers(1, 70), st.integers(1, 70), st.integers(4, 40), st.integers(0, 3), st.booleans())
def test_a_pyramid_is_put_together_pixel_by_pixel(
    tmp_path_factory: pytest.TempPathFactory, width: int, height: int, side: int, overlap: int, grey: bool
) -> None:
    folder = tmp_path_factory.mktemp("tiles")
    pixels = np.random.default_rng(width * height).integers(0, 256, (height, width, 3), np.uint8)
    whole = Image.fromarray(pixels).convert("L" if grey else "RGB")
    about = (
        f'<Image TileSize="{side}" Overlap="{overlap}" Format="png"><Size Width="{width}" Height="{height}"/></Image>'
    )
    picture, resources = read_pyramid(about.encode(), "https://museum.example/c/chart.dzi?v=1")
    places: list[Place | None] = []
    for resource in resources:
        path, _, query = resource.url.partition("?")
        column, row = map(int, path.rpartition("/")[2].removesuffix(".png").split("_"))
        assert query == "v=1" and f"/chart_files/{(max(width, height) - 1).bit_length()}/" in path
        edges = (max(0, column * side - overlap), max(0, row * side - overlap))
        ends = (min(width, (column + 1) * side + overlap), min(height, (row + 1) * side + overlap))
        whole.crop((*edges, *ends)).save(folder / f"{column}_{row}.png")
        places.append(Place.of(folder / f"{column}_{row}.png"))
    assert join_tiles(picture, places, folder / "whole.png") == []
    with Image.open(folder / "whole.png") as joined:
        assert joined.mode == whole.mode and joined.tobytes() == whole.tobytes()
    places[-1] = None
    assert join_tiles(picture, places, folder / "whole.png") == [len(places) - 1]


def test_pages_name_documents_and_pictures_in_pieces_in_many_ways() -> None:
    source = """<html><link rel=manifest href=/app/manifest.json>
    <link rel="alternate" type='application/ld+json;profile="http://iiif.io/api/presentation/3/context.json"' href="/1">
    <div data-manifest="/2/about"></div><iframe src="https://view.example/#?manifest=https://museum.example/3"></iframe>
    <a href="https://view.example/?manifest=https://museum.example/iiif/4/manifest">See it</a>
    <script>view({tileSources: "/5.dzi", other: "https://museum.example/iiif/6/info.json"})</script>"""
    found = {find.url.removeprefix("https://museum.example"): find.kind for find in read_page(source, URL).finds}
    paths = ["/1", "/2/about", "/3", "/iiif/4/manifest", "/5.dzi", "/iiif/6/info.json"]
    assert found == dict.fromkeys(paths, "document")


def test_what_they_are_is_told_by_their_beginnings() -> None:
    assert sniff(b'{\n "@context": "http://iiif.io/api/presentation/3/context.json", "id"') == "iiif"
    assert sniff(b'{"@context": ["x", "http://iiif.io/api/image/2/context.json"]') == "iiif-image"
    assert sniff(b'\xef\xbb\xbf<?xml version="1.0"?>\n<Image xmlns="urn:x" Overlap="1" TileSize="254">') == "dzi"
    assert sniff(b'{"Image": {"Format": "jpg", "TileSize": 254') == "dzi" and sniff(b'{"a": 1}') == "json"


@pytest.mark.program
def test_logbooks_become_documents_and_a_chart_one_picture(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    keeper = mudlark("haul", site.address("keeper-log"), "--into", "a", "--json").json["items"][0]
    assert keeper["verdict"] == "sound" and keeper["title"] == "The Keeper's Log"
    facts = json.loads((tmp_path / keeper["folder"] / "record.json").read_text())
    assert {"name": "Keeper", "value": "Ada Penrose"} in facts["source"]["manifest_notes"]
    assert len(PdfReader(tmp_path / keeper["folder"] / "The Keeper's Log.pdf").pages) == 3
    again = mudlark("haul", site.address("keeper-log"), "--into", "a", "--json").json["items"][0]
    assert again["state"] == "unchanged"
    harbour = mudlark("haul", site.address("harbour-log"), "--as", "images", "--into", "a", "--json").json["items"][0]
    for number in HARBOUR:
        with Image.open(tmp_path / harbour["folder"] / f"pages/{number:03d}.png") as leaf:
            assert leaf.size == LEAF
            drawn = np.asarray(leaf_of("harbour", number), np.int16)
            assert np.abs(np.asarray(leaf, np.int16) - drawn).mean() < 3  # its tiles are JPEG
    deep = mudlark("haul", site.address("deep-chart"), "--into", "a", "--json").json["items"][0]
    with Image.open(tmp_path / deep["folder"] / "A Chart of the Approaches.png") as picture:
        assert picture.size == CHART and picture.tobytes() == chart().tobytes()


@pytest.mark.program
def test_a_picture_that_lacks_tiles_is_flawed_and_mended(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    tile = BytesIO()
    Image.new("RGB", (100, 100), (9, 99, 199)).save(tile, "PNG")
    about = b'<Image TileSize="100" Overlap="0" Format="png"><Size Width="200" Height="100"/></Image>'
    url = trouble.say("/chart.dzi", Answer(about, type="application/xml"))
    trouble.say("/chart_files/8/0_0.png", Answer(tile.getvalue(), type="image/png"))
    item = mudlark("haul", url, "--into", "a", "--json").json["items"][0]
    assert item["verdict"] == "flawed" and item["problems"][0]["code"] == "tiles-missing"
    trouble.say("/chart_files/8/1_0.png", Answer(tile.getvalue(), type="image/png"))
    mended = mudlark("haul", url, "--into", "a", "--json").json["items"][0]
    assert (mended["state"], mended["verdict"], mended["segments"]["reused"]) == ("repaired", "sound", 1)
    with Image.open(tmp_path / mended["folder"] / "chart.png") as picture:
        assert picture.getcolors() == [(20_000, (9, 99, 199))]
