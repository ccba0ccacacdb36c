"""The figures of reports, drawn by Matplotlib as SVG. Colours hold for colour-blind eyes (Okabe, Ito) and never stand
alone: lines differ in their dashes, marks in their shapes, stretches in their names.

Text and axes have the colour of the page, so that figures suit both light and dark.
"""

import io
import re
from collections.abc import Callable, Mapping
from typing import Any

import matplotlib as mpl
import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from mudlark.report.data import ItemData, Table, thinned

_INK = "#010203"  # stands for the colour of the page's text until the figure is in the page
_COLOURS = ("#0072b2", "#e69f00", "#009e73", "#cc79a7", "#56b4e9", "#d55e00")
_DASHES = ("-", "--", "-.", ":")
_SIZE = (9.0, 2.7)  # inches
_MOST = 3_000  # marks in one figure
_SETTINGS: Any = {
    "svg.fonttype": "none",
    "svg.hashsalt": "mudlark",
    "font.family": "sans-serif",
    "font.size": 9,
    "text.color": _INK,
    "axes.edgecolor": _INK,
    "axes.labelcolor": _INK,
    "xtick.color": _INK,
    "ytick.color": _INK,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "figure.facecolor": "none",
    "axes.facecolor": "none",
    "savefig.facecolor": "none",
    "legend.frameon": False,
}


def draw(item: ItemData, table: Table, form: str = "svg") -> bytes | None:
    """A figure of an item, as SVG or PNG; None where there is nothing to draw."""
    if not table.rows:
        return None
    with mpl.rc_context(_SETTINGS if form == "svg" else {**_SETTINGS, **_on_paper()}):
        figure = Figure(figsize=_SIZE)
        figure.subplots_adjust(left=0.08, right=0.93, top=0.86, bottom=0.19)  # quicker than having it found out
        axes = figure.subplots()
        _DRAWN[table.name](axes, item, table)
        return _saved(figure, form)


def draw_counts(counts: Mapping[str, float], unit: str, form: str = "svg") -> bytes | None:
    """Bars by name."""
    if not counts:
        return None
    with mpl.rc_context(_SETTINGS if form == "svg" else {**_SETTINGS, **_on_paper()}):
        height = 0.75 + 0.32 * len(counts)
        figure = Figure(figsize=(_SIZE[0], height))
        figure.subplots_adjust(left=0.22, right=0.93, top=0.98, bottom=0.55 / height)
        axes = figure.subplots()
        names = list(counts)[::-1]
        bars = axes.barh(names, [counts[name] for name in names], color=_COLOURS[0], height=0.6)
        axes.bar_label(bars, fmt="{:,.0f}", padding=4)
        axes.set_xlabel(unit)
        axes.xaxis.set_major_locator(MaxNLocator(6, integer=True))
        return _saved(figure, form)


def _on_paper() -> Any:
    names = ("text.color", "axes.edgecolor", "axes.labelcolor", "xtick.color", "ytick.color")
    return {**dict.fromkeys(names, "#1c262a"), "savefig.facecolor": "white"}


def _saved(figure: Figure, form: str) -> bytes:
    out = io.BytesIO()
    figure.savefig(out, format=form, dpi=150, metadata={"Date": None} if form == "svg" else None)
    if form != "svg":
        return out.getvalue()
    text = out.getvalue().decode("utf-8")
    text = text[text.index("<svg") :].replace(_INK, "currentColor")
    text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.S)
    return re.sub(r'(<svg[^>]*?) width="[^"]*" height="[^"]*"', r"\1", text, count=1).encode()


def _requests(axes: Axes, _: ItemData, table: Table) -> None:
    rows = thinned(table.rows, _MOST)
    failed = [bool(row[7]) or (row[3] or 0) >= 400 for row in rows]
    good = [row for row, wrong in zip(rows, failed, strict=True) if not wrong]
    bad = [row for row, wrong in zip(rows, failed, strict=True) if wrong]
    again = [row for row in good if (row[4] or 1) > 1]
    begins, ends, lanes = ([row[place] for row in good] for place in (0, 1, 2))
    axes.hlines(lanes, begins, ends, color=_COLOURS[4], linewidth=7, label="requests")
    other = [row for row in good if row[8]]
    for chosen, mark, colour, name in (
        (again, "^", _COLOURS[1], "tried again"),
        (other, "D", _COLOURS[2], "from another address"),
        (bad, "x", _COLOURS[5], "failed"),
    ):
        if chosen:
            x, y = [row[0] for row in chosen], [row[2] for row in chosen]
            axes.scatter(x, y, marker=mark, color=colour, s=26, label=name, zorder=3)
    used = sorted({row[2] for row in rows})
    axes.set_yticks(used, [f"lane {lane}" if lane else "no lane" for lane in used])
    axes.set_ylim(used[0] - 0.6, used[-1] + 0.6)
    axes.set_xlabel("seconds since the first request")
    _legend(axes)


