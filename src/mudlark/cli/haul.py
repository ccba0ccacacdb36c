"""`mudlark haul`: the main job."""

import asyncio
import re
from datetime import datetime
from pathlib import Path
from typing import Any, Literal

import click
from rich.text import Text

from mudlark.archive.record import Record
from mudlark.cli.command import Command, common_options, option
from mudlark.cli.config import own_guises
from mudlark.cli.options import (
    Folder,
    addresses,
    connection,
    filter_options,
    means,
    means_options,
    network_options,
    wanted,
)
from mudlark.cli.progress import UNITS, HaulProgress
from mudlark.cli.show import bits, clock, complain, console, emit_json, messages, problem_data, size, verdict
from mudlark.cli.spans import span_of, span_options
from mudlark.cli.steps import Steps
from mudlark.cli.unfinished import mention_unfinished, tell_unfinished
from mudlark.cli.wishes import wish, wish_options
from mudlark.errors import MudlarkError, Refused, UsageError
from mudlark.fetch.store import unfinished
from mudlark.find.look import Means
from mudlark.find.questions import ANY
from mudlark.find.select import Choice
from mudlark.hauling.order import Item, Order
from mudlark.hauling.steps import haul
from mudlark.text import printable
from mudlark.web.guise import PLAIN, Guise, built_in
from mudlark.web.secret import veiled
from mudlark.web.session import Session


@click.command(
    cls=Command,
    short_help="Fetch into a verified item.",
    examples=(
        ("The film of a page, into the folder mudlark/:", "haul https://museum.example/film/mill"),
        ("The find that `mudlark sift` lists as number 3:", "haul --nth 3 https://museum.example/film/mill"),
        ("Every document of a page, from what it asks for once it is open:", "haul --listen --kind document --all URL"),
    ),
)
@click.argument("targets", nargs=-1, metavar="TARGET...")
@option(
    "--into",
    type=Folder(),
    default=Path("mudlark"),
    show_default=True,
    metavar="DIR",
    help="Folder that takes the items.",
    envvar="MUDLARK_INTO",
)
@option("--title", default=None, help="Name of the item, instead of the page's title.")
@option("--again", is_flag=True, help="Make a new item, dated, even if there is one already.")
@option("--expect", default=None, metavar="sha256:HEX", help="The digest that the file must have.")
@option(
    "--as",
    "form",
    type=click.Choice(["pdf", "images"]),
    default="pdf",
    show_default=True,
    help="Page images: bound into one PDF, or kept as they are.",
)
@option(
    "--container",
    type=click.Choice(["mp4", "mkv"]),
    help="What a film is put into; else what its media came in, or what holds all of it.",
)
@option("--series", is_flag=True, help="Where there is no playlist, take a series of numbered segments.")
@option("--keep-secrets", is_flag=True, help="Leave cookies, tokens and signatures in what is kept.")
@option(
    "--nth",
    type=click.IntRange(1),
    default=None,
    metavar="N",
    group="Choosing",
    help="Take find number N of `mudlark sift`.",
)
@option("--all", "every", is_flag=True, group="Choosing", help="Take all main finds, or all that the filters leave.")
@span_options
@wish_options
@filter_options
@means_options
@network_options
@common_options
def command(
    targets: tuple[str, ...],
    into: Path,
    title: str | None,
    again: bool,
    expect: str | None,
    form: str,
    container: Literal["mp4", "mkv"] | None,
    series: bool,
    keep_secrets: bool,
    nth: int | None,
    every: bool,
    as_json: bool,
    **given: Any,
) -> None:
    """Fetch what a page, a playlist or a direct file address holds, and leave a verified item.

    Takes the best find of a page and its highest rendition. Stopped half-way, the same command goes on from there.
    What was hauled before is compared with the server, and never written over. What is still running is recorded until
    it ends, or is ended with Ctrl-C. Without a target, tells what is unfinished in the folder.
    """
    choice, digest, way = Choice(nth, wanted(given), every, series), _digest(expect), means(given)
    wished = wish(given)
    span = span_of(given, datetime.now().astimezone())
    if any(answer.value == ANY for answer in way.answers):
        raise UsageError("haul takes one way through the questions.", "See all of them with `mudlark sift`.")
    guises: tuple[Guise, ...] = ()
    if given["guise"] == "all":
        guises, given["guise"] = tuple({**built_in(), **own_guises()}.values()), PLAIN.name
    if not targets and way.har is None:
        if left := unfinished(into):
            tell_unfinished(left, into, as_json)
            return
        raise UsageError("There is nothing to haul.", "Give the address of a page, playlist or file, or --har FILE.")
    items: list[Item] = []
    failures: list[MudlarkError] = []
    data: list[dict[str, Any]] = []
    for target in addresses(targets) or [_only_page(way)]:
        problems: list[MudlarkError] = []
        try:
            order = Order(
                target=target,
                into=into,
                choice=choice,
                title=title,
                expect=digest,
                means=way,
                as_images=form == "images",
                guises=guises,
                again=again,
                keep_secrets=keep_secrets,
                wish=wished,
                container=container,
                span=span,
            )
            for item in _haul(order, given, problems):
                items.append(item)
                data.append(_as_data(item))
                if not as_json:
                    _show(item)
        except MudlarkError as problem:
            problem.url = problem.url or target
            problems.append(problem)
        failures += problems
        data += [_as_failure(target, problem) for problem in problems]
    if as_json:
        emit_json("haul", failures, items=data)
    kept = {item.kept for item in items}
    mention_unfinished([one for one in unfinished(into) if one.target not in targets and one.folder not in kept], into)
    if failures:
        for failure in failures[:-1]:
            complain(failure.what, failure.advice)
        raise failures[-1]
    if any(item.verdict != "sound" for item in items):
        click.get_current_context().exit(1)


