"""Formats that anyone may write, with anything in them: cookies, names, numbers, records, configuration."""

import asyncio
import json
import os
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from yarl import URL

from mudlark.archive.assay import assay
from mudlark.archive.record import FileFacts, read_record, to_json
from mudlark.cli import config
from mudlark.errors import MudlarkError, UsageError
from mudlark.find.places.embedded import embedded_json
from mudlark.find.places.metadata import seconds
from mudlark.find.places.page import read_page
from mudlark.text import whole_number
from mudlark.web.cookies import Cookie, read_cookies
from mudlark.web.disposition import filename
from mudlark.web.session import Session
from tests.test_keep import record

RECORD = record([FileFacts("film.mp4", "media", 4, "0" * 64)])
_COLUMN = st.text(st.characters(codec="utf-8", exclude_characters="\n\r\t"), max_size=12)
_COOKIE = st.tuples(
    st.sampled_from(["m.example", ".m.example", "co.uk", "", "[::1", "m.example:x", "#HttpOnly_m.example"]) | _COLUMN,
    st.sampled_from(["TRUE", "FALSE"]) | _COLUMN,
    st.sampled_from(["/", "", "//", "/\0"]) | _COLUMN,
    st.sampled_from(["TRUE", "FALSE"]) | _COLUMN,
    st.sampled_from(["0", "", "9999999999", "1.5", "²", "9" * 40]) | _COLUMN,
    _COLUMN,
    _COLUMN,
)


@settings(max_examples=200, deadline=None)
@given(st.lists(_COOKIE.map("\t".join) | _COLUMN, max_size=6))
def test_a_file_of_cookies_of_any_content_is_read_or_said_by_its_line(lines: list[str]) -> None:
    async def take(cookies: list[Cookie]) -> None:
        async with Session() as session:
            session.take_cookies(cookies)
            jar = session._shared.transport.jar
            assert jar is not None
            jar.filter_cookies(URL("http://m.example/"))

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "cookies.txt"
        path.write_text("\n".join(lines), encoding="utf-8", newline="")
        try:
            cookies = read_cookies(str(path))
        except UsageError as problem:
            assert "columns of a cookie" in problem.what
            return
    asyncio.run(take(cookies))


def test_a_cookie_file_as_browsers_export_it_is_read_and_its_values_are_never_shown(tmp_path: Path) -> None:
    path = tmp_path / "cookies.txt"
    path.write_bytes(
        b"# Netscape HTTP Cookie File\r\n\r\n.m.example\tTRUE\t/\tTRUE\t0\tseen\tyes\r\n"
        b"#HttpOnly_m.example\tFALSE\t/a\tFALSE\t99999999999\tn\xe4\tv\xff\r\nm.example\tFALSE\t/\tFALSE\t1\told\tx\r\n"
    )
    one, other = read_cookies(str(path))
    assert one == Cookie("seen", "yes", ".m.example", "/", secure=True)
    assert other == Cookie("nä", "vÿ", "m.example", "/a", expires=99999999999)
    assert "yes" not in repr(one)
    path.write_text("m.example\tFALSE\t/\tlantern\n")
    with pytest.raises(UsageError, match="line 1") as caught:
        read_cookies(str(path))
    assert "lantern" not in str(caught.value)


@settings(max_examples=200, deadline=None)
@given(
    st.text(max_size=300)
    | st.builds("attachment; filename{}{}{}".format, st.sampled_from(["=", "*="]), *[st.text()] * 2)
)
def test_a_name_in_a_header_field_is_read_or_none(field: str) -> None:
    name = filename(field)
    assert name is None or (name == name.strip() and name and "/" not in name and "\\" not in name)


@settings(max_examples=200, deadline=None)
@given(
    st.text(max_size=40)
    | st.integers().map(str)
    | st.from_regex(r"P?T?-?[\d²٣]{1,30}[.,:]?\d*[HMSDe%]?", fullmatch=True)
)
@example("7\x1f")
def test_numbers_and_lengths_in_any_script_are_read_or_none(text: str) -> None:
    number = whole_number(text)
    assert number is None or 0 <= number < 10**18
    length = seconds(text)
    assert length is None or 0 <= length < float("inf")


ANYTHING = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(), inner, max_size=4),
    max_leaves=12,
)
PLAYED = '{"@type": "VideoObject", "name": "A Talk", "description": "one two", "contentUrl": "/talk.mp4"}'


