"""The streams of the demo museum, hauled by the installed program and judged in Chromium."""

import hashlib
import io
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from PIL import Image

from mudlark.demo.site import DemoSite
from mudlark.demo.streamed import KEYS, STREAMED, content
from mudlark.media.webvtt import parse
from tests.conftest import Answer, Ran, Trouble
from tests.judge import watch

pytestmark = pytest.mark.program
Run = Callable[..., Ran]
_PATHS = {exhibit.name: exhibit.path for exhibit in STREAMED}


def _hauled(mudlark: Run, site: DemoSite, name: str, *more: str) -> tuple[dict[str, Any], Path]:
    ran = mudlark("haul", site.origins.site + _PATHS[name], "--into", "kept", "--json", *more)
    assert ran.json["items"], ran.err
    item: dict[str, Any] = ran.json["items"][0]
    return item, Path(item["folder"]) / item["files"][0]["path"]


@pytest.mark.parametrize("name", ["keyed", "ranges", "defined"])
def test_a_stream_is_whole_frame_by_frame(mudlark: Run, site: DemoSite, name: str) -> None:
    item, _ = _hauled(mudlark, site, name)
    assert (item["verdict"], item["problems"]) == ("sound", [])
    assert all(track["coded_digest"] == track["file_digest"] for track in item["tracks"])


@pytest.mark.browser
@pytest.mark.parametrize(
    ("name", "height"),
    [
        ("fragments", 360),
        ("packed", 360),
        *(pytest.param(name, 180, marks=pytest.mark.soak) for name in ("keyed", "ranges", "defined")),
    ],
)
def test_a_stream_plays_with_its_pictures_in_order_and_its_beeps_in_place(
    mudlark: Run, site: DemoSite, tmp_path: Path, name: str, height: int
) -> None:
    item, path = _hauled(mudlark, site, name)
    assert (item["verdict"], item["problems"]) == ("sound", [])
    listen = name == "packed"  # playing to the end takes its time: where the sound came as nothing but frames
    seen = watch(tmp_path / path, [0.02, 3.98, 4.02, 11.5, 23.9], listen=listen)
    assert seen.counters == [0, 99, 100, 287, 597] and seen.height == height
    assert abs(seen.duration - 24.0) < 0.1
    if listen:
        assert len(seen.heard) == 11
        assert all(abs(heard - 2 * (turn + 1)) < 0.25 for turn, heard in enumerate(seen.heard))


@pytest.mark.browser
@pytest.mark.parametrize("container", ["mp4", "mkv"])
def test_two_languages_and_their_subtitles_come_along(
    mudlark: Run, site: DemoSite, tmp_path: Path, container: str
) -> None:
    item, path = _hauled(mudlark, site, "languages", "--languages", "cy,en", "--container", container)
    assert item["verdict"] == "sound" and path.suffix == f".{container}"
    assert [(track["type"], track.get("language")) for track in item["tracks"]] == [
        ("video", None),
        ("audio", "cy"),
        ("audio", "en"),
    ]
    assert item["tracks"][1]["coded_digest"] != item["tracks"][2]["coded_digest"]
    assert [(t["label"], t.get("default", True)) for t in item["tracks"][1:]] == [("Cymraeg", True), ("English", False)]
    rows = mudlark("tracks", str(path), "--json").json["tracks"]
    assert [(row["language"], row["label"]) for row in rows[1:]] == [("cy", "Cymraeg"), ("en", "English")]
    assert watch(tmp_path / path, [0.02, 12.02, 23.9], listen=False).counters == [0, 300, 597]
    texts = {file["language"]: file["path"] for file in item["files"] if file["role"] == "subtitle"}
    welsh = parse((tmp_path / item["folder"] / texts["cy"]).read_bytes())
    own = [cue for cue in welsh.cues if not cue.text.startswith("(")]
    assert own[0].text == "Mae'r llifddor yn agor." and own[0].settings == "line:85%"
    assert [round(cue.begin, 2) for cue in own] == [1.0, 5.0, 9.0, 13.0, 17.0, 21.0]
    assert len(welsh.cues) == 11  # those that straddle two segments once


def test_without_a_wish_the_default_sound_comes_alone(mudlark: Run, site: DemoSite) -> None:
    item, _ = _hauled(mudlark, site, "languages", "--subtitles", "none")
    assert [track.get("language") for track in item["tracks"]] == [None, "en"]
    assert not [file for file in item["files"] if file["role"] == "subtitle"]


