"""Pages and captures made to break what reads them: only errors of ours may come, and answers that hold."""

import io
import json

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mudlark.errors import MudlarkError
from mudlark.find.listing import entries_in
from mudlark.find.questions import Answer, read_forms, step_of
from mudlark.web import stream
from mudlark.web.stream import JsonStream

_URL = "http://museum.test/ask"
_TAGS = st.sampled_from(
    [
        "<form>",
        "</form>",
        "<form action='//[bad' method=POST>",
        "<form action='javascript:x'>",
        "<select name=a>",
        "</select>",
        "<option>One\n",
        "<option value=''>",
        "<option value='/b' selected>Two</option>",
        "<label for=i>L",
        "<input id=i name=b>",
        "<fieldset>",
        "<legend>x\n",
        "<input type=radio name=c value=1 checked>",
        "<input type=checkbox name=d>",
        "<input type=password>",
        "<input type=file name=f>\n",
        "<button name=g>",
        "<textarea name=h>",
        "<base href='http://other.test/'>",
        "<a href='/1'>x</a>",
        "<article>",
        "</article>",
        "<h3>T</h3>\n",
        "<time>",
        "<img src='http://[::1'>",
        "1:00:00",
        "\x00",
        "&#0;",
        "<template>",
        "<!--",
        "-->",
        "<select id=i form=z>",
    ]
)
_JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(), inner, max_size=4),
    max_leaves=20,
)


@settings(max_examples=300, deadline=None)
@given(
    st.lists(_TAGS, max_size=25),
    st.sampled_from(["a", "b", "c", "d", "i", "x"]),
    st.sampled_from(["One", "1", "yes", ""]),
)
def test_forms_of_any_shape_are_read_and_answered_or_refused(tags: list[str], name: str, value: str) -> None:
    forms = read_forms("".join(tags), _URL)
    try:
        found = step_of(forms, [Answer(name, value)])
    except MudlarkError as problem:
        assert problem.what
        return
    if found:
        step, left = found
        assert step.url.startswith(("http:", "https:"))
        assert len(left) == 0


@settings(max_examples=200, deadline=None)
@given(st.lists(_TAGS, max_size=60))
def test_lists_of_any_shape_are_read(tags: list[str]) -> None:
    for entry in entries_in("".join(tags), _URL):
        assert entry.title
        assert entry.url.startswith("http")


@settings(max_examples=200, deadline=None)
@given(st.lists(_JSON, max_size=12), st.integers(1, 40), st.sampled_from([None, 1]))
def test_a_stream_gives_what_the_whole_would(items: list[object], step: int, indent: int | None) -> None:
    before, stream._STEP = stream._STEP, step
    try:
        text = json.dumps({"other": [1, {"a": "]"}], "items": items, "last": "x"}, indent=indent)
        read = JsonStream(io.BytesIO(text.encode()))
        got = {name: list(read.elements()) if name == "items" else read.value() for name in read.members()}
    finally:
        stream._STEP = before
    assert got == {"other": [1, {"a": "]"}], "items": items, "last": "x"}


@pytest.mark.parametrize(
    ("cut", "came"),
    [
        (b'{"items": [1, 2', [1, 2]),
        (b'{"items": [{"a": "b', []),
        (b'{"items": [1 2]}', [1]),
        (b'{"items" 1}', []),
        (b"{1: 2}", []),
    ],
)
def test_a_stream_that_breaks_off_gives_what_came_and_then_fails(cut: bytes, came: list[int]) -> None:
    read = JsonStream(io.BytesIO(cut))
    got: list[object] = []
    with pytest.raises(ValueError):
        for _ in read.members():
            for item in read.elements():
                got.append(item)  # noqa: PERF402
    assert got == came
