"""Pictures other than PNG: decoded to their end by Pillow, behind the guard and within bounds; SVG by lxml.

A picture of which more would have to be held than a check may take is not decoded, and that is said.
"""

import logging
import warnings
from collections.abc import Callable, Sequence
from pathlib import Path

from mudlark.errors import FormatError
from mudlark.guard import reading
from mudlark.media.sniff import sniff
from mudlark.plain import open_plain
from mudlark.verify.account import Account
from mudlark.verify.forms.boxed_pictures import check_avif_parts, check_bmp_parts, check_webp_parts
from mudlark.verify.forms.jpeg import LARGEST, check_gif_parts, check_jpeg_decoding, check_jpeg_parts
from mudlark.verify.forms.png import check_png

_MOST_HELD = 220_000_000  # bytes of pixels that are held at once
_MOST_DECODED = 1_500_000_000  # pixels that are decoded one after the other
_MOST_FRAMES = 2_000
_WIDE_MODES = {"1": 1, "L": 1, "P": 1, "LA": 4, "I;16": 2}  # bytes that Pillow holds of a pixel; 4 of most
_PARTS: dict[str, tuple[Callable[[Path], str | None], ...]] = {  # each gives what is wrong, in words
    "jpeg": (check_jpeg_parts, check_jpeg_decoding),
    "gif": (check_gif_parts,),
    "webp": (check_webp_parts,),
    "avif": (check_avif_parts,),
    "bmp": (check_bmp_parts,),
}
_LARGEST_SVG = 50_000_000  # bytes


def check_picture(path: Path, account: Account) -> None:
    """Look into a picture of any kind but SVG."""
    with open_plain(path) as file:
        form = sniff(file.read(64))
    if form == "png":
        check_png(path, account)
        return
    try:
        with reading("The picture"):
            words, passed = _decode(path, form)
    except FormatError as problem:
        account.failed("content", "picture", problem.what, grave=True)
        return
    if not passed:
        account.skipped("content", words)
    elif form in _PARTS and path.stat().st_size > LARGEST:
        account.skipped("content", f"{words}; its parts are too large to look at as a check")
    elif (wrong := _wrong_parts(path, form)) is None:
        account.passed("content", words)
        account.cover("content", path.stat().st_size)
    else:
        account.failed("content", "picture", f"The {form.upper()} is not as it should be: {wrong}")


def _wrong_parts(path: Path, form: str) -> str | None:
    """What a decoder passes over, and is wrong with the parts of a picture; in words."""
    try:
        with reading("It"):
            return next((wrong for look in _PARTS.get(form, ()) if (wrong := look(path))), None)
    except FormatError as problem:
        return problem.what


def _decode(path: Path, form: str) -> tuple[str, bool]:
    """What a picture is in words, and whether it was decoded to its end."""
    from PIL import Image, UnidentifiedImageError  # costs start-up time that films need not pay

    logging.getLogger("PIL").setLevel(logging.CRITICAL)  # what it has to say is raised, too
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        try:
            opened = Image.open(path)
        except Image.DecompressionBombError as problem:
            return f"a picture that is too large to decode as a check ({problem})", False
        except UnidentifiedImageError:  # whose words name the place of the file
            raise FormatError("The picture cannot be read: no decoder knows what it begins with") from None
        with opened as picture:
            width, height = picture.size
            if form == "jpeg" and width * height * 4 > _MOST_HELD:
                picture.draft("L", (1, 1))  # all of it is read, and an eighth of each side is held
            held = picture.size[0] * picture.size[1] * _WIDE_MODES.get(picture.mode, 4)
            if held > _MOST_HELD:
                return f"a picture of {width}×{height}, too large to decode as a check", False
            frames = getattr(picture, "n_frames", 1)
            count = min(frames, _MOST_FRAMES, max(1, _MOST_DECODED // max(1, width * height)))
            for number in range(count):
                picture.seek(number)
                if picture.size[0] * picture.size[1] * 4 > max(_MOST_HELD, held):
                    return f"a picture with a frame of {picture.size[0]}×{picture.size[1]}, too large to decode", False
                picture.load()
            if count < frames:
                return f"a picture of {frames:,} frames, of which the first {count:,} decode", False
            more = f" and its {count} frames" if count > 1 else ""
            return f"a {picture.format} picture of {width}×{height} that decodes to its end{more}", True


def check_pages(pictures: Sequence[Path], account: Account) -> None:
    """Every page image decodes to its end; one check for all, a problem for each that does not."""
    alone = Account()
    for picture in pictures:
        check_picture(picture, alone)
    bad = [number for number, check in enumerate(alone.checks, start=1) if check.outcome == "failed"]
    unknown = [number for number, check in enumerate(alone.checks, start=1) if check.outcome == "skipped"]
    if bad:
        numbers = ", ".join(map(str, bad[:20]))
        account.failed("pages", "page-unreadable", f"Page image {numbers} of {len(pictures)} cannot be decoded")
    elif unknown:
        numbers = ", ".join(map(str, unknown[:20]))
        account.skipped("pages", f"page image {numbers} of {len(pictures)} is too large to decode as a check")
    else:
        account.passed("pages", f"{len(pictures)} page images, each decodes to its end")


def check_svg(path: Path, account: Account) -> None:
    """Look into an SVG: well-formed XML to its end. Its elements are read and forgotten."""
    from lxml import etree  # slow to load

    if path.stat().st_size > _LARGEST_SVG:
        account.skipped("content", "an SVG that is too large to read as a check")
        return
    count = 0
    try:
        with reading("The SVG"), open_plain(path) as file:
            for _, element in etree.iterparse(
                file, events=("end",), resolve_entities=False, no_network=True, load_dtd=False, remove_comments=True
            ):
                count += 1
                element.clear()
                while (before := element.getprevious()) is not None:
                    element.getparent().remove(before)
    except FormatError as problem:
        account.failed("content", "picture", problem.what, grave=True)
    else:
        account.passed("content", f"an SVG of {count:,} elements that reads to its end")
        account.cover("content", path.stat().st_size)
