"""Every regular expression of the program is linear: a text of strangers that grows fourfold takes no more than about
fourfold the work. All of them are found in the source, and pumped where they repeat something."""

import ast
import importlib
import re
import time
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path
from re import _constants as codes  # type: ignore[attr-defined]
from re import _parser as parser  # type: ignore[attr-defined]
from typing import Any

import pytest

OWN = frozenset({"demo/site.py", "report/drawing.py"})  # which meet nothing but addresses of the demo, and own drawings
SOURCE = Path(__file__).parents[1] / "src" / "mudlark"
USES = frozenset({"compile", "match", "fullmatch", "search", "sub", "split", "findall", "finditer"})
_MANY = 400  # repetitions that count as many
_SLOW = 0.03  # seconds of work from which growth can be told
_STEEP = 8.0  # times the work for four times the text: linear is 4, quadratic 16


@dataclass(frozen=True)
class Expression:
    """place: file and line. searched: it is tried at every place of a text, and not only at its beginning."""

    place: str
    pattern: str | bytes
    flags: int
    searched: bool

    def pumps(self) -> "Iterator[tuple[str, str]]":
        """What stands before each repetition without an end, and what is repeated."""
        return _pumps(parser.parse(self.pattern, self.flags))


def expressions() -> Iterator[Expression]:
    """All of them; parts that are put in are taken as a word."""
    for path in sorted(SOURCE.rglob("*.py")):
        if path.relative_to(SOURCE).as_posix() in OWN:
            continue
        source = path.read_text(encoding="utf-8")
        tree = ast.parse(source)
        names = {
            id(value): node.targets[0].id
            for node in ast.walk(tree)
            if isinstance(node, ast.Assign) and isinstance(node.targets[0], ast.Name)
            for value in ([*node.value.values] if isinstance(node.value, ast.Dict) else [node.value])
        }
        for node in ast.walk(tree):
            function = node.func if isinstance(node, ast.Call) else None
            if not isinstance(function, ast.Attribute) or function.attr not in USES or not isinstance(node, ast.Call):
                continue
            if isinstance(function.value, ast.Name) and function.value.id == "re" and node.args:
                pattern = _written(path, names.get(id(node)), node.args[0])
                if pattern is not None:
                    words = " ".join(ast.unparse(one) for one in [*node.args, *(k.value for k in node.keywords)])
                    flags = sum(
                        getattr(re, name) for name in ("A", "I", "S", "M", "X") if re.search(rf"re\.{name}\b", words)
                    )
                    uses = {function.attr}
                    if function.attr == "compile":
                        name = names.get(id(node))
                        uses = (
                            set(re.findall(rf"\b{name}(?:\[\w+\])?\.({'|'.join(USES)})\b", source))
                            if name
                            else set(USES)
                        )
                    searched = not uses or bool(uses - {"match", "fullmatch"})
                    yield Expression(f"{path.relative_to(SOURCE)}:{node.lineno}", pattern, flags, searched)


def _written(path: Path, name: str | None, node: ast.expr) -> str | bytes | None:
    """The pattern that a module has under a name; else as it is written."""
    if name:
        parts = path.relative_to(SOURCE.parent).with_suffix("").parts
        found = getattr(importlib.import_module(".".join(parts)), name, None)
        if isinstance(found, re.Pattern):
            return found.pattern  # type: ignore[no-any-return]
    return _text(node)


def _text(node: ast.expr) -> str | bytes | None:
    if isinstance(node, ast.Constant) and isinstance(node.value, str | bytes):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(str(one.value) if isinstance(one, ast.Constant) else "word" for one in node.values)
    return None


def _sample(tokens: Any) -> str:
    """Something that a piece of a pattern matches, most likely."""
    text = ""
    for kind, value in tokens:
        if kind is codes.LITERAL:
            text += chr(value)
        elif kind is codes.NOT_LITERAL:
            text += "a" if value != ord("a") else "b"
        elif kind is codes.ANY:
            text += "x"
        elif kind is codes.IN:
            text += _member(value)
        elif kind in (codes.MAX_REPEAT, codes.MIN_REPEAT, codes.POSSESSIVE_REPEAT):
            text += _sample(value[2]) * max(1, value[0])
        elif kind is codes.SUBPATTERN:
            text += _sample(value[3])
        elif kind is codes.BRANCH:
            text += _sample(value[1][0])
        elif kind is codes.ATOMIC_GROUP:
            text += _sample(value)
    return text


