"""Direct files: in parts where that is safe, resumed with only what is missing, never mixed, checked to the byte."""

import base64
import gzip
import hashlib
import io
import json
import re
import shutil
import signal
import subprocess
import time
import zipfile
import zlib
from collections.abc import Callable
from http.server import ThreadingHTTPServer
from pathlib import Path
from threading import Event, Thread

import pytest

from mudlark.demo.hidden import MEMBERS_COOKIE
from mudlark.demo.site import DISK_IMAGE, DemoSite, disk_bytes, media_folder
from mudlark.media.sniff import right_extension
from mudlark.web.digest import stated_digests
from mudlark.web.transport import _undone, _unpackers
from tests.conftest import PROGRAM, SOON, Answer, QuietHandler, Ran, Trouble, wait_until

pytestmark = pytest.mark.program
Run = Callable[..., Ran]


class Depot:
    """A server of one file with ranges, whose content and entity tag a test can change at any moment."""

    def __init__(self, body: bytes, tag: str | None = '"1"') -> None:
        self.body, self.tag = body, tag
        self.ranges: list[str] = []
        self.conditions: list[str] = []
        self.served = 0
        self.hold_after: int | None = None
        self.change_after: tuple[int, bytes, str] | None = None
        self.extra: dict[str, str] = {}
        self._wake = Event()
        depot = self

        class Handler(QuietHandler):
            def do_GET(self) -> None:
                asked = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("Range", ""))
                condition = self.headers.get("If-Range")
                depot.served += 1
                if condition:
                    depot.conditions.append(condition)
                if depot.change_after and depot.served > depot.change_after[0]:
                    _, depot.body, depot.tag = depot.change_after
                if depot.hold_after is not None and depot.served > depot.hold_after:
                    depot._wake.wait(300)
                body, status = depot.body, 200
                headers = dict(depot.extra)
                if depot.tag:
                    headers["ETag"] = depot.tag
                    headers["Accept-Ranges"] = "bytes"
                if asked and depot.tag and (condition is None or condition == depot.tag):
                    first, last = int(asked[1]), min(int(asked[2] or len(body)), len(body) - 1)
                    headers["Content-Range"] = f"bytes {first}-{last}/{len(body)}"
                    body, status = body[first : last + 1], 206
                    depot.ranges.append(asked[0])
                self.send_response(status)
                for name, value in {**headers, "Content-Length": str(len(body))}.items():
                    self.send_header(name, value)
                self.end_headers()
                self.wfile.write(body)

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        Thread(target=self._server.serve_forever, args=(SOON,), daemon=True).start()
        self.url = f"http://127.0.0.1:{self._server.server_port}/image.img"

    def release(self) -> None:
        self.hold_after = None
        self._wake.set()

    def __enter__(self) -> "Depot":
        return self

    def __exit__(self, *_: object) -> None:
        self._wake.set()
        self._server.shutdown()
        self._server.server_close()


def kept(folder: Path) -> bytes:
    """The one media file that was hauled."""
    record = json.loads(next(folder.glob("kept/*/record.json")).read_text())
    name = next(file["path"] for file in record["files"] if file["role"] == "media")
    return next(folder.glob("kept/*/record.json")).parent.joinpath(name).read_bytes()


BODY = disk_bytes(0, 9_000_123)


def test_a_large_file_comes_in_parts_that_name_the_validator(mudlark: Run, tmp_path: Path) -> None:
    with Depot(BODY) as depot:
        ran = mudlark("haul", depot.url, "--into", "kept", "--json")
        assert ran.status == 1 and kept(tmp_path) == BODY
        assert ran.json["items"][0]["verdict"] == "unproven"  # whole, but nobody can look into it
        assert len(depot.conditions) == 9 and set(depot.conditions) == {'"1"'}
        assert ran.json["items"][0]["segments"]["planned"] == 9


@pytest.mark.parametrize("tag", [None, 'W/"weak"'])
def test_without_a_strong_validator_it_comes_in_one_stream(mudlark: Run, tmp_path: Path, tag: str | None) -> None:
    with Depot(BODY, tag) as depot:
        ran = mudlark("haul", depot.url, "--into", "kept", "--json")
        assert ran.status == 1 and kept(tmp_path) == BODY
        assert ran.json["items"][0]["segments"]["planned"] == 1


