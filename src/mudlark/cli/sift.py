"""`mudlark sift`: what media is here, and why it ranks so."""

import asyncio
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args

import click
from rich.text import Text

from mudlark.archive.listing import write_listing
from mudlark.cli.finds import page_data, show_button, show_page
from mudlark.cli.options import (
    addresses,
    connection,
    json_option,
    means,
    means_options,
    network_options,
    size_option,
)
from mudlark.cli.show import columns, console, emit_json, life, size
from mudlark.cli.steps import Steps
from mudlark.errors import MudlarkError, NothingFound, UsageError
from mudlark.find.button import Button, find_button
from mudlark.find.look import Means, look, looks_in
from mudlark.find.model import Kind, Page, Role
from mudlark.find.probe import MANY, MOST, ask
from mudlark.find.questions import ANY, Answer
from mudlark.find.select import ORDERS, Filter, ordered
from mudlark.find.sift import decode, sift_look
from mudlark.find.walk import sift_all
from mudlark.manifest.load import wants_text
from mudlark.web.address import printable
from mudlark.web.session import Session

if TYPE_CHECKING:
    from mudlark.peek import Peek


@click.command(short_help="Look through pages.")
@click.argument("urls", nargs=-1, metavar="URL...")
@click.option("--why", is_flag=True, help="Say what each point of the score is for, and all places.")
@click.option("--kind", "kinds", multiple=True, type=click.Choice(get_args(Kind)), help="Only finds of this kind.")
@click.option("--role", "roles", multiple=True, type=click.Choice(get_args(Role)), help="Only finds in this role.")
@click.option("--match", default=None, metavar="TEXT", help="Only finds with this text in address, label or place.")
@click.option("--host", default=None, metavar="TEXT", help="Only finds on hosts with this in their name.")
@size_option("--larger-than", help="Only finds known to be larger (500k, 20M).")
@click.option("--sort", type=click.Choice(ORDERS), default="rank", show_default=True, help="Order of the list.")
@click.option("--most", type=click.IntRange(1), default=20, show_default=True, help="Finds listed of each page.")
@click.option("--no-probe", is_flag=True, help="Ask the servers nothing about the finds.")
@click.option("--button", default=None, metavar="TEXT|SELECTOR", help="What does this control of the page point to?")
@click.option(
    "--peek",
    "peeking",
    type=click.IntRange(1, 60),
    default=None,
    metavar="N",
    help="Draw a contact sheet of the top N.",
)
@click.option(
    "--csv",
    type=click.Path(dir_okay=False, path_type=Path),
    default=None,
    metavar="FILE",
    help="Write the entries that index pages list into this file.",
)
@means_options
@json_option
@network_options
def command(
    urls: tuple[str, ...],
    why: bool,
    kinds: tuple[str, ...],
    roles: tuple[str, ...],
    match: str | None,
    host: str | None,
    larger_than: float | None,
    sort: str,
    most: int,
    no_probe: bool,
    button: str | None,
    peeking: int | None,
    csv: Path | None,
    as_json: bool,
    **given: Any,
) -> None:
    """Look through pages, feeds or media addresses and list the media they hold, best first.

    Each find says where it stands in the source. The likeliest are asked for a few kilobytes, to see whether they
    live, what they really are, how large and how long. With --button, only what one control means is listed.

    Many pages ask for their media only once they are played: --listen does that in a real browser, --har takes what
    one has recorded before.
    """
    browser = given["browser"]
    way = means(given)
    if not urls and way.har is None:
        raise UsageError("There is nothing to look through.", "Give the address of a page, or a capture with --har.")
    if button and way != Means():
        raise UsageError("--button looks at the source alone.", "Leave out --listen and --har.")
    wanted = Filter(kinds, roles, match, host, larger_than)
    asking = 0 if no_probe else MANY if sort == "size" or larger_than is not None else MOST

    async def work() -> _Seen:
        async with Session(connection(**given)) as session:
            seen = await _look_at(session, addresses(urls), way, button, asking, steps)
            for page in seen.pages:
                page.finds = ordered((find for find in page.finds if wanted.passes(find)), sort)
            if peeking:
                from mudlark.peek import peek, worth_peeking  # needs what no other way of looking does

                finds = [find for page in seen.pages for find in worth_peeking(page, peeking)]
                seen.peeks = await peek(session, finds, browser)
            return seen

    with Steps() as steps:
        seen = asyncio.run(work())
    pages, buttons, problems = seen.pages, seen.buttons, seen.problems
    if csv:
        count = write_listing(csv, [entry for page in pages for entry in page.entries])
        click.echo(
            f"{count:,} entries written to {csv}" if count else f"No page lists entries; {csv} has none.", err=True
        )
    sheet = None
    if seen.peeks:
        from mudlark.cli.peek import make_sheet, show_peeks

        sheet = make_sheet(pages, seen.peeks, None)
    if as_json:
        _emit(seen, sheet)
    elif seen.paths:
        _show_paths(seen)
    else:
        for number, page in enumerate(pages):
            if number:
                click.echo()
            if page.url in buttons:
                show_button(page, buttons[page.url])
            elif page.finds or page.entries or page.asks:
                show_page(page, most, why)
            elif not problems:
                click.echo(f"mudlark: None of the finds on {printable(page.url)} is asked for.", err=True)
        if sheet:
            click.echo()
            show_peeks(seen.peeks, sheet)
    if problems:
        for problem in problems[:-1]:
            click.echo(f"mudlark: {problem}", err=True)
        raise problems[-1]
    if not buttons and not any(page.finds or page.entries for page in pages):
        click.get_current_context().exit(NothingFound.exit_status)


