"""Nothing is lost and nothing mislabelled: what the installed program leaves in a folder, run after run."""

import json
import signal
import subprocess
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from mudlark.demo.site import DemoSite, media_folder
from mudlark.demo.streamed import MEDIA, content
from tests.conftest import PROGRAM, Answer, QuietHandler, Ran, Trouble, own_environment, serving, wait_until
from tests.sounds import noise, wav

pytestmark = pytest.mark.program
Run = Callable[..., Ran]
HORN = (media_folder() / "foghorn-demonstration.mp4").read_bytes()
SHOP = (media_folder() / "gift-shop.mp4").read_bytes()
TALK = (media_folder() / "harbour-talk.mp4").read_bytes()


def folders(folder: Path) -> list[str]:
    return sorted(path.name for path in folder.iterdir() if not path.name.startswith("."))


def media(item: dict[str, list[dict[str, str]]]) -> list[str]:
    return [file["path"] for file in item["files"] if file["role"] == "media"]


def page(trouble: Trouble, path: str, body: str, head: str = "", **headers: str) -> str:
    source = f"<!doctype html><html><head>{head}</head><body>{body}".encode()
    return trouble.say(path, Answer(source, type="text/html; charset=utf-8", headers=headers))


def test_two_films_of_one_title_hauled_at_the_same_time_are_two_items(site: DemoSite, tmp_path: Path) -> None:
    names = ("regatta", "second-regatta")
    command = [str(PROGRAM), "haul", "--into", "kept", "--rate", "400k"]
    running = [
        subprocess.Popen([*command, site.address(name)], cwd=tmp_path, stderr=subprocess.DEVNULL, stdout=-1)
        for name in names
    ]
    for process in running:
        process.communicate(timeout=60)
    assert [process.returncode for process in running] == [0, 0]
    assert folders(tmp_path / "kept") == ["The Regatta", "The Regatta (2)"]
    films = {next(path.glob("*.mp4")).read_bytes() for path in (tmp_path / "kept").glob("The*")}
    assert films == {HORN, TALK}
    assert not (tmp_path / "kept/.mudlark").exists()


