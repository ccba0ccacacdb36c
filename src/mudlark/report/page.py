"""The pages of a report: of one item, and the index of a folder. Each is one self-contained file.

It opens from disk without a network, in light and dark, and prints. A strict content policy is in it: nothing that
stands in a record can run or ask for anything.
"""

import base64
import hashlib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any
from urllib.parse import quote

from jinja2 import Environment, FunctionLoader, StrictUndefined
from markupsafe import Markup

from mudlark import __version__
from mudlark.fetch.store import now
from mudlark.report.bars import draw_folder
from mudlark.report.figures import draw
from mudlark.report.item import ItemData
from mudlark.report.shelf import Shelf
from mudlark.report.steps import track_words
from mudlark.report.table import Row, Table
from mudlark.text import clock, printable, size

GENERATOR = "Mudlark"  # by which a page is known as one of ours
_SHOWN = 60  # rows of a table in the page; all of them are in the CSV
_LARGEST_PICTURE = 600_000  # bytes of a poster that goes into the page
_PICTURES = {".png": "png", ".jpg": "jpeg", ".jpeg": "jpeg", ".webp": "webp"}
_MARKS = {"sound": "✓", "unproven": "?", "flawed": "!", "broken": "✗", "refused": "⊘", "failed": "✗"}
_OUTCOMES = {"passed": "✓", "failed": "✗", "skipped": "–"}


@dataclass(frozen=True, slots=True)
class Figure:
    """A figure in a page: its SVG, if there is something to draw, and the rows of its data that are shown."""

    table: Table
    svg: Markup | None
    rows: list[Row]

    @classmethod
    def of(cls, table: Table, svg: bytes | None) -> "Figure":
        """The figure of a table."""
        markup = Markup(svg.decode("utf-8")) if svg else None  # made by the figures alone, with all text escaped
        return cls(table, markup, table.shown(_SHOWN))


def item_page(item: ItemData, back: str | None = None) -> str:
    """The page of an item. back: address of the index that it is below."""
    return _page(
        "item.html",
        title=item.record.title,
        item=item,
        record=item.record,
        figures=[Figure.of(table, draw(item, table)) for table in item.figures],
        track_words=track_words,
        pieces=Figure.of(item.pieces, None),
        picture=_picture(item.picture),
        back=back and quote(back),
    )


def folder_page(shelf: Shelf) -> str:
    """The index of a folder."""
    return _page(
        "folder.html",
        title=shelf.title,
        shelf=shelf,
        figures=[Figure.of(table, draw_folder(table)) for table in shelf.figures()],
        back=None,
    )


def _picture(path: Path | None) -> str | None:
    kind = _PICTURES.get(path.suffix.lower()) if path else None
    if path is None or kind is None or path.stat().st_size > _LARGEST_PICTURE:
        return None
    return f"data:image/{kind};base64,{base64.b64encode(path.read_bytes()).decode()}"


def _commands(text: str) -> Markup:
    """Text in which commands stand between backticks, with these as code."""
    parts = printable(text).split("`")
    return Markup("").join(Markup("<code>{}</code>").format(part) if at % 2 else part for at, part in enumerate(parts))


@cache
def _source(name: str) -> str:
    return (files("mudlark.report") / "templates" / name).read_text(encoding="utf-8")


@cache
def _templates() -> Environment:
    environment = Environment(
        loader=FunctionLoader(_source), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters.update(visible=printable, commands=_commands, clock=clock, size=size, link=quote)
    environment.globals.update(marks=_MARKS, outcomes=_OUTCOMES)
    return environment


def _digest(text: str) -> str:
    """Of what a content policy allows."""
    return f"'sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}'"


def _page(name: str, **values: Any) -> str:
    style, script = _source("style.css"), _source("table.js")
    inside = _templates().get_template(name).render(**values)
    return (
        _templates()
        .get_template("base.html")
        .render(
            title=values["title"],
            inside=Markup(inside),  # escaped by its own template
            style=Markup(style),
            script=Markup(script),
            digests={name: _digest(text) for name, text in (("script", script), ("style", style))},
            generator=f"{GENERATOR} {__version__}",
            made=now(),
            version=__version__,
        )
    )
