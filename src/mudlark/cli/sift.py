"""`mudlark sift`: what media is here, and why it ranks so."""

import asyncio
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args

import click
from rich.text import Text

from mudlark.archive.listing import write_listing
from mudlark.cli.options import (
    addresses,
    connection,
    json_option,
    means,
    means_options,
    network_options,
    size_option,
)
from mudlark.cli.show import clock, columns, console, emit_json, indented, life, numbers, size
from mudlark.cli.steps import Steps
from mudlark.errors import MudlarkError, NothingFound, UsageError
from mudlark.find.button import Button, find_button
from mudlark.find.look import Means, look, looks_in
from mudlark.find.model import Find, Kind, Page, Role
from mudlark.find.probe import MANY, MOST, ask
from mudlark.find.questions import ANY, Answer, Form
from mudlark.find.select import ORDERS, Filter, ordered
from mudlark.find.sift import decode, sift_look
from mudlark.find.walk import sift_all
from mudlark.manifest.load import wants_text
from mudlark.web.address import printable
from mudlark.web.session import Session

if TYPE_CHECKING:
    from mudlark.peek import Peek

_MOST_OPTIONS = 24  # of one question that are shown
_ROLE_STYLE = {"main": "bold green", "advert": "yellow"}


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
                _show_button(page, buttons[page.url])
            elif page.finds or page.entries or page.asks:
                _show(page, most, why)
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
    rows = [(*names, "kind", "size", "life", "link")]
    for path, page in zip(seen.paths, seen.pages, strict=True):
        for find in page.finds[:1]:
            lasts = life(find.expires - time.time()) if find.expires else "–"
            rows.append((*(answer.value for answer in path), find.kind, size(find.bytes), lasts, printable(find.url)))
        if not page.finds:
            rows.append((*(answer.value for answer in path), "nothing", "–", "–", "–"))
    lines = list(columns(rows, right=(len(names) + 1,)))
    out.print(Text(lines[0], style="dim"))
    for line in lines[1:]:
        out.print(line, markup=False)


def _emit(seen: _Seen, sheet: Path | None) -> None:
    more = {}
    if sheet:
        from mudlark.cli.peek import peek_data

        more["peek"] = {"sheet": str(sheet), "finds": [peek_data(one) for one in seen.peeks]}
    emit_json("sift", pages=[_as_data(page, seen.buttons.get(page.url)) for page in seen.pages], **more)


def _as_data(page: Page, button: Button | None) -> dict[str, Any]:
    data: dict[str, Any] = {
        "url": page.url,
        "title": page.title,
        "description": page.description,
        "creator": page.creator,
        "date": page.date,
        "duration": page.duration,
        "dimensions": page.dimensions,
        "finds": [_find_data(find) for find in page.finds],
        "frames": [frame.url for frame in page.frames],
        "forms": [_form_data(form) for form in page.forms],
        "walk": [dict(step.answered) for step in page.walk],
        "left_out": page.left_out,
        "capture": page.capture,
        "key_systems": page.key_systems,
        "entries": page.entries,
        "notes": page.notes,
    }
    if button:
        data["button"] = {
            "text": button.text,
            "markup": button.markup,
            "points_to": [
                {**_find_data(entry.find), "where": entry.where, "own": entry.own, "tells": entry.tells}
                for entry in button.pointed
            ],
        }
    return data


def _form_data(form: Form) -> dict[str, Any]:
    return {
        "action": form.action,
        "method": form.method,
        "refused": form.refused,
        "choices": [
            {
                "name": question.name,
                "label": question.label,
                "given": question.given,
                "options": [{"label": option.label, "value": option.value} for option in question.options],
            }
            for question in form.questions
        ],
    }


def _find_data(find: Find) -> dict[str, Any]:
    return {
        "url": find.url,
        "kind": find.kind,
        "role": find.role,
        "score": find.score,
        "why": find.reasons,
        "evidence": [{"where": e.where, "at": e.at, "frame": e.frame} for e in find.evidence],
        "label": find.label,
        "status": find.status,
        "final": find.final,
        "type": find.type,
        "form": find.form,
        "bytes": find.bytes,
        "ranges": find.ranges,
        "duration": find.duration,
        "width": find.width,
        "height": find.height,
        "count": find.count,
        "members": find.members,
        "missing": find.missing,
        "versions": find.versions,
        "larger": find.larger,
        "renditions": find.renditions,
        "expires": find.expires,
        "problem": find.problem,
        "protected": find.protected,
    }


