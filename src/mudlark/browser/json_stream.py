"""JSON (RFC 8259) that is too large to hold: an object's members and an array's elements, one after the other.

The values themselves are read by the standard library, out of a window that moves over the file and grows only as far
as one value needs. Raises ValueError on what is no JSON, and RecursionError on nesting without end.
"""

import codecs
import json
import re
from collections.abc import Iterator
from typing import Any, BinaryIO

_STEP = 1 << 20
_LARGEST = 256 << 20  # characters of one value
_SPACE = re.compile(r"[ \t\r\n]*")
_NUMERIC = frozenset("0123456789.eE+-")
_NEAR = 16  # characters from the end of the window, within which an error may be the window's


class JsonStream:
    """A file of JSON that is read forwards."""

    def __init__(self, file: BinaryIO) -> None:
        self._file = file
        self._decode = codecs.getincrementaldecoder("utf-8-sig")("replace").decode
        self._values = json.JSONDecoder()
        self._text = ""
        self._at = 0
        self._ended = False

    def members(self) -> Iterator[str]:
        """The names of an object's members; who hears one reads its value before asking for the next."""
        self._take("{")
        if self.next() != "}":
            while True:
                name = self.value()
                if not isinstance(name, str):
                    raise ValueError("a member of an object has no name")
                self._take(":")
                yield name
                if self.next() != ",":
                    break
                self._take(",")
        self._take("}")

    def elements(self) -> Iterator[Any]:
        """The elements of an array."""
        self._take("[")
        if self.next() != "]":
            while True:
                yield self.value()
                if self.next() != ",":
                    break
                self._take(",")
        self._take("]")

    def skip(self) -> None:
        """Pass over a value; a long array is passed over by its elements."""
        if self.next() == "[":
            for _ in self.elements():
                pass
        else:
            self.value()

    def value(self) -> Any:
        """The next value, whole."""
        self.next()
        while True:
            try:
                value, end = self._values.raw_decode(self._text, self._at)
            except json.JSONDecodeError as problem:
                cut = problem.pos >= len(self._text) - _NEAR or problem.msg.startswith("Unterminated string")
                if not cut or not self._more():
                    raise
                continue
            if not self._may_go_on(end) or not self._more():
                self._at = end
                return value

    def _may_go_on(self, end: int) -> bool:
        """True if what follows up to the end of the window could still belong to a number."""
        return all(char in _NUMERIC for char in self._text[end : end + _NEAR]) and end + _NEAR >= len(self._text)

    def next(self) -> str:
        """The next character that counts; empty at the end."""
        while True:
            match = _SPACE.match(self._text, self._at)
            assert match
            self._at = match.end()
            if self._at < len(self._text) or not self._more():
                return self._text[self._at : self._at + 1]

    def _take(self, wanted: str) -> None:
        character = self.next()
        if character != wanted:
            raise ValueError(f"expected {wanted!r}, found {character!r}" if character else "the file ends early")
        self._at += 1

    def _more(self) -> bool:
        """Move the window on; by as much again as it holds, so that a long value is not read over and over."""
        if self._ended:
            return False
        rest = self._text[self._at :]
        if len(rest) > _LARGEST:
            raise ValueError("a single value is too large")
        data = self._file.read(max(_STEP, len(rest)))
        self._ended = not data
        self._text, self._at = rest + self._decode(data, self._ended), 0
        return True
