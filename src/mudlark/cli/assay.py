"""`mudlark assay`: is it sound, and why."""

import asyncio
import hashlib
import re
import time
from collections import Counter
from pathlib import Path
from typing import Literal

import click
from rich.console import Console
from rich.text import Text

from mudlark.archive.assay import CHECKSUMS_STALE, Assay, Sampling, assays, workload
from mudlark.archive.history import note_check
from mudlark.archive.layout import HISTORY, RECORD
from mudlark.archive.sidecar import mend_checksums
from mudlark.browser.driver import require_browser
from mudlark.cli.command import Command, common_options, option
from mudlark.cli.options import DATE, Network, network_options, operator_option, play_option
from mudlark.cli.show import complain, console, emit_json, manner, messages, verdict
from mudlark.cli.steps import Steps
from mudlark.errors import MudlarkError, StorageError, UsageError, examining
from mudlark.fetch.store import now
from mudlark.plain import is_plain
from mudlark.text import clock, counted, printable, size
from mudlark.verify.account import WORTH
from mudlark.web.connection import Connection

_MARK = {"passed": ("✓", "green"), "failed": ("✗", "bold red"), "skipped": ("·", "dim")}
_WIDEST = len("unproven")
_TRIAL = 16 << 20  # bytes
_MOST_NAMED = 8
_SHARE = re.compile(r"(\d{1,3}(?:\.\d{1,3})?)\s*%", re.A)
_STATES = {"repaired": "(mended)", "changed": "(there is another one there now; it stands beside)"}


@click.command(
    cls=Command,
    short_help="Verify items or media files.",
    examples=(
        ("Everything in a folder, at any depth:", "assay mudlark/"),
        ("Played in a browser, too, with picture and sound measured:", "assay --play film.mp4"),
        ("A twentieth of what was not checked for a year:", "assay mudlark/ --since 2030-11-01 --sample 5%"),
        ("Mend what is damaged, from where it came from:", "assay mudlark/ --fix"),
    ),
)
@click.argument("paths", nargs=-1, required=True, type=click.Path(path_type=Path, readable=False), metavar="PATH...")
@play_option
@option("--browser", type=click.Path(dir_okay=False, path_type=Path), default=None, help="The browser to play it in.")
@option("--since", default=None, metavar="DATE", help="Only items that were not checked since then (2031-05-17).")
@option("--sample", default=None, metavar="N%", help="Only so many of the items, taken by chance.")
@option("--only-bad", is_flag=True, help="Show only what is not sound.")
@option("--plan", is_flag=True, help="Say how much there is to check, and about how long it takes; check nothing.")
@option("--fix", is_flag=True, help="Haul items again that are flawed or broken, and take what is better.")
@option(
    "--trust-record",
    is_flag=True,
    help="With --fix: records may lead to this machine and private networks, if the items came from there.",
)
@option("--no-history", is_flag=True, help="Leave no line in the history of the items, and checksums.sha256 as it is.")
@operator_option
@network_options
@common_options
def command(
    paths: tuple[Path, ...],
    play: Literal["some", "full"] | None,
    browser: Path | None,
    since: str | None,
    sample: str | None,
    only_bad: bool,
    plan: bool,
    fix: bool,
    trust_record: bool,
    no_history: bool,
    operator: str | None,
    as_json: bool,
    network: Network,
) -> None:
    """Verify items (checksums against their record, structure, timeline) or single media files.

    PATH is an item's folder, a folder with items and media files at any depth, or a media file. A good one takes one
    line; of the others what is wrong is listed, and with --verbose all checks. Each check of an item leaves a line in
    its history, and checksums.sha256 is written anew if it is not what the record says; nothing else is touched, unless
    --fix is given.
    """
    sampling = _sampling(since, sample)
    if plan:
        _plan(paths, sampling, as_json)
        return
    if play:
        require_browser(browser)
    asking = network.connection()
    assayed: list[Assay] = []
    problems: list[MudlarkError] = []
    passed_over: list[Path] = []
    unnoted: list[MudlarkError] = []
    out = console()
    for path in paths:
        before = len(assayed)
        try:
            for result in assays(path, sampling, passed_over.append):
                if not no_history:
                    _mend_checksums(result)
                if play:
                    problems += _play(result, play, browser)
                if fix and result.verdict in ("flawed", "broken"):
                    result = _fixed(result, asking, browser, problems, trusted=trust_record)
                if not no_history and is_plain(result.path / RECORD):
                    noted = note_check(
                        result.path, result.account, now(), validated=bool(result.media), operator=operator
                    )
                    unnoted += [] if noted else [_unnoted(result.path)]
                assayed.append(result)
                if not as_json and not (only_bad and result.verdict == "sound"):
                    _show(out, result, whole=manner.verbose or result.verdict != "sound" or _mended(result))
            if len(assayed) == before and sampling is None:
                raise UsageError(
                    f"{path} holds no item and no media file, at no depth.", "Give an item's folder or a media file."
                )
        except MudlarkError as problem:
            problems.append(problem)
    if as_json:
        shown = [result for result in assayed if not (only_bad and result.verdict == "sound")]
        others = [str(one) for one in passed_over]
        emit_json("assay", [*unnoted, *problems], items=[_data(result) for result in shown], passed_over=others)
    elif len(assayed) > 1:
        out.print()
        out.print(Text(_summary(assayed), style="bold"))
    elif not assayed and not problems:
        out.print("There is nothing to check: all items were checked since then.", markup=False)
    if passed_over and not as_json:
        names = ", ".join(one.name for one in passed_over[:_MOST_NAMED])
        more = ", …" if len(passed_over) > _MOST_NAMED else ""
        messages().print(f"Not looked at, as files of no kind that is: {names}{more}", markup=False)
    for one in unnoted:
        complain(one.what, one.advice)
    if problems:
        for earlier in problems[:-1]:
            complain(earlier.what, earlier.advice)
        raise problems[-1]
    if unnoted or any(result.verdict != "sound" for result in assayed):
        click.get_current_context().exit(1)


