"""A guise: the user-agent string and all that goes with it, sent alike with every request of an item.

The built-in ones are data (guises.toml); users add their own to their configuration, in the same form.
"""

import tomllib
from collections.abc import Mapping
from functools import cache
from importlib.resources import files
from typing import Any
from urllib.parse import urlsplit

import msgspec

from mudlark import __version__
from mudlark.errors import UsageError

_LOOPBACK = frozenset({"localhost", "127.0.0.1", "::1"})


class Hints(msgspec.Struct, frozen=True):
    """Client hints (User-Agent Client Hints, WICG). brands: names with their significant versions."""

    brands: tuple[tuple[str, str], ...]
    platform: str
    platform_version: str = ""
    architecture: str = ""
    bitness: str = ""
    model: str = ""


class Guise(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """name: how a user asks for it. accept: of pages. language: as Accept-Language has it.

    For a browser also: viewport in CSS pixels, scale (device pixels each), touch (points at once), mobile, and the
    platform that scripts see. hints: None for browsers that send none.
    """

    name: str
    user_agent: str
    about: str = ""
    accept: str = "*/*"
    language: str = ""
    platform: str = ""
    viewport: tuple[int, int] = (1280, 800)
    scale: float = 1.0
    touch: int = 0
    mobile: bool = False
    hints: Hints | None = None

    def headers(self, address: str, more_hints: frozenset[str] = frozenset()) -> dict[str, str]:
        """The header fields of a request for a page, but for User-Agent. more_hints: hint fields, in lower case, that
        the server asked for beside the usual ones; hints go only over what the browser takes for secure."""
        sent = {"Accept": self.accept}
        if self.language:
            sent["Accept-Language"] = self.language
        parts = urlsplit(address)
        if self.hints and (parts.scheme == "https" or parts.hostname in _LOOPBACK):
            own = self.hint_fields()
            sent |= {name: value for name, value in own.items() if name in _USUAL or name.lower() in more_hints}
        return sent

    def hint_fields(self) -> dict[str, str]:
        """All client hints that this guise can give, by header field."""
        if not self.hints:
            return {}
        listed = ", ".join(f'"{name}";v="{version}"' for name, version in self.hints.brands)
        return {
            "Sec-CH-UA": listed,
            "Sec-CH-UA-Mobile": "?1" if self.mobile else "?0",
            "Sec-CH-UA-Platform": f'"{self.hints.platform}"',
            "Sec-CH-UA-Platform-Version": f'"{self.hints.platform_version}"',
            "Sec-CH-UA-Arch": f'"{self.hints.architecture}"',
            "Sec-CH-UA-Bitness": f'"{self.hints.bitness}"',
            "Sec-CH-UA-Model": f'"{self.hints.model}"',
        }


_USUAL = frozenset({"Sec-CH-UA", "Sec-CH-UA-Mobile", "Sec-CH-UA-Platform"})
PLAIN = Guise("plain", f"Mudlark/{__version__} (web archiving)", "a plain command-line client, by its own name")


@cache
def built_in() -> dict[str, Guise]:
    """The guises that come with the program, by name, the plainest first."""
    return {PLAIN.name: PLAIN} | read_guises(
        tomllib.loads((files("mudlark.web") / "guises.toml").read_text(encoding="utf-8")), "the built-in guises"
    )


def read_guises(tables: Mapping[str, Any], where: str) -> dict[str, Guise]:
    """Guises out of decoded TOML. where: words for a complaint."""
    guises = {}
    for name, table in tables.items():
        try:
            guise = msgspec.convert({**table, "name": name}, Guise)
        except (msgspec.ValidationError, TypeError) as problem:
            raise UsageError(f"The guise {name!r} in {where} cannot be used: {problem}.") from problem
        guises[name] = msgspec.structs.replace(guise, user_agent=guise.user_agent.replace("{version}", __version__))
    return guises


def choose(name: str, own: Mapping[str, Guise]) -> Guise:
    """The guise of a name, the user's own before the built-in."""
    known = {**built_in(), **own}
    if name not in known:
        raise UsageError(f"There is no guise {name!r}.", f"There are: {', '.join(known)}.")
    return known[name]
