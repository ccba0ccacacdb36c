"""What is recorded of requests and when a page is quiet, without a browser: its objects are played by plain ones."""

import asyncio
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, cast

import pytest

from mudlark.browser.har import Entry, OpenedPage, write_har
from mudlark.browser.traffic import Traffic, stamp

_NEVER = {"startTime": 0.0, "domainLookupStart": -1, "domainLookupEnd": -1, "connectStart": -1, "connectEnd": -1}
_NEVER |= {"secureConnectionStart": -1, "requestStart": 1.0, "responseStart": 21.0, "responseEnd": 26.5}


@dataclass
class FakeFrame:
    url: str
    parent_frame: Any = None


@dataclass(eq=False)
class FakeRequest:
    url: str
    resource_type: str = "fetch"
    method: str = "GET"
    frame: Any = field(default_factory=lambda: FakeFrame("http://museum.test/page"))
    timing: dict[str, float] = field(default_factory=lambda: dict(_NEVER))
    sent: dict[str, str] = field(default_factory=dict)
    posted: bytes | None = None
    failure: str | None = None

    @property
    def headers(self) -> dict[str, str]:
        return self.sent

    @property
    def post_data_buffer(self) -> bytes | None:
        return self.posted

    def is_navigation_request(self) -> bool:
        return self.resource_type == "document"

    async def headers_array(self) -> list[dict[str, str]]:
        return [{"name": name, "value": value} for name, value in self.sent.items()]

    async def sizes(self) -> dict[str, int]:
        return dict.fromkeys(("requestHeadersSize", "responseHeadersSize", "requestBodySize"), 100) | {
            "responseBodySize": 900
        }


@dataclass(eq=False)
class FakeResponse:
    request: FakeRequest
    came: dict[str, str]
    text: bytes = b""
    status: int = 200
    status_text: str = "OK"

    @property
    def url(self) -> str:
        return self.request.url

    async def headers_array(self) -> list[dict[str, str]]:
        return [{"name": name, "value": value} for name, value in self.came.items()]

    async def server_addr(self) -> dict[str, str]:
        return {"ipAddress": "[::1]"}

    async def http_version(self) -> str:
        return "HTTP/1.1"

    async def body(self) -> bytes:
        return self.text


def _recorded(request: FakeRequest, response: FakeResponse | None = None) -> Entry:
    async def work() -> list[Entry]:
        traffic = Traffic()
        traffic._on_request(cast(Any, request))
        if response:
            traffic._on_response(cast(Any, response))
            traffic._on_end(cast(Any, request))
        return await traffic.entries()

    (entry,) = asyncio.run(work())
    return entry


def test_a_request_is_recorded_with_sizes_times_and_the_body_of_text() -> None:
    request = FakeRequest("http://media.test/a.m3u8?pass=1&pass=2")
    came = {"Content-Type": "application/vnd.apple.mpegurl", "Content-Encoding": "gzip"}
    entry = _recorded(request, FakeResponse(request, came, b"#EXTM3U\n"))
    assert (entry.response.body_size, entry.response.content.size, entry.response.content.text) == (900, 8, "#EXTM3U\n")
    assert (entry.timings.wait, entry.timings.receive, entry.time) == (20.0, 5.5, 26.5)
    assert [pair["value"] for pair in entry.request.query_string] == ["1", "2"]
    assert (entry.server_ip_address, entry.request.http_version) == ("::1", "HTTP/1.1")


def test_media_keep_their_size_and_no_body() -> None:
    request = FakeRequest("http://media.test/a.mp4", "media")
    entry = _recorded(request, FakeResponse(request, {"Content-Type": "video/mp4"}, b"x" * 900, 206))
    assert (entry.response.content.size, entry.response.content.body()) == (900, None)


def test_what_is_still_coming_has_no_sizes() -> None:
    request = FakeRequest("http://media.test/a.mp4", "media", timing={**_NEVER, "responseEnd": -1})
    entry = _recorded(request, FakeResponse(request, {"Content-Type": "video/mp4"}))
    assert (entry.response.status, entry.response.body_size, entry.response.content.size) == (200, -1, -1)


def test_what_nobody_answered_says_why() -> None:
    entry = _recorded(FakeRequest("http://media.test/a", failure="net::ERR_ABORTED"))
    assert (entry.response.status, entry.failure) == (0, "net::ERR_ABORTED")


@pytest.mark.parametrize("keep", [False, True])
def test_secrets_are_written_only_when_they_are_wanted(keep: bool, tmp_path: Path) -> None:
    sent = {"Cookie": "a=lantern", "Authorization": "Bearer lantern", "Referer": "http://museum.test/?token=lantern"}
    request = FakeRequest("http://museum.test/a?sig=lantern&part=1", sent=sent)
    entry = _recorded(request, FakeResponse(request, {"Set-Cookie": "c=lantern", "ETag": '"1"'}))
    page = OpenedPage("2026-01-01T00:00:00.000Z", "page_1")
    write_har(tmp_path / "a.har", page, [entry], ("Mudlark", "1"), "Chromium/156", keep_secrets=keep)
    text = (tmp_path / "a.har").read_text()
    assert ("lantern" in text) is keep
    names = {"Cookie", "Authorization", "Set-Cookie", "Referer", "ETag"}
    assert all(f'"name":"{name}"' in text for name in names)  # that there was a secret stays visible
    assert "part=1" in text and ("hidden-" in text) is not keep


def test_what_a_form_sent_is_left_out() -> None:
    form = {"content-type": "application/x-www-form-urlencoded"}
    entry = _recorded(FakeRequest("http://museum.test/in", method="POST", posted=b"word=lantern", sent=form))
    assert (entry.request.body_size, getattr(entry.request.post_data, "text", None)) == (12, "")


def test_a_frame_without_an_address_asks_in_the_name_of_the_one_around_it() -> None:
    inner = FakeFrame("about:srcdoc", FakeFrame("http://museum.test/outer"))
    assert _recorded(FakeRequest("http://media.test/a", frame=inner)).frame == "http://museum.test/outer"


def test_more_of_the_same_is_nothing_new_but_pictures_are(monkeypatch: pytest.MonkeyPatch) -> None:
    now = [100.0]
    monkeypatch.setattr("mudlark.browser.traffic.time.monotonic", lambda: now[0])
    traffic = Traffic()

    def ask(url: str, kind: str) -> float:
        now[0] += 1
        request = cast(Any, FakeRequest(url, kind))
        traffic._on_request(request)
        traffic._pending.clear()
        return traffic.quiet_for()

    assert [ask(f"http://media.test/part-{n}.ts", "fetch") for n in range(7)] == [0, 0, 0, 0, 1, 2, 3]
    assert [ask(f"http://museum.test/leaf-{n}.jpg", "image") for n in range(7)] == [0] * 7
    assert ask("http://museum.test/beat", "ping") == 1
    assert ask("data:image/png;base64,AA", "image") == 2


def test_a_request_that_hangs_is_waited_for_and_then_no_longer(monkeypatch: pytest.MonkeyPatch) -> None:
    now = [100.0]
    monkeypatch.setattr("mudlark.browser.traffic.time.monotonic", lambda: now[0])
    traffic = Traffic()
    traffic._on_request(cast(Any, FakeRequest("http://museum.test/slow")))
    now[0] += 5
    assert traffic.quiet_for() == 0
    now[0] += 6
    assert traffic.quiet_for() == 11


def test_times_are_stated_as_har_has_them() -> None:
    assert stamp(1_772_442_000.25) == "2026-03-02T09:00:00.250Z"
