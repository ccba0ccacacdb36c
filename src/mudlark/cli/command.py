"""What all commands have in common: options in groups, examples in their help, and how much they say."""

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from mudlark.text import readable

F = TypeVar("F", bound=Callable[..., Any])
MANNERS = ("some", "full")
GROUPS = ("Options", "Choosing", "Renditions", "Broadcasts", "Listening", "Network", "Output")


class _Option(click.Option):
    """An option that stands in a group of the help."""

    def __init__(self, *names: Any, group: str = GROUPS[0], **given: Any) -> None:
        super().__init__(*names, **given)
        self.group = group

    def type_cast_value(self, ctx: click.Context, value: Any) -> Any:
        """Text is text, in whichever encoding it was given; paths keep their bytes."""
        return _as_text(super().type_cast_value(ctx, value))


def _as_text(given: Any) -> Any:
    if isinstance(given, tuple):
        return tuple(map(_as_text, given))
    return readable(given) if isinstance(given, str) else given


class Command(click.Command):
    """A command whose help shows its options in groups, and a few examples. examples: (what is done, command line)."""

    def __init__(self, *given: Any, examples: tuple[tuple[str, str], ...] = (), **named: Any) -> None:
        super().__init__(*given, **named)
        self.examples = examples

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """`--play` stands alone, or has a word of its own behind it."""
        if any(parameter.name == "play" for parameter in self.params):
            joined: list[str] = []
            for word in args:
                if joined and joined[-1] == "--play=some" and word in MANNERS:
                    joined[-1] = f"--play={word}"
                else:
                    joined.append("--play=some" if word == "--play" else word)
            args = joined
        return super().parse_args(ctx, args)

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        rows: dict[str, list[tuple[str, str]]] = {}
        for parameter in self.get_params(ctx):
            row = parameter.get_help_record(ctx) if isinstance(parameter, click.Option) else None
            if row is not None:
                group = parameter.group if isinstance(parameter, _Option) else GROUPS[-1]
                rows.setdefault(group, []).append(row)
        for group in GROUPS:
            if group in rows:
                with formatter.section(group):
                    formatter.write_dl(rows[group], col_max=26)

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        if self.examples:
            with formatter.section("Examples"):
                for what, line in self.examples:
                    formatter.write(f"{'':>{formatter.current_indent}}{what}\n")
                    formatter.write(f"{'':>{formatter.current_indent}}  mudlark {line}\n")


def option(*names: str, group: str = GROUPS[0], **given: Any) -> Callable[[F], F]:
    """An option in a group of the help."""
    return click.option(*names, cls=_Option, group=group, **given)


def _be_quiet(_ctx: click.Context, _option: click.Parameter, given: bool) -> None:
    if given:
        from mudlark.cli.show import manner

        manner.quiet = True


def _be_verbose(_ctx: click.Context, _option: click.Parameter, given: bool) -> None:
    if given:
        from mudlark.cli.logs import log_to_terminal
        from mudlark.cli.show import manner

        manner.verbose = True
        log_to_terminal()


def _keep_log(_ctx: click.Context, _option: click.Parameter, given: Path | None) -> None:
    if given:
        from mudlark.cli.logs import log_to_file

        log_to_file(given)


_COMMON = (
    option("--json", "as_json", is_flag=True, group="Output", help="Give one JSON document on stdout."),
    option(
        "--quiet",
        is_flag=True,
        group="Output",
        expose_value=False,
        callback=_be_quiet,
        help="No progress, no warnings.",
    ),
    option(
        "--verbose",
        is_flag=True,
        group="Output",
        expose_value=False,
        callback=_be_verbose,
        help="Say more, and each request as it is made.",
    ),
    option(
        "--log",
        type=click.Path(dir_okay=False, path_type=Path),
        group="Output",
        expose_value=False,
        callback=_keep_log,
        metavar="FILE",
        help="Add every request and event to this file, a line of JSON each.",
    ),
)


def common_options(function: F) -> F:
    """--json, --quiet, --verbose, --log."""
    for one in reversed(_COMMON):
        function = one(function)
    return function


def replace_option(function: F) -> F:
    """--replace: write over what stands there."""
    return option("--replace", is_flag=True, group="Output", help="Write over a file that is there already.")(function)
