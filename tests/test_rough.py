"""Hauls that nothing stops: servers that misbehave in every way, kills at any moment, two at one item."""

import hashlib
import json
import os
import random
import signal
import subprocess
import time
from collections.abc import Callable
from functools import partial
from pathlib import Path

import pytest

from mudlark.demo.rough import ROUGH
from mudlark.demo.site import DemoSite
from mudlark.demo.streamed import content
from tests.conftest import PROGRAM, Answer, Ran, Trouble, own_environment, wait_until

pytestmark = pytest.mark.program
Run = Callable[..., Ran]


def media_of(item: dict[str, object], folder: Path) -> bytes:
    files = item["files"]
    assert isinstance(files, list) and isinstance(item["folder"], str)
    (path,) = (folder / item["folder"] / file["path"] for file in files if file["role"] == "media")
    return bytes(path.read_bytes())


@pytest.mark.parametrize("kind", [exhibit.name for exhibit in ROUGH if exhibit.name != "rough-changing"])
def test_a_film_comes_whole_through_rough_weather(mudlark: Run, site: DemoSite, tmp_path: Path, kind: str) -> None:
    ran = mudlark("haul", site.address(kind), "--into", "kept", "--patience", "2", "--tries", "8", "--json")
    item = ran.json["items"][0]
    assert (ran.status, item["verdict"], item["segments"]["missing"]) == (0, "sound", 0), ran.out + ran.err
    tracks = json.loads((tmp_path / item["folder"] / "record.json").read_text())["tracks"]
    assert [track["coded_frames"] for track in tracks] == [600, 1123]
    mended = {"rough-expiring": "renewed", "rough-lapsing": "renewed"}.get(kind)
    if mended:
        assert item["fetching"][mended] > 0
    elif kind not in ("rough-whole", "rough-slow"):
        assert item["segments"]["retried"] > 0


