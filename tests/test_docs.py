"""What README, docs, help and man pages say of the command line is true of it."""

import re
import shlex
from pathlib import Path

import click
import pytest

from make_man import TARGET, pages, quoted
from mudlark.cli.command import Command
from mudlark.cli.main import _COMMANDS, _load, program

ROOT = Path(__file__).parent.parent
TEXTS = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md"))]
# options of other programs, which the texts name too
FOREIGN = {"--now", "--algorithm", "--no-sandbox", "--quiet", "--check", "--user"}


def shown_in(text: str) -> list[str]:
    """The command lines of a text: in backticks, as lines of code, and after ExecStart. Remarks behind them go."""
    inline = re.findall(r"`(mudlark [^`\n]+)`", text)
    lines = re.findall(r"^(?:\$ )?(mudlark [^\n]+)$", text, re.M)
    services = re.findall(r"^ExecStart=\S*?/(mudlark [^\n]+)$", text, re.M)
    return [re.split(r"\s{2,}|\s+#\s", line)[0].rstrip() for line in (*inline, *lines, *services)]


def parse(line: str) -> None:
    """Have a command read its arguments; nothing is run. Raises ClickException where it would refuse them."""
    name, *arguments = shlex.split(line.replace("…", "").replace("...", ""))[1:]
    if name in ("--help", "--version", "help"):
        return
    command = _load(name)
    if not arguments or all(one.startswith("-") for one in arguments):
        arguments = [*arguments, "PLACE"]  # a command that is only spoken of
        known = {flag for parameter in command.params for flag in (*parameter.opts, *parameter.secondary_opts)}
        assert {one.partition("=")[0] for one in arguments if one.startswith("--")} <= {*known, "--help"}, line
        return
    with click.Context(program) as above:
        command.make_context(name, arguments, parent=above, resilient_parsing=False)


@pytest.mark.parametrize("path", TEXTS, ids=lambda path: path.name)
def test_every_command_line_that_is_shown_is_one(path: Path) -> None:
    for line in shown_in(path.read_text(encoding="utf-8")):
        try:
            parse(line)
        except click.ClickException as problem:
            raise AssertionError(f"{line}: {problem.format_message()}") from problem


@pytest.mark.parametrize("name", _COMMANDS)
def test_every_example_of_the_help_is_one(name: str) -> None:
    command = _load(name)
    assert isinstance(command, Command) and len(command.examples) >= 2
    for _, line in command.examples:
        parse(f"mudlark {line}")


def test_every_option_that_is_named_is_there() -> None:
    known = {flag for name in _COMMANDS for one in _load(name).params for flag in (*one.opts, *one.secondary_opts)}
    for path in TEXTS:
        named = set(re.findall(r"(?<![\w-])--[a-z][a-z-]+", path.read_text(encoding="utf-8")))
        assert named <= known | FOREIGN | {"--help", "--version"}, path.name


def test_the_man_pages_are_as_their_tool_makes_them() -> None:
    made = pages()
    assert {path.name: path.read_text(encoding="utf-8") for path in TARGET.iterdir()} == made
    for text in made.values():
        assert text.isascii() and "/home/" not in text and str(Path.home()) + "/" not in text
        commands = {line.split()[0] for line in text.splitlines() if line.startswith(".")}
        assert commands <= {".TH", ".SH", ".SS", ".TP", ".PP"}
    assert quoted(".x -- é\n'y") == "\\&.x \\-\\- \\[u00E9]\n\\&'y"
