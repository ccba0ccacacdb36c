"""Listening with a real browser: every exhibit that says nothing in its source, and pages that misbehave."""

import csv
import io
import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pypdf
import pytest
from PIL import Image

from mudlark.demo.played import KEY_SYSTEM, LEAVES, TALKS
from mudlark.demo.site import DemoSite
from tests.captures import entry, write
from tests.conftest import PROGRAM, Answer, Ran, Trouble, own_environment
from tests.judge import watch
from tests.test_har import check_structure

pytestmark = [pytest.mark.program, pytest.mark.browser]
Run = Callable[..., Ran]
_QUIET = ("--settle", "0.4")


def _sifted(mudlark: Run, url: str, *more: str) -> dict[str, Any]:
    ran = mudlark("sift", "--listen", url, "--json", *_QUIET, *more)
    assert ran.status == 0, ran.err
    page: dict[str, Any] = ran.json["pages"][0]
    return page


def _browsers(folder: Path) -> set[str]:
    """The processes of browsers that keep their files where Mudlark puts them, in a test's own temporary folder."""
    place = own_environment(folder)["TMPDIR"].encode()
    found = set()
    for process in Path("/proc").glob("[0-9]*/cmdline"):
        try:
            if place in (text := process.read_bytes()) and b"--user-data-dir" in text:
                found.add(process.parent.name)
        except OSError:
            continue
    return found


def _leftovers(folder: Path) -> set[str]:
    return {path.name for path in Path(own_environment(folder)["TMPDIR"]).glob("mudlark-*")} | _browsers(folder)


def test_a_blob_player_is_pressed_captured_and_hauled_from_the_capture_alone(
    mudlark: Run, site: DemoSite, tmp_path: Path
) -> None:
    ran = mudlark("listen", site.address("blob-player"), "--har", "night.har", "--json", *_QUIET)
    assert ran.status == 0, ran.err
    assert ran.json["players"][0]["src"].startswith("blob:")
    log = check_structure(tmp_path / "night.har")
    segments = [one for one in log["entries"] if one["request"]["url"].endswith(".ts")]
    assert len(segments) == 4
    for one in segments:
        assert one["response"]["bodySize"] == one["response"]["content"]["size"] > 10_000
        assert one["_initiator"]["type"] == "script"
        assert one["_frame"] == site.address("blob-player")
        assert one["timings"]["wait"] >= 0
    assert any(one["request"]["method"] == "POST" for one in log["entries"])
    sifted = mudlark("sift", "--har", "night.har", "--json").json["pages"][0]
    first = sifted["finds"][0]
    assert first["url"].startswith(f"{site.origins.media}/streams/night-shift/master.m3u8?pass=")
    assert any("fed the blob: player" in evidence["where"] for evidence in first["evidence"])
    assert first["duration"] == 24
    # its playlist opens once only, so without the capture it could not be had any more
    assert mudlark("tracks", first["url"]).status == 5
    item = mudlark("haul", "--har", "night.har", "--into", "kept", "--json").json["items"][0]
    assert (item["verdict"], item["title"]) == ("sound", "The Night Shift at the Mill")
    assert item["tracks"][0]["height"] == 720
    assert item["source"]["capture"]["origin"] == "night.har"
    assert item["source"]["request"]["headers"]["Referer"] == f"{site.origins.site}/"
    seen = watch(tmp_path / item["folder"] / item["files"][0]["path"], [1.0, 13.0, 23.0], listen=False)
    assert seen.counters == [25, 325, 575]
    time.sleep(0.5)
    assert not _leftovers(tmp_path)


def test_a_sound_behind_redirects_is_found_among_the_pictures(mudlark: Run, site: DemoSite) -> None:
    item = mudlark("haul", "--listen", site.address("sound-on-demand"), "--into", "kept", "--json", *_QUIET).json[
        "items"
    ][0]
    assert item["verdict"] == "sound"
    assert item["source"]["find"]["url"] == f"{site.origins.site}/ring/first"
    assert item["source"]["address"] == f"{site.origins.media}/stored/bell-7c41"
    paths = [file["path"] for file in item["files"] if file["role"] not in ("page", "requests")]
    assert paths == ["The Fog Bell.m4a", "capture.har"]
    assert [track["type"] for track in item["tracks"]] == ["audio"]


