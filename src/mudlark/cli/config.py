"""The user's configuration: a TOML file with options, tables of options for single commands, and guises of their own.

It is config.toml in the user's configuration folder, or what MUDLARK_CONFIG names. Options on the command line come
before the environment, and that before the file.
"""

import os
import stat
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

import platformdirs

from mudlark.errors import StorageError, UsageError

if TYPE_CHECKING:
    from mudlark.web.guise import Guise

_GUISES = "guises"
_LARGEST = 1_000_000  # bytes


def config_path() -> Path:
    """Where the configuration is, or would be."""
    given = os.environ.get("MUDLARK_CONFIG")
    return Path(given) if given else platformdirs.user_config_path("mudlark") / "config.toml"


@cache
def _read() -> dict[str, Any]:
    path = config_path()
    if str(path) == os.devnull:
        return {}
    try:
        status = path.stat()
        if not stat.S_ISREG(status.st_mode) or status.st_size > _LARGEST:
            raise UsageError(f"{path} is no plain file, or larger than any configuration.", "Mend it, or move it away.")
        text = path.read_bytes()
    except FileNotFoundError:
        if os.environ.get("MUDLARK_CONFIG"):
            raise UsageError(
                f"There is no configuration {path}, which MUDLARK_CONFIG names.", "Mend or unset MUDLARK_CONFIG."
            ) from None
        return {}
    except OSError as problem:
        raise StorageError(f"Cannot read the configuration {path}: {problem.strerror}.") from problem
    import tomllib  # few have such a file

    try:
        return tomllib.loads(text.decode())
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as problem:
        raise UsageError(f"The configuration {path} is no TOML: {problem}.", "Mend it, or move it away.") from problem


def settings() -> dict[str, Any]:
    """All values of the file, by name; those of a command's table as COMMAND.NAME."""
    flat: dict[str, Any] = {}
    for name, value in _read().items():
        rows = {f"{name}.{inner}": one for inner, one in value.items()} if isinstance(value, dict) else {name: value}
        flat |= rows
    return flat


def own_guises() -> "dict[str, Guise]":
    """The user's own guises."""
    from mudlark.web.guise import read_guises

    tables = _read().get(_GUISES, {})
    if not isinstance(tables, dict):
        raise UsageError(f"'{_GUISES}' in {config_path()} is no table.", "Write each guise as [guises.NAME].")
    return read_guises(tables, str(config_path()))


def defaults(command: str, commands: Sequence[str], options_of: Callable[[str], Mapping[str, str]]) -> dict[str, Any]:
    """What the file sets for a command: its values for all commands, with those of the command's own table before them.

    options_of: gives the parameter for each option of a command, by the option's name without its dashes.
    """
    read = {name: value for name, value in _read().items() if name != _GUISES}
    if not read:
        return {}
    options = options_of(command)
    tables = {name: value for name, value in read.items() if isinstance(value, dict)}
    if unknown := [name for name in tables if name not in commands]:
        raise UsageError(f"{config_path()} has a table for {unknown[0]!r}, which is no command.", "Mend it.")
    own = tables.get(command, {})
    if unknown := [name for name in own if name not in options]:
        raise UsageError(f"{config_path()} sets {unknown[0]!r} for {command}, which has no such option.", "Mend it.")
    others = [name for name in read if name not in tables and name not in options]
    if others and (unknown := [name for name in others if not any(name in options_of(one) for one in commands)]):
        raise UsageError(f"{config_path()} sets {unknown[0]!r}, which no command has as an option.", "Mend it.")
    shared = {name: value for name, value in read.items() if name not in tables and name in options}
    return {options[name]: _plain(name, value) for name, value in {**shared, **own}.items()}


def _plain(name: str, value: Any) -> Any:
    """A value as an option takes it: as on the command line, or a list of such."""
    if isinstance(value, bool):
        return value
    if isinstance(value, str | int | float):
        return str(value)
    if isinstance(value, list) and all(isinstance(one, str | int | float) for one in value):
        return [str(one) for one in value]
    raise UsageError(f"{config_path()} sets {name!r} to something that no option takes: {value!r}.", "Mend it.")
