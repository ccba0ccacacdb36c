"""Captures as files: the structure that HAR 1.2 asks for, what is left out of it, and what broken files give."""

import base64
import json
import stat
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mudlark.browser.capture import read_captures
from mudlark.browser.har import (
    Entry,
    HarContent,
    HarFile,
    HarResponse,
    Initiator,
    OpenedPage,
    Pair,
    Player,
    Request,
    View,
    write_har,
)
from mudlark.errors import FormatError, MudlarkError, StorageError
from mudlark.find.places.capture import page_in
from tests.captures import MEDIA, PAGE, document, entry, har, write
from tests.pages import put_in_order

# what HAR 1.2 requires of each object, and the type of each field
_REQUIRED: dict[str, dict[str, Any]] = {
    "log": {"version": str, "creator": dict, "entries": list},
    "page": {"startedDateTime": str, "id": str, "title": str, "pageTimings": dict},
    "entry": {"startedDateTime": str, "time": (int, float), "request": dict, "response": dict, "cache": dict}
    | {"timings": dict},
    "request": {"method": str, "url": str, "httpVersion": str, "cookies": list, "headers": list, "queryString": list}
    | {"headersSize": (int, float), "bodySize": (int, float)},
    "response": {"status": (int, float), "statusText": str, "httpVersion": str, "cookies": list, "headers": list}
    | {"content": dict, "redirectURL": str, "headersSize": (int, float), "bodySize": (int, float)},
    "content": {"size": (int, float), "mimeType": str},
    "timings": {"send": (int, float), "wait": (int, float), "receive": (int, float)},
}


_ASKED = [
    entry(f"{MEDIA}/a.mp4", "video/mp4", status=206, frame=PAGE, sent={"Referer": PAGE}),
    entry(f"{MEDIA}/b", status=302, location="/c"),
    entry(f"{MEDIA}/c", "application/vnd.apple.mpegurl", "#EXTM3U\n#EXTINF:4,\n1.ts\n#EXT-X-ENDLIST\n"),
    entry(f"{MEDIA}/d.json", "application/json", '{"file": "/e.mp4"}'),
]


def has_structure(what: str, value: dict[str, Any]) -> None:
    for name, kind in _REQUIRED[what].items():
        assert isinstance(value.get(name), kind), f"{what}.{name} is {value.get(name)!r}"


def check_structure(path: Path) -> dict[str, Any]:
    """That a file is HAR 1.2; gives its log."""
    log: dict[str, Any] = json.loads(path.read_bytes())["log"]
    has_structure("log", log)
    assert log["version"] == "1.2"
    for page in log["pages"]:
        has_structure("page", page)
    for one in log["entries"]:
        has_structure("entry", one)
        has_structure("request", one["request"])
        has_structure("response", one["response"])
        has_structure("content", one["response"]["content"])
        has_structure("timings", one["timings"])
        assert one["pageref"] in {page["id"] for page in log["pages"]}
    return log


def _page() -> OpenedPage:
    view = View(PAGE, "A Film", "<title>A Film</title>", [Player("video", "blob:x", 24.0, 640, 360)])
    return OpenedPage("2026-03-02T09:00:00.000Z", "page_1", "A Film", views=[view], notes=["It opened a dialog."])


def _entry(url: str = f"{MEDIA}/a.m3u8") -> Entry:
    request = Request("GET", url, "HTTP/1.1", headers=[Pair("Referer", PAGE)])
    response = HarResponse(200, "OK", "HTTP/1.1", headers=[Pair("Content-Type", "application/x-mpegurl")])
    response.content = HarContent(7, "application/x-mpegurl", "#EXTM3U")
    made = Entry("2026-03-02T09:00:01.000Z", request, response, 12.0, pageref="page_1", resource_type="fetch")
    made.initiator, made.frame = Initiator("script", PAGE, 12), PAGE
    return made


def test_what_is_written_is_har_and_reads_back_the_same(tmp_path: Path) -> None:
    path = tmp_path / "a.har"
    write_har(path, _page(), [_entry(), _entry(f"{MEDIA}/b.m3u8")], ("Mudlark", "1"), "Chromium/156.0")
    check_structure(path)
    read = HarFile(path)
    assert read.pages() == [_page()]
    assert list(read.entries()) == [_entry(), _entry(f"{MEDIA}/b.m3u8")]
    assert read.unreadable == 0
    assert read.cut is None


def test_a_capture_is_readable_by_its_owner_only_and_replaces_nothing_unasked(tmp_path: Path) -> None:
    path = tmp_path / "a.har"
    path.write_text("an earlier one")
    with pytest.raises(StorageError, match="has come to be there meanwhile"):
        write_har(path, _page(), [_entry()], ("Mudlark", "1"), "Chromium/156.0")
    assert path.read_text() == "an earlier one"
    write_har(path, _page(), [_entry()], ("Mudlark", "1"), "Chromium/156.0", replace=True)
    assert stat.S_IMODE(path.stat().st_mode) == 0o600
    assert [file.name for file in tmp_path.iterdir()] == ["a.har"]


