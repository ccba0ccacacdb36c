"""A guise: the user-agent string and the headers that go with it, sent alike with every request of an item."""

from dataclasses import dataclass

from mudlark import __version__


@dataclass(frozen=True, slots=True)
class Guise:
    """name: how a user asks for it. headers: sent besides User-Agent."""

    name: str
    user_agent: str
    headers: tuple[tuple[str, str], ...] = ()


PLAIN = Guise("plain", f"Mudlark/{__version__} (web archiving)", (("Accept", "*/*"),))
