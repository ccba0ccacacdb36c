"""What a report shows of an item: tables, each the data of one figure, read from the record and the files beside it."""

from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from itertools import pairwise
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from mudlark.archive.history import Checked, checks_of
from mudlark.archive.layout import REQUESTS
from mudlark.archive.place import inside_item
from mudlark.archive.record import Record, read_record
from mudlark.media.matroska.read import read_matroska
from mudlark.media.mp4.fragments import read_movie
from mudlark.media.mp4.read import Movie, reader_of, scan
from mudlark.media.sniff import sniff

_LARGEST_LOG = 200_000_000  # bytes
_MOST_BINS = 600  # points of a line, more than which no eye could tell apart


@dataclass(frozen=True, slots=True)
class Table:
    """Named columns and rows. why: what to say where there are none."""

    name: str
    title: str
    columns: tuple[str, ...]
    rows: list[tuple[Any, ...]] = field(default_factory=list)
    why: str = ""


@dataclass(slots=True)
class ItemData:
    """An item, and the tables of its figures. picture: its poster. checks: its history."""

    folder: Path
    record: Record
    requests: Table
    throughput: Table
    rates: Table
    keys: Table
    loudness: Table
    behind: Table
    spans: list[tuple[float, float, str]]
    checks: list[Checked]
    picture: Path | None = None

    @property
    def tables(self) -> list[Table]:
        """Those of its figures; that of a broadcast only where it was one."""
        tables = [self.requests, self.throughput, self.rates, self.keys, self.loudness]
        return [*tables, self.behind] if self.behind.rows else tables


def read_facts(folder: Path) -> ItemData:
    """An item without the tables of its figures. Raises MudlarkError where its record cannot be read."""
    return _item(folder, read_record(folder), drawn=False)


def read_item(folder: Path) -> ItemData:
    """All of an item. Raises MudlarkError where its record cannot be read."""
    return _item(folder, read_record(folder), drawn=True)


def _item(folder: Path, record: Record, *, drawn: bool) -> ItemData:
    nothing = Table("none", "", ())
    requests = _requests(folder) if drawn else nothing
    rates, keys = _rates(folder, record) if drawn else (nothing, nothing)
    posters = [path for file in record.files if file.role == "poster" and (path := inside_item(folder, file.path))]
    return ItemData(
        folder=folder,
        record=record,
        requests=requests,
        throughput=_throughput(requests) if drawn else nothing,
        rates=rates,
        keys=keys,
        loudness=_loudness(record),
        behind=_behind(record),
        spans=_spans(record),
        checks=checks_of(folder),
        picture=next((path for path in posters if path.is_file()), None),
    )


def _requests(folder: Path) -> Table:
    """Every request, with seconds since the first was wanted."""
    columns = ("begin", "end", "lane", "status", "try", "bytes", "for", "problem", "elsewhere")
    title = "Requests over time, by lane"
    path = folder / REQUESTS
    if not path.is_file() or path.is_symlink():
        why = "The item has no log of its requests: it was made by an earlier version, or the log was taken away."
        return Table("requests", title, columns, why=why)
    rows = []
    if path.stat().st_size <= _LARGEST_LOG:
        for line in path.read_bytes().splitlines():
            with suppress(msgspec.DecodeError, KeyError, TypeError):
                one = msgspec.json.decode(line)
                begin, end = one["at"] + (one["sent"] or 0.0), one["at"] + one["ended"]
                told = (one["status"], one["try"], one["bytes"], one["for"], one["problem"])
                rows.append((begin, end, one["lane"] or 0, *told, one["url"]))
    if not rows:
        return Table("requests", title, columns, why="The log of its requests is empty, or cannot be read.")
    first = min(row[0] for row in rows)
    addresses: dict[str, str] = {}
    kept = []
    for begin, end, *rest, url in sorted(rows, key=lambda row: row[:2]):
        elsewhere = rest[4] is not None and addresses.setdefault(rest[4], url) != url  # failover, or a renewed link
        kept.append((round(begin - first, 3), round(end - first, 3), *rest, elsewhere))
    return Table("requests", title, columns, kept)


def _throughput(requests: Table) -> Table:
    """Megabytes a second, and lanes in use, over time."""
    title = "Throughput, and lanes in use"
    if not requests.rows:
        return Table("throughput", title, ("second", "MB/s", "lanes"), why=requests.why)
    begins, ends = (np.array([row[place] for row in requests.rows]) for place in (0, 1))
    sizes = np.array([row[5] or 0 for row in requests.rows], np.float64)
    last = float(ends.max()) or 0.001
    edges = np.linspace(0.0, last, min(_MOST_BINS, max(20, len(begins))) + 1)
    width = edges[1] - edges[0]
    speed, lanes = np.zeros(len(edges) - 1), np.zeros(len(edges) - 1)
    for begin, end, size in zip(begins, ends, sizes, strict=True):
        first, final = (int(np.clip(moment / width, 0, len(speed) - 1)) for moment in (begin, end))
        lanes[first : final + 1] += 1
        speed[first : final + 1] += size / (final - first + 1) / width / 1e6
    rows = [(round(float(e), 3), round(float(s), 3), int(n)) for e, s, n in zip(edges[:-1], speed, lanes, strict=True)]
    return Table("throughput", title, ("second", "MB/s", "lanes"), rows)