def _only_page(way: Means) -> str:
    """The page of a capture, if it has one only."""
    from mudlark.browser.capture import read_captures

    assert way.har
    pages = [capture.url for capture in read_captures(way.har)]
    if len(pages) != 1:
        raise UsageError(f"{way.har} holds {len(pages)} pages.", f"Give the address of one: {', '.join(pages[:5])}")
    return pages[0]


def _digest(text: str | None) -> str | None:
    """The hexadecimal part of `sha256:…`."""
    if text is None:
        return None
    match = re.fullmatch(r"sha256:([0-9a-fA-F]{64})", text.strip())
    if not match:
        raise UsageError(f"{text!r} is no digest.", "Write it as sha256: and 64 hexadecimal digits.")
    return match[1].lower()


def _haul(order: Order, network: dict[str, Any], failures: list[MudlarkError]) -> list[Item]:
    items: list[Item] = []

    async def work() -> None:
        async with Session(connection(**network)) as session:
            items.extend([item async for item in haul(session, order, progress)])

    with Steps() as steps, HaulProgress(failures, steps) as progress:
        try:
            asyncio.run(work())
        except KeyboardInterrupt:
            progress.stop()
            if progress.done:
                messages().print(
                    f"mudlark: Interrupted; {progress.done} of {progress.planned} {progress.unit} are kept.\n"
                    "         Run the same command again to go on from there.",
                    markup=False,
                )
            raise
    return items


def _as_data(item: Item) -> dict[str, Any]:
    record = item.record
    return {
        "verdict": record.verdict,
        "title": record.title,
        "folder": str(item.folder) if item.folder else None,
        "kept": str(item.kept) if item.kept else None,
        "state": item.state,
        "by": item.by,
        "already": item.state == "unchanged",
        "files": record.files if item.folder else [],
        "duration": record.duration,
        "tracks": record.tracks,
        "segments": record.segments,
        "fetching": record.fetching,
        "problems": [{"code": p.code, "message": p.message} for p in record.problems],
        "notes": record.notes,
        "checks": record.checks,
        "contents": record.contents,
        "source": record.source,
    }


