"""The DASH films of the demo museum, hauled by the installed program and judged in Chromium; and servers in trouble."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from mudlark.demo.dashed import DASHED, content
from mudlark.demo.site import DemoSite
from mudlark.demo.streamed import MEDIA
from mudlark.media.mp4.boxes import full_box
from mudlark.media.webvtt import parse
from tests.conftest import Answer, Ran, Trouble
from tests.judge import watch

pytestmark = pytest.mark.program
Run = Callable[..., Ran]
_PATHS = {exhibit.name: exhibit.path for exhibit in DASHED}
_BEEPS = [2.0 * number for number in range(1, 12)]


def _hauled(mudlark: Run, address: str, *more: str) -> tuple[dict[str, Any], Path]:
    ran = mudlark("haul", address, "--into", "kept", "--json", *more)
    assert ran.json["items"], ran.err
    item: dict[str, Any] = ran.json["items"][0]
    return item, Path(item["folder"]) / item["files"][0]["path"]


_ALIKE = {"numbered": 360, "on-demand": 360, "listed": 180, "copies": 180}


@pytest.mark.parametrize("name", _ALIKE)
def test_a_film_is_whole_frame_by_frame(mudlark: Run, site: DemoSite, name: str) -> None:
    item, path = _hauled(mudlark, site.origins.site + _PATHS[name])
    assert (item["verdict"], item["problems"], path.suffix) == ("sound", [], ".mp4")
    assert all(track["coded_digest"] == track["file_digest"] for track in item["tracks"])


@pytest.mark.browser
@pytest.mark.parametrize(
    ("name", "height", "suffix"),
    [
        ("timed", 360, ".mp4"),
        ("ferry", 360, ".webm"),
        *(pytest.param(name, height, ".mp4", marks=pytest.mark.soak) for name, height in _ALIKE.items()),
    ],
)
def test_a_film_plays_with_its_pictures_in_order_and_its_beeps_in_place(
    mudlark: Run, site: DemoSite, tmp_path: Path, name: str, height: int, suffix: str
) -> None:
    item, path = _hauled(mudlark, site.origins.site + _PATHS[name])
    assert (item["verdict"], item["problems"], path.suffix) == ("sound", [], suffix)
    assert all(track["coded_digest"] == track["file_digest"] for track in item["tracks"])
    listen = name in ("timed", "ferry")  # playing to the end takes its time
    seen = watch(tmp_path / path, [0.02, 3.98, 4.02, 11.5, 23.9], listen=listen)
    assert seen.counters == [0, 99, 100, 287, 597] and seen.height == height
    assert abs(seen.duration - 24.0) < 0.1
    if listen:
        assert len(seen.heard) == len(_BEEPS)
        assert all(abs(heard - beep) < 0.12 for heard, beep in zip(seen.heard, _BEEPS, strict=True))


@pytest.mark.browser
def test_an_advert_between_two_periods_stays_and_is_said(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    item, path = _hauled(mudlark, site.origins.site + _PATHS["interval"])
    assert (item["verdict"], item["problems"]) == ("sound", [])
    seen = watch(tmp_path / path, [0.02, 11.9, 12.02, 15.9, 16.02, 27.9], listen=False)
    assert seen.counters == [0, 297, 500, 597, 300, 597] and abs(seen.duration - 28.0) < 0.1
    assert "of another asset" in (tmp_path / item["folder"] / "record.json").read_text()


@pytest.mark.browser
def test_languages_and_subtitles_are_chosen_as_in_a_playlist(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    address = f"{site.origins.media}/shelves/described/film.mpd"
    item, path = _hauled(mudlark, address, "--languages", "cy,en")
    assert item["verdict"] == "sound" and item["title"] == "The Mill, Described"
    assert [track.get("language") for track in item["tracks"]] == [None, "cy", "en", "en"]
    assert watch(tmp_path / path, [0.02, 12.02, 23.9], listen=False).counters == [0, 300, 597]
    for language, words in (("cy", "Mae'r llifddor yn agor."), ("en", "The sluice opens.")):
        (name,) = [
            file["path"] for file in item["files"] if file.get("language") == language and file["role"] == "subtitle"
        ]
        cues = parse((tmp_path / item["folder"] / name).read_bytes()).cues
        assert cues[0].text == f"<i>{words}</i>" and [round(cue.begin) for cue in cues] == [1, 5, 9, 13, 17, 21]
    rows = mudlark("tracks", address, "--languages", "cy", "--subtitles", "none", "--json").json["tracks"]
    assert {row["name"] for row in rows if row["taken"]} == {"v1", "a3"}


def test_a_guarded_film_is_named_and_refused(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    ran = mudlark("haul", site.origins.site + _PATHS["locked"], "--into", "kept", "--json")
    assert ran.status == 4 and "Widevine" in ran.json["problems"][0]["message"]
    assert not (tmp_path / "kept").exists()
    assert mudlark("tracks", f"{site.origins.media}/shelves/locked/film.mpd").status == 4


@pytest.mark.browser
@pytest.mark.parametrize("container", ["mp4", "mkv"])
def test_vp9_and_opus_go_into_any_container(mudlark: Run, site: DemoSite, tmp_path: Path, container: str) -> None:
    address = f"{site.origins.media}/shelves/ferry/film.mpd"
    item, path = _hauled(mudlark, address, "--container", container)
    assert (item["verdict"], path.suffix) == ("sound", f".{container}")
    assert watch(tmp_path / path, [0.02, 11.5, 23.9], listen=False).counters == [0, 287, 597]


# Servers and manifests in trouble


def _served(trouble: Trouble, shelf: str, *names: str) -> None:
    for name in names:
        trouble.say(f"/{name}", Answer(content(shelf, name) or b""))


def _film(trouble: Trouble, body: bytes) -> str:
    return trouble.say("/film.mpd", Answer(body, type="text/plain"))


def test_a_server_without_ranges_gives_each_file_once(mudlark: Run, trouble: Trouble) -> None:
    _served(trouble, "on-demand", "picture-360.mp4", "sound.mp4")
    item, _ = _hauled(mudlark, _film(trouble, content("on-demand", "film.mpd") or b""))
    assert (item["verdict"], item["segments"]["missing"]) == ("sound", 0)
    assert trouble.asked.count("/sound.mp4") <= 3  # for the index, the section and the segments


def test_an_index_of_indexes_is_followed_and_one_of_itself_is_not(mudlark: Run, trouble: Trouble) -> None:
    whole = content("on-demand", "picture-360.mp4") or b""
    at = whole.index(b"sidx") - 4
    size = int.from_bytes(whole[at : at + 4], "big")

    def above(length: int) -> bytes:
        row = (1 << 31 | length).to_bytes(4, "big") + (24 * 90_000).to_bytes(4, "big") + bytes(4)
        return full_box("sidx", 0, 0, b"\0\0\0\1", (90_000).to_bytes(4, "big"), bytes(8), b"\0\0\0\1", row)

    outer = above(size)
    text = (content("on-demand", "film.mpd") or b"").decode()
    wider = text.replace(f"{at}-{at + size - 1}", f"{at}-{at + len(outer) - 1}")
    _served(trouble, "on-demand", "sound.mp4")
    trouble.say("/picture-360.mp4", Answer(whole[:at] + outer + whole[at:]))
    item, _ = _hauled(mudlark, _film(trouble, wider.encode()))
    assert item["verdict"] == "sound" and item["tracks"][0]["samples"] == 600
    trouble.say("/picture-360.mp4", Answer(whole[:at] + outer * 9 + whole[at:]))
    ran = mudlark("haul", _film(trouble, wider.encode()), "--into", "other")
    assert ran.status in (1, 5) or "again and again" in ran.err, ran.err


def test_remote_parts_are_put_into_their_places(mudlark: Run, trouble: Trouble) -> None:
    text = (content("numbered", "film.mpd") or b"").decode()
    begin, end = text.index("<Period"), text.index("</Period>") + 9
    trouble.say("/part.xml", Answer(text[begin:end].encode()))
    nothing = '<Period xlink:href="urn:mpeg:dash:resolve-to-zero:2013"/>'
    linked = f'{text[:begin]}{nothing}<Period xlink:href="part.xml" xlink:actuate="onLoad"/>{text[end:]}'
    linked = linked.replace("<MPD ", '<MPD xmlns:xlink="http://www.w3.org/1999/xlink" ')
    for name in ("picture-360", "sound"):
        _served(trouble, "numbered", f"{name}-init.mp4", *(f"{name}-{number:03d}.m4s" for number in range(6)))
    item, _ = _hauled(mudlark, _film(trouble, linked.encode()))
    assert item["verdict"] == "sound" and item["segments"]["fetched"] == 12
    away = linked.replace("part.xml", "file:///etc/passwd")
    assert "no address of the web" in mudlark("haul", _film(trouble, away.encode()), "--into", "other").err


def test_a_last_segment_that_is_only_reckoned_may_be_missing(mudlark: Run, trouble: Trouble) -> None:
    text = (content("numbered", "film.mpd") or b"").replace(b"PT24S", b"PT24.05S")
    for name in ("picture-360", "sound"):
        _served(trouble, "numbered", f"{name}-init.mp4", *(f"{name}-{number:03d}.m4s" for number in range(6)))
    item, _ = _hauled(mudlark, _film(trouble, text))
    assert (item["verdict"], item["segments"]["missing"], item["segments"]["planned"]) == ("sound", 0, 12)


def test_messages_among_the_media_go_into_the_record(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    for name in ("picture-360", "sound"):
        _served(trouble, "numbered", f"{name}-init.mp4", *(f"{name}-{number:03d}.m4s" for number in range(6)))
    head = (1000).to_bytes(4, "big") + (9_480).to_bytes(8, "big") + bytes(8)
    message = full_box("emsg", 1, 0, head, b"urn:tidewrack:bell\x001\0", b"eight bells")
    for name in ("picture-360", "sound"):
        body = content("numbered", f"{name}-002.m4s") or b""
        trouble.say(f"/{name}-002.m4s", Answer(message + body))
    item, _ = _hauled(mudlark, _film(trouble, content("numbered", "film.mpd") or b""))
    assert item["verdict"] == "sound"
    notes = item["source"]["manifest_notes"]
    assert [note["value"] for note in notes] == ["8.000 s, urn:tidewrack:bell 1: eight bells"]


def test_a_representation_may_be_one_plain_file(mudlark: Run, trouble: Trouble) -> None:
    trouble.say("/film.mp4", Answer((MEDIA / "foghorn-demonstration.mp4").read_bytes()))
    text = """<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" mediaPresentationDuration="PT12S"><Period>
