"""Writing a report: its pages, the data of its figures as CSV, and the figures alone.

Nothing of the user's is written over. With `replace`, what an earlier report left under the same names gives way; pages
of items that are not there any more go, and nothing else does.
"""

import csv
import os
import re
from collections.abc import Sequence
from io import StringIO
from pathlib import Path

import msgspec

from mudlark.archive.choosing import Holdings, choose
from mudlark.archive.layout import RECORD
from mudlark.archive.ledger import Wanted
from mudlark.archive.listing import cell
from mudlark.atomic import atomic_write, refuse_existing
from mudlark.errors import StorageError, UsageError, examining
from mudlark.plain import NotPlain, open_plain
from mudlark.report.heading import Heading
from mudlark.report.item import ItemData, read_item
from mudlark.report.page import GENERATOR, folder_page, item_page
from mudlark.report.shelf import read_shelf
from mudlark.report.table import Table

_OURS = f'<meta name="generator" content="{GENERATOR} '.encode()
_HEAD = 2_000  # bytes of a page in which that stands
_PAGE = re.compile(r"\d{4,}\.html")
_PNG = b"\x89PNG\r\n\x1a\n"
_ADVICE = "Choose another name with --into, or add --replace."
_PLAIN, _ALL = Heading(), Wanted()


class _Written(msgspec.Struct, frozen=True):
    """What was written. tables: all data behind it. drawings: the figures as PNG, if they were asked for."""

    pages: int
    tables: list[Table]
    drawings: dict[str, bytes | None]


def write_report(
    paths: Sequence[Path],
    into: Path,
    *,
    heading: Heading = _PLAIN,
    wanted: Wanted = _ALL,
    named: Sequence[str] | None = None,
    data: Path | None = None,
    png: Path | None = None,
    replace: bool = False,
    all_figures: bool = False,
) -> int:
    """Write the report of an item or of folders; gives the number of pages. heading: what stands at its head. wanted,
    named: which items of folders are meant (see `archive.choosing.choose`). data, png: folders for the figures' data as
    CSV, and for the figures alone. all_figures: also in the pages of items below a folder of many. Raises UsageError
    where there is nothing to report or something would be written over, StorageError where it cannot be written."""
    for path in paths:
        if not path.is_dir():
            raise UsageError(f"{path} is no folder.", "Give an item's folder, or one with items below it.")
    refuse_existing(into, "--into", replace)
    if os.path.lexists(into) and not is_ours(into):
        raise _not_ours(into)
    for folder, suffix in ((data, "csv"), (png, "png")):
        if folder and not replace and (taken := sorted(folder.glob(f"*.{suffix}"))):
            raise UsageError(f"{taken[0]} is there already.", "Choose another folder, or add --replace.")
    if len(paths) == 1 and (paths[0] / RECORD).is_file():
        written = _write_item(paths[0], into, heading, alone=png is not None, replace=replace)
    else:
        if heading.period:
            since = max(wanted.since or "", heading.period.first)
            wanted = msgspec.structs.replace(wanted, since=since, until=heading.period.last)
        holdings = choose(paths, wanted, named)
        written = _Folder(paths, holdings, heading, into, png is not None, replace, all_figures).write()
    if data:
        for table in written.tables:
            sheet = _as_csv(table)
            _write(_ours(data / f"{table.name}.csv", sheet.partition(b"\n")[0]), sheet, replace=replace)
    if png:
        for name, drawing in written.drawings.items():
            if drawing:
                _write(_ours(png / f"{name}.png", _PNG), drawing, replace=replace)
    return written.pages


def _write_item(path: Path, into: Path, heading: Heading, *, alone: bool, replace: bool) -> _Written:
    with examining(path):
        item = read_item(path)
        body = item_page(item, into, heading).encode()
    _write(into, body, replace=replace)
    from mudlark.report.figures import draw

    drawings = {table.name: draw(item, table, "png") for table in item.figures} if alone else {}
    return _Written(1, [*item.figures, item.pieces], drawings)


class _Folder(msgspec.Struct, frozen=True):
    """The report of folders: its index, and a page for each item below it."""

    folders: Sequence[Path]
    holdings: Holdings
    heading: Heading
    into: Path
    alone: bool
    replace: bool
    figures: bool

    def write(self) -> _Written:
        """Write all pages; those of an earlier report that are none any more go."""
        pages = _folder_for(self.into)
        earlier = set(pages.iterdir()) if pages.exists() else set()
        if earlier and not self.replace:
            raise UsageError(f"{pages} is there already.", _ADVICE)
        written: set[Path] = set()

        def write_page(address: str, item: ItemData) -> None:
            page = self.into.parent / address
            with examining(item.folder):
                body = item_page(item, page, self.heading, back=f"../{self.into.name}").encode()
            _write(page, body, replace=page in earlier)
            written.add(page)

        shelf = read_shelf(self.folders, self.holdings, self.heading, pages.name, write_page, all_figures=self.figures)
        figures = shelf.figures()
        _write(self.into, folder_page(shelf).encode(), replace=self.replace)
        for left in earlier - written:
            left.unlink()
        from mudlark.report.bars import draw_folder

        drawings = {table.name: draw_folder(table, "png") for table in figures} if self.alone else {}
        return _Written(1 + len(written), [*figures, shelf.items()], drawings)


def _ours(path: Path, head: bytes) -> Path:
    """The path, unless a file stands there that does not begin as those of a report do. Raises UsageError."""
    if os.path.lexists(path):
        try:
            with open_plain(path) as file:
                same = file.read(len(head)) == head
        except (OSError, NotPlain):
            same = False
        if not same:
            raise _not_ours(path)
    return path


def _not_ours(path: Path) -> UsageError:
    return UsageError(f"{path} is no part of a report, and is not written over.", "Choose another name or folder.")


def place_for(path: Path) -> Path:
    """Where a report that replaces its earlier self goes: under that name, unless something else has it."""
    place, number = path, 2
    while os.path.lexists(place) and not is_ours(place):
        place, number = path.with_name(f"{path.stem} ({number}){path.suffix}"), number + 1
    return place


def is_ours(path: Path) -> bool:
    """True if a file is a page that a report left."""
    try:
        with open_plain(path) as file:
            return _OURS in file.read(_HEAD)
    except (OSError, NotPlain):
        return False


def _folder_for(into: Path) -> Path:
    """The folder of the items' pages: named as the index, unless that is a folder with something else in it."""
    place, number = into.parent / into.stem, 1
    while place == into or (place.exists() and not _is_of_pages(place)):
        suffix = "-pages" if number == 1 else f"-pages ({number})"
        place, number = into.parent / f"{into.stem}{suffix}", number + 1
    return place


def _is_of_pages(folder: Path) -> bool:
    """True if there is nothing in a folder but the pages of a report."""
    return folder.is_dir() and all(_PAGE.fullmatch(one.name) and is_ours(one) for one in folder.iterdir())


def _write(path: Path, body: bytes, *, replace: bool) -> None:
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise StorageError(f"Cannot make the folder {path.parent}: {problem.strerror}.", _ADVICE) from problem
    with atomic_write(path, _ADVICE, replace=replace) as file:
        file.write(body)


def _as_csv(table: Table) -> bytes:
    out = StringIO()
    writer = csv.writer(out)
    writer.writerow(table.columns)
    for row in table.rows:
        writer.writerow([cell(one) if isinstance(one, str) else one for one in row])
    return out.getvalue().encode("utf-8")
