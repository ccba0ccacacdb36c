"""Addresses in scripts: string literals with their escapes undone.

Follows ECMA-262 §12.9.4 (string literals) as far as escapes go, and JSON (RFC 8259 §7), which is contained in it.
"""

import html
import re
from collections.abc import Iterator
from dataclasses import dataclass

_LITERAL = re.compile(r'"((?:[^"\\\n]|\\.){1,8192})"|\'((?:[^\'\\\n]|\\.){1,8192})\'|`((?:[^`\\]|\\.){1,8192})`', re.S)
_ESCAPE = re.compile(r"\\(?:u\{([0-9a-fA-F]{1,6})\}|u([0-9a-fA-F]{4})|x([0-9a-fA-F]{2})|(\n)|(.))", re.S)
_SIMPLE = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f", "v": "\v", "0": "\0"}
_ADDRESS = re.compile(
    r"^(?:https?:)?//[^\s<>\"'{}|\\^`]+$|^\.{0,2}/?[^\s<>\"'{}|\\^`:]+\.[A-Za-z0-9]{2,5}(?:\?\S*)?$", re.I
)


@dataclass(frozen=True, slots=True)
class Literal:
    """A string literal that may be an address. position: of its first character in the script."""

    text: str
    position: int


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
    """String literals whose text, escapes and entities undone, looks like an address."""
    for match in _LITERAL.finditer(script):
        raw = match[1] or match[2] or match[3] or ""
        if "." not in raw and "/" not in raw:
            continue
        text = unescape(raw) if "\\" in raw else raw
        if "&" in text and ";" in text:
            text = html.unescape(text)
        text = text.strip()
        if _ADDRESS.match(text):
            yield Literal(text, match.start() + 1)
