"""Addresses in scripts: in string literals, in what is made of such, and anywhere else."""

import html
import re
from collections import Counter
from collections.abc import Iterator
from itertools import islice
from typing import Any

import msgspec

from mudlark.find.judge.kind import kind_by_extension
from mudlark.find.places.hidden import ANYWHERE, addresses, is_rooted
from mudlark.find.places.quoted import quoted, unescape
from mudlark.find.places.reckoned import Reckoned, reckoned

_LEAST_ENCODED = 12  # characters
_JOINED = re.compile(r"\s*\+(?!\+)")
_PAIR = re.compile(r"""(?<!\w)["']?([A-Za-z_]\w*)["']?\s*:\s*(?:"([^"\n]{0,300})"|'([^'\n]{0,300})'|(\d{1,9}))""")
_KEY = re.compile(r"""(?<!\w)["']?([A-Za-z_]\w*)["']?\s*:\s*$""")
_BRACE = re.compile(r"[{}]")
_MOST_LOOKED_AT = 5_000  # addresses of one script whose surroundings are read
_MOST_REPEATS = 12  # places of one address
_EVER_NEW = re.compile(r"\s*\+\s*\(?(?:Math\.random|Date\.now|performance\.now|\+?\s?\(?new Date)\b")
_WITHOUT_LAST = re.compile(r"[?&][^?&=/]{1,60}=$")
_NAME = r"[A-Za-z_$][\w$]{0,60}+"
_PLAIN = r"""(?:"[^"\\\n]{0,500}+"|'[^'\\\n]{0,500}+')"""  # a literal without escapes
_TERM = rf"(?:{_NAME}|{_PLAIN})"
_NAMED = re.compile(rf"(?<![\w$.]){_NAME}")
_SET = re.compile(rf"(?<![\w$.])({_NAME})\s*+\+?=(?![=>])(?:\s*+({_PLAIN})(?=\s*+[;,\n]))?")
_PARAMETERS = re.compile(r"\(([^()]{0,200}+)\)\s*+(?:\{|=>)")
_ADDED = re.compile(rf"(?<![\w$.)\]\"'])({_TERM}(?:\s*+\+\s*+{_TERM}){{1,20}}+)(?!\s*+[\w$.(\[+])")
_TEMPLATE = re.compile(r"`([^`\\]{1,500}+)`")
_FILLED = re.compile(rf"\$\{{\s*+({_NAME})\s*+\}}")
_MOST_COMPOSED = 200_000  # characters of a script in which names are looked up
_NEAR = 400  # characters within which an object literal is looked at


class Literal(msgspec.Struct, frozen=True):
    """A string literal that is or hides an address. position: of its first character in the script.

    how: in what way it was hidden, in words; empty if it was not. unfinished: the script puts something after it, and
    without that it may be no address. key: what it is the value of. around: plain values beside it in the same object.
    list_at: where the list begins that the object is in, -1 if that is not near.
    """

    text: str
    position: int
    how: str = ""
    unfinished: bool = False
    key: str = ""
    around: dict[str, Any] = msgspec.field(default_factory=dict)
    list_at: int = -1


def literals(script: str, made: Reckoned | None = None) -> Iterator[Literal]:
    """String literals that are or hide addresses, escapes and entities undone; and addresses anywhere else. made: what
    the script makes of its own texts, where that is known."""
    counts: Counter[str] = Counter()
    looked = 0
    made = made or reckoned(script)
    script = made.script
    for begin, end in quoted(script):
        raw = script[begin:end]
        if len(raw) < _LEAST_ENCODED and "/" not in raw and "." not in raw:
            continue  # most literals: too short to hide an address, and none themselves
        text = unescape(raw) if "\\" in raw else raw
        if "&" in text and ";" in text:
            text = html.unescape(text)
        unfinished = bool(_JOINED.match(script, end + 1))
        if script[end] == "`" and "${" in text:
            text, unfinished = text.partition("${")[0], True
        if text.endswith("=") and _EVER_NEW.match(script, end + 1):
            counts[text] += 1  # which is none
            text, unfinished = _WITHOUT_LAST.sub("", text), False  # what is added against caches need not be there
        unfinished = (unfinished and kind_by_extension(text) is None) or text.endswith(("=", "?", "&"))
        if counts[text] >= _MOST_REPEATS:
            continue
        listed = list(addresses(text))
        if not listed and looked < _MOST_LOOKED_AT and is_rooted(text):
            listed = [(text, "")]
        for address, how in listed:
            counts[address] += 1
            looked += 1
            beside = _beside(script, begin, end) if looked <= _MOST_LOOKED_AT else ("", {}, -1)
            yield Literal(address, begin, ", ".join(filter(None, (made.how.get(begin), how))), unfinished, *beside)
    for begin, text in _composed(script):
        for address, how in addresses(text):
            if address not in counts:
                counts[address] += 1
                yield Literal(address, begin, how or "put together")
    for match in islice(ANYWHERE.finditer(script), _MOST_LOOKED_AT):
        address = html.unescape(unescape(match[0])).rstrip("\\").rstrip(".,;)]")
        if address not in counts:
            yield Literal(address, match.start())


def _composed(script: str) -> Iterator[tuple[int, str]]:
    """What a script puts together of literals and of names that it gives a literal to, once: where, and the text."""
    if len(script) > _MOST_COMPOSED or ("+" not in script and "${" not in script):
        return
    given: dict[str, str | None] = dict.fromkeys(_NAMED.findall(" ".join(_PARAMETERS.findall(script))))
    for name, literal in _SET.findall(script):
        given[name] = literal[1:-1] if literal and name not in given else None
    if not any(given.values()):
        return
    for match in _ADDED.finditer(script):
        terms = [term.strip() for term in re.findall(_TERM, match[1])]
        texts = [term[1:-1] if term[0] in "\"'" else given.get(term) for term in terms]
        if None not in texts and any(term in given for term in terms):
            yield match.start(), "".join(text for text in texts if text)
    for match in _TEMPLATE.finditer(script):
        names = set(_FILLED.findall(match[1]))
        if names and match[1].count("${") == len(_FILLED.findall(match[1])) and all(map(given.get, names)):
            yield match.start() + 1, _FILLED.sub(lambda filled: given[filled[1]] or "", match[1])


def _beside(script: str, begin: int, end: int) -> tuple[str, dict[str, Any], int]:
    """The key of a literal, the plain values of the object literal around it, and where the list around that begins."""
    named = _KEY.search(script, max(0, begin - 60), begin - 1)
    opened = script.rfind("{", max(0, begin - _NEAR), begin)
    closed = _BRACE.search(script, end, end + _NEAR)
    if opened < 0 or closed is None:
        return named[1] if named else "", {}, -1
    around = {m[1]: m[2] or m[3] or m[4] or "" for m in _PAIR.finditer(script, opened + 1, closed.start())}
    return named[1] if named else "", around, script.rfind("[", max(0, opened - _NEAR), opened)