@pytest.mark.parametrize("type_", ["application/ld+json", "application/json"])
@pytest.mark.parametrize(
    "text",
    [
        PLAYED.replace("one two", "one\n\ttwo"),
        PLAYED.replace("one two", "the keeper\\'s \\ud83d talk \\ud83d\\ude00"),
        PLAYED.replace("}", ",}"),
        f"//<![CDATA[\n{PLAYED}\n//]]>",
        f"<!--\n{PLAYED}\n-->",
        f"\ufeff/* the film */ {PLAYED};",
    ],
)
def test_json_in_a_page_is_read_as_people_write_it(text: str, type_: str) -> None:
    page = read_page(f"<!doctype html><title>Talks</title><script type={type_}>{text}</script>", "http://m.example/")
    assert [one.url for one in page.finds] == ["http://m.example/talk.mp4"]
    assert page.title == ("A Talk" if "ld" in type_ else "Talks")


@pytest.mark.parametrize(
    "player",
    [
        """<video data-setup="{ 'sources': [{'src': '/talk.mp4'}] }"></video>""",
        """<div data-player="{src: '/talk.mp4', title: 'A Talk'}"></div>""",
        """<div x-data="{ src: '/talk.mp4' }"><video :src="src"></video></div>""",
        """<video :src="'/talk.mp4'"></video>""",
        """<video v-bind:src="'/talk.mp4'"></video>""",
        """<video [src]="'/talk.mp4'"></video>""",
        """<video ng-src="/talk.mp4"></video>""",
        """<a @click="play('/talk.mp4')">Play</a>""",
    ],
)
def test_scripts_in_attributes_are_read_whatever_binds_them(player: str) -> None:
    page = read_page(f"<!doctype html><title>Talks</title>{player}", "http://m.example/")
    assert [one.url for one in page.finds] == ["http://m.example/talk.mp4"]


def test_json_that_is_past_mending_is_read_as_a_script() -> None:
    text = PLAYED.replace('"', "'")
    page = read_page(f'<!doctype html><script type="application/ld+json">{text}</script>', "http://m.example/")
    assert [one.url for one in page.finds] == ["http://m.example/talk.mp4"]


@given(st.text(), ANYTHING)
def test_any_json_in_a_page_is_what_it_says_and_anything_else_is_none_of_ours(text: str, value: Any) -> None:
    embedded_json(text)
    written = json.dumps([value])
    assert embedded_json(f"<!-- {written} -->") == [value] or "Infinity" in written  # which is no number of JSON


_VALUE = st.none() | st.booleans() | st.integers() | st.text(max_size=20) | st.lists(st.integers(), max_size=3)


@settings(max_examples=200, deadline=None)
@given(st.data())
def test_a_record_with_anything_anywhere_is_verified_or_our_own_error(data: st.DataObject) -> None:
    document = msgspec.json.decode(to_json(RECORD))
    place: Any = document
    while True:
        keys = list(place) if isinstance(place, dict) else list(range(len(place)))
        key = data.draw(st.sampled_from(keys))
        if not isinstance(place[key], dict | list) or not place[key] or data.draw(st.booleans()):
            break
        place = place[key]
    place[key] = data.draw(_VALUE)
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "record.json").write_bytes(msgspec.json.encode(document))
        (Path(folder) / "film.mp4").write_bytes(b"film")
        (found,) = assay(Path(folder))
        assert found.verdict in ("sound", "unproven", "flawed", "broken")


def test_a_file_that_a_record_lists_often_is_read_once(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    read: list[Path] = []
    monkeypatch.setattr("mudlark.archive.assay.compare", lambda path, *_: read.append(path))
    (tmp_path / "film.mp4").write_bytes(b"film")
    facts = RECORD.files[0]
    (tmp_path / "record.json").write_bytes(to_json(msgspec.structs.replace(RECORD, files=[facts] * 50_000)))
    assay(tmp_path)
    assert len(read) == 1


@pytest.mark.parametrize("name", ["record.json", "config.toml", "cookies.txt"])
def test_what_is_no_plain_file_is_not_waited_for(tmp_path: Path, name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    os.mkfifo(tmp_path / name)
    monkeypatch.setenv("MUDLARK_CONFIG", str(tmp_path / "config.toml"))
    config._read.cache_clear()
    reads: dict[str, Callable[[], object]] = {
        "record.json": lambda: read_record(tmp_path),
        "config.toml": config.own_guises,
        "cookies.txt": lambda: read_cookies(str(tmp_path / name)),
    }
    with pytest.raises(MudlarkError, match=r"plain file|is a FIFO"):
        reads[name]()


@settings(max_examples=200, deadline=None)
@given(st.dictionaries(st.sampled_from(["lanes", "into", "guises", "haul", "lanse"]), ANYTHING, max_size=4))
def test_a_configuration_of_any_types_is_read_or_our_own_error(tables: dict[str, Any]) -> None:
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(config, "_read", lambda: tables)
        for use in (config.own_guises, lambda: config.defaults("haul", ["haul", "sift"], lambda _: {"lanes": "lanes"})):
            try:
                assert isinstance(use(), dict)
            except UsageError as problem:
                assert problem.what
