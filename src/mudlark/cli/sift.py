"""`mudlark sift`: what media is here, and why it ranks so."""

import asyncio
from typing import Any

import click
from rich.text import Text

from mudlark.cli.options import connection, json_option, network_options
from mudlark.cli.show import clock, console, emit_json, indented, size
from mudlark.errors import MudlarkError, NothingFound
from mudlark.find.model import Find, Page
from mudlark.find.sift import sift
from mudlark.web.address import printable
from mudlark.web.session import Session

_ROLE_STYLE = {"main": "bold green", "advert": "yellow"}


@click.command(short_help="Look through pages.")
@click.argument("urls", nargs=-1, required=True, metavar="URL...")
@json_option
@network_options
def command(urls: tuple[str, ...], as_json: bool, **network: Any) -> None:
    """Look through pages and list the media they hide, best first.

    Each find comes with where it stands in the source and why it ranks there. The likeliest are asked for a few
    kilobytes, to see whether they live, how large and how long they are.
    """
    pages, problems = asyncio.run(_sift_all(urls, network))
    if as_json:
        emit_json("sift", pages=[_as_data(page) for page in pages])
    else:
        for number, page in enumerate(pages):
            if number:
                click.echo()
            _show(page)
    if problems:
        for problem in problems[:-1]:
            click.echo(f"mudlark: {problem}", err=True)
        raise problems[-1]


async def _sift_all(urls: tuple[str, ...], network: dict[str, Any]) -> tuple[list[Page], list[MudlarkError]]:
    pages: list[Page] = []
    problems: list[MudlarkError] = []
    async with Session(connection(**network)) as session:
        for url in urls:
            try:
                pages.append(await sift(session, url))
            except MudlarkError as problem:
                problems.append(problem)
                if isinstance(problem, NothingFound):
                    pages.append(Page(url))
    return pages, problems


def _as_data(page: Page) -> dict[str, Any]:
    return {
        "url": page.url,
        "title": page.title,
        "description": page.description,
        "creator": page.creator,
        "date": page.date,
        "duration": page.duration,
        "finds": [_find_data(find) for find in page.finds],
        "forms": [],
    }


def _find_data(find: Find) -> dict[str, Any]:
    return {
        "url": find.url,
        "kind": find.kind,
        "role": find.role,
        "score": find.score,
        "why": find.reasons,
        "evidence": [{"where": evidence.where, "at": evidence.at} for evidence in find.evidence],
        "label": find.label,
        "status": find.status,
        "type": find.type,
        "bytes": find.bytes,
        "duration": find.duration,
        "expires": None,
        "problem": find.problem,
    }


def _show(page: Page) -> None:
    out = console()
    if not page.finds:
        return
    stated = f", which says it lasts {clock(page.duration)}" if page.duration else ""
    count = "1 find" if len(page.finds) == 1 else f"{len(page.finds)} finds"
    out.print(Text(page.title or "Untitled page", style="bold"))
    out.print(Text(f"{count} on {printable(page.url)}{stated}", style="dim"))
    out.print()
    out.print(Text(f"{'':>3}  {'kind':<9}{'role':<11}{'length':>7}{'size':>10}{'score':>7}", style="dim"))
    for number, find in enumerate(page.finds, start=1):
        line = Text(f"{number:>3}  ", style="bold")
        line.append(f"{find.kind:<9}")
        line.append(f"{find.role:<11}", style=_ROLE_STYLE.get(find.role, "dim"))
        line.append(f"{clock(find.duration):>7}{size(find.bytes):>10}{find.score:>7}", style="not bold")
        out.print(line)
        out.print(Text(f"     {printable(find.url)}", style="cyan" if find.role == "main" else ""))
        places = "; ".join(f"{e.where}, {e.at}" if e.at else e.where for e in find.evidence[:3])
        out.print(Text(f"     in {places}", style="dim"))
        out.print(Text(indented(", ".join(find.reasons), 5), style="dim"))
