"""What strangers' servers, streams and shelves do on purpose, through the installed program: words, bounds, no harm."""

import hashlib
import json
import os
import socket
import sqlite3
import stat
import struct
import subprocess
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

from mudlark.archive.assay import assay
from mudlark.archive.bagcheck import check_bag
from mudlark.archive.layout import CHECKSUMS, HISTORY, RECORD
from mudlark.archive.ledger import read_ledger
from mudlark.archive.record import read_record
from mudlark.archive.sidecar import mend_checksums
from mudlark.archive.tree import below, files_below
from mudlark.demo.streamed import MEDIA
from mudlark.errors import MudlarkError
from mudlark.fetch.store import Store
from mudlark.fetch.unfinished import unfinished
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from mudlark.web.redact import redacted, redacted_field
from tests.conftest import Answer, QuietHandler, Ran, Trouble, serving
from tests.streams import demo_segment
from tests.test_bag import item

Run = Callable[..., Ran]
LIST = "application/vnd.apple.mpegurl"


def playlist(*lines: str) -> Answer:
    return Answer("\n".join(["#EXTM3U", "#EXT-X-TARGETDURATION:4", *lines, "#EXT-X-ENDLIST", ""]).encode(), type=LIST)


@pytest.mark.program
def test_a_range_that_is_not_there_leaves_a_flawed_item(mudlark: Run, trouble: Trouble) -> None:
    trouble.say("/a.ts", Answer(demo_segment(0)))
    trouble.say("/b.ts", Answer(b"", 416))
    lines = ("#EXTINF:4.0,", "a.ts", "#EXTINF:4.0,", "#EXT-X-BYTERANGE:1000@999999999", "b.ts")
    ran = mudlark("haul", trouble.say("/f.m3u8", playlist(*lines)), "--into", "k", "--json", "--tries", "2")
    (got,) = ran.json["items"]
    assert (ran.status, got["verdict"]) == (1, "flawed") and "segment-missing" in {p["code"] for p in got["problems"]}


@pytest.mark.program
def test_a_file_comes_whole_from_a_server_that_refuses_parts(mudlark: Run) -> None:
    film = (MEDIA / "gift-shop.mp4").read_bytes()

    class Handler(QuietHandler):
        def do_GET(self) -> None:
            refused = "Range" in self.headers
            self.send_response(416 if refused else 200)
            self.send_header("Content-Type", "video/mp4")
            self.send_header("Content-Length", "0" if refused else str(len(film)))
            if refused:
                self.send_header("Content-Range", f"bytes */{len(film)}")
            self.end_headers()
            self.wfile.write(b"" if refused else film)

    with serving(Handler) as server:
        (item,) = mudlark("haul", f"{server}/shop.mp4", "--json").json["items"]
    assert (item["verdict"], item["files"][0]["bytes"]) == ("sound", len(film))


@pytest.mark.program
def test_a_key_that_is_no_key_is_not_taken_down(mudlark: Run, trouble: Trouble) -> None:
    trouble.say("/k", Answer(bytes(3_000_000)))
    trouble.say("/a.ts", Answer(demo_segment(0)))
    lines = ('#EXT-X-KEY:METHOD=AES-128,URI="k"', "#EXTINF:4.0,", "a.ts")
    ran = mudlark("haul", trouble.say("/f.m3u8", playlist(*lines)), "--into", "k", "--json", "--tries", "1")
    assert ran.status == 5 and "larger than any segment or key" in ran.err


