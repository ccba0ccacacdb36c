"""The installed program on the demo museum and on servers in trouble, as a user runs it."""

import http.client
import json
import os
import re
import shlex
import signal
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlsplit

import numpy as np
import pytest

from mudlark.demo.site import DemoSite, media_folder
from mudlark.demo.transport import AAC, AVC, TransportWriter
from tests.conftest import PROGRAM, Answer, Ran, Trouble, own_environment, wait_until
from tests.streams import AUDIO_FRAME, demo_segment, pictures, sounds

pytestmark = pytest.mark.program
Run = Callable[..., Ran]
QUICK = ("--tries", 2, "--patience", 1)


def playlist(count: int, seconds: float = 4.0) -> bytes:
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4"]
    for number in range(count):
        lines += [f"#EXTINF:{seconds},", f"part-{number}.ts"]
    return "\n".join([*lines, "#EXT-X-ENDLIST"]).encode()


def stream(trouble: Trouble, count: int = 6) -> str:
    """The demo's film, served segment by segment by a server that a test can turn bad."""
    for number in range(count):
        trouble.say(f"/tide/part-{number}.ts", Answer(demo_segment(number)))
    return trouble.say("/tide/list.m3u8", Answer(playlist(count)))


def visible(folder: Path) -> list[str]:
    """What stands under a final name."""
    return sorted(p.name for p in folder.iterdir() if not p.name.startswith(".")) if folder.exists() else []


def test_sift_names_the_stream_that_only_a_script_knows(mudlark: Run, site: DemoSite) -> None:
    ran = mudlark("sift", site.address("tide-mill"), "--json")
    page = ran.json["pages"][0]
    first = page["finds"][0]
    assert ran.status == 0 and page["title"] == "The Tide Mill at Work"
    assert first["url"] == f"{site.origins.media}/streams/tide-mill/master.m3u8?gallery=4&edition=restored"
    assert (first["kind"], first["role"], first["duration"]) == ("hls", "main", 24.0)
    assert [(e["where"], e["at"].split()[0]) for e in first["evidence"]] == [("script string", "line")]
    assert sum(int(reason.split()[0]) for reason in first["why"]) == first["score"]


def test_sift_puts_the_film_before_the_advert_and_says_why(mudlark: Run, site: DemoSite) -> None:
    ran = mudlark("sift", site.address("harbour-talk"), "--why")
    assert ran.status == 0 and "\x1b" not in ran.out
    assert ran.out.index("films/harbour-talk.mp4") < ran.out.index("spots/gift-shop.mp4")
    assert "agree with the 20 s that the page states" in ran.out and "much shorter than the page states" in ran.out


def test_tracks_lists_the_renditions(mudlark: Run, site: DemoSite) -> None:
    ran = mudlark("tracks", f"{site.origins.media}/streams/tide-mill/master.m3u8", "--json")
    tracks = ran.json["tracks"]
    assert [(t["width"], t["height"], t["frame_rate"], t["segments"], t["duration"]) for t in tracks] == [
        (width, height, 25.0, 6, 24.0) for width, height in ((320, 180), (640, 360), (1280, 720))
    ]
    assert tracks[2]["bitrate"] == 900_000 and tracks[2]["codecs"] == ["avc1.64001f", "mp4a.40.2"]


