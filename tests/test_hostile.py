"""Pages and captures made to break what reads them: only errors of ours may come, and answers that hold."""

import asyncio
import io
import json
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from yarl import URL

from mudlark.archive.record import read_record
from mudlark.browser import json_stream as stream
from mudlark.browser.capture import read_captures
from mudlark.browser.json_stream import JsonStream
from mudlark.errors import FormatError, MudlarkError, StorageError
from mudlark.fetch.incoming import Incoming
from mudlark.fetch.store import Fetched, Store
from mudlark.find.judge.expiry import expires_at
from mudlark.find.places.listing import entries_in
from mudlark.find.places.page import read_page
from mudlark.find.questions import Answer, read_forms, step_of
from mudlark.find.sift import decode
from mudlark.text import whole_number
from mudlark.web.address import as_sent
from mudlark.web.answer import Content
from mudlark.web.cookies import Cookie
from mudlark.web.session import Session
from tests.captures import document, entry, har
from tests.constructs import CONSTRUCTS
from tests.pages import put_in_order

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
    for one in entries_in("".join(tags), _URL):
        assert one.title
        assert one.url.startswith("http")


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


# What an attacker may write, at each place that reads it


@pytest.mark.parametrize("construct", sorted(CONSTRUCTS))
def test_every_construct_is_read_with_bounded_work(construct: str) -> None:
    source = "<!doctype html>" + CONSTRUCTS[construct](60_000)
    page = read_page(source, "http://m.example/p")
    read_forms(source, "http://m.example/p")
    put_in_order(page)
    assert len(page.finds) <= 5_000


def test_what_is_nested_as_no_page_needs_is_read_tag_by_tag_and_that_is_said() -> None:
    source = (
        "<div>" * 5_000
        + '<video src="/a.mp4"></video><a href="/b.pdf">x</a><script>f("http://m.example/c.mp4")</script>'
    )
    page = read_page(source, "http://m.example/p")
    assert {find.url.rpartition("/")[2] for find in page.finds} == {"c.mp4", "a.mp4", "b.pdf"}
    assert page.notes and "tag by tag" in page.notes[0]


@pytest.mark.parametrize("text", ["http://[", "//[::1", "https://m.example:99999999/a.mp4", "http://\ud800/a.mp4"])
def test_addresses_that_are_none_end_nothing(text: str) -> None:
    text = text.encode("utf-8", "surrogatepass").decode("utf-8", "replace")
    source = f"""<title>{text}</title><iframe src="{text}"></iframe><a href="{text}">x</a>
<div data-x="{text}?a=b"></div><script>a("{text}?u={text}")</script><video src="{text}"></video>
<link rel="alternate" href="{text}">"""
    page = read_page(source, "http://m.example/p")
    put_in_order(page)
    assert all(as_sent(find.url) for find in page.finds)


@pytest.mark.parametrize("text", ["²", "9" * 5_000, "-1", "1e999", "NaN", "٣"])
def test_numbers_that_are_none_end_nothing(text: str) -> None:
    source = f"""<meta property="og:video:width" content="{text}"><meta property="og:video:height" content="{text}">
<meta property="video:duration" content="{text}"><img src="/a.png" width="{text}" height="{text}">
<script type="application/ld+json">{{"@type": "VideoObject", "duration": "P{text}D"}}</script>"""
    page = read_page(source, "http://m.example/p")
    assert page.dimensions is None and (page.duration is None or page.duration < 1e7)
    assert whole_number(text) is None
    assert expires_at(f"http://m.example/a?expires={text}&X-Amz-Date={text}&X-Amz-Expires={text}", 1e9) is None


@pytest.mark.parametrize("charset", ["idna", "undefined", "base64", "rot13", "nä", "utf-16", "x" * 500, "\0"])
def test_charsets_that_cannot_be_are_passed_over(charset: str) -> None:
    body = f'<meta charset="{charset}"><title>Tide</title>'.encode()
    look = Content(
        "http://m.example/p", 200, "text/html", charset if charset != "utf-16" else None, len(body), body, True
    )
    assert "<title>Tide</title>" in decode(look)


def test_odd_statuses_and_addresses_in_a_capture_are_passed_over(tmp_path: Path) -> None:
    one = entry("http://m.example/a.mp4", "video/mp4")
    text = json.dumps(har([document(), one])).replace('"status": 200', '"status": 1e999')
    (tmp_path / "a.har").write_text(text)
    (capture,) = read_captures(tmp_path / "a.har")
    assert {exchange.status for exchange in capture.exchanges} == {0}


def test_records_that_are_no_such_thing_are_our_own_error(tmp_path: Path) -> None:
    for text in ("[" * 200_000, '{"a":' * 50_000, '{"mudlark_record": -1}', ""):
        (tmp_path / "record.json").write_text(text)
        with pytest.raises(FormatError):
            read_record(tmp_path)


def test_cookies_of_any_name_are_taken_and_those_of_a_public_suffix_are_not() -> None:
    async def work() -> dict[str, str]:
        async with Session() as session:
            odd = [("a[b]", "1"), ("path", "2"), ("domain", "3"), ("nä", "4")]
            session.take_cookies([Cookie(name, value, "m.co.uk") for name, value in odd])
            session.take_cookies([Cookie("wide", "5", ".co.uk"), Cookie("own", "6", ".m.co.uk")])
            jar = session._shared.transport.jar
            assert jar is not None
            jar.update_cookies_from_headers(["w=7; Domain=co.uk", "x=8; Domain=m.co.uk"], URL("http://m.co.uk/"))
            here = {name: morsel.value for name, morsel in jar.filter_cookies(URL("http://m.co.uk/")).items()}
            assert not jar.filter_cookies(URL("http://other.co.uk/"))
            return here

    assert asyncio.run(work()) == {"a[b]": "1", "path": "2", "domain": "3", "nä": "4", "own": "6", "x": "8"}


def test_a_link_in_the_store_is_not_followed(tmp_path: Path) -> None:
    victim = tmp_path / "victim"
    victim.write_bytes(b"mine")
    with Store(tmp_path, "key") as store:
        own, shared, whole = store.path("v1", 0), store.path("v1", 0).with_name("small-0001"), store.path("file", 0)
        for path in (own, shared, whole):
            path.symlink_to(victim)
        incoming = Incoming(own, apart=True)
        incoming.end([b"new"])
        incoming.settle()
        assert own.read_bytes() == b"new" and not own.is_symlink()
        small = Fetched("v1", 1, "", "", 1, Incoming(shared).end([b"new"]), shared)
        for write in (lambda: store.keep([small]), lambda: Incoming(whole, at=0).end([b"new"])):
            with pytest.raises(StorageError):
                write()
        assert victim.read_bytes() == b"mine" and store.folder.stat().st_mode & 0o077 == 0
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / ".mudlark").symlink_to(tmp_path)
    with pytest.raises(StorageError, match="is a link"), Store(tmp_path / "other", "key"):
        pass
