"""The figures of an item's report. What no eye could tell apart is drawn once: figures stay small however long the item
is."""

from collections.abc import Callable, Iterable
from datetime import datetime
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from mudlark.report.drawing import BLUE, DASHES, GREEN, ORANGE, PINK, RED, SKY, Form, drawn
from mudlark.report.item import ItemData
from mudlark.report.requests import BEGIN, END, LANE, TRY, WAY, failed_row
from mudlark.report.spans import MISSING, Marked, joined
from mudlark.report.table import Row, Table, thinned

_POINTS = 1_500  # on a line
_PIXELS = 700  # places along an axis that an eye can tell apart
_MARKS = 2_000
_HEIGHT = 2.1  # inches of axes
_ROW = 0.19  # inches of a row of named stretches
_LANE_ROW = 0.2
_DAY = 86_400  # seconds
_SPANS = {MISSING: (RED, "////"), "black": ("#555555", ""), "frozen": (SKY, "\\\\"), "silent": (PINK, "..")}
_ON_TIME = frozenset({"rates", "keys", "loudness"})  # figures over the film's own time


def draw(item: ItemData, table: Table, form: Form = "svg") -> bytes | None:
    """A figure of an item; None where there is nothing to draw."""
    if not table.rows:
        return None
    spans = item.spans if table.name in _ON_TIME else []
    names = list(dict.fromkeys(span.name for span in spans))
    lanes = len({row[LANE] for row in table.rows}) if table.name == "requests" else 0
    axes_height = max(_HEIGHT * 0.5, lanes * _LANE_ROW) if lanes else _HEIGHT
    above = len(names) * _ROW

    def fill(figure: Figure) -> None:
        if names:
            rows = figure.subplots(2, 1, sharex=True, height_ratios=(above, axes_height))
            _name_spans(rows[0], spans, names)
            axes: Axes = rows[1]
        else:
            axes = figure.subplots()
        _DRAWN[table.name](axes, table)
        if names:
            _shade(axes, spans)

    return drawn(table.name, fill, axes_height + above + 0.9, form)


def _name_spans(axes: Axes, spans: list[Marked], names: list[str]) -> None:
    """A row for each name, with the stretches that have it."""
    longest = max(span.end for span in spans) or 1.0
    for row, name in enumerate(names):
        colour, hatch = _SPANS.get(name, (RED, ""))
        all_of_it = [(span.begin, span.end) for span in spans if span.name == name]
        shown = joined(all_of_it, longest / _PIXELS)
        places = [begin for begin, end in shown if end == begin]
        axes.broken_barh(
            [(begin, end - begin) for begin, end in shown if end > begin],
            (row - 0.35, 0.7),
            facecolor=colour,
            hatch=hatch,
        )
        axes.plot(places, [row] * len(places), linestyle="", marker="d", color=colour, markersize=5)
    axes.set_yticks(range(len(names)), names)
    axes.set_ylim(len(names) - 0.4, -0.6)
    axes.tick_params(bottom=False, labelbottom=False, left=False)
    axes.spines[["left", "bottom"]].set_visible(False)


def _shade(axes: Axes, spans: list[Marked]) -> None:
    """The same stretches behind the lines of a figure."""
    left, right = axes.get_xlim()
    for name in dict.fromkeys(span.name for span in spans):
        colour, _ = _SPANS.get(name, (RED, ""))
        for begin, end in joined([(one.begin, one.end) for one in spans if one.name == name], (right - left) / _PIXELS):
            if end > begin:
                axes.axvspan(begin, end, color=colour, alpha=0.2, linewidth=0)
            else:
                axes.axvline(begin, color=colour, linestyle=":", linewidth=1)


def _requests(axes: Axes, table: Table) -> None:
    pixel = max(row[END] for row in table.rows) / _PIXELS or 1e-3
    lanes = sorted({row[LANE] or 0 for row in table.rows})
    places = {lane: place for place, lane in enumerate(lanes)}
    failed = [row for row in table.rows if failed_row(row)]
    came = [row for row in table.rows if not failed_row(row)]
    lines: list[Row] = []
    for lane, place in places.items():
        spans = joined([(row[BEGIN], row[END]) for row in came if (row[LANE] or 0) == lane], pixel / 2)
        lines += [(begin, max(end, begin + 2 * pixel), place) for begin, end in spans]
    if lines:
        begins, ends, places_of = _columns(lines)
        axes.plot(
            *_strokes(begins, ends, places_of, places_of),
            color=SKY,
            linewidth=_LANE_ROW * 40,
            solid_capstyle="butt",
            label="requests",
        )
    for chosen, mark, colour, name in (
        (failed, "x", RED, "failed"),
        ([row for row in came if (row[TRY] or 1) > 1], "^", ORANGE, "tried again"),
        ([row for row in came if row[WAY] == "elsewhere"], "D", GREEN, "from another address"),
        ([row for row in came if row[WAY] == "renewed"], "s", PINK, "under a renewed link"),
        ([row for row in came if row[WAY] == "raced"], "*", BLUE, "asked for twice"),
    ):
        seen = {(round(row[BEGIN] / pixel), places[row[LANE] or 0]) for row in chosen}
        if seen:
            x, y = _columns([(at * pixel, place) for at, place in sorted(seen)[:_MARKS]])
            axes.plot(x, y, linestyle="", marker=mark, color=colour, markersize=5.5, label=name)
    axes.set_yticks(range(len(lanes)), [f"lane {lane}" if lane else "pages, lists" for lane in lanes])
    axes.set_ylim(-0.6, len(lanes) - 0.4)
    axes.set_xlabel("seconds since the first request")
    _legend(axes)


