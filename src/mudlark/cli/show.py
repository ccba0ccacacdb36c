"""How things look: tables and blocks for people on stdout, one JSON document for programs, messages on stderr."""

import json
import os
import shutil
import sys
import textwrap
from collections.abc import Iterable, Iterator, Sequence
from typing import Any

import click
import msgspec
from rich.console import Console
from rich.text import Text

from mudlark.cli.heard import is_unicode
from mudlark.errors import MudlarkError
from mudlark.manifest.model import Live
from mudlark.text import clock, escaped_json, visible
from mudlark.web.redact import redacted

_NAME = "mudlark: "
_LARGE = 10_000_000  # bytes of a document that nobody reads by eye, which is not indented

VERDICT_STYLE = {
    "sound": "green",
    "unproven": "cyan",
    "flawed": "yellow",
    "broken": "red",
    "failed": "red",
    "refused": "magenta",
}


class Manner(msgspec.Struct):
    """How much is said, as the user wants it; and whether the one JSON document was given."""

    quiet: bool = False
    verbose: bool = False
    emitted: bool = False


manner = Manner()


class _Console(Console):
    """A console that shows nothing unseen, whatever the text of a page, a name or a record holds: one line for each
    thing that is printed, so that no name can look like a line of ours."""

    def print(self, *objects: Any, **given: Any) -> None:
        super().print(*map(_fit, objects), **given)


def _fit(thing: Any) -> Any:
    if isinstance(thing, str):
        return visible(thing)
    if isinstance(thing, Text) and not thing.plain.isprintable():
        thing.plain = visible(thing.plain)  # character by character, so that styles hold
    return thing


def console() -> Console:
    """Standard output: coloured only on a terminal, and addresses are never broken over lines."""
    return _Console(highlight=False, soft_wrap=True, emoji=False, no_color=_plain(sys.stdout.isatty()))


def messages() -> Console:
    """Standard error, for progress and messages; silent if that is wanted."""
    plain = _plain(sys.stderr.isatty())
    return _Console(stderr=True, highlight=False, soft_wrap=True, emoji=False, no_color=plain, quiet=manner.quiet)


def _plain(terminal: bool) -> bool | None:
    return True if not terminal or os.environ.get("NO_COLOR") else None


def emit_json(command: str, problems: Iterable[MudlarkError] = (), *, in_a_line: bool = False, **content: Any) -> None:
    """The one JSON document of a command. problems: what went wrong with all or parts of it. in_a_line: one of many, of
    a command that goes on."""
    document = {"mudlark": 1, "command": command, **content, "problems": [problem_data(one) for one in problems]}
    try:
        encoded = msgspec.json.encode(document)
        if not in_a_line and len(encoded) < _LARGE:
            encoded = msgspec.json.format(encoded, indent=2)
        written = encoded.decode()
    except UnicodeEncodeError:  # a file whose name is no text: it is told so that it can be found again
        written = json.dumps(msgspec.to_builtins(document), indent=None if in_a_line else 2)
    manner.emitted = True
    click.echo(escaped_json(written, ascii_only=not is_unicode(sys.stdout.encoding)), color=True)  # nothing to take out


def problem_data(problem: MudlarkError) -> dict[str, Any]:
    """What went wrong, for programs."""
    url = redacted(problem.url) if problem.url else None
    return {"code": problem.code, "message": problem.what, "advice": problem.advice or None, "url": url}


def complain(what: str, advice: str = "") -> None:
    """What went wrong, for people: the fact, and below it what to do."""
    for line, text in enumerate((what, advice)):
        if text:
            start = " " * len(_NAME) if line else _NAME
            click.echo(start + visible(text), err=True)


def live_words(live: Live) -> str:
    """That something is running, and how far back it reaches."""
    return f"live, reaching back {clock(live.depth)}" if live.depth else "live"


def live_data(live: Live | None) -> dict[str, float | None] | None:
    """The same for programs."""
    return {"depth": live.depth, "target": live.target} if live else None


def bits(rate: int | None) -> str:
    """Bits a second as people read them."""
    if rate is None:
        return "–"
    return f"{rate / 1e6:.1f} Mbit/s" if rate >= 1_000_000 else f"{rate / 1e3:.0f} kbit/s"


def verdict(word: str) -> Text:
    """A verdict in its colour."""
    return Text(word, style=f"bold {VERDICT_STYLE.get(word, '')}")


def painted(out: Console, words: str, style: str) -> str:
    """Words as a console writes them, for lines by the thousand: Rich would take a fifth of a millisecond for each."""
    with out.capture() as written:
        out.print(Text(words, style=style), end="")
    return written.get()


def columns(rows: Sequence[Sequence[str]], right: Sequence[int]) -> Iterator[str]:
    """Rows, the first of them titles, as lines with aligned columns."""
    return aligned(list(zip(*rows, strict=True)), right)


def aligned(columns: Sequence[Sequence[str]], right: Sequence[int]) -> Iterator[str]:
    """Columns, each below its title, as lines; one with nothing but dashes is left out. right: those whose cells
    stand at the right."""
    pattern, kept = list[str](), list[Sequence[str]]()
    for at, column in enumerate(columns):
        if len(column) == 1 or any(cell != "–" for cell in column[1:]):
            pattern.append(f"%{'' if at in right else '-'}{max(map(len, column))}s")
            kept.append(column)
    return map(str.rstrip, map("  ".join(pattern).__mod__, zip(*kept, strict=True)))


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
