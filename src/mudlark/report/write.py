"""Writing a report: its pages, the data of its figures as CSV, and the figures alone.

Nothing of the user's is written over. With `replace`, what an earlier report left under the same names gives way; pages
of items that are not there any more go, and nothing else does.
"""

import csv
import re
from io import StringIO
from pathlib import Path

from mudlark.archive.layout import RECORD
from mudlark.archive.listing import cell
from mudlark.errors import UsageError
from mudlark.report.bars import draw_folder
from mudlark.report.figures import draw
from mudlark.report.item import ItemData, read_item
from mudlark.report.page import GENERATOR, folder_page, item_page
from mudlark.report.shelf import read_shelf
from mudlark.report.table import Table
from mudlark.whole import refuse_existing, whole_file

_OURS = f'<meta name="generator" content="{GENERATOR} '.encode()
_HEAD = 2_000  # bytes of a page in which that stands
_PAGE = re.compile(r"\d{4,}\.html")
_ADVICE = "Choose another name with --into, or add --replace."


def write_report(
    path: Path,
    into: Path,
    *,
    data: Path | None = None,
    png: Path | None = None,
    replace: bool = False,
    all_figures: bool = False,
) -> int:
    """Write the report of an item or a folder; gives the number of pages. data, png: folders for the figures' data as
    CSV, and for the figures alone. all_figures: also in the pages of items below a folder of many. Raises UsageError
    where there is nothing to report, or something would be written over."""
    if not path.is_dir():
        raise UsageError(f"{path} is no folder.", "Give an item's folder, or one with items below it.")
    refuse_existing(into, "--into", replace)
    of_item = (path / RECORD).is_file()
    for folder, suffix in ((data, "csv"), (png, "png")):
        if folder and not replace and (taken := sorted(folder.glob(f"*.{suffix}"))):
            raise UsageError(f"{taken[0]} is there already.", "Choose another folder, or add --replace.")
    count = 1
    drawings: dict[str, bytes | None] = {}
    if of_item:
        item = read_item(path)
        tables = [*item.figures, item.pieces]
        drawings = {table.name: draw(item, table, "png") for table in item.figures} if png else {}
        _write(into, item_page(item), replace=replace)
    else:
        pages = _folder_for(into)
        written: set[Path] = set()

        def write_page(address: str, item: ItemData) -> None:
            pages.mkdir(parents=True, exist_ok=True)
            page = into.parent / address
            _write(page, item_page(item, back=f"../{into.name}"), replace=page.exists())  # an earlier one is ours
            written.add(page)

        if pages.exists() and not replace:
            raise UsageError(f"{pages} is there already.", _ADVICE)
        shelf = read_shelf(path, pages.name, write_page, all_figures=all_figures)
        figures = shelf.figures()
        tables = [*figures, shelf.items()]
        drawings = {table.name: draw_folder(table, "png") for table in figures} if png else {}
        _write(into, folder_page(shelf), replace=replace)
        for left in set(pages.glob("*.html")) - written if pages.exists() else ():
            left.unlink()  # of an earlier report: there is nothing else in that folder
        count += len(written)
    for table in tables if data else ():
        _write_bytes(_in(data, f"{table.name}.csv"), _as_csv(table), replace=replace)
    for name, drawn in drawings.items():
        if png and drawn:
            _write_bytes(_in(png, f"{name}.png"), drawn, replace=replace)
    return count


def place_for(path: Path) -> Path:
    """Where a report that replaces its earlier self goes: under that name, unless something else has it."""
    place, number = path, 2
    while place.exists() and not is_ours(place):
        place, number = path.with_name(f"{path.stem} ({number}){path.suffix}"), number + 1
    return place


def is_ours(path: Path) -> bool:
    """True if a file is a page that a report left."""
    try:
        with path.open("rb") as file:
            return not path.is_symlink() and _OURS in file.read(_HEAD)
    except OSError:
        return False


def _folder_for(into: Path) -> Path:
    """The folder of the items' pages: named as the index, unless that is a folder with something else in it."""
    place, number = into.parent / into.stem, 1
    while place.exists() and not _is_of_pages(place):
        suffix = "-pages" if number == 1 else f"-pages ({number})"
        place, number = into.parent / f"{into.stem}{suffix}", number + 1
    return place


def _is_of_pages(folder: Path) -> bool:
    """True if there is nothing in a folder but the pages of a report."""
    return folder.is_dir() and all(_PAGE.fullmatch(one.name) and is_ours(one) for one in folder.iterdir())


def _in(folder: Path | None, name: str) -> Path:
    assert folder
    folder.mkdir(parents=True, exist_ok=True)
    return folder / name


def _write(path: Path, page: str, *, replace: bool) -> None:
    _write_bytes(path, page.encode("utf-8"), replace=replace)


def _write_bytes(path: Path, body: bytes, *, replace: bool) -> None:
    with whole_file(path, _ADVICE, replace=replace) as file:
        file.write(body)


def _as_csv(table: Table) -> bytes:
    out = StringIO()
    writer = csv.writer(out)
    writer.writerow(table.columns)
    for row in table.rows:
        writer.writerow([cell(one) if isinstance(one, str) else one for one in row])
    return out.getvalue().encode("utf-8")