def test_a_capture_that_cannot_be_written_leaves_nothing(tmp_path: Path) -> None:
    with pytest.raises(StorageError, match="Cannot write"):
        write_har(tmp_path / "missing" / "a.har", _page(), [_entry()], ("Mudlark", "1"), "Chromium/156.0")


def test_a_capture_cut_short_gives_what_came_before_and_says_so(tmp_path: Path) -> None:
    path = write(tmp_path, [document(), entry(f"{MEDIA}/a.mp4", "video/mp4"), entry(f"{MEDIA}/b.mp4", "video/mp4")])
    path.write_bytes(path.read_bytes()[:-400])
    (capture,) = read_captures(path)
    assert [exchange.url for exchange in capture.exchanges] == [PAGE, f"{MEDIA}/a.mp4"]
    assert any("breaks off" in note for note in capture.notes)


def test_entries_without_sizes_and_with_odd_types_are_read(tmp_path: Path) -> None:
    odd = entry(f"{MEDIA}/a.mp4", "video/mp4")
    del odd["response"]["content"]["mimeType"], odd["response"]["bodySize"], odd["timings"]
    odd["response"]["status"] = "206"
    odd["response"]["content"]["size"] = None
    odd["response"]["headers"] = [{"name": "content-range", "value": "bytes 0-1/900"}, {"name": "content-type"}]
    (capture,) = read_captures(write(tmp_path, [document(), odd]))
    assert (capture.exchanges[1].status, capture.exchanges[1].size) == (206, 900)


def test_entries_that_are_none_are_passed_over_and_counted(tmp_path: Path) -> None:
    path = write(tmp_path, [document(), {"request": 5}, {"time": 1}, entry(f"{MEDIA}/a.mp4")])
    (capture,) = read_captures(path)
    assert len(capture.exchanges) == 2
    assert capture.notes == ["2 entries of capture.har cannot be read, and were passed over."]


def test_bodies_in_base64_are_decoded_and_others_dropped(tmp_path: Path) -> None:
    playlist = entry(f"{MEDIA}/a.m3u8", "application/vnd.apple.mpegurl", base64.b64encode(b"#EXTM3U\n").decode())
    playlist["response"]["content"]["encoding"] = "base64"
    broken = entry(f"{MEDIA}/b.m3u8", "application/vnd.apple.mpegurl", "*** no base64 ***")
    broken["response"]["content"]["encoding"] = "base64"
    film = entry(f"{MEDIA}/c.mp4", "video/mp4", "AAAA")
    (capture,) = read_captures(write(tmp_path, [document(), playlist, broken, film]))
    assert [exchange.body for exchange in capture.exchanges[1:]] == [b"#EXTM3U\n", None, None]


def test_a_byte_order_mark_and_pages_after_the_entries_do_no_harm(tmp_path: Path) -> None:
    whole: dict[str, Any] = har(
        [document() | {"pageref": "x"}], [{"startedDateTime": "2026", "id": "x", "title": "Named"}]
    )
    whole["log"] = dict(reversed(whole["log"].items()))
    path = tmp_path / "a.har"
    path.write_bytes(b"\xef\xbb\xbf" + json.dumps(whole).encode())
    assert read_captures(path)[0].title == "Named"


def test_every_page_of_a_file_is_a_capture_of_its_own(tmp_path: Path) -> None:
    pages: list[dict[str, Any]] = [
        {"startedDateTime": "2026", "id": name, "title": name, "pageTimings": {}} for name in ("a", "b")
    ]
    entries = [entry(f"http://museum.test/{name}", "text/html", "<p>", page=name) for name in ("a", "b", "b")]
    captures = read_captures(write(tmp_path, entries, pages))
    assert [(capture.title, len(capture.exchanges)) for capture in captures] == [("a", 1), ("b", 2)]


@pytest.mark.parametrize("text", ["", "<html>", "[]", '{"log": {}}', '{"log": {"entries": []}}', '{"log": {"entries'])
def test_a_file_without_requests_is_refused_with_a_reason(tmp_path: Path, text: str) -> None:
    path = tmp_path / "a.har"
    path.write_text(text)
    with pytest.raises(FormatError, match=r"a\.har"):
        read_captures(path)


def test_nesting_without_end_is_no_crash(tmp_path: Path) -> None:
    path = tmp_path / "a.har"
    path.write_text('{"log": {"entries": [' + json.dumps(document()) + "," + "[" * 200_000)
    assert len(read_captures(path)[0].exchanges) == 1


@settings(max_examples=400, deadline=None)
@given(st.data())
def test_damage_anywhere_is_an_error_of_ours_or_none(
    tmp_path_factory: pytest.TempPathFactory, data: st.DataObject
) -> None:
    text = bytearray(json.dumps(har([document(), *_ASKED])).encode())
    for _ in range(data.draw(st.integers(1, 6))):
        at = data.draw(st.integers(0, len(text) - 1))
        text[at : at + data.draw(st.integers(0, 20))] = data.draw(st.binary(max_size=8))
    path = tmp_path_factory.getbasetemp() / "damaged.har"
    path.write_bytes(text)
    try:
        for capture in read_captures(path):
            put_in_order(page_in(capture))
    except MudlarkError as problem:
        assert problem.what