@pytest.mark.program
def test_a_last_segment_that_came_cut_is_never_sound(mudlark: Run, trouble: Trouble) -> None:
    whole = demo_segment(1)
    trouble.say("/a.ts", Answer(demo_segment(0)))
    trouble.say("/b.ts", Answer(whole[: len(whole) // 188 // 2 * 188]))
    lines = ("#EXTINF:4.0,", "a.ts", "#EXTINF:4.0,", "b.ts")
    ran = mudlark("haul", trouble.say("/f.m3u8", playlist(*lines)), "--into", "k", "--json")
    (got,) = ran.json["items"]
    assert got["verdict"] == "flawed" and "segment-short" in {problem["code"] for problem in got["problems"]}
    assert mudlark("assay", "k", "--json").json["items"][0]["verdict"] == "flawed"


@pytest.mark.program
def test_segments_in_which_nothing_can_be_decoded_are_said_to_be_so(mudlark: Run, trouble: Trouble) -> None:
    data = bytearray(demo_segment(0))
    for at in range(0, len(data), 188):  # what the packets of the picture carry is lost, and they themselves are not
        if int.from_bytes(data[at + 1 : at + 3], "big") & 0x1FFF not in (0, 0x1000):
            begin = 4 + (data[at + 4] + 1 if data[at + 3] & 0x20 else 0)
            begin += 9 + data[at + begin + 8] if data[at + 1] & 0x40 else 0
            data[at + begin : at + 188] = bytes(188 - begin)
    trouble.say("/a.ts", Answer(bytes(data)))
    url = trouble.say("/list.m3u8", playlist("#EXTINF:4.0,", "a.ts"))
    ran = mudlark("haul", url)
    assert ran.status == 1 and "No picture and no sound in 1 segment can be used" in ran.err, ran.err


@pytest.mark.program
def test_addresses_without_end_end_in_words(mudlark: Run, trouble: Trouble) -> None:
    long = "x" * 70_000
    page = f'<!doctype html><title>Long</title><video src="/{long}.mp4"></video><a href="/{long}/a.m3u8">film</a>'
    address = trouble.say("/page", Answer(page.encode(), type="text/html"))
    for command in (["sift", address], ["haul", address, "--into", "k"], ["haul", f"{address}?{long}", "--into", "k"]):
        assert mudlark(*command, "--json").status in (0, 1, 3, 5)


@pytest.fixture
def shelf(tmp_path: Path) -> Iterator[Path]:
    """A shelf of a stranger: one good item among everything else that a folder can hold."""
    folder = tmp_path / "shelf"
    item(folder / "Buoy")
    for name, record in {
        "array": b"[1]",
        "deep": b"[" * 100_000,
        "nul": b'{"title": "\\u0000\\n\\u202e", "verdict": 7}',
        "cut": b'{"title": "x"',
        "empty": b"",
    }.items():
        (folder / name).mkdir()
        (folder / name / RECORD).write_bytes(record)
    (folder / "vast").mkdir()
    with (folder / "vast" / RECORD).open("wb") as file:
        file.truncate(900_000_000)
    for name in ("pipe", "link", "linked media", "pipes inside"):
        item(folder / name)
    for path in (folder / "pipe" / RECORD, folder / "link" / RECORD, folder / "linked media" / "buoy.bin"):
        path.unlink()
    os.mkfifo(folder / "pipe" / RECORD)
    (folder / "link" / RECORD).symlink_to("/etc/passwd")
    (folder / "linked media" / "buoy.bin").symlink_to("/dev/zero")
    for name in (HISTORY, CHECKSUMS, "requests.jsonl"):
        os.mkfifo(folder / "pipes inside" / name)
    os.mkfifo(folder / "film.mp4")
    (folder / "nowhere.mp4").symlink_to("nothing")
    (folder / "circle").symlink_to(".")
    with socket.socket(socket.AF_UNIX) as one:
        here = Path.cwd()
        os.chdir(folder)
        one.bind("sock.webm")
        os.chdir(here)
    (folder / "sea\n\x1b[31m\u202egnp.mp3").write_bytes(b"junk")
    (folder / os.fsdecode(b"\xff.mp3")).write_bytes(b"junk")
    deep = os.open(folder, os.O_RDONLY)
    for _ in range(1500):
        os.mkdir("d", dir_fd=deep)
        inner = os.open("d", os.O_RDONLY, dir_fd=deep)
        os.close(deep)
        deep = inner
    os.close(deep)
    (folder / ".mudlark").mkdir()
    (folder / ".mudlark" / "linked").symlink_to(tmp_path)
    yield folder
    subprocess.run(["rm", "-rf", folder / "d"], check=True)  # deeper than what clears up after tests can go


@pytest.mark.program
@pytest.mark.parametrize(
    "command",
    [
        "assay shelf",
        "assay shelf --fix --tries 1",
        "ledger shelf",
        "bag shelf --into out",
        "report shelf --into r.html",
    ],
)
def test_no_shelf_stops_a_command(mudlark: Run, shelf: Path, command: str) -> None:
    ran = mudlark(*command.split())
    assert ran.status in (0, 1, 2, 4) and "Mudlark itself" not in ran.err
    for line in (ran.out + ran.err).split("\n"):
        assert line.isprintable(), line
    if "report" not in command and "bag" not in command:
        assert all(name in ran.out for name in ("Buoy", "array", "deep", "vast", "pipe", "link"))
    if "bag" in command:
        assert "Buoy" in ran.out
    if "report" not in command:
        document = mudlark(*command.replace("out", "out2").split(), "--json").json
        assert document["command"] == command.split()[0]
    assert stat.S_ISFIFO((shelf / "pipes inside" / HISTORY).lstat().st_mode)


def test_what_is_not_opened_is_named(shelf: Path) -> None:
    odd = {one.path.name: one.words for one in below(shelf, lambda _: True) if one.kind == "odd"}
    assert {"film.mp4", "nowhere.mp4", "circle", "sock.webm", "d"} == set(odd) and "FIFO" in odd["film.mp4"]
    assert dict(files_below(shelf / "pipes inside"))[HISTORY] == "a FIFO"
    ledger = read_ledger(shelf)
    assert {one.path for one in ledger.entries} >= {"Buoy", "pipe", "vast"} and "circle" in dict(ledger.odd)
    assert not list((shelf / ".mudlark").glob("*.sqlite"))


VALUES: list[Any] = [None, 7, -1, 1e300, 10**30, "x", "\0", True, [], {}, [[[]]], {"a": {}}, "\u202e" * 9, ["x"] * 9]


def _places(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    inside = value.items() if isinstance(value, dict) else enumerate(value[:1]) if isinstance(value, list) else ()
    return [path, *(place for key, one in inside for place in _places(one, (*path, key)))]


def test_a_record_of_any_types_is_read_or_a_word_about_it(tmp_path: Path) -> None:
    from mudlark.report.item import read_item
    from mudlark.report.page import item_page

    folder = item(tmp_path / "Buoy")
    good = json.loads((folder / RECORD).read_bytes())
    for number, place in enumerate(_places(good)[1:]):
        for value in (VALUES[number % len(VALUES)], VALUES[(number * 5 + 3) % len(VALUES)]):
            record = json.loads(json.dumps(good))
            inner = record
            for key in place[:-1]:
                inner = inner[key]
            inner[place[-1]] = value
            (folder / RECORD).write_text(json.dumps(record))
            (entry,) = read_ledger(folder).entries
            assert entry.verdict
            (found,) = assay(folder)
            assert found.verdict in ("sound", "unproven", "flawed", "broken")
            try:
                item_page(read_item(folder, drawn=False))
            except MudlarkError as problem:
                assert str(folder) in problem.what


def test_only_the_ledger_of_a_store_is_read_and_nothing_is_written(tmp_path: Path) -> None:
    foreign = tmp_path / "foreign.sqlite"
    with sqlite3.connect(foreign) as database:
        database.execute("create table theirs (a)")
    before = foreign.read_bytes()
    for name in ("linked", "endless", "other"):
        (tmp_path / "shelf/.mudlark" / name).mkdir(parents=True)
    (tmp_path / "shelf/.mudlark/linked/state.sqlite").symlink_to(foreign)
    (tmp_path / "shelf/.mudlark/other/state.sqlite").write_bytes(before)
    with sqlite3.connect(tmp_path / "shelf/.mudlark/endless/state.sqlite") as database:
        endless = "with recursive n(i) as (select 1 union all select i + 1 from n) select 'target', i, i, i from n"
        database.execute(f"create view kept as {endless}")
        database.execute("create table haul (key, value)")
    assert unfinished(tmp_path / "shelf") == [] and foreign.read_bytes() == before
    (tmp_path / "linked").mkdir()
    (tmp_path / "linked/.mudlark").symlink_to(tmp_path / "shelf")
    assert unfinished(tmp_path / "linked") == []
    with pytest.raises(MudlarkError, match="link"):
        Store(tmp_path / "linked", "key").__enter__()


def test_checksums_that_are_stale_are_said_and_mended(tmp_path: Path, mudlark: Run) -> None:
    folder = item(tmp_path / "kept/Buoy")
    (folder / CHECKSUMS).write_text("0" * 64 + "  buoy.bin\n")
    said = mudlark("assay", "kept", "--no-history", "--json").json["items"][0]
    assert said["verdict"] == "flawed" and "checksums-stale" in {one["code"] for one in said["problems"]}
    ran = mudlark("assay", "kept")
    assert "written anew" in ran.out
    digest = hashlib.sha256((folder / "buoy.bin").read_bytes()).hexdigest()
    assert f"{digest}  buoy.bin" in (folder / CHECKSUMS).read_text() and mend_checksums(folder)


def _zipped(path: Path, **files: bytes) -> Path:
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, body in files.items():
            archive.writestr(f"bag/{name.replace('__', '/').replace('_', '.')}", body)
    return path


def test_bags_of_strangers_are_checked_within_bounds(tmp_path: Path) -> None:
    body = bytes(20_000_000)
    lists = f"{hashlib.sha256(body).hexdigest()}  data/a\n".encode()
    declared = b"BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
    good = {"bagit_txt": declared, "manifest-sha256_txt": lists, "data__a": body}
    path = _zipped(tmp_path / "good.zip", **good)
    assert check_bag(path) == [] and [one.name for one in tmp_path.iterdir()] == ["good.zip"]
    assert check_bag(_zipped(tmp_path / "more.zip", **good, data__b=b"")) == [
        "data/b is not listed in manifest-sha256.txt"
    ]
    assert "another sha256" in check_bag(_zipped(tmp_path / "other.zip", **{**good, "data__a": b"x"}))[0]
    data = bytearray(path.read_bytes())
    first = data.index(b"PK\1\2")
    for at, value, words in ((8, 1, "password"), (10, 99, "method")):
        odd = bytearray(data)
        for place in [first]:
            odd[place + at] = value
        (tmp_path / "odd.zip").write_bytes(odd)
        assert check_bag(tmp_path / "odd.zip"), words
    (tmp_path / "cut.zip").write_bytes(data[:-40])
    assert "cannot be read" in check_bag(tmp_path / "cut.zip")[0]
    end = data.rindex(b"PK\5\6")
    many = bytearray(data[end:])
    many[8:12] = struct.pack("<HH", 60_000, 60_000)
    many[12:16] = struct.pack("<I", (end - first) // 3 * 60_000)
    entry = bytes(data[first:end])
    (tmp_path / "many.zip").write_bytes(bytes(data[:first]) + entry * 20_000 + bytes(many))
    assert check_bag(tmp_path / "many.zip")
    folder = tmp_path / "bag"
    (folder / "data").mkdir(parents=True)
    os.mkfifo(folder / "data/a")
    (folder / "bagit.txt").write_bytes(declared)
    (folder / "manifest-sha256.txt").write_bytes(lists)
    assert any("FIFO" in one for one in check_bag(folder)) and any("missing" in one for one in check_bag(folder))


def _png(width: int, height: int, pixels: bytes, *, depth: int = 8, colour: int = 2, interlaced: int = 0) -> bytes:
    def chunk(name: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))

    header = struct.pack(">IIBBBBB", width, height, depth, colour, 0, 0, interlaced)
    packed = zlib.compress(pixels)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", header) + chunk(b"IDAT", packed) + chunk(b"IEND", b"")


def _verdict(path: Path, data: bytes) -> str:
    path.write_bytes(data)
    account = Account()
    check_file(path, None, account)
    return account.verdict


def test_every_byte_of_a_png_is_accounted_for(tmp_path: Path) -> None:
    path, good = tmp_path / "a.png", _png(30, 20, bytes(91 * 20))
    assert _verdict(path, good) == "sound"
    assert _verdict(path, _png(9, 9, bytes(6 + 4 + 4 + 9 + 12 + 25 + 40), colour=0, interlaced=1)) == "sound"
    assert _verdict(path, good + b"x") == "flawed"
    assert _verdict(path, _png(30, 20, bytes(91 * 19))) == "broken"
    assert _verdict(path, _png(30, 20, bytes(91 * 21))) == "broken"
    assert _verdict(path, _png(30, 20, b"\5" + bytes(91 * 20 - 1))) == "broken"
    for at in range(len(good)):
        assert _verdict(path, good[:at]) != "sound"
        assert _verdict(path, good[:at] + bytes([good[at] ^ 0x10]) + good[at + 1 :]) != "sound"


def test_damaged_pictures_end_in_a_verdict(tmp_path: Path) -> None:
    from PIL import Image

    picture = Image.effect_noise((40, 30), 50)
    for form in ("GIF", "TIFF", "WEBP", "JPEG", "AVIF"):
        path = tmp_path / f"a.{form.lower()}"
        picture.save(path, form)
        data = path.read_bytes()
        for at in range(0, len(data), max(1, len(data) // 40)):
            for odd in (data[:at], data[:at] + b"\xff" * 9 + data[at + 9 :], data[:at] + bytes(9) + data[at + 9 :]):
                assert _verdict(path, odd)
    for text in ("<svg", "<svg xmlns='x'><a></svg>", "<svg xmlns='x'>&b;</svg>", "<svg" + "<g" * 9999):
        assert _verdict(tmp_path / "a.svg", text.encode())


def test_what_gives_access_is_hidden_in_fields_of_servers_and_in_scripts() -> None:
    for name in ("X-Amz-Security-Token", "WWW-Authenticate", "Authorization", "Private-Token", "X-Csrf-Token"):
        assert "tellnobody" not in redacted_field(name, 'Digest nonce="tellnobody"')
    for text in (
        'fetch(u, {headers: {Authorization: "Bearer tellnobody"}})',
        'x.setRequestHeader("Authorization", "Basic tellnobody")',
        "curl -H 'Authorization: tellnobody'",
        '{"a":"{\\"Authorization\\":\\"Bearer tellnobody\\"}"}',
    ):
        assert "tellnobody" not in redacted(text) and redacted(redacted(text)) == redacted(text)
    assert redacted("Authorization by the museum is needed, please") == "Authorization by the museum is needed, please"


def test_a_bag_on_its_own_shelf_is_no_item(tmp_path: Path, mudlark: Run) -> None:
    folder = item(tmp_path / "Buoy")
    assert mudlark("bag", "Buoy", "--into", "bags").status == 0
    assert [one.path for one in read_ledger(tmp_path).entries] == ["Buoy"]
    assert [one.path for one in below(tmp_path) if one.kind == "item"] == [folder]
    assert (tmp_path / "bags/Buoy/bagit.txt").exists() and read_record(tmp_path / "bags/Buoy/data")


def test_a_tile_of_another_size_is_no_part_of_a_picture(tmp_path: Path) -> None:
    from PIL import Image

    from mudlark.assemble.mosaic import join_tiles
    from mudlark.fetch.place import Place
    from mudlark.manifest.model import Picture, Tile

    places: list[Place | None] = []
    for number, size in enumerate([(257, 128), (129, 128)]):
        path = tmp_path / f"{number}.png"
        Image.new("RGB", size).save(path)
        places.append(Place(path, 0, path.stat().st_size))
    tiles = (Tile(0, 0, 256, 128, behind=1), Tile(256, 0, 128, 128, before=1))
    assert join_tiles(Picture(384, 128, None, tiles), places, tmp_path / "whole.png") == []
    for notice in ((256, 128), (258, 129), (900, 900), (1, 1)):
        Image.new("RGB", notice).save(tmp_path / "0.png")
        places[0] = Place(tmp_path / "0.png", 0, (tmp_path / "0.png").stat().st_size)
        assert join_tiles(Picture(384, 128, None, tiles), places, tmp_path / "whole.png") == [0]
    vast = Tile(0, 0, 13_000, 13_000)
    with pytest.raises(MudlarkError, match="larger than can be put together"):
        join_tiles(Picture(13_000, 13_000, None, (vast,)), [None], tmp_path / "vast.png")


@pytest.mark.browser
def test_a_browser_that_does_not_answer_is_ended_and_that_is_said(monkeypatch: pytest.MonkeyPatch) -> None:
    import asyncio

    from mudlark.demo.streamed import MEDIA
    from mudlark.playing import play as playing

    monkeypatch.setattr(playing, "_ANSWERING", 0.001)
    checked = check_file(MEDIA / "gift-shop.mp4", None, Account())
    played = asyncio.run(playing.play(MEDIA / "gift-shop.mp4", checked))
    assert [code for code, _, _ in played.problems] == ["no-answer"] and not played.whole


def test_a_png_whose_header_is_longer_than_headers_are_is_not_read_to_its_end(tmp_path: Path) -> None:
    path = tmp_path / "chart.png"
    path.write_bytes(b"\x89PNG\r\n\x1a\n" + (3_000_000).to_bytes(4, "big") + b"IHDR" + bytes(3_000_004))
    result = assay(path)[0]
    assert result.verdict == "broken" and "header is none" in result.account.problems[0].message


def test_every_entry_of_a_tar_file_is_counted_and_none_is_kept(tmp_path: Path) -> None:
    path = tmp_path / "sheets.tar"
    headers = b"".join(tarfile.TarInfo(f"sheet-{n}").tobuf(tarfile.USTAR_FORMAT) for n in range(300))
    path.write_bytes(headers + bytes(1024))
    assert "300 entries" in assay(path)[0].account.checks[0].detail
    path.write_bytes(headers[: 200 * 512] + b"x" + headers[200 * 512 + 1 :] + bytes(1024))
    assert assay(path)[0].verdict == "broken"