def _throughput(axes: Axes, table: Table) -> None:
    seconds, speed, used = _columns(table.rows)
    axes.stairs(speed[:-1], seconds, fill=True, color=SKY, label="MB/s")
    axes.set(ylabel="MB/s", xlabel="seconds since the first request", ylim=(0, None))
    other = axes.twinx()
    other.spines["right"].set_visible(True)
    other.step(seconds, used, where="post", color=RED, linestyle="--", label="lanes in use")
    other.set(ylabel="lanes in use", ylim=(0, max(used) + 1))
    other.yaxis.set_major_locator(MaxNLocator(6, integer=True))
    _legend(axes, other)


def _rates(axes: Axes, table: Table) -> None:
    for number, (name, rows) in enumerate(_by_track(table.rows)):
        colour, dashes = (BLUE, ORANGE, GREEN, PINK, SKY, RED)[number % 6], DASHES[number % len(DASHES)]
        _, seconds, rates = _columns([*rows, rows[-1]])
        seconds[-1] = seconds[-2] + (seconds[1] - seconds[0] if len(rows) > 1 else 1.0)
        axes.step(seconds, rates, where="post", color=colour, linestyle=dashes, label=name)
    axes.set(ylabel="kbit/s", xlabel="seconds of the film", ylim=(0, None))
    _legend(axes)


def _keys(axes: Axes, table: Table) -> None:
    for number, (name, rows) in enumerate(_by_track(table.rows)):
        _, seconds, distances = _columns(_highest(rows))
        colour, mark = (BLUE, GREEN)[number % 2], ("o", "^")[number % 2]
        axes.plot(*_strokes(seconds, seconds, [0.0] * len(seconds), distances), color=colour, linewidth=1)
        axes.plot(seconds, distances, linestyle="", marker=mark, color=colour, markersize=3.5, label=name)
    axes.set(ylabel="seconds to the next", xlabel="seconds of the film", ylim=(0, None))
    _legend(axes)


def _loudness(axes: Axes, table: Table) -> None:
    seconds, levels = _columns(thinned(table.rows, _POINTS))
    axes.fill_between(seconds, np.maximum(levels, -80.0), -82, color=SKY, step="post", linewidth=0, label="loudness")
    axes.axhline(-60, color=RED, linewidth=1, linestyle="--", label="below this: silence")
    axes.set(ylabel="dB of full scale", xlabel="seconds of the film", ylim=(-82, 0))
    _legend(axes)


def _behind(axes: Axes, table: Table) -> None:
    for number, (name, rows) in enumerate(_by_track(table.rows)):
        there = [row for row in rows if row[2] is not None]
        at = [_day(row[1]) for row in thinned(there, _POINTS)]
        late = [row[2] for row in thinned(there, _POINTS)]
        colour, dashes = (BLUE, GREEN, PINK)[number % 3], DASHES[number % len(DASHES)]
        axes.plot(at, late, color=colour, linestyle=dashes, marker=".", label=name)
    gone = [(_day(row[1]), _day(row[1]) + row[3] / _DAY) for row in table.rows if row[4]]
    for number, (begin, end) in enumerate(joined(gone, 0.01 / _DAY)[:_MARKS]):
        axes.axvspan(begin, end, facecolor=RED, alpha=0.3, hatch="////", label="" if number else MISSING)
    axes.xaxis_date("UTC")
    axes.set(ylabel="seconds behind", xlabel="time of day, UTC", ylim=(min(0.0, axes.get_ylim()[0]), None))
    _legend(axes)


def _strokes(*ends: list[float]) -> tuple[np.ndarray, np.ndarray]:
    """Strokes from (x1, y1) to (x2, y2), given as x1, x2, y1 and y2, as one broken line, which is quicker to draw."""
    x1, x2, y1, y2 = (np.array(one, np.float64) for one in ends)
    apart = np.full(len(x1), np.nan)
    return np.column_stack((x1, x2, apart)).ravel(), np.column_stack((y1, y2, apart)).ravel()


def _day(moment: str) -> float:
    """A time of day, as the axis of dates counts: in days since 1970."""
    return datetime.fromisoformat(moment).timestamp() / _DAY


def _by_track(rows: list[Row]) -> Iterable[tuple[str, list[Row]]]:
    """The rows of each track; the track stands first in them."""
    names = dict.fromkeys(row[0] for row in rows)
    return [(name, [row for row in rows if row[0] == name]) for name in names]


def _columns(rows: list[Row]) -> list[Any]:
    """Columns as lists."""
    return [list(column) for column in zip(*rows, strict=True)]


def _highest(rows: list[Row]) -> list[Row]:
    """Of rows that stand at one place for the eye, the highest."""
    if len(rows) <= _PIXELS:
        return rows
    pixel = (rows[-1][1] - rows[0][1]) / _PIXELS or 1.0
    best: dict[int, Row] = {}
    for row in rows:
        place = int(row[1] / pixel)
        if place not in best or row[2] > best[place][2]:
            best[place] = row
    return list(best.values())


def _legend(*axes: Axes) -> None:
    """Above the axes, in one line."""
    handles, labels = [], []
    for one in axes:
        more = one.get_legend_handles_labels()
        handles += more[0]
        labels += more[1]
    figure = axes[0].figure
    figure.legend(handles, labels, loc="upper center", ncols=6, fontsize=9, handlelength=2.4, columnspacing=1.6)


_DRAWN: dict[str, Callable[[Axes, Table], None]] = {
    "requests": _requests,
    "throughput": _throughput,
    "rates": _rates,
    "keys": _keys,
    "loudness": _loudness,
    "behind": _behind,
}
