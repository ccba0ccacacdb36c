"""Keeping: content checks, promises of servers, parts joined, items put in their place."""

import bz2
import gzip
import hashlib
import io
import lzma
import random
import sqlite3
import struct
import subprocess
import sys
import tarfile
import zipfile
import zlib
from concurrent.futures import ThreadPoolExecutor
from contextlib import closing
from pathlib import Path

import msgspec
import pytest
from PIL import Image

from mudlark.archive.assay import assay
from mudlark.archive.identity import Identity, identity_of
from mudlark.archive.layout import RECORD
from mudlark.archive.place import can_mend, conclude, inside_item, mend, names_for, put
from mudlark.archive.record import (
    FileFacts,
    Record,
    RequestFacts,
    SegmentCounts,
    Source,
    read_record,
    to_json,
)
from mudlark.archive.shelf import find_earlier
from mudlark.assemble.join import second_name
from mudlark.errors import FormatError, UsageError
from mudlark.fetch.store import Store
from mudlark.fetch.unfinished import unfinished
from mudlark.hauling.steps import _clear
from mudlark.verify.account import Account, Problem
from mudlark.verify.fixity import compare
from mudlark.verify.media import check_file
from mudlark.verify.transfer import Promise


def record(files: list[FileFacts], problems: list[Problem] | None = None) -> Record:
    source = Source("http://m.example/", None, "http://m.example/", None, None, [], RequestFacts("plain", {}))
    return Record(
        title="Buoy",
        verdict="flawed" if problems else "sound",
        problems=problems or [],
        started="2026-01-01T00:00:00Z",
        finished="2026-01-01T00:00:01Z",
        source=source,
        duration=None,
        planned_duration=None,
        tracks=[],
        files=files,
        segments=SegmentCounts(1, 1, 0, 0, 0),
        segment_list=[],
        checks=[],
        versions={},
    )


def picture() -> bytes:
    data = io.BytesIO()
    Image.new("RGB", (64, 48), "teal").save(data, "PNG")
    return data.getvalue()


def item(folder: Path, data: bytes, name: str = "buoy.png") -> Path:
    folder.mkdir()
    (folder / name).write_bytes(data)
    facts = FileFacts(name, "media", len(data), hashlib.sha256(data).hexdigest())
    (folder / RECORD).write_bytes(to_json(record([facts])))
    return folder


def test_a_file_gets_a_second_name(tmp_path: Path) -> None:
    (tmp_path / "part").write_bytes(b"abc")
    second_name(tmp_path / "part", tmp_path / "whole")
    (tmp_path / "part").unlink()
    assert (tmp_path / "whole").read_bytes() == b"abc"


def names(folder: Path) -> list[str]:
    return sorted(path.name for path in folder.iterdir())


def test_a_name_is_taken_that_nothing_stands_under(tmp_path: Path) -> None:
    item(tmp_path / "Buoy", b"old")
    (tmp_path / "Buoy (2)").write_bytes(b"a file of the user's")
    (tmp_path / "Buoy (3)").mkdir()
    (tmp_path / "Buoy (4)").symlink_to("nowhere")
    folder = put(item(tmp_path / "new", picture()), b"{}", tmp_path, names_for("Buoy", None))
    assert folder.name == "Buoy (5)" and (folder / "buoy.png").read_bytes() == picture()
    assert (tmp_path / "Buoy" / "buoy.png").read_bytes() == b"old" and names(tmp_path / "Buoy (3)") == []


def test_what_stands_beside_an_earlier_item_carries_the_date(tmp_path: Path) -> None:
    given = names_for("Buoy", "2026-11-25")
    assert [next(given), next(given)] == ["Buoy (2026-11-25)", "Buoy (2026-11-25, 2)"]


