"""Texts that a script makes of its own string literals, as it is often done to hide an address: added or joined, turned
around, replaced in, or made of the numbers of characters (ECMA-262 §22.1). Nothing is run, and nothing is made of what
only a browser would know.
"""

import base64
import binascii
import re
from collections.abc import Callable
from urllib.parse import unquote

import msgspec

from mudlark.find.places.quoted import character, quoted, unescape

_MOST = 2_000_000  # characters of a script that is looked through
_WORTH = re.compile(
    r"from(?:CharCode|CodePoint)|[\"'`]\s*+\+\s*+[(\"'`]|[\"'`\])]\s*+(?:\+\s*+[\"'`]|\.\s*+(?:concat|join|replace|split))"
    r"|\b(?:atob|unescape|decodeURI)"
)
_ROUNDS = 6  # of what is made of what was made
_MANY = 200  # texts in a row
_LARGEST = 100_000  # characters that are added to a text by joining or replacing
_TEXT = "\ue000\\d{1,6}\ue001"  # stands for a text, by its number between characters that are for private use
_TEXTS = rf"{_TEXT}(?:\s*+,\s*+{_TEXT}){{0,{_MANY}}}+"
_MARK = re.compile("[\ue000\ue001]")
_NUMBERED = re.compile("\ue000(\\d{1,6})\ue001")
_EMPTY = re.compile(r"\"\"|''|``")
_CODE = re.compile(r"0[xX]([0-9a-fA-F]{1,5})|(\d{1,7})")
_LISTING = re.compile(r"[\s,;|]")


class _Text(msgspec.Struct, frozen=True):
    """What a part of the script says, and how, in words; empty for a literal of its own."""

    begin: int
    end: int
    said: str
    how: str = ""


class Reckoned(msgspec.Struct, frozen=True):
    """A script of the same length, with literals in the places where it makes texts of some. how: it makes them, in
    words, by where they begin behind their quote."""

    script: str
    how: dict[int, str]


def reckoned(script: str) -> Reckoned:
    """A script with the texts that it makes of its own."""
    if len(script) > _MOST or not _WORTH.search(script) or _MARK.search(script):
        return Reckoned(script, {})
    return _Reckoner(script).reckon()


class _Reckoner:
    """masked: the script with a number in the place of each text."""

    def __init__(self, script: str) -> None:
        self._script, self._texts = script, list[_Text]()
        pieces, end = list[str](), 0
        for begin, close in quoted(script):
            if script[close] != "`" or "${" not in script[begin:close]:
                pieces += [self._between(end, begin - 1)]
                pieces += [self._number(_Text(begin - 1, close + 1, unescape(script[begin:close])))]
                end = close + 1
        self._masked = "".join([*pieces, self._between(end, len(script))])

    def _between(self, begin: int, end: int) -> str:
        """A part of the script without literals but for empty ones, which are texts, too."""
        return _EMPTY.sub(
            lambda match: self._number(_Text(begin + match.start(), begin + match.end(), "")), self._script[begin:end]
        )

    def _number(self, text: _Text) -> str:
        self._texts.append(text)
        return f"\ue000{len(self._texts) - 1}\ue001"

    def _in(self, masked: str) -> list[_Text]:
        return [self._texts[int(number)] for number in _NUMBERED.findall(masked)]

    def reckon(self) -> Reckoned:
        """Make what can be made, until nothing more can."""
        for _ in range(_ROUNDS):
            before = self._masked
            for pattern, make, how in _WAYS:
                self._masked = pattern.sub(self._making(make, how), self._masked)
            if self._masked == before:
                break
        ways, pieces, end = dict[int, str](), list[str](), 0
        for text in self._in(self._masked):
            literal, room = _literal(text.said), text.end - text.begin
            if text.how and len(literal) <= room:
                pieces += [self._script[end : text.begin], literal.ljust(room)]
                ways[text.begin + 1], end = text.how, text.end
        return Reckoned("".join([*pieces, self._script[end:]]), ways)

    def _making(self, make: "_Make", how: str) -> Callable[[re.Match[str]], str]:
        def made(match: re.Match[str]) -> str:
            said = make(match, [text.said for text in self._in(match[0])])
            if said is None:
                return match[0]
            begin, end = (self._place(match.string, at) for at in match.span())
            return self._number(_Text(begin, end, said, how))

        return made

    def _place(self, masked: str, at: int) -> int:
        """Where a place between the texts is in the script itself."""
        last = masked.rfind("\ue001", 0, at)
        if last < 0:
            return at
        (before,) = self._in(masked[masked.rfind("\ue000", 0, last) : last + 1])
        return before.end + at - last - 1