def test_after_a_kill_only_what_is_missing_is_asked_for(mudlark: Run, tmp_path: Path) -> None:
    with Depot(BODY) as depot:
        depot.hold_after = 8  # three to look, five parts
        command = [str(PROGRAM), "haul", depot.url, "--into", "kept"]
        with subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.DEVNULL) as process:
            wait_until(lambda: depot.served > 8)
            time.sleep(3)  # until what came is written down
            process.send_signal(signal.SIGKILL)
        depot.release()
        depot.conditions.clear()
        item = mudlark("haul", depot.url, "--into", "kept", "--json").json["items"][0]
        assert item["verdict"] == "unproven" and kept(tmp_path) == BODY
        assert item["segments"]["reused"] == 5 and len(depot.conditions) == 4


def test_what_is_removed_while_it_is_fetched_ends_the_haul_and_all_its_lanes(mudlark: Run, tmp_path: Path) -> None:
    with Depot(BODY) as depot:
        depot.hold_after = 6
        command = [str(PROGRAM), "haul", depot.url, "--into", "kept"]
        with subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.PIPE, text=True) as process:
            wait_until(lambda: depot.served > 6)
            wait_until(lambda: list(tmp_path.glob("kept/.mudlark/*/segments/file-??????")))
            shutil.rmtree(tmp_path / "kept")
            depot.release()
            _, said = process.communicate(timeout=60)
        assert process.returncode == 6 and "moved or removed meanwhile" in said and "Traceback" not in said, said
        assert mudlark("haul", depot.url, "--into", "kept").status == 1 and kept(tmp_path) == BODY


def test_parts_of_two_versions_are_never_mixed(mudlark: Run, tmp_path: Path) -> None:
    other = disk_bytes(8_000, 9_500_000)
    with Depot(BODY) as depot:
        depot.change_after = (6, other, '"2"')
        ran = mudlark("haul", depot.url, "--into", "kept", "--json", "--lanes", 2)
        assert ran.status == 1 and ran.json["items"][0]["verdict"] == "unproven", ran.err
        assert kept(tmp_path) == other


def test_a_file_that_changed_between_two_runs_begins_anew(mudlark: Run, tmp_path: Path) -> None:
    with Depot(BODY) as depot:
        depot.hold_after = 6
        command = [str(PROGRAM), "haul", depot.url, "--into", "kept"]
        with subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.DEVNULL) as process:
            wait_until(lambda: list(tmp_path.glob("kept/.mudlark/*/segments/file-??????")))
            process.send_signal(signal.SIGKILL)
        other = disk_bytes(80_000, 9_000_123)
        depot.body, depot.tag = other, '"2"'
        depot.release()
        item = mudlark("haul", depot.url, "--into", "kept", "--json").json["items"][0]
        assert item["segments"]["reused"] == 0 and kept(tmp_path) == other


@pytest.mark.parametrize("name", ["Repr-Digest", "Content-Digest", "Content-MD5"])
def test_a_digest_that_the_server_states_is_checked(mudlark: Run, tmp_path: Path, name: str) -> None:
    body = b"\x7fELF" + bytes(3_000_000)  # more than the head that is looked at
    right = base64.b64encode(hashlib.sha256(body).digest()).decode()
    value = {"Content-MD5": base64.b64encode(hashlib.md5(body).digest()).decode()}.get(name, f"sha-256=:{right}:")
    for number, (stated, status) in enumerate(((value, 0), (value.replace(value[12], "A", 1), 1))):
        if stated == value and number:
            continue
        with Depot(body, None) as depot:
            depot.extra = {name: stated}
            ran = mudlark("haul", depot.url, "--into", f"kept{number}", "--json")
            assert ran.status == status, ran.out
            checks = {check["name"]: check["outcome"] for check in ran.json["items"][0]["checks"]}
            assert checks["stated-digest"] == ("passed" if not status else "failed")
    assert not [p for p in (tmp_path / "kept1").iterdir() if not p.name.startswith(".")]