@pytest.mark.browser
def test_a_splice_into_another_size_plays_through(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    item, path = _hauled(mudlark, site, "splices")
    assert item["verdict"] == "sound"
    assert {note["code"] for note in item["notes"]} == {"silence-added", "repeated-samples"}
    seen = watch(tmp_path / path, [7.9, 8.02, 11.9, 12.02, 19.9], listen=True)
    assert seen.counters == [197, 0, 97, 200, 397] and abs(seen.ended - 20.0) < 0.2
    # the advert has its own beep at 2 s; the others stay where the picture has them
    expected = [2.0, 4.0, 6.0, 10.0, 12.0, 14.0, 16.0, 18.0, 20.0]
    assert len(seen.heard) == len(expected)
    assert all(abs(heard - known) < 0.25 for heard, known in zip(seen.heard, expected, strict=True))


def test_sound_alone_keeps_its_own_packing(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    item, path = _hauled(mudlark, site, "signals")
    assert (item["verdict"], path.suffix) == ("sound", ".mp3")
    served = b"".join(content("signals", f"part-{number}.mp3") or b"" for number in range(3))
    assert (tmp_path / path).read_bytes() == served
    assert mudlark("assay", item["folder"]).status == 0


def test_hevc_is_verified_by_its_structure(mudlark: Run, site: DemoSite) -> None:
    item, _ = _hauled(mudlark, site, "hevc")
    (track,) = item["tracks"]
    assert item["verdict"] == "sound" and track["codec"].startswith("hvc1.1.6.")
    assert (track["width"], track["height"], track["samples"]) == (320, 180, 300)
    assert {check["name"] for check in item["checks"]} >= {"picture-units", "coded-frames"}


def test_a_sealed_stream_is_named_and_refused(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    ran = mudlark("haul", site.origins.site + _PATHS["sealed"], "--into", "kept", "--json")
    assert ran.status == 4 and "FairPlay" in ran.json["problems"][0]["message"]
    assert not (tmp_path / "kept").exists()


@pytest.mark.browser
def test_what_is_missing_is_a_hole_that_is_said(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    item, path = _hauled(mudlark, site, "torn")
    assert item["verdict"] == "flawed" and item["segments"]["missing"] == 2
    messages = " ".join(problem["message"] for problem in item["problems"])
    assert "4.0–8.0 s" in messages and "EXT-X-GAP" in messages and "12.0–16.0 s" in messages and "404" in messages
    assert item["duration"] == pytest.approx(24.0, abs=0.1)
    seen = watch(tmp_path / path, [3.9, 8.1, 16.1, 23.9])
    assert seen.counters == [97, 202, 402, 597]
    # silence fills the holes, so that the beeps behind them come where a player counts them
    for known in (2.0, 8.0, 10.0, 18.0, 20.0, 22.0):
        assert any(abs(heard - known) < 0.25 for heard in seen.heard)
    # the sound of a segment goes on a little, so some beeps are heard in part
    assert all(abs(heard - 2 * round(heard / 2)) < 0.25 for heard in seen.heard)


def test_wishes_of_a_plain_file_are_passed_over_and_that_is_said(mudlark: Run, site: DemoSite) -> None:
    film = f"{site.origins.media}/films/foghorn-demonstration.mp4"
    first = mudlark("haul", film, "--into", "kept", "--within", "100", "--container", "mkv", "--json").json["items"][0]
    assert first["verdict"] == "sound" and "nothing-to-choose" in {note["code"] for note in first["notes"]}
    assert mudlark("haul", film, "--into", "kept", "--json").json["items"][0]["state"] == "unchanged"


def test_tracks_marks_what_would_be_taken(mudlark: Run, site: DemoSite) -> None:
    url = f"{site.origins.media}/shelves/languages/master.m3u8"
    rows = mudlark("tracks", url, "--languages", "cy", "--subtitles", "en", "--json").json["tracks"]
    assert {row["name"] for row in rows if row["taken"]} == {"v1", "a2", "s1"}
    assert "400 kbit/s" in mudlark("tracks", url).out and mudlark("tracks", url).out.count("*") >= 4
    assert mudlark("tracks", url, "--languages", "fr").status == 3
    assert mudlark("tracks", url, "--rendition", "v9").status == 2


# Servers in trouble


def _keyed(trouble: Trouble, key: bytes) -> str:
    for number in range(6):
        trouble.say(f"/keyed/part-{number}.ts", Answer(content("keyed", f"part-{number}.ts") or b""))
    for number in range(3):
        trouble.say(f"/keys/{number}", Answer(key or KEYS[number]))
    return trouble.say("/keyed/index.m3u8", Answer(content("keyed", "index.m3u8") or b""))


def test_each_key_is_asked_for_once(mudlark: Run, trouble: Trouble) -> None:
    ran = mudlark("haul", _keyed(trouble, b""), "--into", "kept", "--json")
    assert ran.json["items"][0]["verdict"] == "sound"
    assert sorted(path for path in trouble.asked if path.startswith("/keys/")) == ["/keys/0", "/keys/1", "/keys/2"]


@pytest.mark.parametrize(
    ("key", "words"),
    [(b"short", "5 bytes long, not 16"), (b"<!doctype html><p>Log in", "web page"), (b"x" * 16, "key")],
)
def test_keys_that_are_none_are_said(mudlark: Run, trouble: Trouble, tmp_path: Path, key: bytes, words: str) -> None:
    ran = mudlark("haul", _keyed(trouble, key), "--into", "kept", "--tries", 1, "--patience", 1)
    assert ran.status in (1, 5) and words in ran.err
    assert not [path for path in (tmp_path / "kept").glob("*") if not path.name.startswith(".")]


def test_a_dead_copy_is_replaced_by_another_in_the_middle(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4"]
    for number in range(6):
        lines += ["#EXTINF:4.0,", f"part-{number}.ts"]
        body = content("defined", f"mill-{number}.ts") or b""
        trouble.say(f"/one/part-{number}.ts", Answer(b"", 404 if number > 2 else 200) if number > 2 else Answer(body))
        trouble.say(f"/two/part-{number}.ts", Answer(body))
    for folder in ("one", "two"):
        trouble.say(f"/{folder}/index.m3u8", Answer("\n".join([*lines, "#EXT-X-ENDLIST"]).encode()))
    variant = "#EXT-X-STREAM-INF:BANDWIDTH=200000,RESOLUTION=320x180\n"
    master = f"#EXTM3U\n{variant}/one/index.m3u8\n{variant}/two/index.m3u8\n"
    item = mudlark("haul", trouble.say("/m.m3u8", Answer(master.encode())), "--into", "kept", "--json").json["items"][0]
    assert item["verdict"] == "sound" and item["segments"]["missing"] == 0
    assert "elsewhere" in {note["code"] for note in item["notes"]}
    record = json.loads((tmp_path / item["folder"] / "record.json").read_text())
    came = {segment["number"]: segment.get("came_from", segment["url"]) for segment in record["segment_list"]}
    assert came[5] == trouble.url + "/two/part-5.ts"
    log = (tmp_path / item["folder"] / "requests.jsonl").read_text()
    ways = {(row["for"], row["way"], row["status"]) for row in map(json.loads, log.splitlines())}
    assert ("v1 5", "elsewhere", 200) in ways and ("v1 0", "first", 200) in ways


def test_the_master_s_query_is_tried_where_children_are_refused_without_it(mudlark: Run, trouble: Trouble) -> None:
    body = content("ranges", "index.m3u8") or b""
    plain = b"\n".join(line for line in body.split(b"\n") if not line.startswith(b"#EXT-X-BYTERANGE"))
    trouble.say("/film.m3u8", Answer(b"", 403))
    trouble.say("/film.m3u8?pass=7", Answer(plain))
    trouble.say("/all.ts", Answer(b"", 403))
    trouble.say("/all.ts?pass=7", Answer(content("defined", "mill-0.ts") or b""))
    master = trouble.say("/m.m3u8?pass=7", Answer(b"#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1\nfilm.m3u8\n"))
    ran = mudlark("haul", master, "--into", "kept", "--json", "--tries", 1)
    assert ran.json["items"][0]["segments"]["missing"] == 0, ran.err


def test_clear_renditions_of_a_protected_presentation_are_offered(mudlark: Run, trouble: Trouble) -> None:
    sealed = (content("sealed", "index.m3u8") or b"").replace(b"part-", b"/s/part-")
    trouble.say("/sealed.m3u8", Answer(sealed))
    clear = (content("defined", "mill.m3u8") or b"").decode()
    lines = [line for line in clear.splitlines() if "DEFINE" not in line]
    text = "\n".join(lines).replace("{$shelf}", "/c/mill").replace("?visit={$own}", "")
    trouble.say("/clear.m3u8", Answer(text.encode()))
    for number in range(6):
        trouble.say(f"/c/mill-{number}.ts", Answer(content("defined", f"mill-{number}.ts") or b""))
    master = """#EXTM3U
#EXT-X-STREAM-INF:BANDWIDTH=900000,RESOLUTION=1280x720
sealed.m3u8
#EXT-X-STREAM-INF:BANDWIDTH=200000,RESOLUTION=320x180
clear.m3u8
"""
    url = trouble.say("/m.m3u8", Answer(master.encode()))
    refused = mudlark("haul", url, "--into", "kept")
    assert refused.status == 4 and "v2 (180)" in refused.err and "--rendition" in refused.err
    assert mudlark("haul", url, "--into", "kept", "--rendition", "v2", "--json").json["items"][0]["verdict"] == "sound"


def test_nothing_stays_of_what_turns_out_to_be_protected(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    init = (content("fragments", "film-init.mp4") or b"").replace(b"avc1\0\0\0\0\0\0", b"encv\0\0\0\0\0\0")
    trouble.say("/init.mp4", Answer(init))
    trouble.say("/0.m4s", Answer(content("fragments", "film-0.m4s") or b""))
    body = b'#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXT-X-MAP:URI="init.mp4"\n#EXTINF:4,\n0.m4s\n#EXT-X-ENDLIST'
    ran = mudlark("haul", trouble.say("/a.m3u8", Answer(body)), "--into", "kept")
    assert ran.status == 4 and "common encryption" in ran.err
    assert not (tmp_path / "kept").exists()


def test_a_finished_list_without_its_end_is_read(mudlark: Run, trouble: Trouble) -> None:
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:1"]
    for number in range(2):
        trouble.say(f"/part-{number}.ts", Answer(content("defined", f"mill-{number}.ts") or b""))
        lines += ["#EXTINF:4.0,", f"part-{number}.ts"]
    url = trouble.say("/list.m3u8", Answer("\n".join(lines).encode()))
    assert mudlark("haul", url, "--into", "kept", "--json").json["items"][0]["verdict"] == "sound"


def test_the_record_keeps_what_the_playlist_says_beside(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    trouble.say("/part-0.ts", Answer(content("defined", "mill-0.ts") or b""))
    body = """#EXTM3U
#EXT-X-TARGETDURATION:4
#EXT-X-PROGRAM-DATE-TIME:1931-03-02T14:00:00.000Z
#EXT-X-DATERANGE:ID="tide",START-DATE="1931-03-02T14:00:00Z",X-HEIGHT="4.1"
#EXTINF:4.0,
part-0.ts
#EXT-X-ENDLIST"""
    item = mudlark("haul", trouble.say("/a.m3u8", Answer(body.encode())), "--into", "kept", "--json").json["items"][0]
    record = json.loads((tmp_path / item["folder"] / "record.json").read_text())
    assert record["segment_list"][0]["moment"] == "1931-03-02T14:00:00.000Z"
    assert record["source"]["manifest_notes"][0]["name"] == "date-range tide"
    film = (tmp_path / item["folder"] / item["files"][0]["path"]).read_bytes()
    assert hashlib.sha256(film).hexdigest() == item["files"][0]["sha256"]


def test_the_page_s_poster_becomes_the_cover_of_the_film(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    trouble.say("/part-0.ts", Answer(content("defined", "mill-0.ts") or b""))
    trouble.say("/film.m3u8", Answer(b"#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXTINF:4,\npart-0.ts\n#EXT-X-ENDLIST"))
    picture = io.BytesIO()
    Image.new("RGB", (320, 180), (24, 74, 92)).save(picture, "JPEG")
    trouble.say("/still.jpg", Answer(picture.getvalue(), type="image/jpeg"))
    body = b'<title>The Mill</title><video poster="/still.jpg" src="/film.m3u8"></video>'
    item = mudlark("haul", trouble.say("/page", Answer(body, type="text/html")), "--into", "kept", "--json").json[
        "items"
    ][0]
    film = (tmp_path / item["folder"] / item["files"][0]["path"]).read_bytes()
    assert item["verdict"] == "sound" and [file["role"] for file in item["files"]].count("poster") == 1
    assert b"covr" in film and picture.getvalue() in film and b"The Mill" in film
    assert film.index(b"moov") < film.index(b"mdat") and len(film) < 400_000
