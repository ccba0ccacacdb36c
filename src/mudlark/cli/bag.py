"""`mudlark bag`: items as packages that other archives accept."""

from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from typing import Any, Literal

import click
from rich.text import Text

from mudlark.archive.bag import bags_in, make_bag
from mudlark.archive.bagcheck import check_bag
from mudlark.archive.choosing import Meant
from mudlark.archive.handover import Package
from mudlark.archive.ocfl import check_object, is_root, objects_in, store
from mudlark.archive.place import takes_files
from mudlark.cli.choosing import choosing_options, chosen
from mudlark.cli.command import Command, common_options, option
from mudlark.cli.options import Folder
from mudlark.cli.show import complain, console, emit_json
from mudlark.errors import MudlarkError, StorageError, UsageError, examining
from mudlark.text import counted, size

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
        function = option(flag, name, default=None, metavar=metavar, help=words)(function)
    return function


@click.command(
    cls=Command,
    short_help="Make packages of items.",
    examples=(
        ("A bag for each item:", "bag mudlark --into bags --source-organization 'Tidewrack Museum'"),
        (
            "What came this quarter, into a repository:",
            "bag mudlark --since 2031-07 --form ocfl --into /srv/repository",
        ),
        ("Are the bags still whole?", "bag --check bags"),
    ),
)
@click.argument("folders", metavar="DIR...", nargs=-1, required=True, type=click.Path(path_type=Path))
@option("--into", type=Folder(), default=None, metavar="OUT", help="Folder that takes the packages.")
@option(
    "--form",
    type=click.Choice(["bagit", "ocfl"]),
    default="bagit",
    show_default=True,
    help="Bags (RFC 8493), or objects with versions in an OCFL 1.1 storage root.",
)
@option("--together", is_flag=True, help="One bag for all items.")
@option("--zip", "zipped", is_flag=True, help="Each bag as one ZIP file.")
@option("--check", is_flag=True, help="See whether DIR is a package that is whole, or holds such packages.")
@_fact_options
@choosing_options
@common_options
def command(
    folders: tuple[Path, ...],
    into: Path | None,
    form: Literal["bagit", "ocfl"],
    together: bool,
    zipped: bool,
    check: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Make packages of items, or of all items below some folders: bags (BagIt 1.0), or objects of an OCFL storage root.

    Each is compared with what the items were when they were hauled, and says in PREMIS 3.0 and Dublin Core what was
    done to them and what they are. Who hands them over can stand in the configuration, as `source-organization` and so
    on in the table [bag].
    """
    if check:
        _check(folders, as_json)
        return
    if into is None:
        raise UsageError("Where should the packages go?", "Add --into OUT.")
    if form == "ocfl" and (together or zipped):
        raise UsageError("--together and --zip are for bags.", "Leave them out with --form ocfl.")
    for folder in folders:
        if into.resolve().is_relative_to(folder.resolve()):
            raise UsageError(f"{into} lies in {folder}, whose items it is to take.", "Choose a folder outside.")
    items = chosen(folders, given)
    facts = {name.replace("_", "-").title(): given[name] for name in _FACTS if given[name]}
    if form == "ocfl":
        user = {"name": facts.get("Source-Organization") or facts.get("Contact-Name") or "Mudlark"}
        user |= {"address": f"mailto:{facts['Contact-Email']}"} if "Contact-Email" in facts else {}
        makers: list[Callable[[], Package]] = [partial(store, one.folder, into, user) for one in items]
    else:
        groups = [items] if together else [[one] for one in items]
        makers = [partial(make_bag, group, into, facts, zipped=zipped) for group in groups]
    _make(makers, items, into, as_json)


def _make(makers: list[Callable[[], Package]], items: list[Meant], into: Path, as_json: bool) -> None:
    """Make them one by one, and say what came; where no more can be written, that ends it and is said once."""
    made: list[Package] = []
    problems: list[MudlarkError] = []
    for number, maker in enumerate(makers):
        try:
            with examining(items[number].folder):
                made.append(maker())
        except MudlarkError as problem:
            problems.append(problem)
            if isinstance(problem, StorageError) and not takes_files(into):
                break
            continue
        if not as_json:
            console().print(_words(made[-1]), markup=False)
    if as_json:
        emit_json("bag", problems, bags=[_data(one) for one in made])
    else:
        console().print(Text(", ".join(_totals(made, len(makers) - len(made))), style="bold"))
    if problems:
        for failed in problems[:-1]:
            complain(failed.what, failed.advice)
        raise problems[-1]


def _words(one: Package) -> str:
    what = f"{counted(one.items, 'item')}, " if one.items > 1 else ""
    version = f"{one.version}, " if one.version else ""
    there = "" if one.new else ", there already"
    return f"{one.path}  {version}{what}{counted(one.files, 'file')}, {size(one.bytes)}{there}"


def _totals(made: list[Package], left: int) -> Iterator[str]:
    yield counted(len(made), "package")
    if there := sum(not one.new for one in made):
        yield f"{there:,} there already"
    if left:
        yield f"{left:,} not made"
    yield size(sum(one.bytes for one in made))


def _data(one: Package) -> dict[str, Any]:
    return {
        "path": str(one.path),
        "items": one.items,
        "files": one.files,
        "bytes": one.bytes,
        "new": one.new,
        "version": one.version,
    }


def _check(folders: tuple[Path, ...], as_json: bool) -> None:
    checked: list[tuple[Path, list[str]]] = []
    for folder in folders:
        if is_root(folder):
            checked += ((path, check_object(path)) for path in objects_in(folder))
        else:
            checked += ((path, check_bag(path)) for path in bags_in(folder))
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
