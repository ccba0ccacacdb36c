"""What a report shows of an item, read from its record and the files beside it."""

from collections import defaultdict
from pathlib import Path

import msgspec

from mudlark.archive.history import PastCheck, checks_of
from mudlark.archive.layout import RECORD
from mudlark.archive.place import inside_item
from mudlark.archive.record import Record, read_record
from mudlark.plain import is_plain
from mudlark.report.advice import UNPROVEN, Advice, of_problem
from mudlark.report.live import behind_table, is_recording
from mudlark.report.rates import rates_of
from mudlark.report.requests import Log, read_log, tables_of
from mudlark.report.spans import Marked, spans_of
from mudlark.report.steps import ReportStep, steps_of
from mudlark.report.table import Row, Table, within
from mudlark.text import clock, counted, sentence
from mudlark.web.address import host_of

_PLAYED = frozenset({"film", "sound"})
_LARGEST_LISTED = 60_000_000  # bytes of a record whose pieces are listed: more than a week of a broadcast
_TOO_MANY = "There are more pieces than fit on a page: the record itself lists them."
_QUIETEST = -120.0  # dB of full scale


class ItemData(msgspec.Struct):
    """An item. pieces: its segments. figures: the tables that are drawn. picture: its poster. checks: its history."""

    folder: Path
    record: Record
    pieces: Table
    steps: list[ReportStep]
    spans: list[Marked]
    checks: list[PastCheck]
    figures: list[Table] = msgspec.field(default_factory=list)
    picture: Path | None = None

    @property
    def summary(self) -> str:
        """What happened to it, in a few sentences."""
        return _summary(self.record, self.kind)

    @property
    def codes(self) -> list[str]:
        """Of what is wrong with it, as it was last seen, the gravest first."""
        if self.checks and self.checks[-1].when >= self.record.finished:
            return list(dict.fromkeys(self.checks[-1].problems))
        return list(dict.fromkeys(one.code for one in sorted(self.record.problems, key=lambda one: not one.grave)))

    @property
    def todo(self) -> list[Advice]:
        """What is to be done about it, each once."""
        verdict = self.checks[-1].verdict if self.checks else self.record.verdict
        advice = [of_problem(code) for code in self.codes] or ([UNPROVEN] if verdict == "unproven" else [])
        titles: dict[str, dict[str, None]] = {}
        for one in advice:
            titles.setdefault(one.todo, {})[one.title] = None
        return [Advice(_listed(list(named)), todo) for todo, named in titles.items()]

    @property
    def kind(self) -> str:
        """What it is, in a word."""
        media = next((file for file in self.record.files if file.role == "media"), None)
        if self.record.source.kind == "images":
            return "pages"
        return _kind([track.type for track in self.record.tracks], media.media_type if media else None)

    @property
    def reason(self) -> str:
        """Why its verdict is that."""
        problems = self.record.problems
        return sentence(self.record.reason or (problems[0].message if problems else ""))


def read_item(folder: Path, *, drawn: bool = True) -> ItemData:
    """An item. drawn: with what its figures are drawn from, for which its film is looked into. Raises MudlarkError
    where its record cannot be read."""
    few = (folder / RECORD).lstat().st_size <= _LARGEST_LISTED
    record, log = read_record(folder, segments=few), read_log(folder) if drawn else Log([])
    posters = [path for file in record.files if file.role == "poster" and (path := inside_item(folder, file.path))]
    item = ItemData(
        folder=folder,
        record=record,
        pieces=_pieces(record, "" if few else _TOO_MANY),
        steps=steps_of(record, log),
        spans=spans_of(record),
        checks=checks_of(folder),
        picture=next((path for path in posters if is_plain(path)), None),
    )
    if drawn:
        item.figures = list(tables_of(log))
        rates, keys = rates_of(folder, record) if item.kind in _PLAYED else (None, None)
        item.figures += [rates, _loudness(record)] if rates else []
        item.figures += [keys] if keys and item.kind == "film" else []
        item.figures += [behind_table(record, log)] if is_recording(record) else []
    return item


def _listed(titles: list[str]) -> str:
    """Short sentences as one."""
    return "; ".join([*titles[:1], *(title[:1].lower() + title[1:] for title in titles[1:])])


def _kind(types: list[str], media_type: str | None) -> str:
    """What an item is, in a word, by the types of its tracks, or the media type of its first file."""
    named = next((one for one in ("video", "audio") if one in types), None) or (media_type or "").partition("/")[0]
    words = {"video": "film", "audio": "sound", "image": "picture", "text": "text"}
    return "document" if media_type == "application/pdf" else words.get(named, "file")


def _summary(record: Record, kind: str) -> str:
    counts, source = record.segments, record.source
    words = {"film": "A film", "sound": "A sound", "pages": "Page images", "file": "A file"}.get(kind, f"A {kind}")
    words += f" of {clock(record.duration)}" if record.duration else ""
    host = host_of(source.page.url if source.page else source.address)
    how = "recorded while it was broadcast" if is_recording(record) else "hauled"
    words += f", {how} on {record.started[:10]}{f' from {host}' if host else ''}. "
    if counts.planned > 1:
        words += f"{counts.fetched + counts.reused:,} of {counted(counts.planned, 'piece')} came"
        words += f", {counts.missing:,} {'is' if counts.missing == 1 else 'are'} missing" if counts.missing else ""
        words += ". "
    if counts.retried:
        words += f"{counted(counts.retried, 'request')} had to be made again. "
    failed = sum(check.outcome == "failed" for check in record.checks)
    passed = sum(check.outcome == "passed" for check in record.checks)
    words += f"{counted(passed, 'check')} passed, {failed or 'none'} failed."
    if record.played:
        words += " It was played in a browser." if record.played.started else " A browser could not play it."
    return words


def _pieces(record: Record, words: str) -> Table:
    """Every segment, with where its stretch of the film begins."""
    columns = ("track", "number", "begins", "lasts", "address", "came", "tries", "bytes", "SHA-256", "what is wrong")
    at: defaultdict[str, float] = defaultdict(float)
    rows: list[Row] = []
    for one in record.segment_list:
        address = one.came_from or one.url
        begin = round(at[one.track], 3)
        at[one.track] += within(one.duration)
        rows.append(
            (
                one.track,
                one.number,
                begin,
                one.duration,
                address,
                one.fetched,
                one.tries,
                one.bytes,
                one.sha256,
                one.problem or "",
            )
        )
    marked = frozenset(number for number, one in enumerate(record.segment_list) if one.problem)
    return Table("pieces", "The pieces", columns, rows, words, marked=marked)


def _loudness(record: Record) -> Table:
    name, columns = ("loudness", "Loudness"), ("second", "dB of full scale")
    played = record.played
    if not played:
        return Table(*name, columns, words="It was not played yet: `mudlark haul --play` and `assay --play` do so.")
    if not played.loudness:
        return Table(*name, columns, words="It was played, and has no sound that the browser decodes.")
    rows: list[Row] = [(within(second), min(max(level, _QUIETEST), 0.0)) for second, level in played.loudness]
    levels = [level for _, level in rows]
    words = f"From {min(levels):.0f} to {max(levels):.0f} dB of full scale, second by second"
    words += f"; its loudest sample at {played.peak:.1f} dB. " if played.peak is not None else ". "
    for what, spans in (("Silent", played.silent), ("Black", played.black), ("Frozen", played.frozen)):
        if spans:
            places = ", ".join(f"{clock(begin)}–{clock(end)}" for begin, end in spans[:6])
            words += f"{what} at {places}{' and elsewhere' if len(spans) > 6 else ''}. "
    return Table(*name, columns, rows, words.strip())
