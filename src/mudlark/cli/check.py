"""`mudlark check`: is this machine ready, and which configuration holds."""

import os
from pathlib import Path
from typing import Any

import click
from rich.text import Text

from mudlark.cli.command import Command, common_options, option
from mudlark.cli.config import config_path, settings
from mudlark.cli.options import Network, into_option, network_options
from mudlark.cli.show import console, emit_json
from mudlark.ready import Finding, look_around
from mudlark.web.redact import redacted_field, redacted_words

_STYLES = {"good": "green", "doubtful": "yellow", "missing": "bold red"}
_PREFIX = "MUDLARK_"


@click.command(
    cls=Command,
    short_help="See whether this machine is ready.",
    examples=(
        ("Before the first haul, and when something does not start:", "check"),
        ("For a nightly job, with the folder that it fills:", "check --into /srv/talks --json"),
    ),
)
@into_option
@option("--browser", type=click.Path(path_type=Path), default=None, metavar="PATH", help="Chromium or Chrome to start.")
@network_options
@common_options
def command(into: Path, browser: Path | None, as_json: bool, network: Network) -> None:
    """See whether this machine is ready: browser (it is started), extras, disk, clock, proxies, certificates; and where
    the configuration is, which values hold, and from where. Nothing is asked of any network.

    Exit status: 0 if nothing is missing, else 1.
    """
    found: list[Finding] = []
    for one in look_around(into, network.connection(), browser):
        found.append(one)
        if not as_json:
            _show(one)
    values = _values()
    if as_json:
        findings = [
            {"name": one.name, "state": one.state, "message": one.words, "advice": one.advice or None} for one in found
        ]
        emit_json("check", findings=findings, configuration=str(config_path()), values=values)
    else:
        out = console()
        there = "" if config_path().exists() else ", which is not there"
        out.print()
        out.print(f"Configuration: {config_path()}{there}", markup=False)
        for value in values:
            out.print(f"  {value['name']} = {value['value']}  from {value['source']}", markup=False)
    if any(one.state == "missing" for one in found):
        click.get_current_context().exit(1)


def _show(one: Finding) -> None:
    line = Text(f"{one.state:<9}", style=_STYLES[one.state]).append(f" {one.name:<13}", style="dim").append(one.words)
    console().print(line)
    if one.advice:
        console().print(Text(f"{'':<24}{one.advice}", style="dim"))


def _values() -> list[dict[str, Any]]:
    """What is set, with secrets hidden: the environment comes before the file."""
    variables = {name: value for name, value in sorted(os.environ.items()) if name.startswith(_PREFIX)}
    rows = [(name, value, "the environment") for name, value in variables.items()]
    for name, value in settings().items():
        lines = "\n".join(map(str, value)) if isinstance(value, list) else str(value)
        rows.append((name, lines, str(config_path())))
    return [{"name": name, "value": _hidden(name, value), "source": source} for name, value, source in rows]


def _hidden(name: str, value: str) -> str:
    if name.lower().rpartition("_")[2].rpartition(".")[2] == "header":
        return "; ".join(list(redacted_words(["--header", line]))[1] for line in value.splitlines())
    return redacted_field(name, value)