def test_a_file_that_changes_meanwhile_is_never_made_of_two(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    ran = mudlark("haul", site.address("rough-changing"), "--kind", "package", "--all", "--into", "kept", "--json")
    data = media_of(ran.json["items"][0], tmp_path)
    assert len(data) == 6_000_000 and len(set(data)) == 1


def listed(trouble: Trouble, count: int, hold: float = 0.0) -> str:
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4"]
    for number in range(count):
        lines += ["#EXT-X-DISCONTINUITY"] if number % 6 == 0 else []
        lines += ["#EXTINF:4.0,", f"/part-{number}.ts"]
        trouble.say(f"/part-{number}.ts", Answer(content("defined", f"mill-{number % 6}.ts") or b"", hold=hold))
    return trouble.say("/list.m3u8", Answer("\n".join([*lines, "#EXT-X-ENDLIST"]).encode()))


def _has_come_to(trouble: Trouble, requests: int, process: subprocess.Popen[bytes]) -> bool:
    return len(trouble.asked) >= requests or process.poll() is not None


def _asked_again(trouble: Trouble, path: str, before: int) -> bool:
    return trouble.asked.count(path) > before


def killed_again_and_again(trouble: Trouble, folder: Path, kills: int, segments: int) -> None:
    """Kill a haul at random moments until it has been often enough; then let it finish, and compare."""
    chance = random.Random(kills)
    url = listed(trouble, segments, hold=0.05)
    command = [str(PROGRAM), "haul", url, "--into", "kept", "--lanes", "4", "--json"]
    environment = own_environment(folder)
    for _ in range(kills):
        before = len(trouble.asked)
        with subprocess.Popen(
            command, cwd=folder, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        ) as process:
            moment = before + chance.randint(1, max(2, segments // max(4, kills // 3)))
            wait_until(partial(_has_come_to, trouble, moment, process))
            time.sleep(chance.random() * 0.1)
            process.send_signal(signal.SIGKILL)
    ran = subprocess.run(command, cwd=folder, env=environment, capture_output=True, check=False)
    item = json.loads(ran.stdout)["items"][0]
    assert (ran.returncode, item["verdict"], item["segments"]["missing"]) == (0, "sound", 0), ran.stderr
    whole = subprocess.run(
        [*command, "--into", "at once"], cwd=folder, env=environment, capture_output=True, check=False
    )
    once = json.loads(whole.stdout)["items"][0]
    assert hashlib.sha256(media_of(item, folder)).digest() == hashlib.sha256(media_of(once, folder)).digest()
    asked = sum(path.endswith(".ts") for path in trouble.asked) - segments
    assert asked <= segments + kills * 8, asked  # what was in flight or being written at each kill, and nothing else


def test_kills_at_random_moments_lose_nothing_and_fetch_nothing_twice(trouble: Trouble, tmp_path: Path) -> None:
    killed_again_and_again(trouble, tmp_path, kills=3, segments=24)


def test_a_second_haul_of_the_same_is_told_who_is_at_it(trouble: Trouble, tmp_path: Path, mudlark: Run) -> None:
    url = listed(trouble, 6)
    trouble.say("/part-5.ts", Answer(b"", hold=300))
    command = [str(PROGRAM), "haul", url, "--into", "kept"]
    with subprocess.Popen(command, cwd=tmp_path, env=own_environment(tmp_path), stderr=subprocess.DEVNULL) as first:
        wait_until(lambda: "/part-5.ts" in trouble.asked)
        second = mudlark("haul", url, "--into", "kept", "--json")
        assert second.status == 6 and f"process {first.pid} on " in second.json["problems"][0]["message"]
        running = mudlark("haul", "--into", "kept", "--json").json["unfinished"]
        assert [one["running"] for one in running] == [True]
        first.send_signal(signal.SIGKILL)
    told = mudlark("haul", "--into", "kept")
    assert told.status == 0 and f"mudlark haul {url} --into kept" in told.out and "5 segments" in told.out
    (left,) = mudlark("haul", "--into", "kept", "--json").json["unfinished"]
    assert (left["target"], left["segments"], left["running"]) == (url, 5, False)
    other = trouble.say("/other.bin", Answer(b"\x7fELF" + bytes(1000)))
    beside = mudlark("haul", other, "--into", "kept")
    assert "One other haul in kept never finished" in beside.err
    listed(trouble, 6)
    assert mudlark("haul", url, "--into", "kept").status == 0
    idle = mudlark("haul", "--into", "kept")
    assert idle.status == 0 and "Nothing is unfinished" in idle.out


def test_what_is_unfinished_is_listed_and_dropped_by_its_target(trouble: Trouble, tmp_path: Path, mudlark: Run) -> None:
    (tmp_path / "kept").mkdir()
    for name in ("one", "two"):
        url = listed(trouble, 6).replace("list.m3u8", f"{name}.m3u8")
        trouble.answers[f"/{name}.m3u8"] = trouble.answers["/list.m3u8"]
        trouble.say("/part-5.ts", Answer(b"", hold=300))
        with subprocess.Popen(
            [str(PROGRAM), "haul", url, "--into", "kept"], cwd=tmp_path, env=own_environment(tmp_path)
        ) as first:
            count = trouble.asked.count("/part-5.ts")
            wait_until(partial(_asked_again, trouble, "/part-5.ts", count))
            first.send_signal(signal.SIGKILL)
    told = mudlark("ledger", "kept", "--unfinished")
    assert told.status == 0 and "one.m3u8" in told.out and "two.m3u8" in told.out
    assert mudlark("haul", "--drop", f"{trouble.url}/three.m3u8", "--into", "kept").status == 2
    dropped = mudlark("haul", "--drop", f"{trouble.url}/one.m3u8", "--into", "kept", "--json")
    assert [one["target"] for one in dropped.json["unfinished"]] == [f"{trouble.url}/two.m3u8"]
    assert "Dropping" in mudlark("haul", "--drop", "--into", "kept").out and not (tmp_path / "kept/.mudlark").exists()


def test_a_segment_that_cannot_be_read_is_fetched_once_more(trouble: Trouble, tmp_path: Path, mudlark: Run) -> None:
    url = listed(trouble, 6)
    body = content("defined", "mill-2.ts") or b""
    wrong = body[:188] + bytes(len(body) - 188)  # begins as it should
    trouble.say("/part-2.ts", Answer(wrong), Answer(body))
    item = mudlark("haul", url, "--into", "kept", "--json").json["items"][0]
    assert item["verdict"] == "sound"
    assert item["segments"] == {"planned": 6, "fetched": 6, "reused": 0, "retried": 1, "missing": 0}
    assert trouble.asked.count("/part-2.ts") == 2 and trouble.asked.count("/part-3.ts") == 1


def test_the_log_has_a_row_for_each_request(trouble: Trouble, tmp_path: Path, mudlark: Run) -> None:
    url = listed(trouble, 6)
    trouble.say("/part-2.ts", Answer(b"", 503), Answer(content("defined", "mill-2.ts") or b""))
    assert mudlark("haul", f"{url}?token=hush", "--into", "kept", "--log", "log.jsonl").status == 0
    text = (tmp_path / "log.jsonl").read_text()
    rows = [row for row in map(json.loads, text.splitlines()) if row["event"] == "asked"]
    assert "hush" not in text and len(rows) == len(trouble.asked)
    segments = [row for row in rows if ".ts" in row["url"]]
    assert all(row["lane"] >= 1 and row["family"] == "IPv4" and row["ended"] >= row["first"] for row in segments)
    assert sorted((row["for"], row["try"], row["status"]) for row in segments if "part-2" in row["url"]) == [
        ("v1 2", 1, 503),
        ("v1 2", 2, 200),
    ]
    assert {json.loads(line)["event"] for line in text.splitlines()} >= {"asked", "trying again"}


@pytest.mark.soak
def test_fifty_kills_lose_nothing_and_fetch_nothing_twice(trouble: Trouble, tmp_path: Path) -> None:
    killed_again_and_again(trouble, tmp_path, kills=50, segments=240)


@pytest.mark.soak
def test_ten_thousand_segments_with_faults_and_a_sleep_in_the_middle(trouble: Trouble, tmp_path: Path) -> None:
    """One in ten answers fails, and the whole group of processes sleeps for longer than a stall."""
    count, chance = 10_000, random.Random(14)
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4"]
    bodies = [content("defined", f"mill-{number}.ts") or b"" for number in range(6)]
    for number in range(count):
        lines += ["#EXT-X-DISCONTINUITY"] if number % 6 == 0 else []
        lines += ["#EXTINF:4.0,", f"/part-{number}.ts"]
        good = Answer(bodies[number % 6])
        faults = (Answer(b"", 503), Answer(b"", 500), Answer(good.body, cut=9_000), Answer(b"<html>busy</html>"))
        answers = [chance.choice(faults), good] if chance.random() < 0.1 else [good]
        trouble.say(f"/part-{number}.ts", *answers)
    url = trouble.say("/list.m3u8", Answer("\n".join([*lines, "#EXT-X-ENDLIST"]).encode()))
    command = [str(PROGRAM), "haul", url, "--into", "kept", "--patience", "5", "--json"]
    with subprocess.Popen(
        command, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, start_new_session=True
    ) as process:
        while len(trouble.asked) < count // 2:
            time.sleep(0.05)
        os.killpg(process.pid, signal.SIGSTOP)
        time.sleep(12)
        os.killpg(process.pid, signal.SIGCONT)
        out, _ = process.communicate(timeout=1_500)
    item = json.loads(out)["items"][0]
    assert (item["verdict"], item["segments"]["missing"]) == ("sound", 0), item["problems"][:3]
    assert item["segments"]["retried"] >= count * 0.08
