"""`mudlark peek`: what the finds of a page look and sound like, before they are fetched."""

import asyncio
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from mudlark.atomic import refuse_existing
from mudlark.cli.command import Command, common_options, option, replace_option
from mudlark.cli.options import Network, addresses, means, means_options, network_options
from mudlark.cli.show import columns, complain, console, emit_json
from mudlark.cli.steps import Steps
from mudlark.errors import MudlarkError, NothingFound, UsageError
from mudlark.find.look import look, looks_in
from mudlark.find.model import Page
from mudlark.peek import Peek, peek, worth_peeking
from mudlark.report.sheet import Caption, draw_levels, draw_sheet
from mudlark.text import clock, printable, size
from mudlark.web.address import file_part
from mudlark.web.session import Session


@click.command(
    cls=Command,
    short_help="A small preview of finds.",
    examples=(
        ("What do the best finds of a page look like?", "peek https://museum.example/film/mill"),
        ("And those that it asks for once it is played:", "peek --listen --most 12 --sheet mill.png URL"),
    ),
)
@click.argument("urls", nargs=-1, metavar="URL...")
@option("--most", type=click.IntRange(1, 60), default=6, show_default=True, help="Finds shown of each page.")
@option(
    "--sheet",
    type=click.Path(dir_okay=False, path_type=Path),
    default=None,
    metavar="FILE",
    help="Where the contact sheet goes (PNG); without this, peek.png or the next free name.",
)
@means_options
@network_options
@replace_option
@common_options
def command(
    urls: tuple[str, ...], most: int, sheet: Path | None, replace: bool, as_json: bool, network: Network, **given: Any
) -> None:
    """Play the first segment or megabytes of the best finds in a real browser, and draw a contact sheet of them.

    Says how large and long each is, how it is coded, whether there is sound, and whether the picture is black or
    does not move.
    """
    browser = given["browser"]
    way = means(given)
    if not urls and way.har is None:
        raise UsageError("There is nothing to peek at.", "Give the address of a page or a media file, or --har FILE.")
    if sheet:
        refuse_existing(sheet, "--sheet", replace)
    problems: list[MudlarkError] = []

    async def work() -> tuple[list[Page], list[Peek]]:
        async with Session(network.connection()) as session:
            pages: list[Page] = []
            if way.har and not urls:
                pages = [scan.page for scan in await looks_in(session, way.har)]
            for url in addresses(urls):
                try:
                    pages.append((await look(session, url, way, watch=steps)).page)
                except MudlarkError as problem:
                    problem.url = problem.url or url
                    problems.append(problem)
            finds = [find for page in pages for find in worth_peeking(page, most)]
            if not finds and not problems:
                raise NothingFound("There is nothing to see or hear.", "See the finds with `mudlark sift`.")
            return pages, await peek(session, finds, browser) if finds else []

    with Steps() as steps:
        pages, peeks = asyncio.run(work())
    target = make_sheet(pages, peeks, sheet, replace=replace) if peeks else None
    if as_json:
        emit_json("peek", problems, sheet=str(target) if target else None, finds=[peek_data(one) for one in peeks])
    elif target:
        show_peeks(peeks, target)
    if problems:
        for problem in problems[:-1]:
            complain(problem.what, problem.advice)
        raise problems[-1]
    if all(one.problem for one in peeks):
        click.get_current_context().exit(1)


def make_sheet(pages: list[Page], peeks: list[Peek], sheet: Path | None, *, replace: bool = False) -> Path:
    """Draw the contact sheet; gives where it is."""
    target = sheet or _free_name()
    title = " · ".join(page.title or printable(page.url) for page in pages[:3])
    cells = []
    for number, one in enumerate(peeks, start=1):
        picture = draw_levels(one.levels) if one.picture is None and one.levels else one.picture
        cells.append((picture, _caption(number, one)))
    draw_sheet(title, cells, target, replace=replace)
    return target


def show_peeks(peeks: list[Peek], sheet: Path) -> None:
    """Say in words what is on the sheet."""
    out = console()
    rows: list[tuple[str, ...]] = [("", "picture", "length", "size", "codecs", "sound", "address")]
    rows += [(str(number), *_cells(one)) for number, one in enumerate(peeks, start=1)]
    lines = list(columns(rows, right=(0, 1, 2, 3)))
    out.print(Text(lines[0], style="dim"))
    for one, line in zip(peeks, lines[1:], strict=True):
        out.print(line, markup=False)
        for note in _warnings(one):
            out.print(Text(f"   ! {note}", style="yellow"))
    out.print()
    out.print(f"Contact sheet: {sheet}", markup=False)


def _free_name() -> Path:
    name, number = Path("peek.png"), 1
    while name.exists():
        number += 1
        name = Path(f"peek-{number}.png")
    return name


def _size(one: Peek) -> str:
    return f"about {size(one.bytes)}" if one.estimated else size(one.bytes)


def _sound(one: Peek) -> str:
    if not one.sound:
        return "–" if one.find.kind == "image" or one.problem else "none"
    return f"{one.level:.0f} dB".replace("-", "−") if one.level is not None else "yes"


def _warnings(one: Peek) -> list[str]:
    return [one.problem] if one.problem else one.notes


def _cells(one: Peek) -> tuple[str, ...]:
    return (
        f"{one.width}×{one.height}" if one.width else "–",
        clock(one.duration),
        _size(one),
        ", ".join(one.codecs) or "–",
        _sound(one),
        printable(one.find.url),
    )


def _caption(number: int, one: Peek) -> Caption:
    picture, length, total, codecs, sound, _ = _cells(one)
    role = one.find.role if one.find.role == "advert" else "–"
    first = [f for f in ("audio" if one.only_sound else one.find.kind, role, picture, length, total) if f != "–"]
    second = [fact for fact in (codecs, "no sound" if sound == "none" else f"sound {sound}") if "–" not in fact]
    name = file_part(one.find.url) or printable(one.find.url)
    facts = [", ".join(first), ", ".join(second)]
    return Caption(f"{number}  {name}", [fact for fact in facts if fact], _warnings(one))


def peek_data(one: Peek) -> dict[str, Any]:
    return {
        "url": one.find.url,
        "kind": "audio" if one.only_sound else one.find.kind,
        "role": one.find.role,
        "width": one.width or None,
        "height": one.height or None,
        "duration": one.duration,
        "bytes": one.bytes,
        "estimated": one.estimated,
        "codecs": one.codecs,
        "sound": one.sound,
        "level": round(one.level, 1) if one.level is not None else None,
        "notes": one.notes,
        "problem": one.problem,
    }
