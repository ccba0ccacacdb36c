"""What `mudlark haul` says of unfinished work in its folder, and how to go on with it or drop it."""

import shlex
import shutil
from pathlib import Path
from typing import Any

from rich.text import Text

from mudlark.cli.show import console, emit_json, messages
from mudlark.errors import UsageError
from mudlark.fetch.store import remove_if_empty
from mudlark.fetch.unfinished import Unfinished, unfinished
from mudlark.text import counted, size
from mudlark.web.redact import redacted


def tell_unfinished(left: list[Unfinished], into: Path, as_json: bool) -> None:
    """All of it, as what the command gives."""
    if as_json:
        emit_json("haul", [], items=[], unfinished=[unfinished_data(one) for one in left])
        return
    out = console()
    if not left:
        out.print(f"Nothing is unfinished in {into}.", markup=False)
    for one in left:
        if one.running:
            out.print(f"Somebody is at work in {one.folder}", markup=False)
            continue
        target = redacted(one.target)
        since = f", begun {one.since[:16].replace('T', ' ')} UTC" if one.since else ""
        again = f"mudlark haul {shlex.quote(target)} --into {shlex.quote(str(into))}"
        out.print(Text(target, style="bold"))
        out.print(f"  {counted(one.segments, 'segment')}, {size(one.bytes)}{since}", markup=False)
        out.print(f"  go on  {again if target == one.target else 'the same command as before'}", markup=False)
        drop = f"mudlark haul --drop {shlex.quote(target)} --into {shlex.quote(str(into))}"
        out.print(f"  drop   {drop if target == one.target else f'remove the folder {one.folder}'}", markup=False)


def drop_unfinished(left: list[Unfinished], targets: tuple[str, ...], into: Path, as_json: bool) -> None:
    """Clear away all of it, or that of some targets. What goes is named; what somebody is at work on stays."""
    wanted = [one for one in left if not targets or one.target in targets]
    for missing in set(targets) - {one.target for one in wanted}:
        raise UsageError(
            f"Nothing of {redacted(missing)} is unfinished in {into}.", "See all with `mudlark haul --into`."
        )
    for one in wanted:
        if one.running:
            continue
        if not as_json:
            console().print(
                f"Dropping {redacted(one.target)}: {one.segments} segments, {size(one.bytes)}", markup=False
            )
        shutil.rmtree(one.folder)
        remove_if_empty(one.folder.parent)
    tell_unfinished(unfinished(into), into, as_json)


def mention_unfinished(left: list[Unfinished], into: Path) -> None:
    """That there is some, in a line beside something else."""
    if left:
        one = "One other haul" if len(left) == 1 else f"{len(left)} other hauls"
        again = f"mudlark haul --into {shlex.quote(str(into))}"
        messages().print(Text(f"{one} in {into} never finished; `{again}` tells more.", style="dim"))


def unfinished_data(one: Unfinished) -> dict[str, Any]:
    """One of them, as documents have it."""
    return {
        "folder": str(one.folder),
        "target": redacted(one.target),
        "since": one.since or None,
        "segments": one.segments,
        "bytes": one.bytes,
        "running": one.running,
    }