def test_the_digest_that_the_user_expects_decides(mudlark: Run, tmp_path: Path) -> None:
    with Depot(BODY) as depot:
        wrong = mudlark("haul", depot.url, "--into", "kept", "--expect", "sha256:" + "0" * 64)
        assert wrong.status == 1 and "as you expect" in wrong.out and not list(tmp_path.glob("kept/*/record.json"))
        right = mudlark("haul", depot.url, "--into", "kept", "--expect", "sha256:" + hashlib.sha256(BODY).hexdigest())
        assert right.status == 0
        assert mudlark("haul", depot.url, "--into", "kept", "--expect", "sha256:12").status == 2


def test_digest_fields_are_read_as_their_standards_have_them() -> None:
    sha = base64.b64encode(bytes(32)).decode()
    headers = {"content-digest": f"sha-256=:{sha}:, unixsum=:AAA=:", "repr-digest": "sha-512=:bad:"}
    assert stated_digests(headers, whole=True) == {"sha256": "00" * 32}
    assert stated_digests(headers, whole=False) == {}
    assert stated_digests({"digest": f"SHA-256={sha}"}, whole=False) == {"sha256": "00" * 32}


@pytest.mark.parametrize(
    ("form", "given", "right"),
    [
        ("mp4", "", ".mp4"),
        ("mp4", ".php", ".mp4"),
        ("mp4", ".M4V", ".M4V"),
        ("zip", ".epub", ".epub"),
        ("jpeg", ".png", ".jpg"),
        ("unknown", ".img", ".img"),
        ("png", ".PNG", ".PNG"),
        ("gzip", ".mp4", ".mp4.gz"),
        ("gzip", ".svgz", ".svgz"),
        ("xz", ".warc", ".warc"),
    ],
)
def test_the_extension_follows_from_the_countwhen_the_name_lies(form: str, given: str, right: str) -> None:
    assert right_extension(form, given) == right


# Every exhibit of the demo museum that ends in a file.


@pytest.mark.parametrize(
    ("name", "file"),
    [
        ("decoys", "Three Hundred Shells.mp4"),
        ("entities", "Lighting the Lamp.mp4"),
        ("json-ld", "Letters from the Lightship.mp4"),
        ("frames", "A Walk round the Quay.mp4"),
        ("attributes", "Making Rope.mp4"),
        ("base64", "The Mill by Night.mp4"),
        ("embed", "Mending Nets.mp4"),
        ("pictures", "wreck-chart.png"),
        ("builds", "field-guide-2.4-windows-x86.zip"),
        ("nameless", "Sound of the Bell Buoy.mp4"),
        ("disposition", "Kærvik – the keeper’s map.png"),
        ("redirects", "Gulls at Dusk.mp4"),
    ],
)
def test_every_exhibit_gives_the_right_file(mudlark: Run, site: DemoSite, tmp_path: Path, name: str, file: str) -> None:
    ran = mudlark("haul", site.address(name), "--into", "kept", "--json")
    assert ran.status == 0, ran.out + ran.err
    files = {file["role"]: Path(file["path"]).name for file in ran.json["items"][0]["files"]}
    assert files["media"] == file