<AdaptationSet mimeType="video/mp4"><ContentComponent contentType="video"/><ContentComponent contentType="audio"/>
<Representation id="1" bandwidth="1"><BaseURL>film.mp4</BaseURL></Representation></AdaptationSet></Period></MPD>"""
    item, _ = _hauled(mudlark, _film(trouble, text.encode()))
    assert item["verdict"] == "sound" and [track["type"] for track in item["tracks"]] == ["video", "audio"]
    assert item["duration"] == pytest.approx(12.0, abs=0.1)


def test_picture_and_sound_of_different_families_come_together(mudlark: Run, trouble: Trouble) -> None:
    _served(trouble, "on-demand", "sound.mp4")
    trouble.say("/picture.webm", Answer((MEDIA / "ferry.webm").read_bytes()))
    sound = (content("on-demand", "film.mpd") or b"").decode().partition('<AdaptationSet mimeType="audio')
    text = f"""<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" mediaPresentationDuration="PT24S"><Period>
<AdaptationSet mimeType="video/webm" codecs="vp9"><Representation id="1" bandwidth="1"><BaseURL>picture.webm</BaseURL>
</Representation></AdaptationSet>{sound[1]}{sound[2]}"""
    item, path = _hauled(mudlark, _film(trouble, text.encode()))
    assert (item["verdict"], path.suffix) == ("sound", ".mp4")
    assert "container-chosen" in {note["code"] for note in item["notes"]}


def test_clear_representations_of_a_guarded_film_are_offered(mudlark: Run, trouble: Trouble) -> None:
    text = (content("numbered", "film.mpd") or b"").decode()
    guard = '<ContentProtection schemeIdUri="urn:uuid:9a04f079-9840-4286-ab92-e65be0885f95"/>'
    at = text.index("/>", text.index('id="picture-360"'))
    locked = text[:at] + f">{guard}</Representation>" + text[at + 2 :]
    for name in ("picture-180", "sound"):
        _served(trouble, "numbered", f"{name}-init.mp4", *(f"{name}-{number:03d}.m4s" for number in range(6)))
    refused = mudlark("haul", _film(trouble, locked.encode()), "--into", "kept")
    assert refused.status == 4 and "PlayReady" in refused.err and "v1 (180)" in refused.err
    item, _ = _hauled(mudlark, _film(trouble, locked.encode()), "--rendition", "v1")
    assert item["verdict"] == "sound" and item["tracks"][0]["height"] == 180


def test_a_part_of_a_film_is_named_for_what_it_is(mudlark: Run, trouble: Trouble) -> None:
    for name, kind in (("sound-init.mp4", "an initialization section"), ("sound-000.m4s", "a fragment of a film")):
        body = content("numbered", name) or b""
        trouble.say("/a.mp4", Answer(body, type="video/mp4"))
        page = b'<!doctype html><title>Page</title><video src="/a.mp4"></video>'
        finds = mudlark("sift", trouble.say("/page", Answer(page, type="text/html")), "--json").json["pages"][0][
            "finds"
        ]
        assert finds[0]["role"] == "segment" and any(kind in why for why in finds[0]["why"])
