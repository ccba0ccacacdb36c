"""The figures of a folder's report: bars by name, and stacks over time."""

from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from mudlark.report.drawing import BLUE, GREEN, ORANGE, PINK, RED, SKY, WIDTH, Form, drawn, ink
from mudlark.report.shelf import VERDICTS
from mudlark.report.table import Table
from mudlark.text import printable

_COLOURS = {"sound": GREEN, "unproven": SKY, "flawed": ORANGE, "broken": RED, "refused": PINK, "failed": "#777777"}
_HATCHES = {"sound": "", "unproven": "..", "flawed": "//", "broken": "xx", "refused": "--", "failed": "++"}
_BAR = 0.3  # inches
_PANEL = 1.3
_LONGEST = 24  # characters of a name
_MOST_TICKS = 12


def draw_folder(table: Table, form: Form = "svg") -> bytes | None:
    """A figure of a folder; None where there is nothing to draw."""
    if not table.rows:
        return None
    if table.name == "time":
        return drawn(table.name, lambda figure: _over_time(figure, table, form), 3 * _PANEL + 1.1, form)
    if table.name == "checks":
        return drawn(table.name, lambda figure: _stacks(figure.subplots(), table, form), _PANEL + 1.1, form)
    return drawn(table.name, lambda figure: _bars(figure, table, form), _BAR * len(table.rows) + 0.65, form, WIDTH / 2)


def _bars(figure: Figure, table: Table, form: Form) -> None:
    figure.subplots_adjust(left=0.34, right=0.9, top=1 - 0.05 / figure.get_figheight())
    axes: Axes = figure.subplots()
    names = [_short(row[0]) for row in table.rows]
    counts = [row[1] for row in table.rows]
    bars = axes.barh(range(len(names)), counts, height=0.6, edgecolor=ink(form), linewidth=0.4)
    for bar, row in zip(bars, table.rows, strict=True):
        judged = row[0] if table.name == "verdicts" else ""
        bar.set(facecolor=_COLOURS.get(judged, BLUE), hatch=_HATCHES.get(judged, ""))
    axes.set_yticks(range(len(names)), names)
    axes.set_ylim(len(names) - 0.4, -0.6)
    axes.bar_label(bars, fmt="{:,.0f}", padding=4)
    axes.set_xlabel(table.columns[1])
    axes.xaxis.set_major_locator(MaxNLocator(5, integer=True))


def _over_time(figure: Figure, table: Table, form: Form) -> None:
    """Items by verdict, megabytes and minutes, one below the other."""
    panels = figure.subplots(3, 1, sharex=True)
    figure.subplots_adjust(hspace=0.25)
    _stacks(panels[0], table, form)
    for axes, place, colour in ((panels[1], -2, BLUE), (panels[2], -1, PINK)):
        values = [row[place] for row in table.rows]
        axes.bar(
            range(len(values)), values, width=_width(len(values)), color=colour, edgecolor=ink(form), linewidth=0.4
        )
        axes.set_ylabel(table.columns[place])


def _stacks(axes: Axes, table: Table, form: Form) -> None:
    """One bar for each part of time, of as many pieces as there are verdicts."""
    places = range(len(table.rows))
    below = [0] * len(table.rows)
    for column, verdict in enumerate(VERDICTS, start=1):
        values = [row[column] for row in table.rows]
        if any(values):
            axes.bar(
                places,
                values,
                width=_width(len(values)),
                bottom=below,
                label=verdict,
                facecolor=_COLOURS[verdict],
                hatch=_HATCHES[verdict],
                edgecolor=ink(form),
                linewidth=0.4,
            )
            below = [one + more for one, more in zip(below, values, strict=True)]
    step = -(-len(places) // _MOST_TICKS)
    axes.set_xticks(places[::step], [_short(row[0]) for row in table.rows[::step]])
    axes.set_xlim(-0.7, max(len(places) - 0.3, 5))
    axes.yaxis.set_major_locator(MaxNLocator(5, integer=True))
    axes.set_ylabel("items" if table.name == "time" else "checks")
    axes.figure.legend(*axes.get_legend_handles_labels(), loc="upper center", ncols=6)


def _width(count: int) -> float:
    return 0.6 if count < 40 else 0.9


def _short(name: str) -> str:
    shown = printable(name)
    return shown if len(shown) <= _LONGEST else f"{shown[: _LONGEST - 1]}…"