def test_the_disk_image_is_whole_to_the_byte(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    expected = hashlib.sha256(disk_bytes(0, DISK_IMAGE)).hexdigest()
    url = f"{site.origins.media}/images/gallery-computer.img"
    ran = mudlark("haul", url, "--into", "kept", "--expect", f"sha256:{expected}", "--json")
    assert ran.status == 0 and ran.json["items"][0]["segments"]["fetched"] > 1  # in parts, as large as the speed is


def test_the_members_page_opens_with_its_cookie_only(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    url = site.address("members")
    refused = mudlark("sift", url)
    assert refused.status == 3 and "asks for a log-in" in refused.err and "--cookie-file" in refused.err
    name, value = MEMBERS_COOKIE
    jar = tmp_path / "cookies.txt"
    for host, path, status in (("127.0.0.1", "/members", 0), ("127.0.0.1", "/shop", 3), ("other.example", "/", 3)):
        jar.write_text(f"# Netscape HTTP Cookie File\n{host}\tFALSE\t{path}\tFALSE\t0\t{name}\t{value}\n")
        assert mudlark("sift", url, "--cookie-file", jar).status == status, (host, path)
    jar.write_text("not cookies")
    assert mudlark("sift", url, "--cookie-file", jar).status == 2


def test_the_broken_button_s_twins_are_listed_live_ones_first(mudlark: Run, site: DemoSite) -> None:
    ran = mudlark("sift", site.address("builds"), "--button", "Download field guide", "--json")
    pointed = ran.json["pages"][0]["button"]["points_to"]
    assert ran.status == 0 and [entry["status"] for entry in pointed] == [200, 200, 200, 404]
    assert [entry["tells"] for entry in pointed[:3]] == [["windows", "x86"], ["windows", "x64"], ["mac"]]
    assert pointed[3]["own"] and not any("tide-tables" in entry["url"] for entry in pointed)
    by_selector = mudlark("sift", site.address("builds"), "--button", "button[data-file]", "--json")
    assert by_selector.json["pages"][0]["button"]["text"] == "Download field guide"
    missing = mudlark("sift", site.address("builds"), "--button", "Buy")
    assert missing.status == 2 and "'Download field guide'" in missing.err


def test_finds_are_chosen_by_number_text_or_all(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    url = site.address("builds")
    titles = [item["title"] for item in mudlark("haul", url, "--into", "a", "--nth", 2, "--json").json["items"]]
    assert titles == ["field guide 2.4 windows x64"]
    titles = [item["title"] for item in mudlark("haul", url, "--into", "b", "--match", "mac", "--json").json["items"]]
    assert titles == ["field guide 2.4 mac"]
    every = mudlark("haul", url, "--into", "c", "--all", "--match", "field-guide", "--json")
    assert len([item for item in every.json["items"] if item["verdict"] == "sound"]) == 3
    assert mudlark("haul", url, "--into", "d", "--nth", 99).status == 2
    assert mudlark("haul", url, "--into", "d", "--match", "nothing").status == 3


def test_filters_of_sift(mudlark: Run, site: DemoSite) -> None:
    url = site.address("decoys")
    films = mudlark("sift", url, "--kind", "video", "--no-probe", "--json").json["pages"][0]["finds"]
    assert [find["kind"] for find in films] == ["video"]
    listed = mudlark("sift", url, "--most", 5, "--no-probe").out
    assert "296 more" in listed
    assert mudlark("sift", url, "--kind", "dash", "--no-probe").status == 3
    unasked = mudlark("sift", url, "--no-probe", "--json").json["pages"][0]["finds"]
    assert all(find["status"] is None for find in unasked)
    by_size = mudlark("sift", url, "--sort", "size", "--json").json["pages"][0]["finds"]
    sizes = [find["bytes"] for find in by_size]
    asked = [size for size in sizes if size is not None]  # on a busy machine not all: there is an end to asking
    assert len(sizes) == 301 and len(asked) > 30 and sizes == sorted(asked, reverse=True) + [None] * (301 - len(asked))
    why = mudlark("sift", url, "--why", "--kind", "video", "--no-probe").out
    assert re.search(r"\+40  a video file", why)


def test_codings_that_unpack_to_far_more_are_undone_in_small_parts() -> None:
    vast, count = gzip.compress(gzip.compress(bytes(300_000_000), 9), 9), 0
    unpackers = _unpackers({"content-encoding": "gzip, x-gzip"})
    for part in _undone(vast, unpackers):
        assert len(part) <= 256 * 1024
        count += len(part)
    assert count == 300_000_000 and all(one.eof for one in unpackers) and len(vast) < 20_000
    with pytest.raises(zlib.error, match="behind its end"):
        list(_undone(gzip.compress(b"a") + gzip.compress(b"b"), _unpackers({"content-encoding": "x-gzip"})))


@pytest.mark.parametrize(
    ("coding", "times"), [("gzip", 1), ("x-gzip", 1), ("gzip, gzip", 2), ("identity, X-GZIP", 1), ("utf-8", 0)]
)
def test_codings_are_undone_whatever_they_are_called(
    mudlark: Run, trouble: Trouble, tmp_path: Path, coding: str, times: int
) -> None:
    film = (media_folder() / "gift-shop.mp4").read_bytes()
    body = film
    for _ in range(times):
        body = gzip.compress(body, 1)
    url = trouble.say("/shop.mp4", Answer(body, type="video/mp4", headers={"Content-Encoding": coding}))
    assert mudlark("haul", url, "--into", "kept").status == 0
    assert (tmp_path / "kept" / "shop" / "shop.mp4").read_bytes() == film
    if times:
        trouble.say("/shop.mp4", Answer(body[:-20], type="video/mp4", headers={"Content-Encoding": coding}))
        assert mudlark("haul", url, "--into", "other", "--tries", 1).status in (1, 5)
        assert not (tmp_path / "other" / "shop").exists()


def test_pasted_junk_is_cleaned_and_said(mudlark: Run, site: DemoSite) -> None:
    ran = mudlark("sift", f"GET {site.address('foghorn')} HTTP/1.1", "--json")
    assert ran.status == 0 and "out of 'GET … HTTP/1.1'" in ran.err


def test_what_is_inside_an_archive_is_said_and_damage_is_seen(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w") as archive:
        archive.writestr("log/1884.txt", "fog " * 500)
    whole = bytearray(data.getvalue())
    ran = mudlark("haul", trouble.say("/log.zip", Answer(bytes(whole))), "--into", "kept", "--json")
    assert ran.json["items"][0]["contents"] == [["log/1884.txt", 2000]]
    whole[60] ^= 1
    ran = mudlark("haul", trouble.say("/torn.zip", Answer(bytes(whole))), "--into", "kept", "--json")
    assert ran.status == 1 and ran.json["items"][0]["verdict"] == "broken"


def test_countthat_are_no_film_are_not_kept_as_one(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    empty = mudlark("haul", trouble.say("/empty.mp4", Answer(b"", type="video/mp4")), "--into", "kept")
    assert empty.status == 3 and "0 bytes" in empty.err
    noise = mudlark(
        "haul", trouble.say("/noise.mp4", Answer(bytes(range(256)) * 40, type="video/mp4")), "--into", "kept"
    )
    assert noise.status == 1 and "unknown bytes came" in noise.out
    assert not list(tmp_path.glob("kept/*/record.json"))


def test_a_page_without_end_is_bounded(mudlark: Run, trouble: Trouble) -> None:
    url = trouble.say("/long", Answer(b"<!doctype html><p>" + b"tide " * 5_000_000, type="text/html"))
    ran = mudlark("sift", url)
    assert ran.status == 5 and "more than 20 MB of text" in ran.err


def test_a_small_body_that_expands_without_end_is_bounded(mudlark: Run, trouble: Trouble) -> None:
    body = gzip.compress(b"<!doctype html>" + b" " * 200_000_000, 9)
    url = trouble.say("/bomb", Answer(body, type="text/html", headers={"Content-Encoding": "gzip"}))
    ran = mudlark("sift", url)
    assert ran.status == 5 and "more than 20 MB of text" in ran.err


def test_redirects_in_a_circle_are_said(mudlark: Run, trouble: Trouble) -> None:
    url = trouble.say("/a", Answer(b"", 302, headers={"Location": "/a"}))
    ran = mudlark("sift", url)
    assert ran.status == 5 and "redirects in a circle" in ran.err


def test_control_characters_of_a_page_never_reach_the_terminal(mudlark: Run, trouble: Trouble) -> None:
    source = "<title>\x1b[2Jwiped\u202e</title><video src='/a\x1b[31m.mp4'></video><a href='/b.mp4'>\x07bell</a>"
    url = trouble.say("/page", Answer(source.encode(), type="text/html; charset=utf-8"))
    ran = mudlark("sift", url, "--why")
    assert not re.search(r"[\x00-\x09\x0b-\x1f\x7f\u202e]", ran.out), ran.out
