"""`mudlark report`: what was taken, from where, and whether it is good, on one page."""

from importlib.util import find_spec
from pathlib import Path
from typing import Any

import click

from mudlark.cli.choosing import choosing_options, wanted_and_named
from mudlark.cli.command import Command, common_options, option, replace_option
from mudlark.cli.options import Folder
from mudlark.cli.show import console, emit_json, messages
from mudlark.errors import UsageError
from mudlark.text import counted


def has_libraries() -> bool:
    """True if the extra is installed."""
    return bool(find_spec("jinja2") and find_spec("matplotlib"))


def need_libraries() -> None:
    """Raises UsageError where it is not."""
    if not has_libraries():
        raise UsageError(
            "Reports need Matplotlib and Jinja2.", "Install them with: python -m pip install 'mudlark[report]'"
        )


def report_at_the_end(path: Path, into: Path) -> None:
    """The report of what was just made, in the place of the one before; says where it is."""
    from mudlark.report.write import place_for, write_report

    place = place_for(into)
    write_report([path], place, replace=True)
    messages().print(f"report {place}", markup=False)


@click.command(
    cls=Command,
    short_help="Make a page of an item or a folder.",
    examples=(
        ("What came of one haul:", "report 'mudlark/The Tide Mill at Work' --into mill.html"),
        ("A whole shelf, with a page for each item:", "report mudlark --into shelf.html"),
        (
            "What came in a quarter, for the director:",
            "report films sounds --period 2031-Q3 --title 'Summer' --into summer.html",
        ),
    ),
)
@click.argument("paths", metavar="PATH...", nargs=-1, required=True, type=click.Path(path_type=Path))
@option("--into", type=click.Path(dir_okay=False, path_type=Path), required=True, metavar="FILE.html", help="The page.")
@option("--data", type=Folder(), default=None, metavar="DIR", help="Write the data of the figures here, as CSV.")
@option("--png", type=Folder(), default=None, metavar="DIR", help="Write the figures alone here, as PNG.")
@option("--title", default=None, metavar="TEXT", help="Its title, instead of the folder's name.")
@option("--institution", default=None, metavar="NAME", help="Whose report it is.")
@option(
    "--period",
    default=None,
    metavar="TIME",
    help="Only what came in this time: 2031, 2031-Q3, 2031-07, 2031-07-01..2031-08-15.",
)
@option("--all-figures", is_flag=True, help="Figures in the pages of a folder's items too, however many.")
@choosing_options
@replace_option
@common_options
def command(
    paths: tuple[Path, ...],
    into: Path,
    data: Path | None,
    png: Path | None,
    title: str | None,
    institution: str | None,
    period: str | None,
    all_figures: bool,
    replace: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Make a report of an item, or of folders with a page for each of their items below it.

    Each page stands alone: it opens from disk without a network, in light and dark, and prints.
    """
    need_libraries()
    from mudlark.report.heading import Heading, Period
    from mudlark.report.write import write_report  # its libraries are slow to load, and few need them

    wanted, named = wanted_and_named(given)
    count = write_report(
        paths,
        into,
        heading=Heading(title, institution, Period.of(period) if period else None),
        wanted=wanted,
        named=named,
        data=data,
        png=png,
        replace=replace,
        all_figures=all_figures,
    )
    if as_json:
        emit_json("report", page=str(into), pages=count)
        return
    console().print(f"{into}  {counted(count, 'page')}", markup=False)