def _plan(paths: tuple[Path, ...], sampling: Sampling | None, as_json: bool) -> None:
    """How much there is to check, and how long that takes if it is read as fast as this machine reckons digests."""
    loads = [workload(path, sampling) for path in paths]
    items, files, total = (sum(getattr(one, name) for one in loads) for name in ("items", "files", "bytes"))
    begun = time.perf_counter()
    hashlib.sha256(bytes(_TRIAL)).digest()
    seconds = total * (time.perf_counter() - begun) / _TRIAL
    if as_json:
        emit_json(
            "assay", items=[], plan={"items": items, "files": files, "bytes": total, "seconds": round(seconds, 1)}
        )
        return
    words = f"{counted(items, 'item')}, {counted(files, 'other file')}, {size(total)}, at least {clock(seconds)}"
    console().print(words, markup=False)


def _unnoted(item: Path) -> StorageError:
    return StorageError(
        f"The check of {item} cannot be noted in {HISTORY}.", "See that it may be written, or add --no-history."
    )


def _mended(result: Assay) -> bool:
    return any(check.name == "checksums" for check in result.account.checks)


def _mend_checksums(result: Assay) -> None:
    """Checksums that are not those of the record are written anew, and that is said."""
    stale = [problem for problem in result.account.problems if problem.code == CHECKSUMS_STALE]
    if stale and mend_checksums(result.path):
        account = result.account
        account.problems = [problem for problem in account.problems if problem.code != CHECKSUMS_STALE]
        account.checks = [check for check in account.checks if check.name != "checksums"]
        account.passed("checksums", f"{stale[0].message}; written anew from the record")


def _sampling(since: str | None, sample: str | None) -> Sampling | None:
    """Which items are meant; None for all of them, and all other files."""
    if since and not DATE.fullmatch(since):
        raise UsageError(f"{since!r} is no date.", "Write it as 2031-05-17.")
    share = None
    if sample is not None:
        number = _SHARE.fullmatch(sample)
        share = float(number[1]) / 100 if number else 0.0
        if not 0 < share <= 1:
            raise UsageError(f"{sample!r} is no share.", "Write it as 5%.")
    return Sampling(since, share) if since or sample else None


def _fixed(
    result: Assay, network: Connection, browser: Path | None, problems: list[MudlarkError], *, trusted: bool
) -> Assay:
    """An item hauled again, and verified anew if that has changed it."""
    from mudlark.hauling.fix import Trust, fix  # what verifying does not need

    if not is_plain(result.path / RECORD):
        return result
    with Steps() as steps:
        steps.say(f"Hauling {printable(result.title or result.path.name)} again …")
        trust = Trust(trusted, browser, lambda host: messages().print(f"Asking {host} …", markup=False))
        try:
            with examining(result.path):
                item = asyncio.run(fix(network, result.path, trust))
        except MudlarkError as problem:
            problem.url = problem.url or str(result.path)
            problems.append(problem)
            return result
    if item.folder is None or item.state == "unchanged":
        return result
    again = next(iter(assays(item.folder)))
    again.state = item.state
    return again


def _play(result: Assay, manner: Literal["some", "full"], browser: Path | None) -> list[MudlarkError]:
    """Have a browser play what an item or file holds; gives what kept it from that."""
    from mudlark.playing.items import play_assayed  # its libraries are needed for nothing else

    with Steps() as steps:
        return asyncio.run(
            play_assayed(result, manner, browser, lambda path: steps.say(f"Playing {printable(path.name)} …"))
        )


def _data(result: Assay) -> dict[str, object]:
    return {
        "path": str(result.path),
        "title": result.title,
        "verdict": result.verdict,
        "reason": result.account.reason,
        "state": result.state,
        "duration": result.duration,
        "tracks": result.tracks,
        "checks": result.account.checks,
        "problems": [
            {"code": p.code, "message": p.message, "at": p.at, "offset": p.offset} for p in result.account.problems
        ],
        "played": result.played,
    }


def _summary(assayed: list[Assay]) -> str:
    counts = Counter(result.verdict for result in assayed)
    return f"{len(assayed)} verified: " + ", ".join(f"{counts[word]} {word}" for word in WORTH if counts[word])


def _show(out: Console, result: Assay, *, whole: bool) -> None:
    line = verdict(result.verdict)
    line.append(" " * (_WIDEST - len(result.verdict)))
    line.append(f"  {result.title or result.path.name}", style="bold default")
    if result.duration:
        line.append(f"  {clock(result.duration)}", style="not bold default dim")
    line.append(f"  {result.path}", style="not bold default dim")
    if result.state:
        line.append(f"  {_STATES.get(result.state, result.state)}", style="not bold default")
    out.print(line)
    if not whole:
        return
    for check in result.account.checks:
        if check.outcome == "passed" and not manner.verbose and check.name != "checksums":
            continue
        mark, style = _MARK[check.outcome]
        detail = (check.detail, "" if check.outcome == "failed" else "dim")
        out.print(Text.assemble("  ", (mark, style), f" {check.name:<15}", detail))
    details = {check.detail for check in result.account.checks}
    for problem in result.account.problems:
        if problem.message not in details:
            out.print(Text(f"  ! {problem.message}", style="yellow"))
    if result.verdict == "unproven":
        out.print(Text(f"  ! {result.account.reason}", style="yellow"))