def _as_failure(target: str, problem: MudlarkError) -> dict[str, Any]:
    """A haul that left nothing, in the shape of those that did."""
    return {
        "verdict": "refused" if isinstance(problem, Refused) else "failed",
        "title": None,
        "folder": None,
        "kept": None,
        "state": None,
        "by": None,
        "already": False,
        "files": [],
        "duration": None,
        "tracks": [],
        "segments": None,
        "fetching": None,
        "problems": [problem_data(problem)],
        "notes": [],
        "checks": [],
        "contents": [],
        "source": {"target": veiled(target)},
    }


_MEASURABLE = 0.1  # seconds of fetching from which a speed says something
_STATES = {
    "new": "",
    "unchanged": "is unchanged since it was hauled",
    "repaired": "was damaged here, and is mended",
    "changed": "has changed there; this stands beside the earlier item",
    "again": "stands beside the earlier item",
}


def _show(item: Item) -> None:
    out = console()
    record = item.record
    line = verdict(record.verdict)
    line.append(f"  {record.title}", style="bold default")
    if item.state != "new":
        by = f", going by {item.by}" if item.by else ""
        line.append(f"  {_STATES[item.state]}{by}", style="not bold default")
    out.print(line)
    for track in record.tracks:
        what = f"{track.width}×{track.height}, {track.frame_rate:g} frames/s" if track.width else ""
        what = what or f"{track.channels} channels, {track.sample_rate} Hz"
        what = f"{track.language}, {what}" if track.language else what
        out.print(
            f"  {track.type:<7}{track.codec}, {what}, {bits(track.bitrate)}, {clock(track.duration)}", markup=False
        )
    _show_checks(out, record)
    if record.contents:
        inside = [f"{printable(name)} ({size(count)})" for name, count in record.contents[:5]]
        more = f" and {len(record.contents) - 5} more" if len(record.contents) > 5 else ""
        out.print(f"  inside {', '.join(inside)}{more}", markup=False)
    if item.folder:
        media = [file for file in record.files if file.role == "media"]
        more = f" and {len(media) - 1} more" if len(media) > 1 else ""
        total = size(sum(file.bytes for file in media))
        out.print(f"  file   {item.folder / media[0].path}{more} ({total})", markup=False)
        for file in record.files:
            if file.role in ("subtitle", "poster"):
                out.print(f"  with   {file.path} ({file.language or file.role}, {size(file.bytes)})", markup=False)
        out.print(f"  record {item.folder / 'record.json'}", markup=False)
    else:
        out.print(f"  Nothing was put under a final name; what was fetched is in {item.kept}", markup=False)
    if item.kept and item.folder:
        out.print("  Run the same command again to try for what is missing.", markup=False)


def _show_checks(out: Any, record: Record) -> None:
    passed = sum(check.outcome == "passed" for check in record.checks)
    counts, facts = record.segments, record.fetching
    unit = UNITS[record.source.kind]
    total = f"{counts.planned} {unit}" if counts.planned > 1 else "1 file"
    parts = [f"{counts.fetched} fetched" if counts.fetched else "", f"{counts.reused} reused" if counts.reused else ""]
    parts += [
        f"{counts.retried} tried again" if counts.retried else "",
        f"{counts.missing} missing" if counts.missing else "",
        f"{facts.elsewhere} from elsewhere" if facts.elsewhere else "",
        f"{facts.renewed} under renewed links" if facts.renewed else "",
        f"{facts.raced} asked for twice as they were slow" if facts.raced else "",
    ]
    checks = {0: "no check could be made", 1: "1 check passed"}.get(passed, f"{passed} checks passed")
    told = ", ".join(part for part in parts if part)
    if facts.seconds >= _MEASURABLE and told:
        told += f"; {size(facts.bytes)} in {facts.seconds:.1f} s ({size(facts.bytes / facts.seconds)}/s)"
    out.print(f"  {total}: {told}; {checks}" if told else f"  {checks}", markup=False)
    for message in dict.fromkeys([*(p.message for p in record.problems), *(note.message for note in record.notes)]):
        out.print(Text(f"  ! {message}", style="yellow"))
