"""What a host asks programs not to read: the Robots Exclusion Protocol, RFC 9309.

The longest rule that fits decides, and an allowance before a refusal of the same length (§2.2.2). Rules without wild
cards are looked up by their length, so that many rules cost no more than few.
"""

import re
from urllib.parse import quote, unquote_to_bytes, urlsplit

_LARGEST = 512_000  # bytes that are read at most (§2.5)
_MOST_WILD = 1_000  # rules with wild cards
_FIELD = re.compile(r"[ \t]*([A-Za-z-]{1,40})[ \t]*:(.*)")
_SAFE = "/!$&'()*+,;=:@-._~?"


class Rules:
    """The rules of one host for one program, by the name that it gives itself."""

    def __init__(self, text: bytes, agent: str) -> None:
        self._plain: dict[str, bool] = {}
        self._wild: list[tuple[int, list[str], bool, bool]] = []  # length, parts, whether it is to the end, allowed
        for allowed, path in _rules_for(text[:_LARGEST].decode("utf-8", "replace"), agent.lower()):
            self._add(path, allowed=allowed)
        self._lengths = sorted({len(path) for path in self._plain}, reverse=True)

    def _add(self, path: str, *, allowed: bool) -> None:
        if "*" not in path and not path.endswith("$"):
            self._plain[path] = self._plain.get(path, False) or allowed
        elif len(self._wild) < _MOST_WILD:
            ends = path.endswith("$")
            self._wild.append((len(path), path.removesuffix("$").split("*"), ends, allowed))

    def allow(self, address: str) -> bool:
        """True unless the host asks that this address is not read."""
        parts = urlsplit(address)
        path = _normal((parts.path or "/") + (f"?{parts.query}" if parts.query else ""))
        if path == "/robots.txt":
            return True
        fitting = (size for size in self._lengths if size <= len(path) and path[:size] in self._plain)
        length = next(fitting, -1)
        allowed = self._plain[path[:length]] if length >= 0 else True
        for size, pieces, ends, allows in self._wild:
            if (size > length or (size == length and allows)) and _fits(path, pieces, ends=ends):
                length, allowed = size, allows
        return allowed


def _fits(path: str, pieces: list[str], *, ends: bool) -> bool:
    """Whether a path begins as a rule with wild cards says; each piece is looked for once, from the left."""
    if not path.startswith(pieces[0]):
        return False
    at = len(pieces[0])
    for piece in pieces[1:-1]:
        found = path.find(piece, at)
        if found < 0:
            return False
        at = found + len(piece)
    if len(pieces) == 1:
        return not ends or at == len(path)
    if ends:
        return len(path) - len(pieces[-1]) >= at and path.endswith(pieces[-1])
    return path.find(pieces[-1], at) >= 0


def _rules_for(text: str, agent: str) -> list[tuple[bool, str]]:
    """The rules of all groups for a program, else of those for every one (§2.2.1): whether they allow, and a path."""
    groups: dict[str, list[tuple[bool, str]]] = {}
    named: set[str] = set()  # of those two, whom the group that is read speaks to
    open_group = False
    for line in re.split(r"\r\n|\r|\n", text.removeprefix("\ufeff")):
        field = _FIELD.match(line.partition("#")[0])
        if field is None:
            continue
        name, value = field[1].lower(), field[2].strip()
        if name == "user-agent":
            named = named if open_group else set()
            open_group = True
            if value.lower() in (agent, "*"):
                named.add(value.lower())
                groups.setdefault(value.lower(), [])
        elif name in ("allow", "disallow"):
            open_group = False
            if value:
                for one in named:
                    groups[one].append((name == "allow", _normal(value)))
    return groups[agent] if agent in groups else groups.get("*", [])


def _normal(path: str) -> str:
    """A path with every character that needs it, and none else, as a per cent code (§2.2.2)."""
    return quote(unquote_to_bytes(path), safe=_SAFE)
