"""The pages of a report: of one item, and the index of a folder. Each is one self-contained file.

It opens from disk without a network, in light and dark, and prints. A strict content policy is in it: nothing that
stands in a record can run or ask for anything.
"""

import base64
import hashlib
import os
import re
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any
from urllib.parse import quote

import msgspec
from jinja2 import Environment, FunctionLoader, StrictUndefined
from markupsafe import Markup, escape

from mudlark import __version__
from mudlark.fetch.store import now
from mudlark.report.heading import Heading
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
_DATE = re.compile(r"(\d{4}-\d{2}-\d{2}(?:T[\d:.]+Z?)?)")
_LEGEND = {
    "sound": "Whole, and as it was promised: all of it was accounted for.",
    "unproven": "It came as the server sent it. Nothing speaks against it, and nothing proves that it is whole.",
    "flawed": "It can be used, but something is missing or not as it should be; its page says what.",
    "broken": "It cannot be used as it is.",
}
_OUTCOMES = {"passed": "✓", "failed": "✗", "skipped": "–"}


class Figure(msgspec.Struct, frozen=True):
    """A figure in a page: its SVG, if there is something to draw, and the rows of its data that are shown."""

    table: Table
    svg: Markup | None
    rows: list[Row]

    @classmethod
    def of(cls, table: Table, svg: bytes | None) -> "Figure":
        """The figure of a table."""
        markup = Markup(svg.decode("utf-8")) if svg else None  # made by the figures alone, with all text escaped
        return cls(table, markup, table.shown(_SHOWN))


def item_page(
    item: ItemData, place: Path | None = None, heading: Heading | None = None, back: str | None = None
) -> str:
    """The page of an item. place: of the page, from which links lead to the item's files. back: address of the index
    that it is below."""
    from mudlark.report.figures import draw  # with Matplotlib: large, and only loaded when all films were looked into

    media = [file.path for file in item.record.files if file.role == "media"]
    return _page(
        "item.html",
        title=(not back and heading and heading.title) or item.record.title,
        heading=heading or Heading(),
        links={path: _link(item.folder / path, place) for path in media if place},
        todo=item.todo,
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
    from mudlark.report.bars import draw_folder

    return _page(
        "folder.html",
        title=shelf.title,
        heading=shelf.heading,
        legend=[(name, _LEGEND[name]) for name in shelf.verdicts if name in _LEGEND],
        shelf=shelf,
        figures=[Figure.of(table, draw_folder(table)) for table in shelf.figures()],
        back=None,
    )


def _link(file: Path, page: Path | None) -> str | None:
    """Where a file is, from a page; None where no way leads from one to the other."""
    if page is None:
        return None
    try:
        return quote(Path(os.path.relpath(file.resolve(), page.parent.resolve())).as_posix())
    except ValueError:  # on another drive
        return None


def _picture(path: Path | None) -> str | None:
    kind = _PICTURES.get(path.suffix.lower()) if path else None
    if path is None or kind is None or path.stat().st_size > _LARGEST_PICTURE:
        return None
    return f"data:image/{kind};base64,{base64.b64encode(path.read_bytes()).decode()}"


def _commands(text: str) -> Markup:
    """Text in which commands stand between backticks, with these as code."""
    parts = printable(text).split("`")
    return Markup("").join(Markup("<code>{}</code>").format(part) if at % 2 else part for at, part in enumerate(parts))


def _dates(text: str) -> Markup:
    """Text in which no date is broken over lines."""
    parts = _DATE.split(printable(text))
    whole = Markup('<span class="date">{}</span>')
    return Markup("").join(whole.format(part) if at % 2 else escape(part) for at, part in enumerate(parts))


@cache
def _source(name: str) -> str:
    return (files("mudlark.report") / "templates" / name).read_text(encoding="utf-8")


@cache
def _templates() -> Environment:
    environment = Environment(
        loader=FunctionLoader(_source), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    environment.filters.update(visible=printable, commands=_commands, dates=_dates, clock=clock, size=size, link=quote)
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
