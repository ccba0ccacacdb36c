"""`mudlark ledger`: what has been hauled, what is unfinished, what is flawed."""

import csv
from collections import Counter
from itertools import chain, islice
from pathlib import Path
from typing import Any, get_args

import click
from rich.text import Text

from mudlark.archive.entries import Entries
from mudlark.archive.entry import in_words
from mudlark.archive.ledger import Ledger, Sort, Wanted, read_ledger
from mudlark.archive.listing import cell, written
from mudlark.atomic import refuse_existing
from mudlark.cli.command import Command, common_options, option, replace_option
from mudlark.cli.options import DATE
from mudlark.cli.show import VERDICT_STYLE, aligned, console, emit_json, messages, painted
from mudlark.cli.unfinished import tell_unfinished, unfinished_data
from mudlark.errors import MudlarkError, UsageError
from mudlark.text import clock, counted, size, visible
from mudlark.verify.account import Verdict


class NotOpened(MudlarkError):
    """Something that the ledger did not look into."""

    code = "not-opened"


_COLUMNS = ("path", "title", "verdict", "date", "checked", "length", "bytes", "tracks", "source", "problem")


@click.command(
    cls=Command,
    short_help="List what was hauled.",
    examples=(
        ("All that is not sound, the latest first:", "ledger mudlark --verdict flawed --verdict broken --sort date"),
        ("A table for a spreadsheet:", "ledger mudlark --csv holdings.csv"),
    ),
)
@click.argument("folder", metavar="DIR", type=click.Path(path_type=Path))
@option(
    "--verdict",
    "verdicts",
    multiple=True,
    type=click.Choice(get_args(Verdict)),
    group="Choosing",
    help="Only items with this verdict; repeatable.",
)
@option("--source", default=None, metavar="TEXT", group="Choosing", help="Only items with this text in their source.")
@option("--since", default=None, metavar="DATE", group="Choosing", help="Only items hauled since then (2031-05-17).")
@option(
    "--text",
    default=None,
    metavar="TEXT",
    group="Choosing",
    help="Only items with this in title, path, source, checksum or the columns of their list.",
)
@option("--unchecked-since", default=None, metavar="DATE", group="Choosing", help="Only items not checked since then.")
@option("--doubles", is_flag=True, group="Choosing", help="Only items whose media another item has too.")
@option("--unfinished", "only_unfinished", is_flag=True, group="Choosing", help="Only what is unfinished.")
@option(
    "--sort",
    type=click.Choice(get_args(Sort)),
    default="path",
    show_default=True,
    group="Choosing",
    help="In this order.",
)
@option("--most", type=click.IntRange(1), default=None, metavar="N", help="Show at most so many.")
@option(
    "--csv",
    "table",
    type=click.Path(dir_okay=False, path_type=Path),
    default=None,
    metavar="FILE",
    help="Write all of them into this table.",
)
@replace_option
@common_options
def command(
    folder: Path,
    verdicts: tuple[str, ...],
    source: str | None,
    since: str | None,
    text: str | None,
    unchecked_since: str | None,
    doubles: bool,
    only_unfinished: bool,
    sort: Sort,
    most: int | None,
    table: Path | None,
    replace: bool,
    as_json: bool,
) -> None:
    """List all items in a folder and below it, from their records, and what is unfinished there."""
    for date in (since, unchecked_since):
        if date and not DATE.fullmatch(date):
            raise UsageError(f"{date!r} is no date.", "Write it as 2031-05-17.")
    if table:
        refuse_existing(table, "--csv", replace)
    ledger = read_ledger(folder, Wanted(frozenset(verdicts), source, since, text, doubles, unchecked_since), sort)
    if only_unfinished:
        ledger.entries, ledger.doubles = Entries(), []
        if not as_json:
            tell_unfinished(ledger.unfinished, folder, as_json=False)
            return
    if table:
        _write(table, ledger.entries, replace)
    if as_json:
        emit_json(
            "ledger",
            [NotOpened(f"{path}: {words}.") for path, words in ledger.odd],
            items=list(islice(ledger.entries, most)),
            totals=_totals(ledger),
            doubles=ledger.doubles,
            unfinished=[unfinished_data(one) for one in ledger.unfinished],
        )
        return
    _show(ledger, folder, most)


