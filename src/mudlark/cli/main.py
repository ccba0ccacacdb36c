"""The program: its commands, loaded only when called, and the one place where errors become words and exit status."""

import errno
import gc
import importlib
import signal
import sys
from pathlib import Path
from typing import NoReturn

import click
from click.core import ParameterSource

from mudlark import __version__
from mudlark.cli.heard import heed_who_listens
from mudlark.errors import Internal, Interrupted, MudlarkError, StorageError, UsageError

_COMMANDS = {
    "sift": "Look through pages and list the media they hide, best first, with reasons.",
    "listen": "Open a page in a real browser, and record every request it makes.",
    "guises": "Ask as each user agent, and show which finds appear under which.",
    "tracks": "Show what a playlist or media file holds.",
    "peek": "Show a small preview of finds before fetching them.",
    "haul": "Fetch what a page, playlist or file holds into a verified item.",
    "sweep": "Haul a whole list: a table, a feed, a site map or an index page.",
    "assay": "Verify items or media files, and say how sound they are.",
    "ledger": "List what was hauled into a folder, and what is unfinished there.",
    "bag": "Make packages of items for other archives (BagIt, OCFL), or check them.",
    "report": "Make a page that shows what was taken, from where, and whether it is good.",
    "check": "See whether this machine is ready: browser, extras, disk, clock, network.",
    "tour": "Start the built-in demo museum and walk the whole job on it.",
}
_OF_STORAGE = frozenset(
    (errno.ENOSPC, errno.EDQUOT, errno.EROFS, errno.EIO, errno.EACCES, errno.EPERM, errno.EMFILE, errno.ENAMETOOLONG)
)


class _LazyGroup(click.Group):
    """A group that imports a command's module when the command is called, and not for --help."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        return list(_COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _COMMANDS:
            return None
        command = _load(cmd_name)
        gc.freeze()  # what was loaded stays, and need not be looked through
        gc.set_threshold(20_000, 20, 20)  # records of pages and films come by the thousand
        gc.enable()
        if ctx.default_map is None:
            from mudlark.cli.config import defaults

            set_there = defaults(cmd_name, list(_COMMANDS), _options_of)
            several = {p.name for p in command.params if p.multiple}
            if wrong := [name for name, value in set_there.items() if isinstance(value, list) and name not in several]:
                raise UsageError(f"The configuration sets {wrong[0]!r} to a list, which takes one value.", "Mend it.")
            ctx.default_map = {cmd_name: set_there}
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """`mudlark help NAME` is `mudlark NAME --help`; a name that is none is answered with the nearest one."""
        if args[0] == "help":
            args = [*args[1:2], "--help"]
        if args[0] == "--help":
            click.echo(ctx.get_help())
            ctx.exit()
        if args[0] not in _COMMANDS:
            from difflib import get_close_matches

            near = get_close_matches(args[0], _COMMANDS, 1)
            advice = f"Did you mean `mudlark {near[0]}`?" if near else "`mudlark --help` lists all commands."
            raise UsageError(f"There is no command {args[0]!r}.", advice)
        return super().resolve_command(ctx, args)

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        from mudlark.cli.config import config_path

        super().format_epilog(ctx, formatter)
        path, home = config_path(), Path.home()
        named = f"~/{path.relative_to(home)}" if path.is_relative_to(home) else path
        formatter.write_paragraph()
        with formatter.indentation():
            formatter.write_text(f"Options may stand in {named}; many in the environment, too (MUDLARK_LANES=8).")
            formatter.write_text("`mudlark check` shows which hold, and whether this machine is ready.")

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        with formatter.section("Commands"):
            formatter.write_dl(list(_COMMANDS.items()))


def _load(name: str) -> click.Command:
    command: click.Command = importlib.import_module(f"mudlark.cli.{name}").command
    return command


def _options_of(name: str) -> dict[str, str]:
    """The parameter for each option of a command, by the option's name without its dashes."""
    return {one.lstrip("-"): p.name for p in _load(name).params if p.name for one in p.opts if one.startswith("-")}


