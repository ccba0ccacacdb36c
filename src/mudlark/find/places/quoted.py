"""String literals of scripts: where they stand, and what they say.

Follows ECMA-262 §12.9.4 and Annex B.1.2 as far as escapes go, and JSON (RFC 8259 §7), which is contained in it.
"""

import re
from collections.abc import Iterator

_START = re.compile(r"[\\\"'`]|//|/\*")
_REST = {  # of a literal behind its opening quote; nothing is read twice
    '"': re.compile(r'(?:[^"\\\n]++|\\.)*+"', re.S),
    "'": re.compile(r"(?:[^'\\\n]++|\\.)*+'", re.S),
    "`": re.compile(r"(?:[^`\\]++|\\.)*+`", re.S),
}
_LONGEST_COMMENT = 2_000  # characters of a line that is taken for a comment; minified scripts have lines without end
_ESCAPE = re.compile(
    r"\\(?:u\{([0-9a-fA-F]{1,6})\}|u([0-9a-fA-F]{4})|x([0-9a-fA-F]{2})|([0-3][0-7]{0,2}|[4-7][0-7]?)|(\n)|(.))", re.S
)
_SIMPLE = {"n": "\n", "t": "\t", "r": "\r", "b": "\b", "f": "\f", "v": "\v"}


def unescape(literal: str) -> str:
    """Undo the escapes inside a string literal."""

    def replace(match: re.Match[str]) -> str:
        code = match[1] or match[2] or match[3]
        if code:
            return character(int(code, 16))
        if match[4]:
            return chr(int(match[4], 8))
        if match[5]:
            return ""
        return _SIMPLE.get(match[6], match[6])

    return _ESCAPE.sub(replace, literal)


def character(number: int) -> str:
    """The character of a number; U+FFFD where there is none."""
    return chr(number) if number < 0x110000 and not 0xD800 <= number < 0xE000 else "\ufffd"


def quoted(script: str) -> Iterator[tuple[int, int]]:
    """The places of string literals, without their quotes. Follows comments, but reads no grammar: what a stray quote
    throws off is found again on the next line."""
    at, last_close = 0, script.rfind("*/")
    while match := _START.search(script, at):
        mark, start = match[0], match.start()
        at = match.end()
        if mark == "\\":
            at += 1
        elif mark == "/*":
            at = script.index("*/", at) + 2 if at <= last_close else at
        elif mark == "//":
            alone = start == 0 or script[start - 1] in " \t\n;{}),"
            line_end = script.find("\n", at, at + _LONGEST_COMMENT) if alone else -1
            at = line_end if line_end >= 0 else at
        elif rest := _REST[mark].match(script, at):
            if rest.end() - at > 1:
                yield at, rest.end() - 1
            at = rest.end()
