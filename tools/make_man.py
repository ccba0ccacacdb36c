"""Make the man pages in docs/man out of the commands themselves: what their help says, in the form of man(7)."""

import re
from pathlib import Path

import click

from mudlark import __version__
from mudlark.cli.command import GROUPS, Command, _Option
from mudlark.cli.main import _COMMANDS, _load, program

TARGET = Path(__file__).parent.parent / "docs/man"
_SEE = "Full documentation comes with the program's source, in docs/."
_FILES = (
    (
        r"\fI~/.config/mudlark/config.toml\fP",
        "Values for options, in general and by command; `mudlark check` shows which hold.",
    ),
    (r"\fBMUDLARK_\fP\fIOPTION\fP", "The value of an option in the environment, as MUDLARK_LANES=8."),
)


def quoted(text: str) -> str:
    """Text in which nothing is a command of roff."""
    text = text.replace("\\", "\\e").replace("-", "\\-")
    text = re.sub(r"^([.'])", r"\\&\1", text, flags=re.M)
    return re.sub(r"[^\x00-\x7f]", lambda match: f"\\[u{ord(match[0]):04X}]", text)


def paragraphs(text: str) -> str:
    """A docstring: its paragraphs, each on lines of its own."""
    whole = re.sub(r"[ \t]*\n[ \t]*(?=\S)", " ", text.strip().replace("\b", ""))
    return "\n.PP\n".join(quoted(" ".join(part.split())) for part in re.split(r"\n\s*\n", whole))


def options(command: click.Command, context: click.Context) -> str:
    """The options, by the groups of the help."""
    rows: dict[str, list[str]] = {}
    for parameter in command.get_params(context):
        record = parameter.get_help_record(context) if isinstance(parameter, click.Option) else None
        if record:
            group = parameter.group if isinstance(parameter, _Option) else GROUPS[-1]
            rows.setdefault(group, []).append(
                f".TP\n\\fB{quoted(record[0])}\\fP\n{quoted(' '.join(record[1].split()))}"
            )
    parts = [f".SS {quoted(group)}\n" + "\n".join(rows[group]) for group in GROUPS if group in rows]
    return "\n".join(parts)


def section(title: str, body: str) -> str:
    return f".SH {title}\n{body}\n"


def head(name: str, short: str, synopsis: str) -> str:
    title = name.upper().replace("-", "\\-")
    return (
        f'.TH "{title}" "1" "" "Mudlark {__version__}" "Mudlark"\n'
        + section("NAME", f"{quoted(name)} \\- {quoted(short)}")
        + section("SYNOPSIS", f"\\fBmudlark\\fP {quoted(synopsis)}".rstrip())
    )


def page_of(name: str, command: click.Command) -> str:
    """The page of one command."""
    with click.Context(command, info_name=f"mudlark {name}", max_content_width=100) as context:
        usage = " ".join([name, *command.collect_usage_pieces(context)])
        page = head(f"mudlark-{name}", _COMMANDS[name].rstrip("."), usage)
        page += section("DESCRIPTION", paragraphs(command.help or ""))
        page += section("OPTIONS", options(command, context))
    if isinstance(command, Command) and command.examples:
        lines = [f".TP\n{quoted(what)}\n\\fBmudlark {quoted(line)}\\fP" for what, line in command.examples]
        page += section("EXAMPLES", "\n".join(lines))
    return page + section("SEE ALSO", f"\\fBmudlark\\fP(1). {quoted(_SEE)}")


def overview() -> str:
    """The page of the program."""
    text = program.help or ""
    described, _, statuses = text.partition("Exit status:")
    page = head("mudlark", described.strip().split("\n")[0].rstrip("."), "COMMAND [OPTIONS] ...")
    page += section("DESCRIPTION", paragraphs(described))
    commands = [f".TP\n\\fBmudlark\\-{name}\\fP(1)\n{quoted(what)}" for name, what in _COMMANDS.items()]
    page += section("COMMANDS", "\n".join(commands))
    page += section("EXIT STATUS", paragraphs(statuses))
    return page + section("FILES AND ENVIRONMENT", "\n".join(f".TP\n{what}\n{quoted(words)}" for what, words in _FILES))


def pages() -> dict[str, str]:
    """All pages, by the names of their files."""
    made = {f"mudlark-{name}.1": page_of(name, _load(name)) for name in _COMMANDS}
    return {"mudlark.1": overview(), **made}


def main() -> None:
    TARGET.mkdir(exist_ok=True)
    for name, text in pages().items():
        (TARGET / name).write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
