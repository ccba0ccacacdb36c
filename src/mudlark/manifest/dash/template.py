"""Addresses with identifiers in them: `$Number%05d$` and the like (ISO/IEC 23009-1 §5.3.9.4.4)."""

import re
from collections.abc import Mapping

from mudlark.manifest.dash.document import Element, fail

_PLACE = re.compile(r"\$(\w*)(?:%0(\d{1,2})([duxXo]))?\$", re.A)
_OF_SEGMENTS = frozenset({"Number", "Time", "SubNumber"})


class Template:
    """A template with what is the same for all segments already put in."""

    def __init__(self, text: str, known: Mapping[str, object], element: Element) -> None:
        """known: the values that hold for the whole representation."""
        self._pieces: list[tuple[str, str, str]] = []  # text, then an identifier and the form of its number
        literal, at = "", 0
        for match in _PLACE.finditer(text):
            literal += text[at : match.start()]
            at = match.end()
            name, width, form = match[1], match[2], match[3] or "d"
            if not name:
                literal += "$"
            elif name in _OF_SEGMENTS:
                self._pieces.append((literal, name, f"0{width}{form.replace('u', 'd')}" if width else "d"))
                literal = ""
            elif name in known:
                value = known[name]
                literal += format(value, f"0{width}d") if width and isinstance(value, int) else str(value)
            else:
                fail(element, f"names ${name[:40]}$, which is no identifier that is known here.")
        self._rest = literal + text[at:]
        if "$" in text[at:]:
            fail(element, f"has a $ without a second one in {text[:60]!r}.")

    @property
    def names(self) -> frozenset[str]:
        """What differs from segment to segment."""
        return frozenset(name for _, name, _ in self._pieces)

    def address(self, number: int, time: int, part: int = 1) -> str:
        """The address of one segment."""
        values = {"Number": number, "Time": time, "SubNumber": part}
        return "".join(text + format(values[name], form) for text, name, form in self._pieces) + self._rest
