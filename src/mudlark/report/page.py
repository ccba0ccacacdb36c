"""Reports: one self-contained page of an item, or of a folder with a page for each of its items below it.

Opens from disk without a network, in light and dark, and prints. A strict content policy is in the page: nothing that
stands in a record can run or ask for anything.
"""

import base64
import csv
import hashlib
from collections import Counter
from collections.abc import Mapping
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from io import StringIO
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

from jinja2 import Environment, StrictUndefined, Template
from markupsafe import Markup

from mudlark import __version__
from mudlark.archive.layout import RECORD
from mudlark.archive.ledger import Entry, Ledger, read_ledger
from mudlark.archive.listing import cell
from mudlark.errors import MudlarkError, UsageError
from mudlark.fetch.store import now
from mudlark.report.data import ItemData, Table, read_facts, read_item, thinned
from mudlark.report.figures import draw, draw_counts
from mudlark.sweeping.journal import Journal, without_address
from mudlark.text import clock, printable, size
from mudlark.whole import whole_file

_SHOWN = 60  # rows of a figure's table in the page; all of them are in the CSV
_LARGEST_PICTURE = 600_000  # bytes of a poster that goes into the page
_MARKS = {"sound": "✓", "unproven": "?", "flawed": "!", "broken": "✗"}
_PLAYED_ON = frozenset({".png", ".jpg", ".jpeg", ".webp"})


@dataclass(frozen=True, slots=True)
class Figure:
    """A figure in a page: its SVG, its data, and what to say where there is none."""

    table: Table
    svg: Markup | None
    rows: list[tuple[Any, ...]]
    words: str


def item_page(item: ItemData, back: str | None = None, *, drawn: bool = True) -> str:
    """The page of an item. back: address of the index that it is below. drawn: with its figures, which take their
    time."""
    record = item.record
    return _page(
        "item.html",
        title=record.title,
        item=item,
        record=record,
        reason=record.reason or (record.problems[0].message if record.problems else ""),
        figures=[_figure(item, table) for table in item.tables] if drawn else [],
        picture=_picture(item.picture),
        steps=_steps(item),
        back=back,
    )


def _figure(item: ItemData, table: Table) -> Figure:
    svg = draw(item, table)
    return Figure(table, _markup(svg), thinned(table.rows, _SHOWN), _words(table))


def _markup(svg: bytes | None) -> Markup | None:
    return Markup(svg.decode("utf-8")) if svg else None  # made by the figures alone, with all text escaped


def _words(table: Table) -> str:
    """What a figure shows, for who cannot see it."""
    if not table.rows:
        return f"{table.title}: nothing to draw. {table.why}"
    numbers = [row[-1] for row in table.rows if isinstance(row[-1], int | float)]
    spread = f", {table.columns[-1]} from {min(numbers):g} to {max(numbers):g}" if numbers else ""
    return f"{table.title}: {len(table.rows):,} values{spread}. The data are in the table below."


def _picture(path: Path | None) -> str | None:
    if path is None or path.suffix.lower() not in _PLAYED_ON or path.stat().st_size > _LARGEST_PICTURE:
        return None
    kind = {".jpg": "jpeg"}.get(path.suffix.lower(), path.suffix.lower()[1:])
    return f"data:image/{kind};base64,{base64.b64encode(path.read_bytes()).decode()}"


def _steps(item: ItemData) -> list[tuple[str, str, str]]:
    """The way that an item came: what, where, and with what digest or evidence."""
    record, source = item.record, item.record.source
    steps = [("Asked for", source.target, f"on {record.started}")]
    if source.page:
        steps.append(("Page", source.page.url, source.page.title or ""))
    steps += [("Answered", step.url, ", ".join(f"{n}: {label}" for n, label in step.answered)) for step in source.walk]
    if source.find:
        evidence = "; ".join(one.where for one in source.find.evidence[:3])
        steps.append(("Find", source.find.url, evidence))
    steps += [("Manifest", one.url, f"SHA-256 {one.sha256}") for one in source.manifests]
    for track in record.tracks:
        size = f", {track.width}×{track.height}" if track.width else ""
        steps.append(("Track", f"{track.type}: {track.codec}{size}", track.language or ""))
    counts = record.segments
    missing = f", {counts.missing} missing" if counts.missing else ""
    pieces = f"{counts.planned} planned, {counts.fetched} fetched, {counts.reused} reused{missing}"
    steps.append(("Pieces", pieces, f"{counts.retried} tried again" if counts.retried else ""))
    steps += [("File", file.path, f"SHA-256 {file.sha256}") for file in record.files if file.role == "media"]
    return steps


@dataclass(frozen=True, slots=True)
class Counts:
    """Numbers by name, as bars show them. name: of its file."""

    name: str
    title: str
    data: Mapping[str, float]
    unit: str


@dataclass(frozen=True, slots=True)
class Row:
    """An item in the table of a folder. page: address of its own."""

    entry: Entry
    page: str | None


def folder_pages(folder: Path, name: str) -> tuple[str, dict[str, str]]:
    """The index of a folder, and the pages of its items, by their addresses below `name`."""
    return _folder_pages(folder, name, read_ledger(folder))