@dataclass
class _Seen:
    """What looking gave: pages, controls by their page's address, what was peeked at, and what went wrong.

    paths: the answers that led to each of the pages, if there were several ways.
    """

    pages: list[Page] = field(default_factory=list)
    buttons: dict[str, Button] = field(default_factory=dict)
    problems: list[MudlarkError] = field(default_factory=list)
    peeks: "list[Peek]" = field(default_factory=list)
    paths: list[tuple[Answer, ...]] = field(default_factory=list)


async def _look_at(
    session: Session, urls: list[str], way: Means, wanted: str | None, asking: int, steps: Steps
) -> _Seen:
    if way.har and not urls:
        return _Seen([looked.page for looked in await looks_in(session, way.har, asking=asking)])
    seen = _Seen()
    for url in urls:
        session.at_home(url)
        try:
            if wanted is None and any(answer.value == ANY for answer in way.answers):
                async for path, page in sift_all(session.connection, url, way.answers, asking=asking):
                    seen.pages.append(page)
                    seen.paths.append(path)
            elif wanted is None:
                seen.pages.append((await look(session, url, way, asking=asking, watch=steps)).page)
            else:
                page, found = await _button(session, url, wanted)
                seen.pages.append(page)
                seen.buttons[page.url] = found
        except MudlarkError as problem:
            seen.problems.append(problem)
            if isinstance(problem, NothingFound):
                seen.pages.append(Page(url))
    return seen


async def _button(session: Session, url: str, wanted: str) -> tuple[Page, Button]:
    look = await session.look(url, wants_text)
    try:
        page = await sift_look(session, look, asking=0)
    except NothingFound:
        page = Page(look.url)
    if page.itself:
        raise UsageError(f"{printable(url)} is no page, so it has no buttons.", "Give the address of the page.")
    button = find_button(decode(look), page, wanted)
    await ask(session, [entry.find for entry in button.pointed])
    button.pointed.sort(key=lambda entry: (entry.find.problem is not None, not entry.own))
    return page, button


def _show_paths(seen: _Seen) -> None:
    """All ways through the questions, with what each leads to."""
    out = console()
    names = [answer.name for answer in seen.paths[0]]
    rows = [(*names, "kind", "size", "life")]
    for page in seen.pages:
        labels = [label for step in page.walk for _, label in step.answered]
        find = page.finds[0] if page.finds else None
        lasts = life(find.expires - time.time()) if find and find.expires else "–"
        rows.append((*labels, find.kind if find else "nothing", size(find.bytes if find else None), lasts))
    lines = list(columns(rows, right=(len(names) + 1,)))
    out.print(Text(lines[0], style="dim"))
    for page, line in zip(seen.pages, lines[1:], strict=True):
        out.print(Text(line, style="bold"))
        for find in page.finds[:1]:
            out.print(Text(f"  {printable(find.url)}", style="cyan"))


def _emit(seen: _Seen, sheet: Path | None) -> None:
    more = {}
    if sheet:
        from mudlark.cli.peek import peek_data

        more["peek"] = {"sheet": str(sheet), "finds": [peek_data(one) for one in seen.peeks]}
    emit_json("sift", pages=[page_data(page, seen.buttons.get(page.url)) for page in seen.pages], **more)