def _literal(said: str) -> str:
    """As a script would write it."""
    mark = next((mark for mark in "\"'`" if mark not in said), '"')
    return mark + said.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r").replace(mark, "\\" + mark) + mark


_Make = Callable[[re.Match[str], list[str]], str | None]  # of what was matched, and the texts in it


def _of_codes(match: re.Match[str], _: list[str]) -> str | None:
    return "".join(character(int(one[0], 16) if one[0] else int(one[1])) for one in _CODE.findall(match[1])) or None


def _of_base64(_: re.Match[str], texts: list[str]) -> str | None:
    try:
        said = base64.b64decode(texts[0] + "=" * (-len(texts[0]) % 4), validate=True).decode("utf-8")
    except (binascii.Error, ValueError):
        return None
    return said if said.replace("\n", " ").isprintable() else None


def _turned(_: re.Match[str], texts: list[str]) -> str | None:
    said, apart, by = texts
    return by.join(reversed(said.split(apart) if apart else said))


def _joined(_: re.Match[str], texts: list[str]) -> str | None:
    *parts, by = texts
    return None if _LISTING.search(by) or len(parts) * len(by) > _LARGEST else by.join(parts)


def _replaced(match: re.Match[str], texts: list[str]) -> str | None:
    said, *others, by = texts
    if "$" in by or len(said) * len(by) > _LARGEST:
        return None
    if others:
        return said.replace(others[0], by, -1 if match[1] else 1)
    flags = re.I if "i" in match[3] else re.NOFLAG
    return re.sub(match[2], lambda _: by, said, count="g" not in match[3], flags=flags)


def _added(_: re.Match[str], texts: list[str]) -> str | None:
    return "".join(texts)


_CALL = r"\(\s*+(?:\.\.\.\s*+)?+\[?+"
_SIMPLE = r"/(\^?+[\w:;,#@!~%&='\" -]++)/([gi]*+)"
_WAYS: tuple[tuple[re.Pattern[str], _Make, str], ...] = (
    (
        re.compile(
            rf"\bString\s*+\.\s*+from(?:CharCode|CodePoint)\s*+(?:\.\s*+apply\s*+\(\s*+\w++\s*+,\s*+\[|{_CALL})"
            r"([\s\dxXa-fA-F,]++)\]?+\s*+\)"
        ),
        _of_codes,
        "put together",
    ),
    (re.compile(rf"\batob\s*+\(\s*+{_TEXT}\s*+\)"), _of_base64, "base64"),
    (
        re.compile(rf"\b(?:unescape|decodeURI(?:Component)?)\s*+\(\s*+{_TEXT}\s*+\)"),
        lambda _, texts: unquote(texts[0]),
        "percent-encoded",
    ),
    (
        re.compile(rf"{_TEXT}\s*+\.split\(\s*+{_TEXT}\s*+\)\s*+\.reverse\(\s*+\)\s*+\.join\(\s*+{_TEXT}\s*+\)"),
        _turned,
        "put together",
    ),
    (re.compile(rf"\[\s*+{_TEXTS}\s*+\]\s*+\.join\(\s*+{_TEXT}\s*+\)"), _joined, "put together"),
    (re.compile(rf"{_TEXT}\s*+\.concat\(\s*+{_TEXTS}\s*+\)"), _added, "put together"),
    (
        re.compile(rf"{_TEXT}\s*+\.replace(All)?\(\s*+(?:{_TEXT}|{_SIMPLE})\s*+,\s*+{_TEXT}\s*+\)"),
        _replaced,
        "put together",
    ),
    (
        re.compile(rf"(?<![+\w$.\])]){_TEXT}(?:\s*+\+\s*+{_TEXT}){{1,{_MANY}}}+(?!\s*+[\w$.(\[`])"),
        _added,
        "put together",
    ),
    (re.compile(rf"(?<![\w$)\]])\(\s*+{_TEXT}\s*+\)"), _added, "put together"),
)
