"""Text from outside, made fit to be shown: no control characters, no overrides of direction, nothing unseen; and
sizes and durations as people read them."""

import re
from functools import lru_cache

_WHOLE = re.compile(r"\s*[0-9]{1,18}\s*")
_ESCAPED = re.compile("[\udc80-\udcff]+")
_ODD = re.compile(r"[^\x20-\x7e\n]")
_BEYOND = re.compile(r"[^\x00-\x7f]")


def printable(text: str) -> str:
    """Text from outside on one line, safe for a terminal: what cannot be seen becomes a blank."""
    return visible(text).strip()


def text_of(raw: bytes) -> str:
    """Text in one of two encodings: UTF-8 if it is that, else Latin-1."""
    try:
        return raw.decode("utf-8")
    except UnicodeDecodeError:
        return raw.decode("latin-1")


def readable(text: str) -> str:
    """Text from a command line, of which bytes that the system could not decode stand as escapes: they become text."""
    return _ESCAPED.sub(lambda match: text_of(match[0].encode("utf-8", "surrogateescape")), text)


def visible(text: str) -> str:
    """The same character by character: nothing moves, so that positions still hold."""
    if text.isprintable():
        return text
    return "".join(char if char.isprintable() else " " for char in text)


def tidy(text: str | None, longest: int = 300) -> str | None:
    """One line of printable text, or None."""
    if not text:
        return None
    words = " ".join(printable(text[: longest * 4]).split())
    return words[:longest] or None


def whole_number(text: str) -> int | None:
    """A number as fields and attributes state it: ASCII digits only, and no more of them than can be meant."""
    return int(text.strip()) if _WHOLE.fullmatch(text) else None


def sentence(text: str) -> str:
    """Text that ends as a sentence does, once."""
    return text.rstrip(" .") + "."


def counted(number: int, thing: str) -> str:
    """So many things: 1 piece, 12 pieces."""
    return f"{number:,} {thing}{'s' * (number != 1)}"


@lru_cache(4096)  # as lists show the same again and again
def size(count: int | float | None) -> str:
    """Bytes as people read them, in powers of ten."""
    if count is None:
        return "–"
    value = float(count)
    for unit in ("B", "kB", "MB", "GB"):
        if value < 1000 or unit == "GB":
            return f"{value:.0f} {unit}" if unit == "B" or value >= 100 else f"{value:.1f} {unit}"
        value /= 1000
    return ""


@lru_cache(4096)
def clock(seconds: float | None) -> str:
    """A duration as 0:24, 12:05 or 1:02:03."""
    if seconds is None:
        return "–"
    whole = round(seconds)
    hours, rest = divmod(whole, 3600)
    return f"{hours}:{rest // 60:02d}:{rest % 60:02d}" if hours else f"{rest // 60}:{rest % 60:02d}"


def escaped_json(document: str, *, ascii_only: bool = False) -> str:
    """A JSON document in which characters that cannot be seen stand as escapes (RFC 8259 §7). ascii_only: so do all
    that are not of ASCII."""

    def escape(match: re.Match[str]) -> str:
        char = match[0]
        if char.isprintable() and not ascii_only:
            return char
        code = ord(char)
        if code < 0x10000:
            return f"\\u{code:04x}"
        return f"\\u{0xD800 + (code - 0x10000 >> 10):04x}\\u{0xDC00 + (code - 0x10000 & 0x3FF):04x}"

    return document if document.isascii() else (_BEYOND if ascii_only else _ODD).sub(escape, document)
