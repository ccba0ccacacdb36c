"""`mudlark tour`: the demo museum on loopback, and the whole job walked on it."""

import json
import os
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import click
from rich.console import Console
from rich.text import Text

from mudlark.cli.command import Command, option
from mudlark.cli.report import has_libraries
from mudlark.cli.show import console, verdict
from mudlark.demo.exhibits import EXHIBITS
from mudlark.demo.rough import GONE, WEATHER
from mudlark.demo.site import DemoSite
from mudlark.errors import StorageError
from mudlark.text import size


@click.command(
    cls=Command,
    short_help="Walk the whole job on a demo site.",
    examples=(
        ("See the whole job done, without a network:", "tour"),
        ("See what is survived when servers misbehave:", "tour --rough"),
        ("Keep the museum open for tries of your own:", "tour --serve --port 8000"),
    ),
)
@option("--rough", is_flag=True, help="Haul from servers that misbehave, and show what was survived.")
@option("--serve", is_flag=True, help="Only keep the demo site running and print its addresses.")
@option(
    "--port",
    type=click.IntRange(0, 65535),
    default=0,
    help="Port of the site, the first of three; any free ones if not given.",
)
@option(
    "--into",
    type=click.Path(file_okay=False, path_type=Path),
    default=Path("tour"),
    show_default=True,
    metavar="DIR",
    help="Folder that takes what the tour hauls.",
)
def command(rough: bool, serve: bool, port: int, into: Path) -> None:
    """Start the built-in demo museum on this machine and walk the whole job on it. Needs no network."""
    out = console()
    try:
        with DemoSite(port) as site:
            if serve:
                _serve(site, out)
            elif rough:
                click.get_current_context().exit(_weather(site, into / "rough", out))
            else:
                click.get_current_context().exit(_walk(site, into, out))
    except OSError as problem:
        raise StorageError(
            f"The demo site cannot use port {port}: {problem.strerror}.", "Choose another --port."
        ) from problem


def _serve(site: DemoSite, out: Console) -> None:
    out.print(Text("The Tidewrack Museum of Skerrow Bay is open.", style="bold"))
    out.print(f"  {site.origins.site}/", markup=False)
    for exhibit in (*EXHIBITS, *WEATHER):
        out.print(f"  {site.address(exhibit.name):<48} {exhibit.hard}", markup=False)
    out.print("Press Ctrl-C to close it.", markup=False)
    sys.stdout.flush()
    while True:
        time.sleep(3600)


def _weather(site: DemoSite, into: Path, out: Console) -> int:
    """Haul all that misbehaves; the worst exit status."""
    out.print(Text("A gallery where everything goes wrong on the way is now open on this machine only.", style="bold"))
    worst = 0
    for exhibit in WEATHER:
        arguments = ["haul", site.address(exhibit.name), "--into", str(into), "--patience", "2", "--json"]
        arguments += ["--kind", "package", "--all"] if exhibit.name == "rough-changing" else []
        out.print()
        out.print(Text(exhibit.hard, style="bold cyan"))
        sys.stdout.flush()
        ran = subprocess.run([sys.executable, "-m", "mudlark", *arguments], check=False, capture_output=True)
        items = json.loads(ran.stdout)["items"] or [{"verdict": "failed", "problems": []}]
        meant = ("flawed",) if exhibit == GONE else ("sound", "unproven")
        worst = max(worst, 0 if items[0]["verdict"] in meant else ran.returncode or 1)
        out.print(Text("  ").append_text(verdict(items[0]["verdict"])).append(f"  {_survived(items[0])}"))
    out.print()
    out.print(f"What came of it is in {into}{os.sep}; see it with:", markup=False)
    out.print(f"  mudlark report {into} --into weather.html --all-figures", markup=False)
    return worst


def _survived(item: dict[str, Any]) -> str:
    """What a haul went through, in words."""
    if not item.get("segments"):
        return "; ".join(problem["message"] for problem in item["problems"])
    counts, facts = item["segments"], item["fetching"]
    words = [f"{counts['fetched']} of {counts['planned']} fetched"]
    words += [f"{counts['missing']} missing"] if counts["missing"] else []
    words += [f"{counts['retried']} tried again"] if counts["retried"] else []
    words += [f"{facts['renewed']} under renewed links"] if facts["renewed"] else []
    words += [f"{facts['raced']} asked for twice"] if facts["raced"] else []
    return ", ".join([*words, f"{size(facts['bytes'])} in {max(0.1, facts['seconds']):.1f} s"])


def _walk(site: DemoSite, into: Path, out: Console) -> int:
    mill, talk = site.address("tide-mill"), site.address("harbour-talk")
    playlist = f"{site.origins.media}/streams/tide-mill/master.m3u8?gallery=4&edition=restored"
    bags, report = (into.with_name(f"{into.name}-{name}") for name in ("bags", "report.html"))
    steps = (
        (
            "Is there anything here? The page shows only a picture, but a script in it names a stream.",
            ["sift", mill],
        ),
        ("What does the stream offer? Three renditions of the same film.", ["tracks", playlist]),
        (
            "Get it: the highest rendition, its segments fetched together, put into one MP4 and checked.",
            ["haul", mill, "--into", str(into)],
        ),
        (
            "Here an advert comes first; the talk is recognised because the page says how long it is.",
            ["haul", talk, "--into", str(into)],
        ),
        (
            "Does the page show others more than you? One kind of desktop is offered a helper, all others the files.",
            ["guises", site.address("guide")],
        ),
        ("Is it really good? Checksums, structure and timeline, for as long as you keep it.", ["assay", str(into)]),
        (
            "A colleague sends a table of films; some are long gone. All that is there comes, and the rest is told.",
            ["sweep", site.address("film-list"), "--into", str(into / "list")],
        ),
        ("What is on the shelf by now?", ["ledger", str(into), "--sort", "date"]),
        (
            "Another archive wants it as bags. Each is compared with what was hauled.",
            ["bag", str(into), "--into", str(bags), "--source-organization", "Tidewrack Museum of Skerrow Bay"],
        ),
        (
            "And whoever was not here sees all of it on one page, with a page for each item. Open it in a browser.",
            ["report", str(into), "--into", str(report), "--replace"],
        ),
    )[: None if has_libraries() else -1]
    worst = 0
    out.print(Text("A museum with hidden media is now open on this machine only.", style="bold"))
    for number, (words, arguments) in enumerate(steps, start=1):
        out.print()
        out.print(Text(f"{number}. {words}", style="bold cyan"))
        shown = " ".join(f"'{part}'" if "&" in part or " " in part else part for part in arguments)
        out.print(Text(f"   $ mudlark {shown}", style="dim"))
        out.print()
        sys.stdout.flush()
        status = subprocess.run([sys.executable, "-m", "mudlark", *arguments], check=False).returncode
        worst = max(worst, 0 if arguments[0] == "sweep" and status == 1 else status)  # two rows of its list are dead
    out.print()
    out.print(Text("What to try next", style="bold cyan"))
    out.print(f"  Open the films in {into}{os.sep} with any player, and read a record.json.", markup=False)
    out.print("  mudlark tour --serve     keeps the museum open; haul from it, and press Ctrl-C half-way", markup=False)
    out.print(
        "  mudlark haul --listen …  hauls from pages that ask for their media only once they are played", markup=False
    )
    out.print("  mudlark haul --help      says what else can be set", markup=False)
    return worst