def test_many_at_once_each_get_a_name_of_their_own(tmp_path: Path) -> None:
    made = [item(tmp_path / f"new-{number}", bytes([number])) for number in range(12)]
    (tmp_path / "into").mkdir()
    with ThreadPoolExecutor(12) as pool:
        folders = list(pool.map(lambda one: put(one, b"{}", tmp_path / "into", names_for("Buoy", None)), made))
    assert len(set(folders)) == 12
    assert {(folder / "buoy.png").read_bytes() for folder in folders} == {bytes([number]) for number in range(12)}


def mended(folder: Path, new: Path) -> list[str]:
    facts = [FileFacts("buoy.png", "media", len(picture()), hashlib.sha256(picture()).hexdigest())]
    old, fresh = read_record(folder), record(facts)
    assert can_mend(folder, old, fresh)
    replaced = mend(new, fresh, folder, old, "2026-11-25T1000Z")
    conclude(folder, to_json(fresh))
    return replaced


def test_mending_an_item_keeps_what_was_there_and_what_is_the_user_s(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy", b"damaged")
    (folder / "notes.txt").write_bytes(b"mine")
    assert mended(folder, item(tmp_path / "new", picture())) == ["buoy.png"]
    assert (folder / "buoy.png").read_bytes() == picture() and (folder / "notes.txt").read_bytes() == b"mine"
    aside = folder / "replaced" / "2026-11-25T1000Z"
    assert names(aside) == ["buoy.png", RECORD] and (aside / "buoy.png").read_bytes() == b"damaged"
    assert assay(folder)[0].verdict == "sound"


def test_an_item_is_not_mended_over_files_or_links_of_others(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy", b"old")
    old = read_record(folder)
    fresh = record([FileFacts("buoy.mp4", "media", 1, "0" * 64)])
    assert can_mend(folder, old, fresh)
    (folder / "buoy.mp4").write_bytes(b"the user's own")
    assert not can_mend(folder, old, fresh)
    (folder / "buoy.mp4").unlink()
    (folder / "replaced").symlink_to(tmp_path)
    assert not can_mend(folder, old, fresh)


def test_what_was_not_cleared_away_behind_an_item_is_not_unfinished(tmp_path: Path) -> None:
    with Store(tmp_path, "key", "http://m.example/") as store:
        store.retain()
        store.item.mkdir()
    assert [one.target for one in unfinished(tmp_path)] == ["http://m.example/"]
    with Store(tmp_path, "key", "http://m.example/") as store:
        store.retain()
        store.placing()
        assert not store.placed
        store.item.rename(tmp_path / "Buoy")
        assert store.placed
    assert unfinished(tmp_path) == []
    _clear(Store(tmp_path, "key"))
    assert not (tmp_path / ".mudlark").exists()


def test_an_earlier_item_is_found_by_what_it_is_known_by(tmp_path: Path) -> None:
    item(tmp_path / "Buoy", b"a")
    key = identity_of(read_record(tmp_path / "Buoy"))
    found = find_earlier(tmp_path, key)
    assert found and found.folder == tmp_path / "Buoy"
    (tmp_path / "Buoy").rename(tmp_path / "Whatever")
    assert (again := find_earlier(tmp_path, key)) and again.folder.name == "Whatever"
    assert find_earlier(tmp_path, Identity("another", "third")) is None
    alike = find_earlier(tmp_path, Identity("another", key.alike))
    assert alike and not alike.exact and found.exact


def test_the_index_of_a_folder_is_only_a_cache(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    cache, into = tmp_path / "cache", tmp_path / "kept"
    monkeypatch.setenv("XDG_CACHE_HOME", str(cache))
    into.mkdir()
    item(into / "Buoy", b"a")
    key = identity_of(read_record(into / "Buoy"))
    assert find_earlier(into, key)
    (index,) = cache.glob("mudlark/shelf-*.sqlite")
    index.write_bytes(b"no database" * 1000)
    assert find_earlier(into, key)
    with closing(sqlite3.connect(index)) as database, database:
        database.execute("update item set key = 'wrong', inode = 1")
    facts = read_record(into / "Buoy")
    facts.source.identity = facts.source.alike = "late"
    late = to_json(facts)
    with monkeypatch.context() as settled:  # as if the folder had not been touched for long
        settled.setattr("mudlark.archive.shelf._SETTLED", -(10**18))
        assert find_earlier(into, key)
        (into / "Buoy").rename(tmp_path / "elsewhere")
        item(into / "Buoy", b"b")  # another one under the same name
        (into / "Buoy" / RECORD).write_bytes((into / "Buoy" / RECORD).read_bytes().replace(b"m.example", b"n.example"))
        assert find_earlier(into, key) is None
        (tmp_path / "elsewhere").rename(into / "Bell")
        assert (found := find_earlier(into, key)) and found.folder.name == "Bell"
        (into / "Late").mkdir()  # as when somebody copies an item into it right now
        assert find_earlier(into, Identity("late", "late")) is None
        (into / "Late" / RECORD).write_bytes(late)
        assert find_earlier(into, Identity("late", "late"))
        with closing(sqlite3.connect(index)) as held:
            held.execute("begin exclusive")
            monkeypatch.setattr("mudlark.archive.index._HELD", 0.1)
            assert find_earlier(into, key)
    monkeypatch.setenv("XDG_CACHE_HOME", "/proc/nowhere")
    assert find_earlier(into, key)


def test_a_record_survives_being_written_and_read(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy", picture())
    found = read_record(folder)
    assert found.title == "Buoy" and found.mudlark_record == 1
    assert msgspec.json.decode((folder / RECORD).read_bytes())["files"][0]["role"] == "media"


@pytest.mark.parametrize("data", [b"", b"{", b"[]", b'{"mudlark_record": 1}', b"\xff\xfe"])
def test_what_is_no_record_is_said(tmp_path: Path, data: bytes) -> None:
    folder = item(tmp_path / "Buoy", b"x")
    (folder / RECORD).write_bytes(data)
    with pytest.raises(FormatError, match="is not a record"):
        read_record(folder)


def test_a_record_of_a_later_version_is_not_guessed_at(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy", b"x")
    text = (folder / RECORD).read_bytes().replace(b'"mudlark_record": 1', b'"mudlark_record": 9')
    (folder / RECORD).write_bytes(text)
    with pytest.raises(FormatError, match="later version"):
        read_record(folder)


def test_an_item_is_sound_until_a_byte_changes_or_a_file_is_gone(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy", picture())
    assert assay(folder)[0].verdict == "sound"
    (folder / "buoy.png").write_bytes(picture()[:-1] + b"\0")
    assert assay(folder)[0].verdict == "broken"
    (folder / "buoy.png").unlink()
    assert "is missing" in assay(folder)[0].account.problems[0].message


def test_a_record_cannot_point_outside_its_item(tmp_path: Path) -> None:
    secret = tmp_path / "secret"
    secret.write_bytes(b"x")
    folder = item(tmp_path / "Buoy", b"x")
    facts = FileFacts("../secret", "media", 1, hashlib.sha256(b"x").hexdigest())
    (folder / RECORD).write_bytes(to_json(record([facts])))
    found = assay(folder)[0]
    assert found.verdict == "broken" and "was not opened" in found.account.problems[0].message


@pytest.mark.parametrize("name", ["../secret", "/etc/hostname", "link", "below/secret", "a\0b", "x" * 5_000])
def test_what_a_record_names_elsewhere_is_not_opened(tmp_path: Path, name: str) -> None:
    folder = item(tmp_path / "Buoy", b"x")
    (tmp_path / "secret").write_bytes(b"x")
    (folder / "link").symlink_to(tmp_path / "secret")
    (folder / "below").symlink_to(tmp_path)
    assert inside_item(folder, name) is None or not (folder / name).exists()


def test_one_record_that_cannot_be_read_does_not_stop_the_others(tmp_path: Path) -> None:
    item(tmp_path / "a", picture())
    (item(tmp_path / "b", b"x") / RECORD).write_bytes(b"{")
    assert [found.verdict for found in assay(tmp_path)] == ["sound", "broken"]


def test_items_and_media_files_are_found_at_any_depth(tmp_path: Path) -> None:
    (tmp_path / "1961" / "spring").mkdir(parents=True)
    item(tmp_path / "1961" / "spring" / "Buoy", picture())
    (tmp_path / "1961" / "horn.mp3").write_bytes(b"ID3" + bytes(100))
    (tmp_path / "1961" / "notes.txt").write_bytes(b"mine")
    assert [(found.path.name, found.verdict) for found in assay(tmp_path)] == [
        ("horn.mp3", "unproven"),
        ("Buoy", "sound"),
    ]


def test_a_record_without_media_is_not_sound(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy", b"x")
    (folder / RECORD).write_bytes(to_json(record([])))
    assert assay(folder)[0].verdict == "broken"


def test_what_was_missing_at_the_haul_stays_a_flaw(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy", picture())
    facts = read_record(folder).files
    lost = Problem("segment-missing", "Segment 3 (8.0–12.0 s) is missing")
    (folder / RECORD).write_bytes(to_json(record(facts, [lost])))
    assert assay(folder)[0].verdict == "flawed"


def test_a_folder_of_items_is_assayed_item_by_item(tmp_path: Path) -> None:
    for name in ("a", "b"):
        item(tmp_path / name, picture())
    assert [found.path.name for found in assay(tmp_path)] == ["a", "b"]
    (tmp_path / "empty").mkdir()
    with pytest.raises(UsageError, match="holds no item"):
        assay(tmp_path / "empty")


def test_fixity_says_what_differs(tmp_path: Path) -> None:
    path = tmp_path / "f"
    path.write_bytes(b"abc")
    right = hashlib.sha256(b"abc").hexdigest()
    assert compare(path, 3, right) is None
    assert "3 bytes, not 4" in (compare(path, 4, right) or "")
    assert "SHA-256" in (compare(path, 3, "0" * 64) or "")


def checked(path: Path, data: bytes) -> Account:
    path.write_bytes(data)
    account = Account()
    check_file(path, None, account)
    return account


def test_a_picture_must_decode_to_its_end(tmp_path: Path) -> None:
    assert checked(tmp_path / "p", picture()).verdict == "sound"
    assert checked(tmp_path / "p", picture()[:-30]).verdict == "broken"


def test_a_picture_that_claims_enormous_dimensions_is_not_decoded(tmp_path: Path) -> None:
    header = struct.pack(">IIBBBBB", 60_000, 60_000, 8, 2, 0, 0, 0)
    chunk = struct.pack(">I", 13) + b"IHDR" + header + struct.pack(">I", zlib.crc32(b"IHDR" + header))
    body = zlib.compress(bytes(1_000))
    chunk += struct.pack(">I", len(body)) + b"IDAT" + body + struct.pack(">I", zlib.crc32(b"IDAT" + body))
    account = checked(tmp_path / "p", b"\x89PNG\r\n\x1a\n" + chunk)
    assert account.verdict == "broken" and "cut short" in account.checks[0].detail


def test_an_archive_with_a_password_is_said_and_not_called_broken(tmp_path: Path) -> None:
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w") as archive:
        archive.writestr("a.txt", "x")
    locked = bytearray(data.getvalue())
    locked[6] |= 1
    locked[locked.index(b"PK\1\2") + 8] |= 1
    account = checked(tmp_path / "z", bytes(locked))
    assert "password" in account.checks[0].detail and account.verdict == "unproven"


@pytest.mark.parametrize(
    ("name", "form", "data"),
    [
        ("tides.tar.gz", "text", b"a,b\n1,2\n"),
        ("plan.pdf", "html", b"<!doctype html><p>Log in</p>"),
        ("chart.png", "unknown", b"\0\1\2\3"),
    ],
)
def test_what_is_not_what_its_name_says_is_flawed(tmp_path: Path, name: str, form: str, data: bytes) -> None:
    account = checked(tmp_path / name, data)
    assert account.verdict == "flawed" and [problem.code for problem in account.problems] == ["misnamed"]


def test_a_packed_file_is_unpacked_to_its_checksum(tmp_path: Path) -> None:
    for pack in (gzip.compress, bz2.compress, lzma.compress):
        whole = pack(random.Random(1).randbytes(50_000))
        assert checked(tmp_path / "p", whole).verdict == "sound"
        assert checked(tmp_path / "p", whole[:-3]).verdict == "broken"
        damaged = bytearray(whole)
        damaged[len(whole) // 2] ^= 1
        assert checked(tmp_path / "p", bytes(damaged)).verdict == "broken"


def test_a_tar_file_must_end_as_one(tmp_path: Path) -> None:
    data = io.BytesIO()
    with tarfile.open(fileobj=data, mode="w") as archive:
        for name in ("a", "b"):
            entry = tarfile.TarInfo(name)
            entry.size = 3_000
            archive.addfile(entry, io.BytesIO(bytes(3_000)))
    assert checked(tmp_path / "t", data.getvalue()).verdict == "sound"
    assert checked(tmp_path / "t", data.getvalue()[:5_000]).verdict == "broken"
    assert checked(tmp_path / "t", data.getvalue()[: 2 * (512 + 3_072)]).verdict == "broken"


def test_a_document_that_is_cut_short_is_broken(tmp_path: Path) -> None:
    out = io.BytesIO()
    Image.new("RGB", (300, 300)).save(out, "PDF")
    whole = out.getvalue()
    assert checked(tmp_path / "d", whole).verdict == "sound"
    assert checked(tmp_path / "d", whole[: len(whole) // 2]).verdict == "broken"


def test_a_promise_is_kept_or_broken(tmp_path: Path) -> None:
    path = tmp_path / "f"
    path.write_bytes(b"abc")
    sha256, sha512 = hashlib.sha256(b"abc").hexdigest(), hashlib.sha512(b"abc").hexdigest()

    def verdict(promise: Promise) -> str:
        account = Account()
        promise.check(path, 3, sha256, account)
        return account.verdict

    assert verdict(Promise(3)) == "unproven"  # whole as far as its length says, which proves nothing of its bytes
    assert verdict(Promise(4)) == "broken"
    assert verdict(Promise(None, {"sha512": sha512})) == "sound"
    assert verdict(Promise(3, {"sha512": sha512[:-1] + "x"})) == "broken"
    assert verdict(Promise(3, {}, "0" * 64)) == "broken"
    assert verdict(Promise()) == "unproven"


_AT_ONCE = """
import sys, threading
from pathlib import Path
from mudlark.archive.assay import assay

def look():
    begin.wait()
    assert assay(Path(sys.argv[1]))[0].title == "Buoy"
    right.append(1)

sys.setswitchinterval(1e-6)
begin, right = threading.Barrier(8), []
threads = [threading.Thread(target=look) for _ in range(8)]
for thread in threads: thread.start()
for thread in threads: thread.join()
assert len(right) == 8
"""


def test_many_items_are_looked_at_at_once_from_the_first_moment_on(tmp_path: Path) -> None:
    (tmp_path / "buoy.bin").write_bytes(b"tide")
    facts = FileFacts("buoy.bin", "media", 4, hashlib.sha256(b"tide").hexdigest())
    (tmp_path / RECORD).write_bytes(to_json(record([facts])))
    for _ in range(4):
        subprocess.run([sys.executable, "-c", _AT_ONCE, str(tmp_path)], check=True)