def _totals(ledger: Ledger) -> dict[str, Any]:
    entries = ledger.entries
    return {
        "items": len(entries),
        "all": ledger.all,
        "bytes": sum(entries.bytes),
        "duration": round(sum(filter(None, entries.duration)), 3),
        "verdicts": dict(Counter(entries.verdict)),
    }


def _write(path: Path, entries: Entries, replace: bool) -> None:
    with written(path, replace=replace) as file:
        out = csv.writer(file)
        own = list(dict.fromkeys(chain.from_iterable(filter(None, entries.listed))))
        out.writerow([*_COLUMNS, *map(cell, own)])
        for one in entries:
            length = f"{one.duration:.3f}" if one.duration is not None else ""
            texts = [one.path, one.title, one.verdict, one.date, one.checked]
            rest = (in_words(one.tracks), one.url, one.problem, *(one.listed.get(name) for name in own))
            out.writerow([*map(cell, texts), length, one.bytes, *map(cell, rest)])
    messages().print(f"{len(entries):,} items written to {path}", markup=False)


def _columns(entries: Entries) -> list[list[str]]:
    """What is shown behind the verdict, each under its title."""
    kinds = list(map(in_words, entries.kinds))
    return [
        ["hauled", *(date[:10] for date in entries.date)],
        ["checked", *(date[:10] for date in entries.checked)],
        ["length", *(clock(duration) if duration else "" for duration in entries.duration)],
        ["size", *(size(count) if count else "" for count in entries.bytes)],
        ["tracks", *(kinds[kind] for kind in entries.tracks)],
        ["path", *entries.path],
    ]


def _show(ledger: Ledger, folder: Path, most: int | None) -> None:
    out = console()
    shown = ledger.entries.take(range(len(ledger.entries))[:most])
    titles, *lines = aligned(_columns(shown), right=(2, 3))
    room = max(map(len, {"verdict", *shown.verdict}))
    if lines:
        out.print(Text(f"{'verdict':{room}}  {titles}", style="dim"))
    heads = {word: painted(out, word, VERDICT_STYLE[word]) + " " * (room - len(word)) for word in set(shown.verdict)}
    seen = lines if all(map(str.isprintable, lines)) else map(visible, lines)
    out.file.write("".join(map("{}  {}\n".format, map(heads.__getitem__, shown.verdict), seen)))
    problems = [(path, problem) for path, problem in zip(shown.path, shown.problem, strict=True) if problem]
    for path, problem in problems[:10]:
        out.print(Text(f"! {path}: {problem}", style="yellow"))
    if len(problems) > 10:
        out.print(Text(f"! {len(problems) - 10} more have problems; --csv has them all", style="yellow"))
    for place, why in ledger.odd:
        out.print(Text(f"! {place}: {why}", style="yellow"))
    out.print()
    totals = _totals(ledger)
    words = [f"{counted(totals['items'], 'item')}" + (f" of {ledger.all:,}" if totals["items"] != ledger.all else "")]
    words += [f"{count:,} {name}" for name, count in sorted(totals["verdicts"].items())]
    words += [clock(totals["duration"]), size(totals["bytes"])]
    out.print(Text(", ".join(words), style="bold"))
    if ledger.doubles:
        doubled = sum(map(len, ledger.doubles))
        out.print(f"{doubled:,} items share their media with another; --doubles shows them", markup=False)
    if ledger.unfinished:
        out.print()
        out.print(Text("Unfinished", style="bold"))
        tell_unfinished(ledger.unfinished, folder, as_json=False)