def _throughput(axes: Axes, _: ItemData, table: Table) -> None:
    seconds, speed, lanes = (np.array([row[place] for row in table.rows]) for place in range(3))
    axes.step(seconds, speed, where="post", color=_COLOURS[0], label="MB/s")
    axes.set_ylabel("MB/s")
    axes.set_xlabel("seconds since the first request")
    other = axes.twinx()
    other.spines["right"].set_visible(True)
    other.step(seconds, lanes, where="post", color=_COLOURS[1], linestyle="--", label="lanes in use")
    other.set_ylabel("lanes")
    other.set_ylim(bottom=0)
    axes.set_ylim(bottom=0)
    handles = [*axes.get_lines(), *other.get_lines()]
    axes.legend(
        handles, [str(one.get_label()) for one in handles], loc="upper center", bbox_to_anchor=(0.5, 1.22), ncols=2
    )


def _by_track(axes: Axes, item: ItemData, table: Table, *, points: bool) -> None:
    for number, name in enumerate(dict.fromkeys(row[0] for row in table.rows)):
        rows = thinned([row for row in table.rows if row[0] == name], _MOST)
        x, y = [row[1] for row in rows], [row[2] for row in rows]
        colour = _COLOURS[number % len(_COLOURS)]
        if points:
            axes.plot(x, y, marker=".", linestyle="", color=colour, label=name)
        else:
            axes.step(x, y, where="post", color=colour, linestyle=_DASHES[number % len(_DASHES)], label=name)
    axes.set_ylim(bottom=0)
    axes.set_ylabel(table.columns[2])
    axes.set_xlabel("seconds of the film")
    _shade(axes, item)
    _legend(axes)


def _loudness(axes: Axes, item: ItemData, table: Table) -> None:
    axes.plot(
        [row[0] for row in table.rows], [max(row[1], -80.0) for row in table.rows], color=_COLOURS[0], label="loudness"
    )
    axes.axhline(-60, color=_INK, linewidth=0.6, linestyle=":")
    axes.set_ylim(-82, 0)
    axes.set_ylabel("dB of full scale")
    axes.set_xlabel("seconds of the film")
    _shade(axes, item)


def _behind(axes: Axes, _: ItemData, table: Table) -> None:
    rows = thinned(table.rows, _MOST)
    there = [row for row in rows if row[1] is not None]
    gone = [row for row in rows if row[1] is None]
    axes.plot([row[2] for row in there], [row[1] for row in there], color=_COLOURS[0], label="behind the live edge")
    if gone:
        places = [row[2] for row in gone]
        axes.scatter(places, [0.0] * len(gone), marker="x", color=_COLOURS[5], label="missing", zorder=3)
    ticks = thinned([(row[2], row[0]) for row in rows], 6)
    axes.set_xticks([place for place, _ in ticks], [moment[11:19] for _, moment in ticks])
    axes.set_xlabel("time of day")
    axes.set_ylabel("seconds")
    axes.set_ylim(bottom=0)
    _legend(axes)


def _shade(axes: Axes, item: ItemData) -> None:
    """Stretches with something to say of them, named."""
    top = axes.get_ylim()[1]
    for number, (begin, end, name) in enumerate(item.spans[:40]):
        if end > begin:
            axes.axvspan(begin, end, color=_COLOURS[1], alpha=0.25, linewidth=0)
        else:
            axes.axvline(begin, color=_COLOURS[5], linestyle="--", linewidth=1)
        if number < 12:
            axes.annotate(name, ((begin + end) / 2, top), ha="center", va="top", fontsize=8, rotation=0)


def _legend(axes: Axes) -> None:
    axes.legend(loc="upper center", bbox_to_anchor=(0.5, 1.22), ncols=4)


_DRAWN: dict[str, Callable[[Axes, ItemData, Table], None]] = {
    "requests": _requests,
    "throughput": _throughput,
    "rates": lambda axes, item, table: _by_track(axes, item, table, points=False),
    "keys": lambda axes, item, table: _by_track(axes, item, table, points=True),
    "loudness": _loudness,
    "behind": _behind,
}
