"""A contact sheet: what several finds show, side by side on one picture, with the facts of each."""

from collections.abc import Sequence
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

from mudlark.atomic import atomic_write

_COLUMNS = 3
_CELL = (400, 225)
_GAP = 20
_LINE = 22
_PAPER, _INK, _FAINT, _WARNING, _FRAME = (245, 243, 236), (28, 38, 42), (104, 112, 112), (158, 70, 20), (26, 40, 46)


class Caption:
    """What stands under a picture: a heading, lines of facts, and warnings."""

    def __init__(self, heading: str, facts: Sequence[str], warnings: Sequence[str]) -> None:
        self.lines = [(heading, _INK), *((fact, _FAINT) for fact in facts), *((text, _WARNING) for text in warnings)]


def draw_sheet(
    title: str, cells: Sequence[tuple[Image.Image | None, Caption]], target: Path, *, replace: bool = False
) -> None:
    """Draw the cells, each a picture (if there is one) with its caption, and write them as PNG."""
    columns = min(_COLUMNS, max(1, len(cells)))
    rows = [cells[at : at + columns] for at in range(0, len(cells), columns)]
    heights = [_CELL[1] + 12 + _LINE * max(len(caption.lines) for _, caption in row) + _GAP for row in rows]
    width = max(_GAP + columns * (_CELL[0] + _GAP), 620)
    sheet = Image.new("RGB", (width, 64 + sum(heights) + _GAP // 2), _PAPER)
    draw = ImageDraw.Draw(sheet)
    draw.text((_GAP, 18), _fitting(title, width - 2 * _GAP, 24), font=_font(24), fill=_INK)
    top = 64
    for row, height in zip(rows, heights, strict=True):
        for column, (picture, caption) in enumerate(row):
            _cell(sheet, draw, (_GAP + column * (_CELL[0] + _GAP), top), picture, caption)
        top += height
    with atomic_write(target, "Choose another place for it with --sheet.", replace=replace) as file:
        sheet.save(file, "PNG", optimize=True)


def _cell(
    sheet: Image.Image, draw: ImageDraw.ImageDraw, at: tuple[int, int], picture: Image.Image | None, caption: Caption
) -> None:
    left, top = at
    draw.rectangle((left, top, left + _CELL[0] - 1, top + _CELL[1] - 1), fill=_FRAME)
    if picture is not None:
        small = picture.copy()
        small.thumbnail(_CELL, Image.Resampling.LANCZOS)
        scale = min(_CELL[0] / picture.width, _CELL[1] / picture.height)
        if scale > 1:
            small = picture.resize((round(picture.width * scale), round(picture.height * scale)))
        sheet.paste(small, (left + (_CELL[0] - small.width) // 2, top + (_CELL[1] - small.height) // 2))
    for number, (text, colour) in enumerate(caption.lines):
        size = 17 if number == 0 else 15
        place = (left, top + _CELL[1] + 10 + number * _LINE)
        draw.text(place, _fitting(text, _CELL[0], size), font=_font(size), fill=colour)


def draw_levels(levels: Sequence[float]) -> Image.Image:
    """How loud something was over time, in the shape of a picture."""
    image = Image.new("RGB", _CELL, _FRAME)
    draw = ImageDraw.Draw(image)
    middle = _CELL[1] / 2
    step = _CELL[0] / max(1, len(levels))
    for number, level in enumerate(levels):
        half = max(1.0, min(level, 1.0) * middle * 0.9)
        draw.rectangle((number * step, middle - half, (number + 1) * step, middle + half), fill=(142, 186, 190))
    return image


def _font(size: int) -> ImageFont.FreeTypeFont | ImageFont.ImageFont:
    """A font with many scripts if the system has one, else the one that comes with the image library."""
    try:
        return ImageFont.truetype("DejaVuSans.ttf", size - 1)
    except OSError:
        return ImageFont.load_default(size)


def _fitting(text: str, width: int, size: int) -> str:
    """The text, its middle left out if it is too long for the width."""
    font = _font(size)
    shown = text
    keep = len(text)
    while font.getlength(shown) > width and keep > 8:
        keep -= 2
        shown = f"{text[: keep * 2 // 3]}…{text[-keep // 3 :]}"
    return shown