def _member(value: Any) -> str:
    negated = value[0][0] is codes.NEGATE
    if not negated:
        kind, first = value[0]
        if kind is codes.LITERAL:
            return chr(first)
        if kind is codes.RANGE:
            return chr(first[0])
    compiled = "".join(chr(code) for code in range(32, 127))
    for char in "a0 -_.=<\"'(\n" + compiled:
        if _in(char, value) != negated:
            return char
    return "a"


def _in(char: str, value: Any) -> bool:
    kinds = {codes.CATEGORY_DIGIT: r"\d", codes.CATEGORY_SPACE: r"\s", codes.CATEGORY_WORD: r"\w"}
    negative = {codes.CATEGORY_NOT_DIGIT: r"\D", codes.CATEGORY_NOT_SPACE: r"\S", codes.CATEGORY_NOT_WORD: r"\W"}
    for kind, one in value:
        if kind is codes.LITERAL and chr(one) == char:
            return True
        if kind is codes.RANGE and one[0] <= ord(char) <= one[1]:
            return True
        if kind is codes.CATEGORY and re.match({**kinds, **negative}[one], char):
            return True
    return False


def _pumps(tokens: Any, before: str = "") -> Iterator[tuple[str, str]]:
    """What stands before each repetition without an end, and what is repeated."""
    for kind, value in tokens:
        if kind in (codes.MAX_REPEAT, codes.MIN_REPEAT, codes.POSSESSIVE_REPEAT):
            body = _sample(value[2])
            if value[1] is codes.MAXREPEAT or value[1] > _MANY:
                yield before, body or "a"
            yield from _pumps(value[2], before)
        elif kind is codes.SUBPATTERN:
            yield from _pumps(value[3], before)
        elif kind is codes.BRANCH:
            for branch in value[1]:
                yield from _pumps(branch, before)
        elif kind in (codes.ASSERT, codes.ASSERT_NOT):
            yield from _pumps(value[1], before)
        before += _sample([(kind, value)])


def _work(expression: Expression, text: str) -> float:
    pattern: re.Pattern[Any] = re.compile(expression.pattern, expression.flags)
    given: Any = text.encode("latin-1", "replace") if isinstance(pattern.pattern, bytes) else text
    begun = time.process_time()
    if expression.searched:
        for _ in pattern.finditer(given):
            pass
    else:
        pattern.match(given)
        pattern.fullmatch(given)
    return time.process_time() - begun


ALL = [one for one in expressions() if list(one.pumps())]


def test_the_list_is_of_all_of_them() -> None:
    assert len(ALL) > 60 and len({one.place.partition(":")[0] for one in ALL}) > 30


@pytest.mark.parametrize("expression", ALL, ids=[one.place for one in ALL])
def test_work_grows_as_the_text_does(expression: Expression) -> None:
    pumped = {(begin, pump) for before, body in expression.pumps() for begin, pump in _variants(before, body)}
    for begin, pump in sorted(pumped):
        count, earlier = 500, 0.0
        while count <= 128_000:
            taken = _least(expression, begin, pump, count, 2)
            if taken > _SLOW:
                if taken >= _STEEP * earlier:  # looked at once more, as a busy machine may have been in the way
                    earlier, taken = (_least(expression, begin, pump, size, 7) for size in (count // 4, count))
                assert taken < _STEEP * earlier, (
                    f"{expression.pattern!r}, {pump[:20]!r}: {earlier:.3f}, then {taken:.3f} s"
                )
                break
            count, earlier = count * 4, taken


def _least(expression: Expression, begin: str, pump: str, count: int, times: int) -> float:
    """The least work of several tries on so many characters."""
    text = begin + pump * (count // len(pump) + 1) + "\x01"
    return min(_work(expression, text) for _ in range(times))


def _variants(before: str, body: str) -> Iterator[tuple[str, str]]:
    for begin, pump in ((before, body), ("", before + body), ("", body)):
        yield begin, pump
        yield begin, pump.replace(" ", "\n")
