"""`mudlark sift`: what media is here, and why it ranks so."""

import asyncio
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
import msgspec
from msgspec.structs import replace
from rich.text import Text

from mudlark.archive.listing import write_listing
from mudlark.atomic import refuse_existing
from mudlark.cli.command import Command, common_options, option, replace_option
from mudlark.cli.finds import page_data, show_button, show_page
from mudlark.cli.options import Network, addresses, filter_options, means, means_options, network_options, wanted
from mudlark.cli.show import columns, complain, console, emit_json, life, messages
from mudlark.cli.steps import Steps
from mudlark.errors import MudlarkError, NothingFound, UsageError
from mudlark.find.further import nothing
from mudlark.find.judge.probe import MANY, MOST, ask, probe
from mudlark.find.look import Means, look, looks_in
from mudlark.find.model import Page
from mudlark.find.places.button import Button, find_button
from mudlark.find.places.links import links_in, listed_by
from mudlark.find.questions import ANY, Answer
from mudlark.find.select import ORDERS, Filter, ordered
from mudlark.find.sift import decode, sift_response
from mudlark.find.walk import sift_all
from mudlark.manifest.load import wants_text
from mudlark.text import counted, printable, size
from mudlark.web.address import shown
from mudlark.web.session import Session

if TYPE_CHECKING:
    from mudlark.peek import Peek

_NAMED = 5  # finds of unknown size


@click.command(
    cls=Command,
    short_help="Look through pages.",
    examples=(
        ("What media is on a page?", "sift https://museum.example/film/mill"),
        ("What does it ask for once it is played?", "sift --listen https://museum.example/film/mill"),
        ("All films larger than 20 MB, the largest first:", "sift --kind video --larger-than 20M --sort size URL"),
    ),
)
@click.argument("urls", nargs=-1, metavar="URL...")
@option("--why", is_flag=True, help="Say where each find stands, and what each point of its score is for.")
@option("--sort", type=click.Choice(ORDERS), default="rank", show_default=True, help="Order of the list.")
@option("--most", type=click.IntRange(1), default=40, show_default=True, help="Finds listed of each page.")
@option("--no-probe", is_flag=True, help="Ask the servers nothing about the finds; their numbers are then others.")
@option("--button", default=None, metavar="TEXT|SELECTOR", help="What does this control of the page point to?")
@option(
    "--peek",
    "peeking",
    type=click.IntRange(1, 60),
    default=None,
    metavar="N",
    help="Draw a contact sheet of the top N.",
)
@option(
    "--csv",
    type=click.Path(dir_okay=False, path_type=Path),
    default=None,
    metavar="FILE",
    help="Write what pages list into this file: entries, links of one shape, else finds.",
)
@filter_options
@means_options
@network_options
@replace_option
@common_options
def command(
    urls: tuple[str, ...],
    why: bool,
    sort: str,
    most: int,
    no_probe: bool,
    button: str | None,
    peeking: int | None,
    csv: Path | None,
    replace: bool,
    as_json: bool,
    network: Network,
    **given: Any,
) -> None:
    """Look through pages, feeds or media addresses and list the media they hold, best first.

    The likeliest finds are asked for a few kilobytes, to see whether they live, what they really are, how large and
    how long. Each has a number, which `mudlark haul --nth` takes. With --button, only what one control means is listed.

    Many pages ask for their media only once they are played: --listen does that in a real browser, --har takes what
    one has recorded before.
    """
    browser = given["browser"]
    way, filter_ = means(given), wanted(given)
    if not urls and way.har is None:
        raise UsageError("There is nothing to look through.", "Give the address of a page, or a capture with --har.")
    if button and (way.listening or way.har or way.answers):
        raise UsageError("--button looks at the source alone.", "Leave out --listen and --har.")
    if csv:
        refuse_existing(csv, "--csv", replace)
    many = sort == "size" or filter_.larger_than is not None
    alike = filter_.of_any_size()

    async def work() -> _Results:
        async with Session(network.connection()) as session:
            asking = 0 if no_probe else MOST
            results = await _look_at(session, addresses(urls), way, button, asking, steps, listing=csv is not None)
            for page in results.pages:
                if many and not no_probe:
                    page.finds = await probe(session, page.finds, MANY)
                results.unsized += [find.url for find in page.finds if find.bytes is None and alike.passes(find)]
                page.finds = ordered((find for find in page.finds if filter_.passes(find)), sort)
            if peeking:
                from mudlark.peek import peek, worth_peeking  # needs what no other way of looking does

                finds = [find for page in results.pages for find in worth_peeking(page, peeking)]
                results.peeks = await peek(session, finds, browser)
            return results

    with Steps() as steps:
        results = asyncio.run(work())
    _note_nothing(results, filter_)
    if filter_.larger_than is not None and results.unsized:
        named = ", ".join(map(shown, results.unsized[:_NAMED])) + (" …" if len(results.unsized) > _NAMED else "")
        words = f"! How large {counted(len(results.unsized), 'find')} would be nobody says, so not listed: {named}"
        messages().print(Text(words, style="yellow"))
    if csv:
        entries = [entry for page in results.pages for entry in listed_by(page)]
        if entries:
            count = write_listing(csv, entries, replace=replace)
            messages().print(f"{count:,} entries written to {csv}", markup=False)
        else:
            results.problems.append(
                NothingFound(f"No page lists anything; {csv} was not written.", "Try with --listen.")
            )
    sheet = None
    if results.peeks:
        from mudlark.cli.peek import make_sheet

        sheet = make_sheet(results.pages, results.peeks, None, replace=replace)
    if as_json:
        _emit(results, sheet)
    else:
        _show(results, sheet, most, why)
    if results.problems:
        for problem in results.problems[:-1]:
            complain(problem.what, problem.advice)
        raise results.problems[-1]


