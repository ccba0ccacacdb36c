"""Page images: which they are, in what order they are read, and how they are bound."""

from pathlib import Path
from typing import Any

import numpy as np
import pypdf
import pytest
from PIL import Image

from mudlark.assemble.bind import bind
from mudlark.demo.pictures import leaf
from mudlark.errors import FormatError
from mudlark.find.model import Find, Page
from mudlark.find.places.capture import page_in
from mudlark.find.sift import best
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from tests.captures import MEDIA, PAGE, captured, document, entry
from tests.pages import put_in_order


def _address(number: int, size: str = "full") -> str:
    return f"{MEDIA}/{size}/leaf-{number:02d}.jpg"


def _asked(numbers: list[int], size: str = "full", **given: Any) -> list[dict[str, Any]]:
    return [entry(_address(n, size), "image/jpeg", resourceType="image", **given) for n in numbers]


def _shown(number: int, top: float, left: float = 0, pixels: int = 1000, size: str = "full") -> dict[str, Any]:
    place = {"src": _address(number, size), "top": top, "left": left, "width": 500, "height": 700}
    return place | {"natural_width": pixels, "natural_height": round(pixels * 1.4)}


def _view(*pictures: dict[str, Any]) -> list[dict[str, Any]]:
    return [{"url": PAGE, "pictures": list(pictures)}]


def _ranked(folder: Path, entries: list[dict[str, Any]], views: list[dict[str, Any]] | None = None) -> Page:
    page = page_in(captured(folder, [document(), *entries], views))
    return put_in_order(page)


def _document(folder: Path, entries: list[dict[str, Any]], views: list[dict[str, Any]] | None = None) -> Find:
    return best(_ranked(folder, entries, views))


def test_leaves_are_read_in_the_order_of_their_places_on_the_page(tmp_path: Path) -> None:
    """Two columns; the numbers run the other way."""
    places = [_shown(1, 710, 510), _shown(2, 702, 0), _shown(3, 4, 510), _shown(4, 0, 0)]
    find = _document(tmp_path, _asked([1, 2, 3, 4]), _view(*places))
    assert find.members == (_address(4), _address(3), _address(2), _address(1))
    assert "4 page images, in the order of the page" in [evidence.where for evidence in find.evidence]


def test_leaves_without_places_are_read_by_their_numbers(tmp_path: Path) -> None:
    find = _document(tmp_path, _asked([10, 2, 9, 1], size="full", came={"content-length": "90000"}))
    assert find.members == tuple(_address(n) for n in (1, 2, 9, 10))
    assert find.mention.missing == (3, 4, 5, 6, 7, 8)


def test_a_viewer_that_shows_one_leaf_at_a_time_is_read_by_numbers(tmp_path: Path) -> None:
    """All its leaves stand in the same place, one after the other."""
    places = [_shown(n, 100) for n in (3, 1, 2)]
    find = _document(tmp_path, _asked([3, 1, 2]), _view(*places))
    assert find.members == (_address(1), _address(2), _address(3))


def test_the_full_size_is_taken_and_the_small_ones_are_no_finds(tmp_path: Path) -> None:
    entries = _asked([1, 2, 3], "small") + _asked([1, 2, 3])
    small = [_shown(n, 0, n * 100, 90, "small") for n in (1, 2, 3)]
    page = _ranked(tmp_path, entries, _view(*small, *(_shown(n, n * 800) for n in (1, 2, 3))))
    assert [find.members for find in page.finds] == [(_address(1), _address(2), _address(3))]


def test_where_the_page_links_to_larger_pictures_those_are_the_leaves(tmp_path: Path) -> None:
    source = "".join(f'<a href="{MEDIA}/scan-{n}.jpg"><img src="{_address(n)}"></a>' for n in (1, 2, 3))
    views = [{"url": PAGE, "source": source, "pictures": [_shown(n, n * 800) for n in (1, 2, 3)]}]
    page = _ranked(tmp_path, _asked([1, 2, 3]), views)
    assert [find.members for find in page.finds] == [tuple(f"{MEDIA}/scan-{n}.jpg" for n in (1, 2, 3))]


def test_thumbnails_alone_are_no_document(tmp_path: Path) -> None:
    page = _ranked(tmp_path, _asked([1, 2, 3, 4]), _view(*(_shown(n, n * 100, pixels=160) for n in (1, 2, 3, 4))))
    assert len(page.finds) == 4
    assert not any(find.members for find in page.finds)


