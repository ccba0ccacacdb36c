"""A guise: the user-agent string and all that goes with it, sent alike with every request of an item."""

from dataclasses import dataclass

from mudlark import __version__


@dataclass(frozen=True, slots=True)
class Guise:
    """name: how a user asks for it. headers: sent besides User-Agent.

    For a browser also: viewport in CSS pixels, scale (device pixels each), touch, mobile, language, and the platform
    that scripts see.
    """

    name: str
    user_agent: str
    headers: tuple[tuple[str, str], ...] = ()
    viewport: tuple[int, int] = (1280, 800)
    scale: float = 1.0
    touch: bool = False
    mobile: bool = False
    language: str = "en"
    platform: str | None = None


PLAIN = Guise("plain", f"Mudlark/{__version__} (web archiving)", (("Accept", "*/*"),))