def _show(page: Page, most: int, why: bool) -> None:
    out = console()
    stated = f", which says it lasts {clock(page.duration)}" if page.duration else ""
    count = "1 find" if len(page.finds) == 1 else f"{len(page.finds):,} finds"
    out.print(Text(page.title or "Untitled page", style="bold"))
    how = {None: "", "listening": ", listened to"}.get(page.capture, f", recorded in {page.capture}")
    out.print(Text(f"{count} on {printable(page.url)}{how}{stated}", style="dim"))
    for note in page.notes:
        out.print(Text(f"! {note}", style="yellow"))
    if page.key_systems:
        out.print(Text(f"! Its player asks for the keys of {' and '.join(page.key_systems)}.", style="yellow"))
    if page.walk:
        said = "; ".join(f"{name}: {label}" for step in page.walk for name, label in step.answered)
        out.print(Text(f"Answered {printable(said)}", style="dim"))
    if page.entries:
        out.print(Text(f"It lists {len(page.entries)} entries; write them to a file with --csv FILE.", style="bold"))
    _show_choices(out, page)
    out.print()
    if not page.finds:
        return
    out.print(Text(f"{'':>3}  {'kind':<10}{'role':<11}{'length':>7}{'size':>10}{'score':>7}", style="dim"))
    for number, find in enumerate(page.finds[:most], start=1):
        line = Text(f"{number:>3}  ", style="bold")
        line.append(f"{find.kind:<10}")
        line.append(f"{find.role:<11}", style=_ROLE_STYLE.get(find.role, "dim"))
        line.append(f"{clock(find.duration):>7}{size(find.bytes):>10}{find.score:>7}", style="not bold")
        for note, style in _notes(find):
            line.append(f"  {note}", style=f"not bold {style}")
        out.print(line)
        out.print(Text(f"     {printable(find.url)}", style="cyan" if find.role == "main" else ""))
        places = [("" if e.act else "in ") + (f"{e.where}, {e.at}" if e.at else e.where) for e in find.evidence]
        places = [
            place + (f" of {printable(e.frame)}" if e.frame else "")
            for place, e in zip(places, find.evidence, strict=True)
        ]
        if why:
            for place in places:
                out.print(Text(indented(place, 5), style="dim"))
            for version in find.versions[:8]:
                out.print(Text(f"     also as {printable(version)}", style="dim"))
            for points, words in find.why:
                out.print(Text(f"     {points:>+4}  {words}", style="dim"))
        else:
            more = f"; and {len(places) - 2} more places" if len(places) > 2 else ""
            out.print(Text(indented(f"{'; '.join(places[:2])}{more}", 5), style="dim"))
            reasons = [f"{words} {points:+d}" for points, words in find.why[1:]]
            out.print(Text(indented(", ".join([find.why[0][1], *reasons]), 5), style="dim"))
    beyond = len(page.finds) - most
    if beyond > 0:
        out.print(Text(f"     … and {beyond:,} more; see them with --most {len(page.finds)} or --json", style="dim"))
    if page.left_out:
        out.print(Text(f"     … and {page.left_out:,} addresses beyond what is kept of one page", style="dim"))


def _show_choices(out: Any, page: Page) -> None:
    """What the page asks, with every answer that it takes."""
    for form in page.forms:
        if form.refused:
            out.print(Text(f"! A form is not filled in: {form.refused}.", style="yellow"))
            continue
        for question in form.questions:
            if not question.options:
                continue
            line = Text("\nIt asks: ", style="dim").append(question.label or question.name, style="not dim bold")
            line.append(f"  --choose {question.name}=…", style="not bold dim")
            out.print(line)
            for option in question.options[:_MOST_OPTIONS]:
                shown = f"  {printable(option.label)}"
                same = option.value.lower() == option.label.lower() or question.leads
                out.print(Text(shown).append("" if same else f"  ({printable(option.value)})", style="dim"))
            if len(question.options) > _MOST_OPTIONS:
                out.print(Text(f"  … and {len(question.options) - _MOST_OPTIONS} more; see --json", style="dim"))


def _notes(find: Find) -> list[tuple[str, str]]:
    """What a user must know before trying (expiry, series, versions, failures), each with its style."""
    notes = []
    if find.problem:
        notes.append(("cannot be had", "yellow"))
    if find.count > 1:
        notes.append((f"{find.count} {'page images' if find.kind == 'image' else 'numbered files'}", "dim"))
    if find.missing:
        notes.append((f"number {numbers(find.missing)} missing", "yellow"))
    if find.versions:
        notes.append((f"largest of {len(find.versions) + 1} versions", "dim"))
    if find.expires is not None:
        notes.append((life(find.expires - time.time()), "yellow"))
    if find.width and find.height:
        notes.append((f"{find.width}×{find.height}", "dim"))
    return notes


def _show_button(page: Page, button: Button) -> None:
    out = console()
    out.print(Text(button.text or "A control without text", style="bold"))
    out.print(Text(f"{button.markup} on {printable(page.url)}", style="dim"))
    out.print()
    rows = [("", "answer", "size", "what tells it apart")]
    for number, entry in enumerate(button.pointed, start=1):
        find = entry.find
        answer = "lives" if find.status and not find.problem else str(find.status or "none")
        rows.append((str(number), answer, size(find.bytes), ", ".join(entry.tells) or "–"))
    lines = list(columns(rows, right=(0, 2)))
    out.print(Text(lines[0], style="dim"))
    for entry, line in zip(button.pointed, lines[1:], strict=True):
        out.print(Text(line, style="" if entry.find.problem else "bold green"))
        out.print(Text(f"   {printable(entry.find.url)}", style="" if entry.find.problem else "cyan"))
        label = f" “{entry.find.label}”" if entry.find.label else ""
        out.print(Text(f"   {entry.where}{label}", style="dim"))
        if entry.find.problem:
            out.print(Text(f"   {entry.find.problem}", style="yellow"))
