"""Recordings of the demo museum's cameras by the installed program; judged in Chromium by their frame numbers."""

import json
import os
import signal
import subprocess
import time
from collections.abc import Callable
from email.utils import formatdate
from itertools import pairwise
from pathlib import Path
from typing import Any

import pytest

from mudlark.demo.live import Cameras
from mudlark.demo.repacked import fragments, samples_of, section
from mudlark.demo.site import DemoSite
from mudlark.demo.streamed import MEDIA, content, paths
from mudlark.errors import StorageError
from mudlark.hauling.tape import Tape
from mudlark.manifest.live.clock import SteadyClock
from mudlark.media.webvtt import parse
from tests.conftest import PROGRAM, Answer, QuietHandler, Ran, Trouble, own_environment, serving, wait_until
from tests.judge import watch

pytestmark = pytest.mark.program
Run = Callable[..., Ran]


def _recorded(mudlark: Run, address: str, *options: str) -> tuple[dict[str, Any], Path]:
    ran = mudlark("haul", address, "--into", "kept", "--json", *options)
    assert ran.json["items"] and ran.json["items"][0]["folder"], ran.err
    item: dict[str, Any] = ran.json["items"][0]
    return item, Path(item["folder"]) / item["files"][0]["path"]


def _runs_on(counters: list[int | None], every: int) -> bool:
    """True if the frames come in order, around and around the film of 600 pictures."""
    return all(
        one is not None and other is not None and (other - one - every) % 600 in (0, 1, 599)
        for one, other in pairwise(counters)
    )


@pytest.mark.browser
@pytest.mark.parametrize("path", ["harbour/now.m3u8", "quay/number.mpd", "jetty/timeline.mpd"])
def test_a_camera_is_recorded_from_as_far_back_as_is_kept(
    mudlark: Run, site: DemoSite, tmp_path: Path, path: str
) -> None:
    address = f"{site.origins.media}/live/{path}"
    item, film = _recorded(mudlark, address, "--from", "earliest", "--for", "40s")
    assert (item["verdict"], item["problems"], item["duration"]) == ("sound", [], pytest.approx(40.0, abs=0.3))
    counters = watch(tmp_path / film, [0.1 + 3 * number for number in range(13)], listen=False).counters
    assert _runs_on(counters, 75)
    assert "recording-ended" in {note["code"] for note in item["notes"]}
    facts = json.loads((tmp_path / item["folder"] / "record.json").read_text())
    assert all(segment["moment"] for segment in facts["segment_list"])
    assert not (tmp_path / "kept" / ".mudlark").exists()


@pytest.mark.browser
def test_a_recording_from_now_runs_on_over_several_looks(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    item, film = _recorded(mudlark, f"{site.origins.media}/live/quay/number.mpd", "--for", "14s")
    assert item["verdict"] == "sound" and item["segments"]["missing"] == 0
    assert _runs_on(watch(tmp_path / film, [0.1 + 2 * number for number in range(7)], listen=False).counters, 50)


def test_a_broadcast_that_ends_is_finished_as_a_recording(mudlark: Run, site: DemoSite) -> None:
    item, _ = _recorded(mudlark, f"{site.origins.media}/live/ending/now.m3u8", "--from", "earliest")
    assert item["verdict"] == "sound" and item["duration"] == pytest.approx(28.0, abs=0.3)
    again = mudlark("haul", f"{site.origins.media}/live/ending/now.m3u8", "--into", "kept", "--json").json["items"][0]
    assert again["state"] == "new" or again["folder"] != item["folder"]


def _start(folder: Path, address: str, *options: str) -> subprocess.Popen[str]:
    command = [str(PROGRAM), "haul", address, "--into", "kept", *options]
    return subprocess.Popen(command, cwd=folder, env=own_environment(folder), stderr=subprocess.PIPE, text=True)


def _until(folder: Path, count: int) -> Path:
    """Waits until so many segments are in the store; gives the store."""
    while True:
        for journal in folder.glob("kept/.mudlark/*/recording.jsonl"):
            if journal.read_bytes().count(b"\n") >= count:
                return journal.parent
        time.sleep(0.05)


def test_a_broadcast_in_a_pause_is_not_over(mudlark: Run, trouble: Trouble) -> None:
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:1"]
    for number in range(2):
        trouble.say(f"/part-{number}.ts", Answer(content("defined", f"mill-{number}.ts") or b""))
        lines += ["#EXTINF:4.0,", f"part-{number}.ts"]
    grown = {"Last-Modified": formatdate(time.time() - 1, usegmt=True)}
    url = trouble.say("/list.m3u8", Answer("\n".join(lines).encode(), headers=grown))
    assert mudlark("tracks", url, "--json").json["live"]


def test_an_interrupt_ends_the_recording_and_makes_an_item(site: DemoSite, tmp_path: Path) -> None:
    process = _start(tmp_path, f"{site.origins.media}/live/harbour/now.m3u8", "--from", "earliest")
    store = _until(tmp_path, 20)
    film = store / "recording.mp4"
    while not film.exists() or film.stat().st_size < 50_000:
        time.sleep(0.05)
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=90)
    assert process.returncode == 0 and "Ending the recording" in err, err
    record = json.loads(next(tmp_path.glob("kept/*/record.json")).read_text())
    assert record["verdict"] == "sound" and record["duration"] > 60


