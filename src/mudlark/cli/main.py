"""The program: its commands, loaded only when called, and the one place where errors become words and exit status."""

import importlib
import os
import signal
import sys
from typing import NoReturn

import click

from mudlark import __version__
from mudlark.errors import MudlarkError

_COMMANDS = {
    "sift": "Look through pages and list the media they hide, best first, with reasons.",
    "listen": "Open a page in a real browser, and record every request it makes.",
    "guises": "Ask as each user agent, and show which finds appear under which.",
    "tracks": "Show what a playlist or media file holds.",
    "peek": "Show a small preview of finds before fetching them.",
    "haul": "Fetch what a page, playlist or file holds into a verified item.",
    "assay": "Verify items or media files, and say sound, flawed or broken.",
    "tour": "Start the built-in demo museum and walk the whole job on it.",
}


class _LazyGroup(click.Group):
    """A group that imports a command's module when the command is called, and not for --help."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        command: click.Command = importlib.import_module(f"mudlark.cli.{cmd_name}").command
        if ctx.default_map is None:
            from mudlark.cli.config import defaults

            names = {name.lstrip("-"): p.name for p in command.params if p.name for name in p.opts}
            ctx.default_map = {cmd_name: defaults(cmd_name, _COMMANDS, names)}
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(_COMMANDS.items()))


@click.group(
    cls=_LazyGroup,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog="Try `mudlark tour` first: it needs no network.",
)
@click.version_option(__version__, message="Mudlark %(version)s")
def program() -> None:
    """Find the media that a web page hides, and leave a local file that is proven whole.

    Exit status: 0 all sound; 1 something is flawed, missing or broken; 2 wrong usage; 3 nothing found; 4 refused;
    5 network or server failed; 6 local storage failed; 130 interrupted, can be resumed.
    """


def run() -> NoReturn:
    """Run the program; never shows a traceback for what a user can cause."""
    signal.signal(signal.SIGTERM, signal.default_int_handler)  # ends as tidily as Ctrl-C
    try:
        status = program.main(standalone_mode=False)
        sys.stdout.flush()
        sys.exit(status if isinstance(status, int) else 0)
    except click.exceptions.Abort:
        _say("Interrupted.")
        sys.exit(130)
    except KeyboardInterrupt:
        _say("Interrupted.")
        sys.exit(130)
    except click.ClickException as problem:
        problem.show()
        sys.exit(problem.exit_code)
    except MudlarkError as problem:
        _say(problem.what, problem.advice)
        sys.exit(problem.exit_status)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(1)


def _say(what: str, advice: str = "") -> None:
    click.echo(f"mudlark: {what}", err=True)
    if advice:
        click.echo(f"         {advice}", err=True)
