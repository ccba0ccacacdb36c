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


def chosen(folders: Sequence[Path], given: dict[str, Any]) -> list[Meant]:
    """The items of some folders that these options mean; takes the options out of `given`."""
    text, since, named = given.pop("text"), given.pop("since"), given.pop("named")
    if since and not DATE.fullmatch(since):
        raise UsageError(f"{since!r} is no date.", "Write it as 2031-05-17.")
    names = [line.strip() for line in named.read(_LARGEST_LIST).splitlines() if line.strip()] if named else None
    choice = choose(folders, Wanted(text=text, since=since), names)
    for place, why in choice.odd:
        messages().print(Text(f"! {place}: {why}", style="yellow"))
    return choice.items