def _note_nothing(results: "_Results", filter_: Filter) -> None:
    """A page of which nothing is left is told as such."""
    if results.problems or results.buttons or any(page.finds or page.entries or page.links for page in results.pages):
        return
    for page in results.pages:
        if page.asks:
            results.problems.append(nothing(page))
            continue
        results.problems.append(
            NothingFound(
                f"None of the finds on {shown(page.url)} {filter_}."
                if str(filter_)
                else f"Nothing is on {shown(page.url)}.",
                "Look again with other filters.",
                url=page.url,
            )
        )


class _Results(msgspec.Struct):
    """What looking gave: pages, controls by their page's address, what was peeked at, and what went wrong.

    paths: the answers that led to each of the pages, if there were several ways. unsized: addresses of finds of which
    no answer said how large they are.
    """

    pages: list[Page] = msgspec.field(default_factory=list)
    buttons: dict[str, Button] = msgspec.field(default_factory=dict)
    problems: list[MudlarkError] = msgspec.field(default_factory=list)
    peeks: "list[Peek]" = msgspec.field(default_factory=list)
    paths: list[tuple[Answer, ...]] = msgspec.field(default_factory=list)
    unsized: list[str] = msgspec.field(default_factory=list)


def _show(results: _Results, sheet: Path | None, most: int, why: bool) -> None:
    if results.paths:
        _show_paths(results, most)
        return
    for number, page in enumerate(results.pages):
        if number:
            click.echo()
        if page.url in results.buttons:
            show_button(page, results.buttons[page.url])
        elif page.finds or page.entries or page.asks:
            show_page(page, most, why)
    if sheet:
        from mudlark.cli.peek import show_peeks

        click.echo()
        show_peeks(results.peeks, sheet)


async def _look_at(
    session: Session, urls: list[str], way: Means, wanted: str | None, asking: int, steps: Steps, *, listing: bool
) -> _Results:
    if way.har and not urls:
        return _Results([scan.page for scan in await looks_in(session, way.har, asking=asking)])
    results = _Results()
    for url in urls:
        session.at_home(url)
        try:
            if wanted is None and any(answer.value == ANY for answer in way.answers):
                async for path, page in sift_all(session.connection, url, way.answers, asking=asking):
                    results.pages.append(page)
                    results.paths.append(path)
            elif wanted is None:
                results.pages.append((await look(session, url, way, asking=asking, watch=steps)).page)
            else:
                page, control = await _button(session, url, wanted)
                results.pages.append(page)
                results.buttons[page.url] = control
        except MudlarkError as problem:
            problem.url = problem.url or url
            linked = await _linked(session, url) if listing and isinstance(problem, NothingFound) else None
            if linked:
                results.pages.append(linked)
            else:
                results.problems.append(problem)
    return results


async def _linked(session: Session, url: str) -> Page | None:
    """A page without finds, if its links make a list."""
    answer = await session.look(url, wants_text)
    links = links_in(answer.body.decode("utf-8", "replace"), answer.url).entries
    return Page(answer.url, links=links, received=answer.body) if links else None


async def _button(session: Session, url: str, wanted: str) -> tuple[Page, Button]:
    look = await session.look(url, wants_text)
    try:
        page = await sift_response(session, look, asking=0)
    except NothingFound:
        page = Page(look.url)
    if page.itself:
        raise UsageError(f"{printable(url)} is no page, so it has no buttons.", "Give the address of the page.")
    button = find_button(decode(look), page, wanted)
    answers = await ask(session, [entry.find for entry in button.pointed])
    for entry in button.pointed:
        entry.find = replace(entry.find, response=answers.get(entry.find.url, entry.find.response))
    button.pointed.sort(key=lambda entry: (entry.find.problem is not None, not entry.own))
    return page, button


def _show_paths(results: _Results, most: int) -> None:
    """All ways through the questions, with what each leads to."""
    out = console()
    names = [answer.name for answer in results.paths[0]]
    rows = [(*names, "kind", "size", "life")]
    for page in results.pages[:most]:
        labels = [label for step in page.walk for _, label in step.answered]
        find = page.finds[0] if page.finds else None
        lasts = life(find.response.expires - time.time()) if find and find.response.expires else "–"
        rows.append((*labels, find.kind if find else "nothing", size(find.bytes if find else None), lasts))
    lines = list(columns(rows, right=(len(names) + 1,)))
    out.print(Text(lines[0], style="dim"))
    for page, line in zip(results.pages, lines[1:], strict=False):
        out.print(Text(line, style="bold"))
        for find in page.finds[:1]:
            out.print(Text(f"  {printable(find.url)}", style="cyan"))
    if len(results.pages) > most:
        out.print(
            Text(f"  … and {len(results.pages) - most} more; see them with --most {len(results.pages)}", style="dim")
        )


def _emit(results: _Results, sheet: Path | None) -> None:
    more: dict[str, Any] = {}
    if sheet:
        from mudlark.cli.peek import peek_data

        more["peek"] = {"sheet": str(sheet), "finds": [peek_data(one) for one in results.peeks]}
    pages = [page_data(page, results.buttons.get(page.url)) for page in results.pages]
    emit_json("sift", results.problems, pages=pages, **more)