def test_haul_leaves_the_highest_rendition_with_a_record(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    ran = mudlark("haul", site.address("tide-mill"), "--into", "kept", "--json")
    item = ran.json["items"][0]
    folder = tmp_path / "kept" / "The Tide Mill at Work"
    assert ran.status == 0 and item["verdict"] == "sound" and item["segments"]["fetched"] == 6
    assert item["tracks"][0]["height"] == 720 and item["duration"] == 24.0
    assert visible(tmp_path / "kept") == ["The Tide Mill at Work"] and not (tmp_path / "kept/.mudlark").exists()
    assert sorted(p.name for p in folder.iterdir()) == [
        "The Tide Mill at Work.mp4",
        "The Tide Mill at Work.poster.png",
        "checksums.sha256",
        "manifest",
        "page",
        "record.json",
        "requests.jsonl",
    ]
    record = json.loads((folder / "record.json").read_text())
    assert record["mudlark_record"] == 1 and record["source"]["target"] == site.address("tide-mill")
    assert record["source"]["find"]["evidence"][0]["where"] == "script string"
    assert [len(s["sha256"]) for s in record["segment_list"]] == [64] * 6
    assert (folder / "manifest/02-index.m3u8").read_text().startswith("#EXTM3U")


def test_a_direct_file_is_kept_byte_for_byte(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    ran = mudlark("haul", site.origins.media + "/films/foghorn-demonstration.mp4", "--into", "kept", "--json")
    path = tmp_path / "kept/foghorn-demonstration/foghorn-demonstration.mp4"
    assert ran.status == 0 and path.read_bytes() == (media_folder() / "foghorn-demonstration.mp4").read_bytes()


def test_hauling_again_finds_the_item_unchanged(mudlark: Run, site: DemoSite) -> None:
    mudlark("haul", site.address("foghorn"), "--into", "kept")
    again = mudlark("haul", site.address("foghorn"), "--into", "kept", "--json")
    assert again.status == 0 and again.json["items"][0]["already"] is True


def test_assay_says_sound_then_broken_after_damage(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    mudlark("haul", site.address("foghorn"), "--into", "kept")
    assert mudlark("assay", "kept").status == 0
    film = next((tmp_path / "kept").glob("*/*.mp4"))
    data = bytearray(film.read_bytes())
    data[-1000] ^= 1
    film.write_bytes(data)
    ran = mudlark("assay", "kept", "--json")
    assert ran.status == 1 and ran.json["items"][0]["verdict"] == "broken"
    assert "SHA-256" in ran.json["items"][0]["problems"][0]["message"]


@pytest.mark.parametrize("how", [signal.SIGINT, signal.SIGKILL, signal.SIGTERM])
def test_a_haul_that_was_stopped_goes_on_from_there(trouble: Trouble, tmp_path: Path, mudlark: Run, how: int) -> None:
    url = stream(trouble)
    for number in (4, 5):
        trouble.say(f"/tide/part-{number}.ts", Answer(demo_segment(number), hold=300))
    command = [str(PROGRAM), "haul", url, "--into", "kept"]
    with subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.PIPE, text=True) as process:
        wait_until(lambda: sum(path.endswith(".ts") for path in trouble.asked) >= 6)
        time.sleep(1)
        process.send_signal(how)
        _, said = process.communicate(timeout=100)
    assert visible(tmp_path / "kept") == []
    if how != signal.SIGKILL:
        assert process.returncode == 130 and "4 of 6 segments are kept" in said
    stream(trouble)
    trouble.asked.clear()
    ran = mudlark("haul", url, "--into", "kept", "--json")
    item = ran.json["items"][0]
    assert ran.status == 0 and item["verdict"] == "sound"
    assert item["segments"] == {"planned": 6, "fetched": 2, "reused": 4, "retried": 0, "missing": 0}
    assert sorted(path for path in trouble.asked if path.endswith(".ts")) == ["/tide/part-4.ts", "/tide/part-5.ts"]


def test_a_missing_segment_makes_a_flawed_item_that_a_later_run_mends(
    trouble: Trouble, tmp_path: Path, mudlark: Run
) -> None:
    url = stream(trouble)
    trouble.say("/tide/part-2.ts", Answer(b"gone", 404))
    ran = mudlark("haul", url, "--into", "kept", "--json")
    item = ran.json["items"][0]
    assert ran.status == 1 and item["verdict"] == "flawed"
    assert {problem["code"] for problem in item["problems"]} == {"segment-missing", "gap", "loss"}
    assert "Segment 3 (8.0–12.0 s) is missing" in item["problems"][0]["message"]
    assert mudlark("assay", "kept").status == 1
    stream(trouble)
    mended = mudlark("haul", url, "--into", "kept", "--json").json["items"][0]
    assert mended["verdict"] == "sound" and mended["segments"]["reused"] == 5
    assert len(visible(tmp_path / "kept")) == 1


def test_the_tour_walks_and_ends_well(mudlark: Run, tmp_path: Path) -> None:
    ran = mudlark("tour")
    assert ran.status == 0 and "What to try next" in ran.out
    assert visible(tmp_path / "tour") == ["A Talk on the Harbour Wall", "The Tide Mill at Work", "list"]
    assert len(visible(tmp_path / "tour-bags")) == 5
    assert "5 items" in (tmp_path / "tour-report.html").read_text() and len(visible(tmp_path / "tour-report")) == 5


def test_the_demo_site_can_be_kept_open(tmp_path: Path) -> None:
    with subprocess.Popen([str(PROGRAM), "tour", "--serve"], stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout
        lines = [process.stdout.readline() for _ in range(5)]
        process.send_signal(signal.SIGINT)
        process.communicate(timeout=20)
    assert process.returncode == 130
    assert re.search(r"http://127\.0\.0\.1:\d+/film/tide-mill", "".join(lines))


@pytest.mark.parametrize(
    "path", ["/%ff", "/film/%00", "/film/" + "x" * 3_000, "/slow/..%2f..%2fetc", "//[", "/a?%ff=%00&n=%C2%B2"]
)
def test_the_demo_site_answers_odd_addresses_as_a_site_does(site: DemoSite, path: str) -> None:
    for origin in (site.origins.site, site.origins.media, site.origins.adverts):
        host = urlsplit(origin)
        assert host.hostname and host.port
        connection = http.client.HTTPConnection(host.hostname, host.port, timeout=10)
        connection.putrequest("GET", path, skip_host=True)
        connection.putheader("Host", host.netloc)
        connection.endheaders()
        assert 400 <= connection.getresponse().status < 500
        connection.close()


@pytest.mark.skipif(not hasattr(signal, "SIGHUP"), reason="there is no terminal that hangs up")
@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, getattr(signal, "SIGHUP", signal.SIGTERM)])
def test_a_haul_that_is_ended_before_anything_came_leaves_nothing(
    trouble: Trouble, tmp_path: Path, number: signal.Signals
) -> None:
    url = trouble.say("/page", Answer(b"late", hold=300))
    process = subprocess.Popen(
        [str(PROGRAM), "haul", url, "--into", "kept"],
        cwd=tmp_path,
        env=own_environment(tmp_path),
        stderr=subprocess.PIPE,
    )
    while "/page" not in trouble.asked:
        time.sleep(0.05)
    process.send_signal(number)
    _, err = process.communicate(timeout=20)
    assert process.returncode == 130 and b"Traceback" not in err
    assert not (tmp_path / "kept").exists()


def test_help_is_there_for_every_command(mudlark: Run) -> None:
    assert mudlark("--help").status == 0
    for command in ("sift", "tracks", "haul", "assay", "tour"):
        ran = mudlark(command, "--help")
        assert ran.status == 0 and "Usage:" in ran.out


# Bad input: one or two lines on stderr, the right exit status, nothing under a final name.


def refused(ran: Ran, status: int, *words: str) -> None:
    said = ran.err[ran.err.index("mudlark: ") :].splitlines()
    assert ran.status == status, ran.err
    assert 1 <= len(said) <= 2, ran.err
    for word in words:
        assert word in ran.err


def test_a_page_without_media(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    for command in (("sift",), ("haul", "--into", "kept")):
        refused(mudlark(*command, site.origins.site + "/visit"), 3, "There is no media in the source")
    assert not (tmp_path / "kept").exists()


def test_a_page_that_does_not_exist(mudlark: Run, site: DemoSite) -> None:
    refused(mudlark("sift", site.origins.site + "/nowhere"), 5, "404 Not Found", "Check the address")


def test_what_is_no_page_at_all(mudlark: Run, trouble: Trouble) -> None:
    url = trouble.say("/notes", Answer(b"Gone fishing. " * 50, type="text/plain"))
    refused(mudlark("haul", url, "--into", "kept"), 3, "neither a web page nor media", "Give the address")


def test_a_playlist_that_is_a_web_page(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = trouble.say("/a.m3u8", Answer(b"<!doctype html><html><body>Log in</body></html>", type="text/html"))
    refused(mudlark("tracks", url), 1, "sends a web page where a playlist was expected", "expired")
    refused(mudlark("haul", url, "--into", "kept"), 1, "sends a web page where a playlist was expected")
    assert visible(tmp_path / "kept") == []


def test_segments_of_random_bytes(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = stream(trouble, 1)
    trouble.say("/tide/part-0.ts", Answer(np.random.default_rng(5).bytes(90_000)))
    refused(mudlark("haul", url, "--into", "kept", *QUICK), 5, "no media segment")
    assert visible(tmp_path / "kept") == []


def test_a_truncated_file(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    whole = (media_folder() / "gift-shop.mp4").read_bytes()
    url = trouble.say("/shop.mp4", Answer(whole[:50_000], type="video/mp4"))
    ran = mudlark("haul", url, "--into", "kept")
    assert ran.status == 1 and "broken" in ran.out and "bytes are missing" in ran.out
    assert visible(tmp_path / "kept") == []
    (tmp_path / "cut.mp4").write_bytes(whole[:50_000])
    assert "bytes are missing" in mudlark("assay", "cut.mp4").out


def test_what_was_broken_is_fetched_anew(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    whole = (media_folder() / "gift-shop.mp4").read_bytes()
    damaged = bytearray(whole)
    damaged[whole.index(b"stco") + 12] ^= 0x7F
    url = trouble.say("/shop.mp4", Answer(bytes(damaged), type="video/mp4"))
    assert mudlark("haul", url, "--into", "kept").status == 1
    assert list(tmp_path.glob("kept/.mudlark/*/segments/*"))
    trouble.say("/shop.mp4", Answer(whole, type="video/mp4"))
    ran = mudlark("haul", url, "--into", "kept", "--json")
    assert ran.status == 0 and ran.json["items"][0]["segments"]["reused"] == 0


def test_an_unreadable_segment_is_fetched_anew(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = stream(trouble, 3)
    good = demo_segment(1)
    trouble.say("/tide/part-1.ts", Answer(good[:188] + good[188 * 4 :][: 188 * 2] + b"\0" * 40_000))
    first = mudlark("haul", url, "--into", "kept", "--json")
    assert first.status == 1 and first.json["items"][0]["verdict"] == "flawed"
    stream(trouble, 3)
    assert mudlark("haul", url, "--into", "kept", "--json").json["items"][0]["verdict"] == "sound"


def test_choices_are_not_passed_over_in_silence(mudlark: Run, site: DemoSite) -> None:
    film = f"{site.origins.media}/films/foghorn-demonstration.mp4"
    assert mudlark("haul", film, "--into", "kept", "--nth", 2).status == 2
    assert mudlark("haul", film, "--into", "kept", "--match", "lamp").status == 3
    digest = "sha256:" + "0" * 64
    assert mudlark("haul", site.address("builds"), "--into", "kept", "--all", "--expect", digest).status == 2


def test_a_folder_that_cannot_be_written(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    (tmp_path / "file").write_text("in the way")
    refused(mudlark("haul", site.address("foghorn"), "--into", "file/below"), 6, "Cannot make the folder", "--into")


def test_a_host_that_does_not_answer(mudlark: Run, trouble: Trouble) -> None:
    url = trouble.say("/slow", Answer(b"late", hold=300))
    refused(mudlark("sift", url, *QUICK), 5, "did not answer within 1 s", "--patience")
    refused(mudlark("sift", "http://127.0.0.1:9/", *QUICK), 5, "Cannot connect")


def test_wrong_usage(mudlark: Run) -> None:
    for arguments in (
        ("sift",),
        ("haul", "http://127.0.0.1/", "--nth", "0"),
        ("sift", "not-an-address"),
        ("assay", "nothing-here"),
    ):
        assert mudlark(*arguments).status == 2
    refused(mudlark("sift", "http://127.0.0.1/", "--header", "no colon"), 2, "is not a header")


def test_protected_media_is_named_and_refused(mudlark: Run, trouble: Trouble) -> None:
    key = b'#EXTM3U\n#EXT-X-KEY:METHOD=SAMPLE-AES-CTR,KEYFORMAT="com.microsoft.playready",URI="x"\n#EXTINF:4,\na.ts\n'
    url = trouble.say("/a.m3u8", Answer(key))
    refused(mudlark("haul", url, "--into", "kept"), 4, "PlayReady")
    page = trouble.say("/page", Answer(b"<!doctype html><video src='/a.m3u8'></video>", type="text/html"))
    refused(mudlark("haul", page, "--into", "kept"), 4, "PlayReady")
    (item,) = mudlark("haul", url, "--into", "kept", "--json").json["items"]
    assert (item["verdict"], item["folder"], item["problems"][0]["code"]) == ("refused", None, "refused")


def test_several_targets_are_each_accounted_for(mudlark: Run, site: DemoSite, trouble: Trouble) -> None:
    gone = trouble.say("/gone", Answer(b"", 404))
    ran = mudlark("haul", gone, site.address("foghorn"), "--into", "kept", "--json")
    assert ran.status == 5
    assert [(item["verdict"], item["source"]["target"]) for item in ran.json["items"]] == [
        ("failed", gone),
        ("sound", site.address("foghorn")),
    ]


def test_secret_headers_are_sent_but_not_recorded(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = trouble.say("/horn.mp4", Answer((media_folder() / "gift-shop.mp4").read_bytes(), type="video/mp4"))
    assert mudlark("haul", url, "--into", "kept", "--header", "Authorization: Bearer s3cret").status == 0
    assert trouble.headers[-1]["Authorization"] == "Bearer s3cret"
    assert "s3cret" not in next((tmp_path / "kept").glob("*/record.json")).read_text()


def test_secrets_stay_with_the_host_they_were_given_for(mudlark: Run, trouble: Trouble, site: DemoSite) -> None:
    source = f'<video src="{trouble.say("/film.mp4", Answer(b"x", 404))}"></video>'
    elsewhere = Trouble()
    url = elsewhere.say("/page", Answer(source.encode(), type="text/html"))
    mudlark("sift", url, "--header", "Authorization: Bearer s3cret", "--header", "X-Reader: yes")
    elsewhere.close()
    assert elsewhere.headers[0]["Authorization"] == "Bearer s3cret"
    assert trouble.headers and all("Authorization" not in sent for sent in trouble.headers)
    assert all(sent["X-Reader"] == "yes" for sent in trouble.headers)


def test_what_a_page_embeds_is_found_through_its_description(mudlark: Run, trouble: Trouble) -> None:
    frame = trouble.say("/player", Answer(b'<!doctype html><video src="/film.mp4"></video>', type="text/html"))
    described = {"type": "video", "title": "Sea Wall", "duration": 31, "html": f'<iframe src="{frame}"></iframe>'}
    trouble.say("/oembed", Answer(json.dumps(described).encode(), type="application/json"))
    source = b'<html><link rel="alternate" type="application/json+oembed" href="/oembed"><p>Nothing here</p>'
    ran = mudlark("sift", trouble.say("/page", Answer(source, type="text/html")), "--json")
    page = ran.json["pages"][0]
    assert (page["title"], page["duration"]) == ("Sea Wall", 31.0)
    assert [(find["url"], find["evidence"][0]["frame"]) for find in page["finds"]] == [
        (trouble.url + "/film.mp4", frame)
    ]


def test_colour_is_left_out_when_nobody_looks(mudlark: Run, site: DemoSite) -> None:
    assert "\x1b" not in mudlark("sift", site.address("foghorn")).out
    assert os.environ.get("FORCE_COLOR") is None


def test_a_full_disk_is_said_and_nothing_is_lost(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = stream(trouble, 2)
    command = f"ulimit -f 60; trap '' XFSZ; exec {PROGRAM} haul {url} --into kept"
    done = subprocess.run(
        ["bash", "-c", command], cwd=tmp_path, capture_output=True, text=True, check=False, timeout=60
    )
    assert done.returncode == 6, done.stderr
    assert "Cannot write" in done.stderr and "goes on from here" in done.stderr and "Traceback" not in done.stderr
    assert visible(tmp_path / "kept") == []


def test_sound_in_a_rendition_of_its_own_is_joined_to_the_picture(
    mudlark: Run, trouble: Trouble, tmp_path: Path
) -> None:
    master = '#EXTM3U\n#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="a",NAME="Talk",DEFAULT=YES,URI="sound/list.m3u8"\n'
    master += '#EXT-X-STREAM-INF:BANDWIDTH=300000,RESOLUTION=320x180,AUDIO="a"\npicture/list.m3u8\n'
    seen, heard = TransportWriter(AVC), TransportWriter(AAC)
    for number in range(3):
        trouble.say(f"/picture/part-{number}.ts", Answer(seen.segment(pictures(50, start=number * 180_000))))
        first, last = number * 96_000 // 1024, (number + 1) * 96_000 // 1024
        units = sounds(last - first, start=first * AUDIO_FRAME)
        trouble.say(f"/sound/part-{number}.ts", Answer(heard.segment(units)))
    for kind in ("picture", "sound"):
        trouble.say(f"/{kind}/list.m3u8", Answer(playlist(3, 2.0)))
    ran = mudlark("haul", trouble.say("/talk.m3u8", Answer(master.encode())), "--into", "kept", "--json")
    item = ran.json["items"][0]
    assert ran.status == 0, ran.out + ran.err
    assert [(t["type"], t["samples"]) for t in item["tracks"]] == [("video", 150), ("audio", 281)]
    assert item["segments"]["fetched"] == 6


def test_secrets_are_not_carried_over_a_redirect_to_another_host(mudlark: Run, trouble: Trouble) -> None:
    target = trouble.say("/page", Answer(b"<!doctype html><p>moved", type="text/html"))
    first = Trouble()
    url = first.say("/page", Answer(b"", 302, headers={"Location": target}))
    mudlark("sift", url, "--header", "Authorization: Bearer s3cret", "--header", "Cookie: key=s3cret")
    first.close()
    assert first.headers[0]["Cookie"] == "key=s3cret"
    assert trouble.headers and not any("s3cret" in value for sent in trouble.headers for value in sent.values())


def test_a_reader_that_leaves_is_no_failure(trouble: Trouble, tmp_path: Path) -> None:
    film = trouble.say(
        "/film.mp4", Answer((media_folder() / "foghorn-demonstration.mp4").read_bytes(), type="video/mp4")
    )
    command = f"set -o pipefail; {shlex.quote(str(PROGRAM))} haul {film} --into kept | true"
    ran = subprocess.run(["bash", "-c", command], cwd=tmp_path, env=own_environment(tmp_path), check=False)
    assert ran.returncode == 0 and (tmp_path / "kept/film/film.mp4").exists()