def _counted(entries: list[Entry]) -> list[Counts]:
    """What the bars of a folder show."""
    verdicts = Counter(str(one.verdict) for one in entries)
    hosts = Counter(urlsplit(one.source).netloc or "elsewhere" for one in entries)
    megabytes: dict[str, float] = {}
    minutes: dict[str, float] = {}
    for one in sorted(entries, key=lambda one: one.date):
        month = one.date[:7] or "unknown"
        megabytes[month] = round(megabytes.get(month, 0.0) + one.bytes / 1e6, 3)
        minutes[month] = round(minutes.get(month, 0.0) + (one.length or 0.0) / 60, 3)
    checks = Counter(one.checked[:7] for one in entries if one.checked)
    return [
        Counts("verdicts", "Verdicts", dict(verdicts), "items"),
        Counts("kinds", "Kinds", dict(Counter(_kind(one) for one in entries)), "items"),
        Counts("hosts", "Hosts", dict(hosts.most_common(12)), "items"),
        Counts("megabytes", "Megabytes by month", megabytes, "MB"),
        Counts("minutes", "Minutes of film and sound by month", minutes, "minutes"),
        Counts("checks", "Last checked, by month", dict(sorted(checks.items())), "items"),
    ]


def _folder_pages(folder: Path, name: str, ledger: Ledger) -> tuple[str, dict[str, str]]:
    if not ledger.entries:
        raise UsageError(f"{folder} holds no item.", "Give an item's folder, or one with items below it.")
    pages: dict[str, str] = {}
    rows = []
    for number, entry in enumerate(ledger.entries, start=1):
        address = f"{name}/{number:04d}.html"
        try:
            pages[address] = item_page(read_facts(folder / entry.path), back=f"../{name}.html", drawn=False)
            rows.append(Row(entry, address))
        except MudlarkError:
            rows.append(Row(entry, None))
    entries = ledger.entries
    reasons = Counter(one.problem for one in entries if one.problem)
    failed = [one for one in Journal(folder).results.values() if one.verdict in ("failed", "refused")]
    counted = _counted(entries)
    figures = [(one.title, _markup(draw_counts(one.data, one.unit)), one.data) for one in counted]
    index = _page(
        "folder.html",
        title=folder.resolve().name or "Items",
        rows=rows,
        figures=figures,
        verdicts=counted[0].data,
        reasons=reasons.most_common(30),
        failed=Counter(without_address(one.reason) for one in failed).most_common(30),
        doubles=ledger.doubles,
        unfinished=ledger.unfinished,
        bytes=sum(one.bytes for one in entries),
        length=sum(one.length or 0.0 for one in entries),
        back=None,
    )
    return index, pages


@cache
def _source(name: str) -> str:
    return (files("mudlark.report") / "templates" / name).read_text(encoding="utf-8")


@cache
def _template(name: str) -> Template:
    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    environment.filters.update(visible=printable, clock=clock, size=size)
    return environment.from_string(_source(name))


def _kind(entry: Entry) -> str:
    """What an item is, by its tracks."""
    if not entry.tracks:
        return "other"
    return "film" if "p" in entry.tracks.split(",")[0].rpartition(" ")[2] else "sound"


def _page(name: str, **values: Any) -> str:
    style, script = _source("style.css"), _source("table.js")
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    inside = _template(name).render(marks=_MARKS, version=__version__, **values)
    return _template("base.html").render(
        title=values["title"],
        inside=Markup(inside),  # escaped by its own template
        style=Markup(style),
        script=Markup(script),
        digest=digest,
        made=now(),
        version=__version__,
    )


def write_report(
    path: Path, into: Path, *, data: Path | None = None, png: Path | None = None, replace: bool = False
) -> int:
    """Write the report of an item or a folder; gives the number of pages. data, png: folders for the figures' data as
    CSV, and for the figures alone. Raises UsageError where there is nothing to report."""
    if not path.is_dir():
        raise UsageError(f"{path} is no folder.", "Give an item's folder, or one with items below it.")
    advice = "Choose another name with --into, or add --replace."
    tables: list[Table] = []
    drawings: dict[str, bytes | None] = {}
    pages: dict[str, str] = {}
    if (path / RECORD).is_file():
        item = read_item(path)
        index, tables = item_page(item), item.tables
        drawings = {table.name: draw(item, table, "png") for table in tables} if png else {}
    else:
        ledger = read_ledger(path)
        index, pages = _folder_pages(path, into.stem, ledger)
        counted = _counted(ledger.entries)
        tables = [Table(one.name, one.title, ("name", one.unit), list(one.data.items())) for one in counted]
        drawings = {one.name: draw_counts(one.data, one.unit, "png") for one in counted} if png else {}
    if pages:
        (into.parent / into.stem).mkdir(parents=True, exist_ok=True)
    for address, text in pages.items():
        _write(into.parent / address, text.encode("utf-8"), advice, replace=replace)
    _write(into, index.encode("utf-8"), advice, replace=replace)
    for table in tables if data else ():
        _write(_in(data, f"{table.name}.csv"), _as_csv(table), advice, replace=replace)
    for name, drawn in drawings.items():
        if png and drawn:
            _write(_in(png, f"{name}.png"), drawn, advice, replace=replace)
    return 1 + len(pages)


def _in(folder: Path | None, name: str) -> Path:
    assert folder
    folder.mkdir(parents=True, exist_ok=True)
    return folder / name


def _write(path: Path, body: bytes, advice: str, *, replace: bool) -> None:
    with whole_file(path, advice, replace=replace) as file:
        file.write(body)


def _as_csv(table: Table) -> bytes:
    out = StringIO()
    writer = csv.writer(out)
    writer.writerow(table.columns)
    for row in table.rows:
        writer.writerow([cell(one) if isinstance(one, str) else one for one in row])
    return out.getvalue().encode("utf-8")