@click.group(
    cls=_LazyGroup,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog="Try `mudlark tour` first: it needs no network.",
)
@click.version_option(__version__, message="Mudlark %(version)s")
def program() -> None:
    """Find the media that a web page hides, and leave a local file that is proven whole.

    Exit status: 0 all sound; 1 something is flawed, unproven, missing or broken; 2 wrong usage; 3 nothing found;
    4 refused; 5 network or server failed; 6 local storage failed; 70 an error of Mudlark itself; 130 interrupted, can
    be resumed.
    """


def run() -> NoReturn:
    """Run the program; never shows a traceback for what a user can cause."""
    gc.disable()  # until its modules are loaded, of which nothing is ever garbage
    for name in ("SIGTERM", "SIGHUP"):
        number = getattr(signal, name, None)
        if number is not None and signal.getsignal(number) != signal.SIG_IGN:  # as nohup has it
            signal.signal(number, signal.default_int_handler)  # ends as tidily as Ctrl-C
    heed_who_listens()
    try:
        status = program.main(standalone_mode=False)
        sys.stdout.flush()
        sys.exit(status if isinstance(status, int) else 0)
    except (click.exceptions.Abort, KeyboardInterrupt):
        _end(Interrupted())
    except click.exceptions.NoArgsIsHelpError as problem:
        problem.show()
        sys.exit(2)
    except click.ClickException as problem:
        _end(_usage(problem))
    except MudlarkError as problem:
        _end(problem)
    except OSError as problem:
        _end(_of_system(problem))
    except Exception as problem:  # the net under everything: what comes here is a mistake to be mended
        from mudlark.cli.show import manner

        if manner.verbose:
            import traceback

            traceback.print_exc()
        _end(Internal(problem))


def _of_system(problem: OSError) -> MudlarkError:
    """What the system does not let be done, in words; anything else is a mistake of the program."""
    if problem.errno not in _OF_STORAGE:
        return Internal(problem)
    where = f"{problem.filename}: " if problem.filename else ""
    return StorageError(f"{where}{problem.strerror}.", "Make room, or see that it may be read and written.")


def _usage(problem: click.ClickException) -> UsageError:
    """What the reader of arguments says, in the words and form of everything else."""
    context = getattr(problem, "ctx", None)
    command = context.command_path if context else "mudlark"
    message = " ".join(problem.format_message().split())
    message = message[:1].upper() + message[1:].rstrip(".") + "." * (not message.endswith("?"))
    return UsageError(message + _where_set(problem), f"See `{command} --help`.")


def _where_set(problem: click.ClickException) -> str:
    """Where a wrong value stands, if that is not the command line."""
    context, parameter = getattr(problem, "ctx", None), getattr(problem, "param", None)
    if context is None or parameter is None or not parameter.name:
        return ""
    source = context.get_parameter_source(parameter.name)
    if source is ParameterSource.ENVIRONMENT:
        return f" It is set by {parameter.envvar} in the environment."
    if source is ParameterSource.DEFAULT_MAP:
        from mudlark.cli.config import config_path

        return f" It is set in {config_path()}."
    return ""


def _configured_json(command: str) -> bool:
    """True if the configuration has this command, or all of them where it is none, give a JSON document."""
    from mudlark.cli.config import defaults, settings

    try:
        if command not in _COMMANDS:
            return settings().get("json") is True
        return defaults(command, list(_COMMANDS), _options_of).get("as_json") is True
    except MudlarkError:  # which is said anyway
        return False


def _end(problem: MudlarkError) -> NoReturn:
    """Say what went wrong, also in the one JSON document if that was wanted and not given yet."""
    from mudlark.cli.show import complain, emit_json, manner

    if not manner.emitted:
        command = next((word for word in sys.argv[1:] if word in _COMMANDS), "mudlark")
        if "--json" in sys.argv or _configured_json(command):
            emit_json(command, [problem])
    complain(problem.what, problem.advice)
    sys.exit(problem.exit_status)
