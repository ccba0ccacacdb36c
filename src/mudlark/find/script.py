"""Addresses in scripts: string literals with their escapes undone.

Follows ECMA-262 §12.9.4 (string literals) as far as escapes go, and JSON (RFC 8259 §7), which is contained in it.
"""

import html
import re
from collections.abc import Iterator
from dataclasses import dataclass

from mudlark.find.hidden import addresses, is_rooted
from mudlark.find.kind import kind_by_extension

_LITERAL = re.compile(
    r'"([^"\\\n]{2,8192}(?:\\.[^"\\\n]{0,4096}){0,400}|(?:\\.[^"\\\n]{0,4096}){1,400})"'
    r"|'([^'\\\n]{2,8192}(?:\\.[^'\\\n]{0,4096}){0,400}|(?:\\.[^'\\\n]{0,4096}){1,400})'"
    r"|`([^`\\]{2,8192}(?:\\.[^`\\]{0,4096}){0,400})`",
    re.S,
)
_ESCAPE = re.compile(r"\\(?:u\{([0-9a-fA-F]{1,6})\}|u([0-9a-fA-F]{4})|x([0-9a-fA-F]{2})|(\n)|(.))", re.S)
_JOINED = re.compile(r"\s*\+(?!\+)")
_TYPE = re.compile(
    r"[\"']?(?:type|mime_?type|content_?type|format)[\"']?\s*:\s*[\"']((?:video|audio|image|application)\\?/[\w.+-]+)",
    re.I,
)
_NEAR = 400  # characters within which an object literal is looked at
_SIMPLE = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f", "v": "\v", "0": "\0"}


@dataclass(frozen=True, slots=True)
class Literal:
    """A string literal that is or hides an address. position: of its first character in the script.

    how: in what way it was hidden, in words; empty if it was not. unfinished: the script puts something after it, and
    without that it may be no address. type: the media type stated beside it, if there is one.
    """

    text: str
    position: int
    how: str = ""
    unfinished: bool = False
    type: str | None = None


def unescape(literal: str) -> str:
    """Undo the escapes inside a string literal."""

    def replace(match: re.Match[str]) -> str:
        code = match[1] or match[2] or match[3]
        if code:
            number = int(code, 16)
            return chr(number) if number < 0x110000 and not 0xD800 <= number < 0xE000 else "\ufffd"
        if match[4]:
            return ""
        return _SIMPLE.get(match[5], match[5])

    return _ESCAPE.sub(replace, literal)


def literals(script: str) -> Iterator[Literal]:
    """String literals that are or hide addresses, escapes and entities undone."""
    for match in _LITERAL.finditer(script):
        raw = match[1] or match[2] or match[3] or ""
        text = unescape(raw) if "\\" in raw else raw
        if "&" in text and ";" in text:
            text = html.unescape(text)
        if match[3] and "${" in text:
            text = text.partition("${")[0]
            unfinished = True
        else:
            unfinished = bool(_JOINED.match(script, match.end()))
        unfinished = (unfinished and kind_by_extension(text) is None) or text.endswith(("=", "?", "&"))
        found = list(addresses(text))
        if not found and is_rooted(text) and (stated := _type_beside(script, match)):
            yield Literal(text, match.start() + 1, "", unfinished, stated)
        for address, how in found:
            stated = _type_beside(script, match) if not how and kind_by_extension(address) is None else None
            yield Literal(address, match.start() + 1, how, unfinished, stated)


def _type_beside(script: str, match: re.Match[str]) -> str | None:
    """The media type in the same object literal."""
    begin = script.rfind("{", max(0, match.start() - _NEAR), match.start())
    end = script.find("}", match.end(), match.end() + _NEAR)
    found = _TYPE.search(script, begin, end) if begin >= 0 and end >= 0 else None
    return found[1] if found else None