def test_finds_that_differ_only_in_their_query_are_all_hauled(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    links = "".join(f'<p><a href="/get.mp4?id={n}">Talk number {n}</a></p>' for n in range(3))
    url = page(trouble, "/talks", links, "<title>Talks</title>")
    trouble.say("/get.mp4", Answer(SHOP, type="video/mp4"))
    one, two = (mudlark("haul", url, "--nth", n, "--json").json["items"][0] for n in (1, 2))
    assert [one["state"], two["state"]] == ["new", "new"] and one["folder"] != two["folder"]
    every = mudlark("haul", url, "--all", "--json").json["items"]
    assert sorted(item["state"] for item in every) == ["new", "unchanged", "unchanged"]
    assert len(folders(tmp_path / "mudlark")) == 3


def test_what_differs_only_in_a_secret_is_two_only_where_the_page_has_both(mudlark: Run, trouble: Trouble) -> None:
    trouble.say("/get.mp4", Answer(SHOP, type="video/mp4"))
    url = page(trouble, "/one", '<video src="/get.mp4?token=a1"></video>', "<title>Shop</title>")
    assert mudlark("haul", url, "--json").json["items"][0]["state"] == "new"
    page(trouble, "/one", '<video src="/get.mp4?token=b2"></video>', "<title>Shop</title>")
    assert mudlark("haul", url, "--json").json["items"][0]["state"] == "unchanged"
    both = '<a href="/get.mp4?session=1">Morning talk</a><a href="/get.mp4?session=2">Evening talk</a>'
    items = mudlark("haul", page(trouble, "/two", both), "--all", "--json").json["items"]
    assert [item["state"] for item in items] == ["new", "new"]


def test_a_damaged_item_is_mended_and_nothing_in_it_is_lost(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    url = site.address("foghorn")
    mudlark("haul", url)
    folder = tmp_path / "mudlark/The Foghorn Demonstration"
    film = folder / "The Foghorn Demonstration.mp4"
    film.write_bytes(b"damaged")
    (folder / "notes.txt").write_bytes(b"mine")
    (folder / "more").mkdir()
    (folder / "more" / "film.mp4").write_bytes(b"mine too")
    ran = mudlark("haul", url, "--json")
    item = ran.json["items"][0]
    assert (item["state"], item["verdict"], ran.status) == ("repaired", "sound", 0)
    assert film.read_bytes() == HORN
    assert (folder / "notes.txt").read_bytes() == b"mine"
    assert (folder / "more" / "film.mp4").read_bytes() == b"mine too"
    assert [path.read_bytes() for path in folder.glob("replaced/*/*.mp4")] == [b"damaged"]
    (note,) = item["notes"]
    assert note["code"] == "replaced" and "replaced/" in note["message"]
    assert folders(tmp_path / "mudlark") == ["The Foghorn Demonstration"]
    assert mudlark("assay", "mudlark").status == 0


def test_an_item_whose_place_is_taken_by_the_user_s_files_is_left_alone(
    mudlark: Run, trouble: Trouble, tmp_path: Path
) -> None:
    url = page(trouble, "/p", '<video src="/a.mp4"></video>', "<title>Mill</title>")
    trouble.say("/a.mp4", Answer(SHOP, type="video/mp4"))
    (tmp_path / "mudlark" / "Mill").mkdir(parents=True)
    (tmp_path / "mudlark" / "Mill" / "Mill.mp4").write_bytes(b"mine")
    assert mudlark("haul", url, "--json").json["items"][0]["folder"] == "mudlark/Mill (2)"
    assert (tmp_path / "mudlark" / "Mill" / "Mill.mp4").read_bytes() == b"mine"


def test_a_film_that_changed_there_stands_dated_beside_the_earlier_one(
    mudlark: Run, site: DemoSite, tmp_path: Path
) -> None:
    url = site.address("forecast")
    first = mudlark("haul", url, "--json").json["items"][0]
    again = mudlark("haul", url, "--json").json["items"][0]
    assert (again["state"], again["by"]) == ("unchanged", "its entity tag")
    site.turn_forecast()
    changed = mudlark("haul", url, "--json").json["items"][0]
    assert changed["state"] == "changed"
    assert changed["folder"] == f"mudlark/The Forecast ({changed_day(tmp_path, changed)})"
    before = (tmp_path / first["folder"] / media(first)[0]).read_bytes()
    assert {before, (tmp_path / changed["folder"] / media(changed)[0]).read_bytes()} == {HORN, TALK}
    assert mudlark("haul", url, "--json").json["items"][0]["state"] == "unchanged"
    wanted = mudlark("haul", url, "--again", "--json").json["items"][0]
    assert wanted["state"] == "again" and len(folders(tmp_path / "mudlark")) == 3


def changed_day(folder: Path, item: dict[str, str]) -> str:
    day: str = json.loads((folder / item["folder"] / "record.json").read_text())["finished"][:10]
    return day


@pytest.mark.parametrize(
    ("headers", "by"),
    [
        ({"Last-Modified": "Tue, 01 Sep 2026 10:00:00 GMT"}, "its date and length and first bytes"),
        ({}, "its bytes"),
        ({"ETag": 'W/"7"'}, "its entity tag"),
    ],
)
def test_it_is_said_by_what_the_server_was_compared(
    mudlark: Run, trouble: Trouble, headers: dict[str, str], by: str
) -> None:
    url = trouble.say("/shop.mp4", Answer(SHOP, type="video/mp4", headers=headers))
    mudlark("haul", url)
    item = mudlark("haul", url, "--json").json["items"][0]
    assert (item["state"], item["by"]) == ("unchanged", by)
    trouble.say("/shop.mp4", Answer(HORN, type="video/mp4", headers=headers))
    assert mudlark("haul", url, "--json").json["items"][0]["state"] == ("changed")


def test_recordings_that_begin_alike_and_differ_in_what_gives_access_are_all_hauled(
    mudlark: Run, trouble: Trouble, tmp_path: Path
) -> None:
    """They are as long, begin with the same silence, and nothing else tells them apart."""
    silence = np.zeros(200_000)
    talks = [wav(np.concatenate([silence, noise(8000, seed)])) for seed in range(3)]
    urls = [trouble.say(f"/talk?session={n}", Answer(talk, type="audio/wav")) for n, talk in enumerate(talks)]
    (tmp_path / "talks.txt").write_text("\n".join(urls))
    one, two = (mudlark("haul", url, "--into", "kept", "--json").json["items"][0] for url in urls[:2])
    assert [one["state"], two["state"]] == ["new", "new"]
    swept = mudlark("sweep", "talks.txt", "--into", "swept", "--json").json["items"]
    assert [item["state"] for item in swept] == ["new"] * 3
    left = {media.read_bytes() for media in (tmp_path / "swept").glob("*/*.wav")}
    assert left == set(talks)
    tagged = [trouble.say(f"/t?session={n}", Answer(SHOP, type="video/mp4", headers={"ETag": '"7"'})) for n in (1, 2)]
    (tmp_path / "tagged.txt").write_text("\n".join(tagged))
    assert [mudlark("haul", url, "--json").json["items"][0]["state"] for url in tagged] == ["new", "unchanged"]
    swept = mudlark("sweep", "tagged.txt", "--into", "rows", "--json").json["items"]
    assert [item["state"] for item in swept] == ["new", "new"]  # whatever their server says, the list has two


@pytest.mark.parametrize("in_parts", [True, False])
def test_a_recording_that_is_renewed_and_begins_as_before_is_seen_to_be_another(mudlark: Run, in_parts: bool) -> None:
    """The latest hour of a station: as long as the one before, with the same tune at its beginning."""
    tune = noise(200_000)
    hours = [wav(np.concatenate([tune, noise(200_000, seed)])) for seed in (2, 3)]
    hour = hours[0]

    class Handler(QuietHandler):
        def do_GET(self) -> None:
            span = self.headers.get("Range") if in_parts else None
            first, last = (int(part) for part in span[6:].split("-")) if span else (0, len(hour) - 1)
            body = hour[first : last + 1]
            self.send_response(206 if span else 200)
            self.send_header("Content-Length", str(len(body)))
            if span:
                self.send_header("Content-Range", f"bytes {first}-{first + len(body) - 1}/{len(hour)}")
            self.end_headers()
            self.wfile.write(body)

    with serving(Handler) as server:
        states = [mudlark("haul", f"{server}/latest.wav", "--json").json["items"][0]["state"]]
        again = mudlark("haul", f"{server}/latest.wav", "--json").json["items"][0]
        assert again["by"] == ("its length and its bytes at three places" if in_parts else "its bytes, fetched anew")
        hour = hours[1]
        states += [again["state"], mudlark("haul", f"{server}/latest.wav", "--json").json["items"][0]["state"]]
    assert states == ["new", "unchanged", "changed"]


def test_a_new_tag_on_the_same_bytes_is_no_change(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    url = trouble.say("/shop.mp4", Answer(SHOP, type="video/mp4", headers={"ETag": '"1"'}))
    mudlark("haul", url)
    trouble.say("/shop.mp4", Answer(SHOP, type="video/mp4", headers={"ETag": '"2"'}))
    item = mudlark("haul", url, "--json").json["items"][0]
    assert (item["state"], item["by"]) == ("unchanged", "its bytes, fetched anew")
    assert folders(tmp_path / "mudlark") == ["shop"]


def test_a_stream_whose_segments_changed_is_noticed(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    from tests.streams import demo_segment

    lines = [
        "#EXTM3U",
        "#EXT-X-TARGETDURATION:4",
        *(f"#EXTINF:4.0,\npart-{n}.ts" for n in range(3)),
        "#EXT-X-ENDLIST",
    ]
    url = trouble.say("/mill/list.m3u8", Answer("\n".join(lines).encode()))
    for number in range(3):
        trouble.say(f"/mill/part-{number}.ts", Answer(demo_segment(number, 180)))
    mudlark("haul", url, "--title", "Mill")
    item = mudlark("haul", url, "--title", "Mill", "--json").json["items"][0]
    assert (item["state"], item["by"]) == ("unchanged", "its manifest and its first and last segment")
    for number in range(3):
        trouble.say(f"/mill/part-{number}.ts", Answer(demo_segment(number + 3, 180)))
    item = mudlark("haul", url, "--title", "Mill", "--json").json["items"][0]
    assert item["state"] == "changed" and item["segments"]["fetched"] == 3
    assert len(folders(tmp_path / "mudlark")) == 2


def test_page_images_as_a_document_and_as_pictures_are_items_of_their_own(
    mudlark: Run, trouble: Trouble, tmp_path: Path
) -> None:
    from io import BytesIO

    from PIL import Image

    from tests.captures import entry, write

    entries = [entry(f"{trouble.url}/book", "text/html", "<title>The Book</title><p>Leaves")]
    for number in range(1, 6):
        data = BytesIO()
        Image.effect_noise((600, 800), 60 + number).save(data, "JPEG", quality=90)
        trouble.say(f"/leaf-{number}.jpg", Answer(data.getvalue(), type="image/jpeg"))
        entries.append(entry(f"{trouble.url}/leaf-{number}.jpg", "image/jpeg", size=len(data.getvalue())))
    write(tmp_path, entries)
    bound = mudlark("haul", "--har", "capture.har", "--json").json["items"][0]
    loose = mudlark("haul", "--har", "capture.har", "--as", "images", "--json").json["items"][0]
    assert [bound["state"], loose["state"]] == ["new", "new"] and bound["folder"] != loose["folder"]
    assert (tmp_path / bound["folder"] / media(bound)[0]).suffix == ".pdf" and len(media(loose)) == 5
    assert mudlark("haul", "--har", "capture.har", "--json").json["items"][0]["state"] == "unchanged"
    assert (tmp_path / bound["folder"] / media(bound)[0]).exists()


@pytest.mark.parametrize(
    ("command", "option"),
    [(("sift",), "--csv"), (("guises",), "--csv"), (("listen",), "--har"), (("peek",), "--sheet")],
)
def test_a_file_that_is_there_is_refused_before_any_work(
    mudlark: Run, trouble: Trouble, tmp_path: Path, command: tuple[str, ...], option: str
) -> None:
    url = page(trouble, "/p", "nothing")
    (tmp_path / "mine").write_bytes(b"mine")
    ran = mudlark(*command, url, option, "mine", "--json")
    assert ran.status == 2 and trouble.asked == []
    assert ran.json["problems"][0]["code"] == "usage" and "--replace" in ran.json["problems"][0]["advice"]
    assert (tmp_path / "mine").read_bytes() == b"mine"


def test_files_keep_the_names_that_they_were_given(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    trouble.say("/20240101_120000.mp4", Answer(SHOP, type="video/mp4"))
    item = mudlark("haul", trouble.url + "/20240101_120000.mp4", "--json").json["items"][0]
    assert (item["folder"], media(item)) == ("mudlark/20240101_120000", ["20240101_120000.mp4"])
    served = {"Content-Disposition": "attachment; filename*=UTF-8''tide__mill%20(1931).mp4"}
    trouble.say("/get", Answer(SHOP, type="video/mp4", headers=served))
    item = mudlark("haul", trouble.url + "/get?id=3", "--json").json["items"][0]
    assert (item["folder"], media(item)) == ("mudlark/tide__mill (1931)", ["tide__mill (1931).mp4"])
    trouble.say("/record.json", Answer(b'{"tides": []}', type="application/octet-stream", headers={
        "Content-Disposition": "attachment; filename=record.json"}))  # fmt: skip
    item = mudlark("haul", trouble.url + "/record.json", "--json").json["items"][0]
    assert media(item) == ["record (2).json"] and (tmp_path / item["folder"] / "record.json").exists()


def test_several_files_of_a_page_are_each_named_for_themselves(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    links = '<a href="/a1.mp4">The tide mill</a><p><a href="/b2.mp4">Download MP4</a>'
    url = page(trouble, "/p", links, "<title>Films</title>")
    for name in ("a1", "b2"):
        trouble.say(f"/{name}.mp4", Answer(SHOP, type="video/mp4"))
    items = mudlark("haul", url, "--all", "--json").json["items"]
    assert sorted(item["folder"] for item in items) == ["mudlark/The tide mill", "mudlark/b2"]


def test_entries_of_a_feed_give_their_items_their_titles(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    refused = mudlark("haul", site.address("feed"), "--json")
    assert refused.status == 2 and "--all" in refused.json["problems"][0]["advice"]
    assert not (tmp_path / "mudlark").exists()
    items = mudlark("haul", site.address("feed"), "--all", "--json").json["items"]
    assert [item["title"] for item in items] == ["A Talk on the Harbour Wall", "Lighting the Lamp"]


def test_subtitles_and_poster_of_a_page_are_kept_with_the_film(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    item = mudlark("haul", site.address("wall-talk"), "--json").json["items"][0]
    title = "The Wall, in Two Languages"
    beside = {file["path"]: (file["role"], file.get("language")) for file in item["files"] if file["role"] != "media"}
    assert beside == {
        f"{title}.en.vtt": ("subtitle", "en"),
        f"{title}.cy.vtt": ("subtitle", "cy"),
        f"{title}.poster.png": ("poster", None),
        "page/page.html": ("page", None),
        "requests.jsonl": ("requests", None),
    }
    assert "Codwyd y wal" in (tmp_path / item["folder"] / f"{title}.cy.vtt").read_text()
    assert mudlark("assay", "mudlark").status == 0


def test_subtitles_that_cannot_be_had_are_a_flaw(mudlark: Run, trouble: Trouble) -> None:
    trouble.say("/a.mp4", Answer(SHOP, type="video/mp4"))
    trouble.say("/en.vtt", Answer(b"<!doctype html>Log in", type="text/html"))
    url = page(trouble, "/p", '<video src="/a.mp4"><track src="/en.vtt" srclang="en"></video>', "<title>Mill</title>")
    ran = mudlark("haul", url, "--json")
    assert ran.status == 1 and ran.json["items"][0]["verdict"] == "flawed"
    assert [problem["code"] for problem in ran.json["items"][0]["problems"]] == ["subtitle-missing"]


def test_what_came_whole_but_cannot_be_looked_into_is_unproven(mudlark: Run, trouble: Trouble) -> None:
    url = trouble.say("/horn.mp3", Answer(b"ID3" + bytes(5_000), type="audio/mpeg"))
    ran = mudlark("haul", url, "--json")
    item = ran.json["items"][0]
    assert (ran.status, item["verdict"], item["problems"]) == (1, "unproven", [])
    assert [note["code"] for note in item["notes"]] == ["unproven"]
    assayed = mudlark("assay", "mudlark", "--json")
    assert (assayed.status, assayed.json["items"][0]["verdict"]) == (1, "unproven")
    named = trouble.say("/tides.tar.gz", Answer(b"a,b\n1,2\n", type="application/gzip"))
    assert mudlark("haul", named, "--json").json["items"][0]["verdict"] == "flawed"


def test_secrets_are_hidden_in_everything_that_stays(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    from tests.streams import demo_segment

    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4", "#EXTINF:4.0,", "a.ts?hdnts=lantern", "#EXT-X-ENDLIST"]
    trouble.say("/s/list.m3u8", Answer("\n".join(lines).encode()))
    trouble.say("/s/a.ts", Answer(demo_segment(0, 180)))
    url = page(trouble, "/p", '<video src="/s/list.m3u8?Policy=lantern&id=7"></video>', "<title>Mill</title>")
    arguments = ("--header", "Cookie: key=lantern", "--log", "log.jsonl", "--json")
    ran = mudlark("haul", f"{url}?access_token=lantern", *arguments)
    assert ran.status == 0, ran.err
    kept = [
        path.read_text(errors="replace")
        for path in (tmp_path / "mudlark").rglob("*")
        if path.suffix != ".mp4" and path.is_file()
    ]
    assert len(kept) == 5 and not any("lantern" in text for text in kept)
    assert sum("hidden-" in text for text in kept) == 4  # all but the digests
    log = (tmp_path / "log.jsonl").read_text()
    assert "lantern" not in log and all(json.loads(line)["event"] for line in log.splitlines())
    assert "id=7" in log
    assert mudlark("haul", f"{url}?access_token=other", "--json").json["items"][0]["state"] == "unchanged"
    mudlark("haul", f"{url}?access_token=lantern", "--again", "--keep-secrets")
    assert "lantern" in next((tmp_path / "mudlark").glob("Mill (*/record.json")).read_text()


def test_addresses_that_differ_in_a_secret_looking_name_alone_are_two(mudlark: Run, tmp_path: Path) -> None:
    class Handler(QuietHandler):
        def do_GET(self) -> None:
            path, _, query = self.path.partition("?")
            number = int(query[-1:] or 0)
            if path.endswith("m3u8"):
                rows = "".join(f"#EXTINF:4.0,\npart-{n}.ts?{query}\n" for n in range(2))
                body = f"#EXTM3U\n#EXT-X-TARGETDURATION:4\n{rows}#EXT-X-ENDLIST\n".encode()
            elif path.endswith("ts"):
                body = content("defined", f"mill-{(int(path[-4]) + number) % 6}.ts") or b""
            else:
                body = HORN + (8 + number).to_bytes(4, "big") + b"free" + bytes(number)
            self.send_response(200)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

    with serving(Handler) as server:
        for name in ("talk.mp4?session=", "list.m3u8?sid=", "list.m3u8?token="):
            items = [
                mudlark("haul", f"{server}/{name}{n}", "--into", "kept", "--title", name[:4], "--json").json["items"][0]
                for n in (1, 2, 1)
            ]
            assert [one["state"] for one in items] == ["new", "new", "unchanged"], items
            assert items[0]["folder"] == items[2]["folder"] != items[1]["folder"]
            digests = [one["files"][0]["sha256"] for one in items]
            assert digests[0] == digests[2] != digests[1]
            assert items[1]["segments"]["reused"] == 0


def test_a_file_whose_link_is_another_each_time_is_gone_on_with(mudlark: Run, tmp_path: Path) -> None:
    film = HORN + (8 + 9_000_000).to_bytes(4, "big") + b"free" + bytes(range(250)) * 36_000
    asked: list[tuple[int, int]] = []
    failing, visits = True, 0

    class Handler(QuietHandler):
        def do_GET(self) -> None:
            nonlocal visits
            status, body, fields = 200, b"", {"ETag": '"one"', "Accept-Ranges": "bytes"}
            if self.path == "/page":
                visits += 1
                body, fields = f"<video src='/f.mp4?token={visits}'>".encode(), {"Content-Type": "text/html"}
            elif not self.path.endswith(f"token={visits}"):
                status = 403
            elif (span := self.headers.get("Range")) is None:
                body = film
            else:
                first, last = (int(part) for part in span[6:].split("-"))
                if failing and first >= 3_000_000:
                    status = 404
                else:
                    asked.append((first, last))
                    status, body = 206, film[first : last + 1]
                    fields["Content-Range"] = f"bytes {first}-{first + len(body) - 1}/{len(film)}"
            self.send_response(status)
            for name, value in {**fields, "Content-Length": str(len(body))}.items():
                self.send_header(name, value)
            self.end_headers()
            self.wfile.write(body)

    with serving(Handler) as server:
        command = ("haul", f"{server}/page", "--into", "kept", "--tries", "1", "--json")
        assert mudlark(*command).status != 0
        failing, before = False, sum(last - first + 1 for first, last in asked if first or last > 70_000)
        asked.clear()
        (item,) = mudlark(*command).json["items"]
    assert item["verdict"] == "sound" and (tmp_path / item["folder"] / item["files"][0]["path"]).read_bytes() == film
    again = sum(last - first + 1 for first, last in asked if first or last > 70_000)
    assert before >= 2_000_000 and again < len(film) - before + 2_000_000, (before, again)
    assert not (tmp_path / "kept/.mudlark").exists()


def test_what_is_done_when_it_is_interrupted_is_told(trouble: Trouble, tmp_path: Path) -> None:
    held = [Answer(SHOP, type="video/mp4"), Answer(SHOP, type="video/mp4", hold=300)]
    trouble.say("/taken-first.mp4", Answer(HORN, type="video/mp4"))
    trouble.say("/held.mp4", *held)
    page = b"<!doctype html><title>Two</title><video src='/taken-first.mp4'></video><video src='/held.mp4'></video>"
    url = trouble.say("/page", Answer(page, type="text/html"))
    command = [str(PROGRAM), "haul", url, "--all", "--into", "kept", "--json"]
    with subprocess.Popen(
        command, cwd=tmp_path, env=own_environment(tmp_path), stdout=subprocess.PIPE, stderr=subprocess.PIPE
    ) as program:
        wait_until(lambda: list(tmp_path.glob("kept/*/record.json")))
        wait_until(lambda: trouble.asked[-1] == "/held.mp4")
        program.send_signal(signal.SIGINT)
        out, _ = program.communicate()
    document = json.loads(out)
    assert program.returncode == 130 and len(document["items"]) == 1 and document["items"][0]["folder"]
    assert [one["code"] for one in document["problems"]] == ["interrupted"]


def test_what_nobody_sized_is_named_where_sizes_decide(mudlark: Run, trouble: Trouble) -> None:
    trouble.say("/known.mp4", Answer(HORN, type="video/mp4"))
    trouble.say("/refused.mp4", Answer(b"", 403))
    page = b"<!doctype html><video src='/known.mp4'></video><video src='/refused.mp4'></video>"
    ran = mudlark("sift", trouble.say("/page", Answer(page, type="text/html")), "--larger-than", "1k", "--json")
    assert [one["url"] for one in ran.json["pages"][0]["finds"]] == [trouble.url + "/known.mp4"]
    assert "nobody says" in ran.err and "/refused.mp4" in ran.err and "/known.mp4" not in ran.err


def test_the_tracks_of_a_webm_on_a_server_are_told(mudlark: Run, trouble: Trouble) -> None:
    film = (MEDIA / "ferry.webm").read_bytes()
    facts = mudlark("tracks", trouble.say("/ferry.webm", Answer(film, type="video/webm")), "--json").json
    (track,) = facts["tracks"]
    assert track["type"] == "video" and track["codecs"][0].startswith("vp09") and facts["duration"] > 1
