"""How figures are drawn by Matplotlib, whatever they show: as SVG that takes the colours of the page it stands in, or
as PNG on white.

Colours hold for colour-blind eyes (those of Okabe and Ito) and never stand alone: lines differ in their dashes, marks
in their shapes, areas in their hatching, stretches in their names.
"""

import io
import logging
import re
import warnings
from collections.abc import Callable
from typing import Any, Literal

import matplotlib as mpl
from matplotlib.figure import Figure

Form = Literal["svg", "png"]
INK = "#010203"  # stands for the colour of the page's text until the figure is in the page
BLUE, ORANGE, GREEN, PINK, SKY, RED = "#0072b2", "#e69f00", "#009e73", "#cc79a7", "#56b4e9", "#d55e00"
DASHES = ("-", "--", "-.", ":")
WIDTH = 9.0  # inches
_LEFT, _RIGHT = 1.0, 0.75  # inches at the sides of axes
_ABOVE, _BELOW = 0.36, 0.5
_PLAIN = "#1c262a"
_INKED = ("text.color", "axes.edgecolor", "axes.labelcolor", "xtick.color", "ytick.color", "hatch.color")
_SETTINGS: dict[str, Any] = {
    "svg.fonttype": "none",
    "text.parse_math": False,
    "date.converter": "concise",
    "font.family": "sans-serif",
    "font.size": 9,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "figure.facecolor": "none",
    "axes.facecolor": "none",
    "hatch.linewidth": 0.6,
    "legend.frameon": False,
}


logging.getLogger("matplotlib").setLevel(logging.ERROR)  # that it looks for fonts at first concerns nobody


def drawn(name: str, draw: Callable[[Figure], None], inches: float, form: Form, width: float = WIDTH) -> bytes:
    """What `draw` puts on a figure so many inches high (its margins included). name: unlike that of any other in its
    page."""
    settings: Any = {**_SETTINGS, **dict.fromkeys(_INKED, ink(form)), "svg.hashsalt": name}
    with mpl.rc_context(settings), warnings.catch_warnings():
        warnings.filterwarnings("ignore", "Glyph")  # the browser has fonts for what Matplotlib's own lacks
        figure = Figure(figsize=(width, inches))
        figure.subplots_adjust(  # stated, as having it found out takes long
            left=_LEFT / width, right=1 - _RIGHT / width, top=1 - _ABOVE / inches, bottom=_BELOW / inches, hspace=0.1
        )
        draw(figure)
        out = io.BytesIO()
        if form == "png":
            figure.savefig(out, format="png", dpi=150, facecolor="white")
            return out.getvalue()
        figure.savefig(out, format="svg", metadata={"Date": None})
    return _for_a_page(out.getvalue())


def ink(form: Form) -> str:
    """The colour of text in a figure."""
    return INK if form == "svg" else _PLAIN


def _for_a_page(svg: bytes) -> bytes:
    """An SVG in the colours and the font of its page, without what has no use there: a size in points, metadata, names
    of groups (which several figures share). Its styles become attributes, so that the page need allow none but its own.
    """
    text = svg.decode("utf-8")
    text = text[text.index("<svg") :].replace(INK, "currentColor").replace(BLUE, f"var(--blue, {BLUE})")
    text = re.sub(r"<metadata>.*?</metadata>|<style.*?</style>", "", text, flags=re.S)
    text = re.sub(r'<g id="[^"]*"', "<g", text)
    text = re.sub(r' style="([^"]*)"', _as_attributes, text)
    text = re.sub(r"\n\s+", "\n", text)
    return re.sub(r'(<svg[^>]*?) width="[^"]*" height="[^"]*"', r"\1", text, count=1).encode()


def _as_attributes(style: re.Match[str]) -> str:
    declared = (one.partition(":") for one in style[1].split(";"))
    named = [(name.strip(), value.strip()) for name, _, value in declared]
    return "".join(f' {name}="{value}"' for name, value in named if name and name != "font-family")
