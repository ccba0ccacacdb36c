"""Links that expire while their segments are fetched: by the manifest, by the page, and not at all."""

import json
from collections.abc import Callable
from pathlib import Path

import pytest

from mudlark.demo.streamed import content
from tests.conftest import Answer, Ran, Trouble

pytestmark = pytest.mark.program
Run = Callable[..., Ran]


def _list(token: str) -> Answer:
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4"]
    for number in range(6):
        lines += ["#EXTINF:4.0,", f"/part-{number}.ts?token={token}"]
    return Answer("\n".join([*lines, "#EXT-X-ENDLIST"]).encode())


def _segments(trouble: Trouble, first: str, later: str, *, gone: int = 99) -> None:
    """The first two segments are served under the first token; all under the later one, but for one that is gone."""
    for number in range(6):
        body = content("defined", f"mill-{number}.ts") or b""
        trouble.say(f"/part-{number}.ts?token={first}", Answer(body) if number < 2 else Answer(b"", 403))
        trouble.say(f"/part-{number}.ts?token={later}", Answer(body, 404 if number == gone else 200))


def test_expired_links_are_renewed_by_the_manifest_once_for_all(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    _segments(trouble, "one", "two")
    url = trouble.say("/list.m3u8", _list("one"), _list("one"), _list("two"))
    item = mudlark("haul", url, "--into", "kept", "--json").json["items"][0]
    assert (item["verdict"], item["segments"]["missing"]) == ("sound", 0)
    assert "renewed" in {note["code"] for note in item["notes"]}
    assert trouble.asked.count("/list.m3u8") == 3
    log = (tmp_path / item["folder"] / "requests.jsonl").read_text()
    ways = [(row["way"], row["status"]) for row in map(json.loads, log.splitlines()) if row["for"] == "v1 4"]
    assert ways == [("first", 403), ("renewed", 200)]


def test_where_the_manifest_has_died_too_the_page_is_asked_again(mudlark: Run, trouble: Trouble) -> None:
    _segments(trouble, "one", "two")
    trouble.say("/list.m3u8?pass=1", _list("one"), _list("one"), _list("one"), Answer(b"", 403))
    trouble.say("/list.m3u8?pass=2", _list("two"))

    def page(number: int) -> Answer:
        source = f'<!doctype html><title>Mill</title><video src="/list.m3u8?pass={number}"></video>'
        return Answer(source.encode(), type="text/html")

    url = trouble.say("/page", page(1), page(2))
    ran = mudlark("haul", url, "--into", "kept", "--json")
    item = ran.json["items"][0]
    assert (item["verdict"], item["segments"]["missing"]) == ("sound", 0), (ran.err, trouble.asked)
    assert trouble.asked.count("/page") == 2


def test_a_segment_that_is_gone_for_good_asks_for_the_manifest_once(mudlark: Run, trouble: Trouble) -> None:
    _segments(trouble, "two", "one", gone=3)
    url = trouble.say("/list.m3u8", _list("one"))
    item = mudlark("haul", url, "--into", "kept", "--json").json["items"][0]
    assert (item["verdict"], item["segments"]["missing"]) == ("flawed", 1)
    assert trouble.asked.count("/list.m3u8") == 3