def test_a_frame_in_a_frame_is_told_by_json_what_to_show(mudlark: Run, site: DemoSite) -> None:
    page = _sifted(mudlark, site.address("configured"))
    (find,) = page["finds"]
    assert find["url"] == f"{site.origins.media}/films/last-ferry.mp4"
    where = {evidence["where"]: evidence["frame"] for evidence in find["evidence"]}
    assert where["asked for by a media player"] == f"{site.origins.site}/frames/screen?show=ferry"
    assert "JSON answer of /api/shows/ferry.json, programme.parts[0].file.address" in where


def test_an_advert_in_a_frame_is_told_apart_from_the_film_that_follows(mudlark: Run, site: DemoSite) -> None:
    finds = _sifted(mudlark, site.address("advert-frame"))["finds"]
    assert [(find["role"], find["url"].rpartition("/")[2]) for find in finds] == [
        ("main", "harbour-gates.mp4"),
        ("advert", "gift-shop.mp4"),
    ]


def test_a_player_that_asks_for_keys_is_named_and_refused(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    ran = mudlark("haul", "--listen", site.address("protected"), "--into", "kept", "--json", *_QUIET)
    assert ran.status == 4
    item = ran.json["items"][0]
    assert item["verdict"] == "refused"
    assert KEY_SYSTEM in item["problems"][0]["message"]
    assert not list((tmp_path / "kept").glob("[!.]*"))


def test_page_images_are_bound_in_reading_order_without_recompressing(
    mudlark: Run, site: DemoSite, tmp_path: Path
) -> None:
    url = site.address("logbook")
    ran = mudlark("listen", url, "--scroll", "--har", "book.har", *_QUIET)
    assert ran.status == 0, ran.err
    bound = mudlark("haul", "--har", "book.har", "--into", "kept", "--json").json["items"][0]
    assert bound["verdict"] == "flawed"  # one leaf is not there, which is said and stays so
    assert [(one["code"], "Number 8 of" in one["message"]) for one in bound["problems"]] == [("page-missing", True)]
    read = pypdf.PdfReader(tmp_path / bound["folder"] / bound["files"][0]["path"])
    assert len(read.pages) == len(LEAVES)
    kept = mudlark("haul", "--har", "book.har", "--as", "images", "--into", "loose", "--json").json["items"][0]
    pages = [file["path"] for file in kept["files"] if file["role"] == "media"]
    assert pages == [f"pages/{n:03d}.jpg" for n in range(1, len(LEAVES) + 1)]
    for page, path in zip(read.pages, pages, strict=True):
        resources: Any = page["/Resources"]
        assert resources["/XObject"]["/P"].get_object()._data == (tmp_path / kept["folder"] / path).read_bytes()
    assert [
        one["url"].rpartition("-")[2]
        for one in json.loads((tmp_path / kept["folder"] / "record.json").read_text())["segment_list"]
    ] == [f"{n:02d}.jpg?w=900" for n in LEAVES]
    assayed = mudlark("assay", "kept", "loose", "--json")
    assert assayed.status == 1 and [item["verdict"] for item in assayed.json["items"]] == ["flawed", "flawed"]


def test_a_list_that_grows_as_it_is_scrolled_is_written_whole(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    page = _sifted(mudlark, site.address("talks"), "--scroll", "--csv", "talks.csv")
    assert len(page["entries"]) == TALKS
    with (tmp_path / "talks.csv").open(encoding="utf-8", newline="") as file:
        rows = list(csv.DictReader(file))
    assert [row["page"] for row in rows] == [f"{site.origins.site}/talks/{n}" for n in range(1, TALKS + 1)]
    assert rows[1] == {
        "title": "Eel Traps, part 1",
        "description": "Recorded in the boat shed; reel 2 of the collection.",
        "page": f"{site.origins.site}/talks/2",
        "media": f"{site.origins.media}/films/talk-02.mp4",
        "cover": f"{site.origins.site}/pictures/talk-02-320x180.png",
        "duration": "20",
        "date": "1962-03-12",
    }
    assert rows[0]["media"] == ""


def _page(trouble: Trouble, path: str, body: str, **headers: str) -> str:
    source = f"<!doctype html><title>A page</title><body>{body}".encode()
    return trouble.say(path, Answer(source, type="text/html", headers=headers))


def test_a_page_that_misbehaves_is_recorded_and_what_it_did_is_noted(
    mudlark: Run, trouble: Trouble, tmp_path: Path
) -> None:
    trouble.say("/film.mp4", Answer(b"\0\0\0\x18ftypisom", type="video/mp4"))
    package = Answer(b"PK\3\4" + b"x" * 500, headers={"Content-Disposition": "attachment; filename=a.zip"})
    trouble.say("/a.zip", package)
    url = _page(
        trouble,
        "/page",
        """<video src="/film.mp4"></video><script>
        addEventListener("beforeunload", (e) => { e.preventDefault(); e.returnValue = "stay"; });
        navigator.geolocation.getCurrentPosition(() => 0); Notification.requestPermission();
        print(); alert("Stop!"); open("/window");
        for (let n = 0; n < 20; n++) open("/many" + n);
        setTimeout(() => { location = "/a.zip"; }, 100);
        setInterval(() => fetch("/beat"), 100);
        HTMLMediaElement.prototype.play = () => { throw 1; };
        </script>""",
    )
    _page(trouble, "/window", '<script>fetch("/from-the-window")</script>')
    ran = mudlark("listen", url, "--har", "a.har", "--json", "--at-most", "100", *_QUIET)
    assert ran.status == 0, ran.err
    notes = " ".join(ran.json["notes"])
    assert "opened a dialog: Stop!" in notes
    assert "opened another window" in notes
    assert "started a download" in notes
    asked = {one["request"]["url"].removeprefix(trouble.url) for one in check_structure(tmp_path / "a.har")["entries"]}
    assert {"/page", "/film.mp4", "/a.zip", "/window", "/from-the-window", "/beat"} <= asked


def test_a_page_that_hangs_the_browser_is_given_up_in_time(mudlark: Run, trouble: Trouble) -> None:
    url = _page(trouble, "/page", "<script>setTimeout(() => { while (true); }, 200)</script>")
    ran = mudlark("listen", url, "--har", "a.har", "--json", "--at-most", "6")
    assert ran.status == 0, ran.err
    assert any("does not answer" in note for note in ran.json["notes"])


def test_secrets_stay_out_of_a_capture_unless_they_are_wanted(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = _page(trouble, "/page", "<script>fetch('/data')</script>", **{"Set-Cookie": "pass=given"})
    (tmp_path / "cookies.txt").write_text("# Netscape HTTP Cookie File\n127.0.0.1\tFALSE\t/\tFALSE\t0\ttoken\tmine\n")
    own = ("--cookie-file", "cookies.txt", "--header", "Authorization: Bearer word", *_QUIET)
    assert mudlark("listen", url, "--har", "a.har", *own).status == 0
    assert {headers.get("Authorization") for headers in trouble.headers} == {"Bearer word"}
    assert any("token=mine" in headers.get("Cookie", "") for headers in trouble.headers)
    text = (tmp_path / "a.har").read_text()
    assert not [word for word in ("given", "mine", "Bearer") if word in text]
    assert mudlark("listen", url, "--har", "b.har", "--keep-secrets", *own).status == 0
    text = (tmp_path / "b.har").read_text()
    assert [word for word in ("given", "mine", "Bearer") if word in text] == ["given", "mine", "Bearer"]


def test_what_workers_ask_for_is_recorded_too(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = _page(
        trouble,
        "/page",
        """<script>new Worker("/worker.js"); navigator.serviceWorker.register("/service.js");
        fetch(window.SharedWorker ? "/shared" : "/without");</script>""",
    )
    trouble.say("/worker.js", Answer(b"fetch('/from-the-worker')", type="text/javascript"))
    trouble.say("/service.js", Answer(b"fetch('/from-the-service')", type="text/javascript"))
    assert mudlark("listen", url, "--har", "a.har", *_QUIET).status == 0
    entries = check_structure(tmp_path / "a.har")["entries"]
    asked = {one["request"]["url"].removeprefix(trouble.url) for one in entries}
    assert {"/from-the-worker", "/from-the-service", "/without"} <= asked
    assert {one["request"]["httpVersion"].upper() for one in entries} == {"HTTP/1.1"}


def test_controls_are_pressed_in_the_order_given(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = _page(
        trouble,
        "/page",
        """<button onclick="fetch('/never')">Play</button><button id="b" onclick="fetch('/two')">Two</button>
        <div id="host"></div><script>document.getElementById("host").attachShadow({mode: "open"}).innerHTML =
        '<a role="button" onclick="fetch(\\'/one\\')">Number one</a>';</script>""",
    )
    assert mudlark("listen", url, "--har", "a.har", "--press", "number one", "--press", "#b", *_QUIET).status == 0
    assert [path for path in trouble.asked if path in ("/never", "/one", "/two")] == ["/one", "/two"]
    ran = mudlark("listen", url, "--har", "b.har", "--press", "Three", "--at-most", "4", *_QUIET)
    assert ran.status == 3
    assert "'Play', 'Two', 'Number one'" in ran.err
    assert not (tmp_path / "b.har").exists()


def test_a_browser_that_is_missing_or_none_is_said_with_what_to_do(mudlark: Run, trouble: Trouble) -> None:
    url = _page(trouble, "/page", "")
    missing = mudlark("listen", url, "--har", "a.har", "--browser", "/nowhere/chromium")
    assert (missing.status, "--browser" in missing.err) == (2, True)
    other = mudlark("listen", url, "--har", "a.har", "--browser", "/bin/true")
    assert (other.status, "does not start" in other.err) == (1, True)
    nowhere = mudlark("listen", "http://127.0.0.1:9/", "--har", "a.har")
    assert nowhere.status == 5


@pytest.mark.skipif(sys.platform != "linux", reason="looks into /proc")
def test_an_interrupt_ends_the_browser_and_leaves_nothing(trouble: Trouble, tmp_path: Path) -> None:
    url = _page(trouble, "/page", "<script>setInterval(() => fetch('/' + Math.random()), 50)</script>")
    command = [str(PROGRAM), "listen", url, "--har", "a.har"]
    process = subprocess.Popen(
        command, cwd=tmp_path, env=own_environment(tmp_path), stderr=subprocess.PIPE, start_new_session=True
    )
    while "/page" not in trouble.asked:
        time.sleep(0.1)
    os.killpg(process.pid, signal.SIGINT)
    assert process.wait(20) == 130
    time.sleep(0.5)
    assert not _leftovers(tmp_path)
    assert not list(tmp_path.iterdir())


def test_a_browser_that_ends_by_itself_leaves_what_it_recorded(trouble: Trouble, tmp_path: Path) -> None:
    url = _page(trouble, "/page", "<script>setInterval(() => fetch('/' + Math.random()), 50)</script>")
    command = [str(PROGRAM), "listen", url, "--har", "a.har", "--json"]
    process = subprocess.Popen(command, cwd=tmp_path, env=own_environment(tmp_path), stdout=subprocess.PIPE)
    while len(trouble.asked) < 20:
        time.sleep(0.1)
    for number in _browsers(tmp_path):
        os.kill(int(number), signal.SIGKILL)
    out, _ = process.communicate(timeout=40)
    assert process.returncode == 1
    assert any("ended by itself" in note for note in json.loads(out)["notes"])
    assert check_structure(tmp_path / "a.har")["entries"]


def test_secrets_go_to_no_host_that_only_a_capture_names(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    film = trouble.say("/film.mp4", Answer(b"\0\0\0\x18ftypisom", type="video/mp4"))
    page = entry(f"{trouble.url}/page", "text/html", f'<video src="{film}"></video>')
    write(tmp_path, [page])
    mudlark("haul", "--har", "capture.har", "--into", "kept", "--header", "Authorization: Bearer word")
    assert trouble.asked
    assert not [headers for headers in trouble.headers if "Authorization" in headers]


def test_a_page_that_answers_with_an_error_is_no_capture_of_it(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = trouble.say("/gone", Answer(b"<!doctype html><p>Not here", 404, "text/html"))
    ran = mudlark("listen", url, "--har", "a.har", "--json", *_QUIET)
    assert (ran.status, ran.json["problems"][0]["code"], ran.json["status"]) == (5, "network", 404)
    assert check_structure(tmp_path / "a.har")["entries"]


def test_a_page_that_has_nothing_is_said_without_advising_what_was_done(mudlark: Run, site: DemoSite) -> None:
    ran = mudlark("listen", site.origins.site + "/visit", "--har", "a.har", "--json", *_QUIET)
    assert (ran.status, ran.json["problems"][0]["code"]) == (3, "nothing-found")
    for said in (ran.err, mudlark("haul", "--listen", site.origins.site + "/visit", *_QUIET).err):
        assert "--press" in said and "--listen" not in said


def test_a_layer_that_takes_the_press_is_named_with_its_buttons(mudlark: Run, site: DemoSite) -> None:
    ran = mudlark("sift", "--listen", site.address("lamp-room"), *_QUIET)
    assert ran.status == 3 and "takes the press" in ran.err
    assert "'Count me', 'Only what is needed'" in ran.err and "--press" in ran.err
    page = _sifted(mudlark, site.address("lamp-room"), "--press", "Only what is needed")
    assert page["finds"][0]["url"] == f"{site.origins.media}/films/lamp-room.mp4"
    assert page["notes"] == []


def test_what_begins_when_it_comes_into_view_is_found_by_scrolling(mudlark: Run, site: DemoSite) -> None:
    page = _sifted(mudlark, site.address("slipway"))
    assert [find["url"].rpartition("/")[2] for find in page["finds"]] == ["slipway.mp4"]
    assert mudlark("sift", "--listen", site.address("slipway"), "--still", *_QUIET).status == 3


def test_the_questions_of_a_page_are_shown_after_listening_too(mudlark: Run, site: DemoSite) -> None:
    ran = mudlark("sift", "--listen", site.address("chooser"), *_QUIET)
    assert "--choose edition=" in ran.out and "Sea Birds" in ran.out


def test_leaves_are_recognised_without_numbers_in_their_names(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    names = ["cover", "frontispiece", "preface", "map", "index-of-ships"]
    for at, name in enumerate(names):
        for size, wide in (("large", 600), ("little", 60)):
            data = io.BytesIO()
            Image.effect_noise((wide, wide * 4 // 3), 40 + at).save(data, "JPEG", quality=85)
            trouble.say(f"/{size}/{name}.jpg", Answer(data.getvalue(), type="image/jpeg"))
    strip = "".join(f'<img src="/little/{name}.jpg" style="float: left">' for name in names)
    leaves = "".join(f'<p><img src="/large/{name}.jpg"></p>' for name in names)
    url = _page(trouble, "/book", f"<div>{strip}</div><div style='clear: both'>{leaves}</div>")
    (find,) = _sifted(mudlark, url)["finds"]
    assert [member.rpartition("/")[2] for member in find["members"]] == [f"{name}.jpg" for name in names]
    assert all("/large/" in member for member in find["members"])


def test_secret_headers_stay_with_the_origin_also_over_redirects_and_for_pictures(
    mudlark: Run, trouble: Trouble
) -> None:
    other = Trouble()
    elsewhere = other.url.replace("127.0.0.1", "localhost")  # another host, not only another port
    try:
        other.say("/b.png", Answer(b"x", type="image/png"))
        trouble.say("/a.png", Answer(b"", 302, headers={"Location": elsewhere + "/b.png"}))
        data = trouble.say("/data", Answer(b"", 302, headers={"Location": elsewhere + "/data"}))
        near = f"<img src='{other.url}/c.png'>"
        url = _page(trouble, "/page", f"<img src='/a.png'>{near}<script>fetch('{data}').catch(() => 0)</script>")
        given = ("--header", "Authorization: Bearer lantern", "--header", "Cookie: key=lantern", *_QUIET)
        mudlark("listen", url, "--har", "a.har", *given)
        assert {"/b.png", "/c.png", "/data"} <= set(other.asked)
        assert not [value for sent in other.headers for value in sent.values() if "lantern" in value]
        for path in ("/page", "/a.png", "/data"):
            sent = trouble.headers[trouble.asked.index(path)]
            assert (sent["Authorization"], sent["Cookie"]) == ("Bearer lantern", "key=lantern")
        other.asked.clear()
        other.headers.clear()
        url = _page(trouble, "/pictures", f"<img src='/a.png'>{near}")
        mudlark("listen", url, "--har", "b.har", "--header", "X-Museum: open", *_QUIET)
        plain = {path: sent.get("X-Museum") for path, sent in zip(other.asked, other.headers, strict=True)}
        assert (plain["/c.png"], plain["/b.png"]) == ("open", None)
    finally:
        other.close()


def test_the_longest_time_is_a_promise(mudlark: Run, trouble: Trouble) -> None:
    trouble.say("/never", Answer(b"late", hold=300))
    url = _page(
        trouble,
        "/page",
        """<script>for (let n = 0; n < 60; n++) fetch("/never?" + n).catch(() => 0);
        setInterval(() => { for (let n = 0; n < 50; n++) fetch("/new/" + Math.random()).catch(() => 0); }, 100);
        setTimeout(() => alert("wait"), 500);</script><iframe src="/busy"></iframe>""",
    )
    _page(trouble, "/busy", "<script>setTimeout(() => { while (true); }, 300)</script>")
    ran = mudlark("listen", url, "--har", "a.har", "--at-most", "4", "--json")
    assert ran.status == 0 and "never retrieved" not in ran.err
    assert any("was not quiet" in note for note in ran.json["notes"])


@pytest.mark.parametrize(
    "script",
    [
        pytest.param("for (;;) prompt('name')", id="dialogs"),
        pytest.param("navigator.serviceWorker.register('/never.js').catch(() => 0)", id="a worker"),
        pytest.param(
            "new WebSocket('ws://127.0.0.1:' + location.port + '/never')", id="a socket", marks=pytest.mark.soak
        ),
        pytest.param("location = '/locked'", id="a log-in", marks=pytest.mark.soak),
    ],
)
def test_what_waits_for_an_answer_does_not_outlast_the_longest_time(
    mudlark: Run, trouble: Trouble, script: str
) -> None:
    trouble.say("/never", Answer(b"late", hold=300))
    trouble.say("/never.js", Answer(b"late", hold=300))
    trouble.say("/locked", Answer(b"", 401, headers={"WWW-Authenticate": 'Basic realm="mill"'}))
    url = _page(trouble, "/page", f"<script>setTimeout(() => {{ {script} }}, 200)</script><a href='/film.mp4'>x</a>")
    ran = mudlark("listen", url, "--har", "a.har", "--at-most", "4", "--json")
    assert ran.status in (0, 5) and "never retrieved" not in ran.err and ran.json["command"] == "listen"
