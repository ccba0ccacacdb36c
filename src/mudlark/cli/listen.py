"""`mudlark listen`: what a page asks for, recorded from a real browser."""

import asyncio
from collections import Counter
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from mudlark.atomic import refuse_existing
from mudlark.browser.capture import Capture
from mudlark.browser.listen import Recording, listen
from mudlark.cli.command import Command, common_options, option, replace_option
from mudlark.cli.options import Network, addresses, listening, listening_options, network_options
from mudlark.cli.show import columns, console, emit_json
from mudlark.cli.steps import Steps
from mudlark.errors import MudlarkError
from mudlark.find.further import nothing
from mudlark.find.places.capture import page_in
from mudlark.text import clock, printable, size


@click.command(
    cls=Command,
    short_help="Record what a page asks for.",
    examples=(
        ("Record a page while it plays:", "listen https://museum.example/film/mill --har mill.har"),
        ("Dismiss what lies over it first:", "listen URL --har mill.har --press 'Reject all'"),
        ("See what was in it:", "sift --har mill.har"),
    ),
)
@click.argument("url", metavar="URL")
@option(
    "--har",
    type=click.Path(dir_okay=False, path_type=Path),
    required=True,
    metavar="FILE",
    help="Keep the requests in this file (HAR 1.2).",
)
@option("--keep-secrets", is_flag=True, help="Leave cookies, tokens and signatures in it.")
@listening_options
@network_options
@replace_option
@common_options
def command(
    url: str, har: Path, keep_secrets: bool, replace: bool, as_json: bool, network: Network, **given: Any
) -> None:
    """Open a page in a real browser, refresh, play, press, scroll, wait until it is quiet, and record every request.

    The result can be looked through with `mudlark sift --har FILE`, and opened by other programs that read HAR.
    """
    refuse_existing(har, "--har", replace)
    address = addresses((url,))[0]
    options = listening(given)
    with Steps() as steps:
        recording = asyncio.run(listen(address, options, network.connection(), steps))
    recording.write(har, keep_secrets=keep_secrets, replace=replace)
    capture = recording.capture()
    problem = recording.error or _nothing_heard(capture)
    if as_json:
        _emit(recording, capture, har, problem)
    else:
        _show(recording, capture, har)
    if problem:
        raise problem
    if not recording.whole:
        click.get_current_context().exit(1)


def _nothing_heard(capture: Capture) -> MudlarkError | None:
    """Why a page that exists gave nothing to look through."""
    page = page_in(capture)
    further = any(exchange.resource != "document" for exchange in capture.exchanges)
    something = page.finds or page.entries or page.asks or page.key_systems
    return None if something or further or capture.notes else nothing(page)


def _emit(recording: Recording, capture: Capture, har: Path, problem: MudlarkError | None) -> None:
    emit_json(
        "listen",
        [problem] if problem else [],
        status=recording.status,
        url=capture.url,
        title=capture.title,
        har=str(har),
        browser=recording.browser,
        requests=len(recording.entries),
        bytes=sum(e.received or 0 for e in capture.exchanges),
        frames=[view.url for view in capture.views],
        players=[{"frame": view.url, **_player(p)} for view in capture.views for p in view.players],
        key_systems=sorted({system for view in capture.views for system in view.systems}),
        notes=capture.notes,
    )


def _player(player: Any) -> dict[str, Any]:
    return {name: getattr(player, name) for name in ("tag", "src", "duration", "width", "height")}


def _show(recording: Recording, capture: Capture, har: Path) -> None:
    out = console()
    out.print(Text(capture.title or "Untitled page", style="bold"))
    out.print(
        Text(f"{len(recording.entries):,} requests of {printable(capture.url)} in {recording.browser}", style="dim")
    )
    out.print()
    kinds = Counter(e.resource or "other" for e in capture.exchanges)
    came: Counter[str] = Counter()
    failed: Counter[str] = Counter()
    for exchange in capture.exchanges:
        came[exchange.resource or "other"] += exchange.received or 0
        failed[exchange.resource or "other"] += exchange.status >= 400 or (exchange.status == 0)
    rows = [("requests for", "number", "transferred", "failed")]
    rows += [(kind, str(n), size(came[kind]), str(failed[kind] or "–")) for kind, n in kinds.most_common()]
    lines = list(columns(rows, right=(1, 2, 3)))
    out.print(Text(lines[0], style="dim"))
    for line in lines[1:]:
        out.print(line, markup=False)
    players = [(view, player) for view in capture.views for player in view.players if player.src]
    if players:
        out.print()
    for view, player in players:
        facts = [f"{player.width}×{player.height}" if player.width else ""]
        facts += [clock(player.duration) if player.duration else ""]
        where = "" if view.url == capture.url else f" in {printable(view.url)}"
        out.print(
            Text(f"{player.tag} player{where}: {', '.join(f for f in facts if f) or 'nothing loaded'}", style="bold")
        )
        out.print(Text(f"  {printable(player.src)}", style="cyan"))
    for note in capture.notes:
        out.print(Text(f"! {note}", style="yellow"))
    out.print()
    out.print(f"Kept in {har}; see `mudlark sift --har {har}`.", markup=False)
