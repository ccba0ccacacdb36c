"""Options by which items of some folders are chosen, for packages and reports."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from mudlark.archive.choosing import Meant, choose
from mudlark.archive.ledger import Wanted
from mudlark.cli.command import F, option
from mudlark.cli.options import DATE
from mudlark.cli.show import messages
from mudlark.errors import UsageError

_LARGEST_LIST = 10_000_000  # characters

_CHOOSING = (
    option(
        "--text",
        default=None,
        metavar="TEXT",
        group="Choosing",
        help="Only items with this in title, path, source, checksum or the columns of their list.",
    ),
    option(
        "--since", default=None, metavar="DATE", group="Choosing", help="Only items hauled since then (2031-05-17)."
    ),
    option(
        "--list",
        "named",
        type=click.File(encoding="utf-8-sig"),
        default=None,
        metavar="FILE",
        group="Choosing",
        help="Only items that stand in this list, one a line: path, title, source or shelfmark.",
    ),
)


def choosing_options(function: F) -> F:
    """--text, --since, --list; they come as `text`, `since` and `named`."""
    for one in reversed(_CHOOSING):
        function = one(function)
    return function


def wanted_and_named(given: dict[str, Any]) -> tuple[Wanted, list[str] | None]:
    """What these options mean, for `choose`; takes them out of `given`."""
    text, since, named = given.pop("text"), given.pop("since"), given.pop("named")
    if since and not DATE.fullmatch(since):
        raise UsageError(f"{since!r} is no date.", "Write it as 2031-05-17.")
    names = [line.strip() for line in named.read(_LARGEST_LIST).splitlines() if line.strip()] if named else None
    return Wanted(text=text, since=since), names


def chosen(folders: Sequence[Path], given: dict[str, Any]) -> list[Meant]:
    """The items of some folders that these options mean; what was not looked into is said."""
    holdings = choose(folders, *wanted_and_named(given))
    for place, why in holdings.odd:
        messages().print(Text(f"! {place}: {why}", style="yellow"))
    return holdings.items