def test_a_killed_recording_goes_on_and_fills_what_the_window_still_holds(
    site: DemoSite, tmp_path: Path, mudlark: Run
) -> None:
    address = f"{site.origins.media}/live/harbour/now.m3u8"
    process = _start(tmp_path, address, "--from", "earliest", "--for", "10m")
    _until(tmp_path, 12)
    process.kill()
    process.communicate()
    item, _ = _recorded(mudlark, address, "--from", "earliest", "--for", "110s")
    assert item["verdict"] == "sound" and item["segments"]["missing"] == 0 and item["duration"] > 109
    numbers = [segment["url"].rpartition("-")[2] for segment in _segments(tmp_path, item)]
    assert numbers == [f"{int(numbers[0].partition('.')[0]) + at}.m4s" for at in range(len(numbers))]


def _segments(folder: Path, item: dict[str, Any]) -> list[dict[str, Any]]:
    listed: list[dict[str, Any]] = json.loads((folder / item["folder"] / "record.json").read_text())["segment_list"]
    return listed


@pytest.mark.parametrize("over", [404, 200])
def test_a_killed_recording_whose_broadcast_is_over_is_finished_from_what_is_there(
    mudlark: Run, trouble: Trouble, tmp_path: Path, over: int
) -> None:
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4", "#EXT-X-MEDIA-SEQUENCE:7"]
    for number in range(2):
        trouble.say(f"/part-{number}.ts", Answer(content("defined", f"mill-{number}.ts") or b""))
        lines += ["#EXTINF:4.0,", f"part-{number}.ts"]
    grown = {"Last-Modified": formatdate(time.time() + 3600, usegmt=True)}
    url = trouble.say("/list.m3u8", Answer("\n".join(lines).encode(), headers=grown))
    command = [str(PROGRAM), "haul", url, "--into", "kept", "--from", "earliest"]
    with subprocess.Popen(command, cwd=tmp_path, env=own_environment(tmp_path), stderr=subprocess.PIPE) as program:
        journal = ".mudlark/*/recording.jsonl"
        wait_until(lambda: sum(one.read_bytes().count(b"\n") for one in (tmp_path / "kept").glob(journal)) == 2)
        program.kill()
    (path,) = (tmp_path / "kept").glob(journal)
    path.write_bytes(path.read_bytes()[:-40])  # its last line was cut off: the store knows the segment
    ended = "\n".join([*lines[:3], *lines[5:], "#EXT-X-ENDLIST"]).encode()
    trouble.say("/list.m3u8", Answer(b"", 404) if over == 404 else Answer(ended))
    ran = mudlark("haul", url, "--into", "kept", "--json")
    (item,) = ran.json["items"]
    assert item["verdict"] == "sound" and "The broadcast is over" in ran.err, ran.err
    assert item["duration"] == pytest.approx(8.0, abs=0.2) and not (tmp_path / "kept/.mudlark").exists()


def test_what_the_server_no_longer_has_is_a_gap_that_is_said(mudlark: Run, trouble: Trouble) -> None:
    cameras = Cameras(lambda: 1_000_000.0)
    trouble.say("/both-init.mp4", Answer((cameras.answer("harbour", "both-init.mp4") or (b"", ""))[0]))
    for number in range(8):
        body = (cameras.answer("harbour", f"both-{number}.m4s") or (b"", ""))[0]
        trouble.say(f"/both-{number}.m4s", Answer(body, 404 if number == 3 else 200))

    def window(first: int, count: int, end: str = "") -> Answer:
        head = f'#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXT-X-MEDIA-SEQUENCE:{first}\n#EXT-X-MAP:URI="both-init.mp4"\n'
        lines = [f"#EXTINF:4.000,\nboth-{number}.m4s\n" for number in range(first, first + count)]
        return Answer((head + "".join(lines) + end).encode())

    before = [window(0, 1)] * 3  # looks until it is seen that the list grows
    lists = [window(0, 2), window(0, 2), window(0, 4), window(6, 2), window(6, 2, "#EXT-X-ENDLIST\n")]
    item, _ = _recorded(mudlark, trouble.say("/now.m3u8", *before, *lists), "--from", "earliest")
    assert item["verdict"] == "flawed"
    words = " ".join(problem["message"] for problem in item["problems"])
    assert "12.0–16.0 s" in words and "16.0–24.0 s" in words and "no longer had it" in words
    counts = item["segments"]
    assert (counts["fetched"], counts["reused"], counts["missing"]) == (5, 0, 2) and item["fetching"]["bytes"] > 100_000
    assert item["duration"] == pytest.approx(32.0, abs=0.3)


