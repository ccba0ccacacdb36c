"""`mudlark bag`: items as bags that other archives accept."""

from pathlib import Path
from typing import Any

import click
from rich.text import Text

from mudlark.archive.bag import Bagged, bags_in, items_in, make_bag
from mudlark.archive.bagcheck import check_bag
from mudlark.cli.command import Command, common_options, option
from mudlark.cli.options import Folder
from mudlark.cli.show import complain, console, emit_json
from mudlark.errors import MudlarkError, UsageError, examining
from mudlark.text import size

_FACTS = {
    "source_organization": ("--source-organization", "NAME", "Who hands it over."),
    "organization_address": ("--organization-address", "TEXT", "Where they are."),
    "contact_name": ("--contact-name", "NAME", "Whom to ask."),
    "contact_phone": ("--contact-phone", "NUMBER", "And by which number."),
    "contact_email": ("--contact-email", "ADDRESS", "Or at which address."),
    "bag_group": ("--bag-group", "NAME", "What the bags belong to."),
}


def _fact_options(function: Any) -> Any:
    for name, (flag, metavar, words) in reversed(_FACTS.items()):
        function = option(flag, name, default=None, metavar=metavar, group="Choosing", help=words)(function)
    return function


@click.command(
    cls=Command,
    short_help="Make bags of items.",
    examples=(
        ("A bag for each item:", "bag mudlark --into bags --source-organization 'Tidewrack Museum'"),
        ("Are the bags still whole?", "bag --check bags"),
    ),
)
@click.argument("folder", metavar="DIR", type=click.Path(path_type=Path))
@option("--into", type=Folder(), default=None, metavar="OUT", help="Folder that takes the bags.")
@option("--together", is_flag=True, help="One bag for all items.")
@option("--zip", "zipped", is_flag=True, help="Each bag as one ZIP file.")
@option("--check", is_flag=True, help="See whether DIR is a bag that is whole, or holds such bags.")
@_fact_options
@common_options
def command(
    folder: Path, into: Path | None, together: bool, zipped: bool, check: bool, as_json: bool, **given: Any
) -> None:
    """Make bags (BagIt 1.0, RFC 8493) of an item, or of all items below a folder.

    Each bag is compared with what the items were when they were hauled. Who hands them over can stand in the
    configuration, as `source-organization` and so on in the table [bag].
    """
    if check:
        _check(folder, as_json)
        return
    if into is None:
        raise UsageError("Where should the bags go?", "Add --into OUT.")
    items = items_in(folder)
    facts = {name.replace("_", "-").title(): value for name, value in given.items() if value}
    bags: list[Bagged] = []
    problems: list[MudlarkError] = []
    for group in [items] if together else [[item] for item in items]:
        try:
            with examining(folder):
                bags.append(make_bag(group, folder, into, facts, zipped=zipped))
        except MudlarkError as problem:
            problems.append(problem)
            continue
        if not as_json:
            bag = bags[-1]
            what = f"{bag.items} items, " if bag.items > 1 else ""
            there = "" if bag.new else ", there already"
            console().print(f"{bag.path}  {what}{bag.files} files, {size(bag.bytes)}{there}", markup=False)
    if as_json:
        emit_json("bag", problems, bags=[_data(bag) for bag in bags])
    if problems:
        for failed in problems[:-1]:
            complain(failed.what, failed.advice)
        raise problems[-1]


def _data(bag: Bagged) -> dict[str, Any]:
    return {"path": str(bag.path), "items": bag.items, "files": bag.files, "bytes": bag.bytes, "new": bag.new}


def _check(folder: Path, as_json: bool) -> None:
    checked = [(path, check_bag(path)) for path in bags_in(folder)]
    if as_json:
        emit_json("bag", bags=[{"path": str(path), "valid": not wrong, "wrong": wrong} for path, wrong in checked])
    else:
        for path, wrong in checked:
            words, style = ("is not whole:", "bold red") if wrong else ("is whole", "green")
            console().print(Text(f"{path} {words}", style=style))
            for one in wrong:
                console().print(Text(f"! {one}", style="yellow"))
    if any(wrong for _, wrong in checked):
        click.get_current_context().exit(1)