def _movie(path: Path) -> Movie | None:
    """The index of a film."""
    with path.open("rb") as file:
        form = sniff(file.read(65536))
        read = reader_of(file)
        size = path.stat().st_size
        if form == "matroska":
            return read_matroska(read, size)
        if form == "mp4":
            boxes = scan(read, size)
            index = next((box for box in boxes if box.kind == "moov"), None)
            return read_movie(read, boxes, index) if index else None
    return None


def _rates(folder: Path, record: Record) -> tuple[Table, Table]:
    """Kilobits a second of each track, and seconds between pictures that stand alone."""
    rates_title, keys_title = "Bit rate of each track", "Distances of pictures that can be decoded alone"
    media = [path for file in record.files if file.role == "media" and (path := inside_item(folder, file.path))]
    movie = None
    with suppress(Exception):  # whatever is wrong with it, the checks say
        movie = _movie(media[0]) if media else None
    why = "There is no film with an index to draw this from."
    rates: list[tuple[Any, ...]] = []
    keys: list[tuple[Any, ...]] = []
    for track in movie.tracks if movie else ():
        if not len(track.sizes):
            continue
        times = (track.pts - track.pts.min()) / track.format.timescale
        length = max(float(times.max()), 1.0)
        edges = np.linspace(0.0, length, min(_MOST_BINS, max(2, int(length))) + 1)
        bits, _ = np.histogram(times, edges, weights=track.sizes.astype(np.float64) * 8)
        name = f"{track.format.type} {track.number}"
        width = edges[1] - edges[0]
        rates += [
            (name, round(float(e), 3), round(float(b) / width / 1000, 1)) for e, b in zip(edges[:-1], bits, strict=True)
        ]
        if track.format.type == "video":
            alone = np.sort(times[track.sync])
            keys += [(name, round(a, 3), round(b - a, 3)) for a, b in pairwise(alone.tolist())]
    return (
        Table("rates", rates_title, ("track", "second", "kbit/s"), rates, "" if rates else why),
        Table("keys", keys_title, ("track", "second", "seconds to the next"), keys, "" if keys else why),
    )


def _loudness(record: Record) -> Table:
    title, columns = "Loudness", ("second", "dB of full scale")
    rows = [tuple(one) for one in record.played.loudness] if record.played else []
    why = "" if rows else "It was not played, or has no sound: see `mudlark assay --play`."
    return Table("loudness", title, columns, list(rows), why)


def _behind(record: Record) -> Table:
    """Of a broadcast: how long after its moment each piece was here, and the moments of those that never were."""
    rows: list[tuple[Any, ...]] = []
    first = None
    for one in record.segment_list:
        if one.moment is None:
            continue
        with suppress(ValueError):
            moment = datetime.fromisoformat(one.moment)
            moment = moment if moment.tzinfo else moment.replace(tzinfo=UTC)
            first = first or moment
            late = None
            if one.fetched:
                late = (datetime.fromisoformat(one.fetched) - moment).total_seconds() - one.duration
            rows.append((one.moment, round(late, 1) if late is not None else None, (moment - first).total_seconds()))
    if not any(note.code.startswith("recording-") for note in record.notes):  # it was no broadcast
        rows = []
    columns = ("moment", "seconds behind", "seconds since the first")
    return Table("behind", "How far behind the live edge", columns, rows)


def _spans(record: Record) -> list[tuple[float, float, str]]:
    """Stretches of the film with something to say of them, from when to when."""
    spans: list[tuple[float, float, str]] = []
    if played := record.played:
        for name, found in (("black", played.black), ("frozen", played.frozen), ("silent", played.silent)):
            spans += [(begin, end, name) for begin, end in found]
    at: dict[str, float] = {}
    stretches: dict[str, int] = {}
    for segment in record.segment_list:
        begin = at.get(segment.track, 0.0)
        at[segment.track] = begin + segment.duration
        if segment.stretch != stretches.setdefault(segment.track, segment.stretch):
            spans.append((begin, begin, "discontinuity"))
            stretches[segment.track] = segment.stretch
        if segment.problem:
            spans.append((begin, begin + segment.duration, "missing"))
    spans += [(problem.at, problem.at, problem.code) for problem in record.problems if problem.at is not None]
    return spans


def thinned(rows: Iterable[tuple[Any, ...]], most: int) -> list[tuple[Any, ...]]:
    """As many rows as are worth showing, evenly taken."""
    listed = list(rows)
    if len(listed) <= most:
        return listed
    return [listed[place] for place in np.linspace(0, len(listed) - 1, most).astype(int).tolist()]
