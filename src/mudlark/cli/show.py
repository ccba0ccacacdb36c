"""How things look: tables and blocks for people on stdout, one JSON document for programs, messages on stderr."""

import os
import shutil
import sys
import textwrap
from collections.abc import Iterator, Sequence
from typing import Any

import click
import msgspec
from rich.console import Console
from rich.text import Text

VERDICT_STYLE = {"sound": "green", "flawed": "yellow", "broken": "red", "failed": "red", "refused": "magenta"}


def console() -> Console:
    """Standard output: coloured only on a terminal, and addresses are never broken over lines."""
    return Console(highlight=False, soft_wrap=True, emoji=False, no_color=_plain(sys.stdout.isatty()))


def messages() -> Console:
    """Standard error, for progress and messages."""
    return Console(stderr=True, highlight=False, soft_wrap=True, emoji=False, no_color=_plain(sys.stderr.isatty()))


def _plain(terminal: bool) -> bool | None:
    return True if not terminal or os.environ.get("NO_COLOR") else None


def emit_json(command: str, **content: Any) -> None:
    """The one JSON document of a command."""
    document = {"mudlark": 1, "command": command, **content}
    click.echo(msgspec.json.format(msgspec.json.encode(document), indent=2).decode())


def size(count: int | float | None) -> str:
    """Bytes as people read them, in powers of ten."""
    if count is None:
        return "–"
    value = float(count)
    for unit in ("B", "kB", "MB", "GB"):
        if value < 1000 or unit == "GB":
            return f"{value:.0f} {unit}" if unit == "B" or value >= 100 else f"{value:.1f} {unit}"
        value /= 1000
    return ""


def clock(seconds: float | None) -> str:
    """A duration as 0:24, 12:05 or 1:02:03."""
    if seconds is None:
        return "–"
    whole = round(seconds)
    hours, rest = divmod(whole, 3600)
    return f"{hours}:{rest // 60:02d}:{rest % 60:02d}" if hours else f"{rest // 60}:{rest % 60:02d}"


def bits(rate: int | None) -> str:
    """Bits a second as people read them."""
    if rate is None:
        return "–"
    return f"{rate / 1e6:.1f} Mbit/s" if rate >= 1_000_000 else f"{rate / 1e3:.0f} kbit/s"


def verdict(word: str) -> Text:
    """A verdict in its colour."""
    return Text(word, style=f"bold {VERDICT_STYLE.get(word, '')}")


def columns(rows: Sequence[Sequence[str]], right: Sequence[int]) -> Iterator[str]:
    """Rows as lines with aligned columns; columns with nothing but dashes are left out."""
    kept = [at for at in range(len(rows[0])) if len(rows) == 1 or any(row[at] != "–" for row in rows[1:])]
    widths = {at: max(len(row[at]) for row in rows) for at in kept}
    for row in rows:
        yield "  ".join(f"{row[at]:{'>' if at in right else '<'}{widths[at]}}" for at in kept).rstrip()


def indented(text: str, margin: int) -> str:
    """Text with a margin, broken between words on a terminal and left whole elsewhere."""
    width = shutil.get_terminal_size().columns if sys.stdout.isatty() else sys.maxsize
    space = " " * margin
    return textwrap.fill(text, width, initial_indent=space, subsequent_indent=space, break_long_words=False)


def numbers(listed: Sequence[int]) -> str:
    """Rising numbers as people list them: 3, 5–7 and 12."""
    spans: list[list[int]] = []
    for number in listed:
        if spans and number == spans[-1][1] + 1:
            spans[-1][1] = number
        else:
            spans.append([number, number])
    words = [f"{first}" if first == last else f"{first}–{last}" for first, last in spans]
    if len(words) > 6:
        words = [*words[:5], f"{len(words) - 5} more"]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def life(seconds: float) -> str:
    """How long something still lives."""
    if seconds <= 0:
        return "expired"
    for unit, length in (("days", 86400), ("hours", 3600), ("minutes", 60)):
        if seconds >= 2 * length:
            return f"expires in {seconds / length:.0f} {unit}"
    return f"expires in {seconds:.0f} s"