def _jpeg(path: Path, number: int, **given: Any) -> Path:
    leaf(number, 300, 400).save(path, "JPEG", quality=80, **given)
    return path


def _bound(folder: Path, *pictures: Path, title: str = "The Keeper’s Logbook") -> pypdf.PdfReader:
    bind(pictures, folder / "bound.pdf", title)
    account = Account()
    check_file(folder / "bound.pdf", None, account)
    assert account.verdict == "sound", account
    return pypdf.PdfReader(folder / "bound.pdf", strict=True)


def _held(page: pypdf.PageObject) -> Any:
    """The picture of a page as the file has it."""
    resources: Any = page["/Resources"]
    return resources["/XObject"]["/P"].get_object()


def test_a_jpeg_is_bound_byte_for_byte(tmp_path: Path) -> None:
    pictures = [_jpeg(tmp_path / f"{n}.jpg", n) for n in (1, 2, 3)]
    read = _bound(tmp_path, *pictures)
    assert [_held(page)._data for page in read.pages] == [picture.read_bytes() for picture in pictures]
    assert read.metadata is not None
    assert read.metadata.title == "The Keeper’s Logbook"


@pytest.mark.parametrize("mode", ["RGB", "L", "P", "1", "LA", "RGBA", "I;16"])
def test_a_png_is_bound_without_loss(tmp_path: Path, mode: str) -> None:
    shape = (40, 32)
    noise = np.random.default_rng(1).integers(0, 65536 if mode == "I;16" else 256, (*shape, 3)).astype(np.uint16)
    image = Image.fromarray(noise[..., 0]) if mode == "I;16" else Image.fromarray(noise.astype(np.uint8)).convert(mode)
    image.save(tmp_path / "a.png")
    page = _bound(tmp_path, tmp_path / "a.png").pages[0]
    with Image.open(tmp_path / "a.png") as original:
        if mode in ("1", "I;16"):  # depths that the reader of this test cannot decode
            assert _held(page)["/BitsPerComponent"] == (1 if mode == "1" else 16)
            return
        bound = page.images[0].image
        assert bound is not None
        target = "RGBA" if "A" in mode else "RGB"
        assert np.array_equal(np.asarray(bound.convert(target)), np.asarray(original.convert(target)))


def test_pages_are_as_large_as_the_scan_says_and_turned_as_it_says(tmp_path: Path) -> None:
    exif = Image.Exif()
    exif[0x0112] = 6
    first = _jpeg(tmp_path / "a.jpg", 1, dpi=(300, 300), exif=exif)
    page = _bound(tmp_path, first).pages[0]
    assert (float(page.mediabox.width), float(page.mediabox.height)) == (72.0, 96.0)
    assert page.rotation == 90


def test_other_pictures_are_bound_pixel_for_pixel(tmp_path: Path) -> None:
    leaf(1, 60, 80).save(tmp_path / "a.webp", lossless=True)
    bound = _bound(tmp_path, tmp_path / "a.webp").pages[0].images[0].image
    assert bound is not None
    with Image.open(tmp_path / "a.webp") as original:
        assert np.array_equal(np.asarray(bound.convert("RGB")), np.asarray(original.convert("RGB")))


def test_a_colour_profile_goes_along(tmp_path: Path) -> None:
    from PIL import ImageCms

    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    read = _bound(tmp_path, _jpeg(tmp_path / "a.jpg", 1, icc_profile=profile))
    assert _held(read.pages[0])["/ColorSpace"][1].get_object().get_data() == profile


def test_what_is_no_picture_is_not_bound(tmp_path: Path) -> None:
    (tmp_path / "a.jpg").write_bytes(b"\xff\xd8\xff\xe0 nothing")
    with pytest.raises(FormatError, match=r"a\.jpg"):
        bind([tmp_path / "a.jpg"], tmp_path / "bound.pdf", "x")


def test_a_pdf_whose_table_points_elsewhere_is_flawed(tmp_path: Path) -> None:
    bind([_jpeg(tmp_path / "a.jpg", 1)], tmp_path / "bound.pdf", "x")
    data = (tmp_path / "bound.pdf").read_bytes()
    at = data.index(b"endstream")
    (tmp_path / "bound.pdf").write_bytes(data[:at] + b"    " + data[at:])
    account = Account()
    check_file(tmp_path / "bound.pdf", None, account)
    assert account.verdict == "flawed"