def test_what_is_running_says_so(mudlark: Run, site: DemoSite) -> None:
    for path in ("harbour/now.m3u8", "quay/number.mpd"):
        url = f"{site.origins.media}/live/{path}"
        told = mudlark("tracks", url, "--json").json
        assert told["live"] == {"depth": pytest.approx(120.0, abs=5), "target": 4.0}
        assert "live, reaching back 2:0" in mudlark("tracks", url).out
    finds = mudlark("sift", f"{site.origins.site}/live/quay", "--json").json["pages"][0]["finds"]
    assert finds[0]["live"]["target"] == 4.0


@pytest.mark.parametrize(
    ("options", "words"),
    [
        (("--for", "soon"), "no duration"),
        (("--until", "late"), "no time"),
        (("--until", "2001-01-01 10:00"), "is over"),
    ],
)
def test_times_that_cannot_be_are_said(mudlark: Run, options: tuple[str, str], words: str) -> None:
    ran = mudlark("haul", "http://127.0.0.1:9/a.m3u8", *options)
    assert ran.status == 2 and words in ran.err


def test_radio_is_recorded_with_its_titles(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    item, film = _recorded(mudlark, f"{site.origins.site}/live/foghorn", "--for", "3s")
    assert (item["verdict"], film.suffix, item["title"]) == ("sound", ".mp3", "Foghorn Radio")
    data = (tmp_path / film).read_bytes()
    assert b"StreamTitle" not in data and len(data) >= 24_000
    (titles,) = [file["path"] for file in item["files"] if file["role"] == "titles"]
    cues = parse((tmp_path / item["folder"] / titles).read_bytes()).cues
    assert [cue.text for cue in cues][:2] == ["One Long", "Two Short"]
    assert cues[1].begin == pytest.approx(2.0, abs=0.1)


def test_radio_that_breaks_off_is_asked_for_again_and_that_is_said(mudlark: Run, tmp_path: Path) -> None:
    sound = (MEDIA / "fog-signals.mp3").read_bytes()

    class Handler(QuietHandler):
        protocol_version = "HTTP/1.0"

        def do_GET(self) -> None:
            self.send_response(200)
            self.send_header("Content-Type", "audio/mpeg" if self.path != "/list.pls" else "audio/x-scpls")
            self.end_headers()
            if self.path == "/list.pls":
                self.wfile.write(f"[playlist]\nFile1=http://{self.headers['Host']}/on\n".encode())
            else:
                self.wfile.write(sound[:16_000])

    with serving(Handler) as server:
        item, _ = _recorded(mudlark, f"{server}/list.pls", "--for", "3s")
    codes = {problem["code"] for problem in item["problems"]}  # its frames are torn where it broke off
    assert item["verdict"] == "flawed" and {"radio-gap"} <= codes <= {"radio-gap", "stray-bytes", "cut-off"}


def _fragmented() -> bytes:
    pictures = samples_of(paths(180), "video")
    return section(pictures[:1]) + b"".join(fragments(number + 1, [one]) for number, one in enumerate(pictures))


@pytest.mark.parametrize("form", ["ts", "mp4"])
def test_a_film_without_an_end_is_recorded_and_ended_at_a_whole_packet_or_fragment(
    mudlark: Run, tmp_path: Path, form: str
) -> None:
    film = b"".join(path.read_bytes() for path in paths(180)) if form == "ts" else _fragmented()

    class Handler(QuietHandler):
        protocol_version = "HTTP/1.0"

        def do_GET(self) -> None:
            self.send_response(200)
            self.send_header("Content-Type", {"ts": "video/mp2t", "mp4": "video/mp4"}[form])
            self.end_headers()
            for at in range(0, len(film), 10_001):
                self.wfile.write(film[at : at + 10_001])
                time.sleep(0.1)

    with serving(Handler) as address:
        item, path = _recorded(mudlark, f"{address}/quay.{form}", "--for", "2s")
    data = (tmp_path / path).read_bytes()
    assert item["verdict"] == "sound" and film.startswith(data) and 0 < len(data) < len(film)
    assert film[len(data) :][4:8] == b"moof" if form == "mp4" else not len(data) % 188


@pytest.mark.parametrize("chunked", [False, True])
def test_a_sound_that_ends_and_begins_anew_is_a_file_and_taken_once(
    mudlark: Run, tmp_path: Path, chunked: bool
) -> None:
    sound = (MEDIA / "fog-signals.mp3").read_bytes()[:40_000]

    class Handler(QuietHandler):
        protocol_version = "HTTP/1.1" if chunked else "HTTP/1.0"

        def do_GET(self) -> None:
            self.send_response(200)
            self.send_header("Content-Type", "audio/mpeg")
            if chunked:
                self.send_header("Transfer-Encoding", "chunked")
            self.end_headers()
            parts = [sound[at : at + 8_000] for at in range(0, len(sound), 8_000)]
            for part in parts:
                self.wfile.write(b"%x\r\n%s\r\n" % (len(part), part) if chunked else part)
                self.wfile.flush()
                time.sleep(0.05)
            self.wfile.write(b"0\r\n\r\n" if chunked else b"")

    with serving(Handler) as server:
        ran = mudlark("haul", f"{server}/on", "--into", "kept", "--json", "--for", "60s")
    (item,) = ran.json["items"]
    assert (tmp_path / item["folder"] / item["files"][0]["path"]).read_bytes() == sound


def test_all_cameras_of_a_page_are_recorded_at_once(mudlark: Run, site: DemoSite, trouble: Trouble) -> None:
    media = site.origins.media
    page = f"""<!doctype html><title>Cameras</title><video src="{media}/live/harbour/now.m3u8"></video>
<video src="{media}/live/quay/number.mpd"></video>""".encode()
    address = trouble.say("/cameras", Answer(page, type="text/html"))
    ran = mudlark("haul", address, "--all", "--into", "kept", "--json", "--for", "9s")
    assert [item["verdict"] for item in ran.json["items"]] == ["sound", "sound"], ran.err


@pytest.mark.parametrize("away", [0.0, 3.0])
def test_radio_that_was_killed_is_gone_on_with_and_what_was_missed_is_said(
    mudlark: Run, site: DemoSite, tmp_path: Path, away: float
) -> None:
    """The last two seconds are sent again to whoever comes back."""
    address = f"{site.origins.site}/live/foghorn"
    command = [str(PROGRAM), "haul", address, "--into", "kept", "--for", "6s"]
    with subprocess.Popen(command, cwd=tmp_path, env=own_environment(tmp_path), stderr=subprocess.PIPE) as program:
        wait_until(lambda: sum(one.stat().st_size for one in tmp_path.glob("kept/.mudlark/*/tape")) >= 16_000)
        program.kill()
    (tape,) = tmp_path.glob("kept/.mudlark/*/tape")
    before = tape.read_bytes()
    assert len(before) >= 16_000 and mudlark("haul", "--into", "kept").status == 0
    time.sleep(away)
    ran = mudlark("haul", address, "--into", "kept", "--for", "6s", "--json")
    (item,) = ran.json["items"]
    data = (tmp_path / item["folder"] / item["files"][0]["path"]).read_bytes()
    gone_on = data in 3 * (MEDIA / "fog-signals.mp3").read_bytes()
    assert ("radio-gap" in {problem["code"] for problem in item["problems"]}) is not gone_on
    assert item["verdict"] == ("sound" if gone_on else "flawed") and not (gone_on and away)
    assert data.startswith(before) and len(data) > len(before) + 8_000 and not (tmp_path / "kept/.mudlark").exists()


def test_a_disk_that_takes_no_more_is_said_and_the_tape_stays(tmp_path: Path) -> None:
    with Tape(tmp_path) as tape:
        tape.came(b"x" * 5000, 1000.0)
    with Tape(tmp_path) as tape:
        assert (tape.size, tape.resumed, tape.begun) == (5000, True, 1000.0)
        assert tape._sound
        handle = os.open("/dev/full", os.O_WRONLY)
        os.dup2(handle, tape._sound.fileno())
        with pytest.raises(StorageError, match="takes no more"):
            tape.came(b"x" * 500_000, 1010.0)
    assert (tmp_path / "tape").stat().st_size == 5000


def test_no_clock_that_is_set_makes_anything_longer_or_shorter(monkeypatch: pytest.MonkeyPatch) -> None:
    clock = SteadyClock()
    before, wall = clock.now(), time.time()
    for hours in (-1, 1, 24_000):
        monkeypatch.setattr(time, "time", lambda hours=hours: wall + 3600 * hours)
        assert abs(clock.now() - before) < 60
