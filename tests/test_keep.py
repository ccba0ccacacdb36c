"""Keeping: content checks, promises of servers, parts joined, items put in their place."""

import hashlib
import io
import struct
import zipfile
import zlib
from pathlib import Path

import msgspec
import pytest
from PIL import Image

from mudlark.archive.assay import assay
from mudlark.archive.place import place
from mudlark.archive.record import (
    RECORD,
    FileFacts,
    Record,
    RequestFacts,
    SegmentCounts,
    Source,
    read_record,
    to_json,
)
from mudlark.assemble.join import join
from mudlark.errors import FormatError, UsageError
from mudlark.verify.content import check_content
from mudlark.verify.fixity import compare
from mudlark.verify.transfer import Promise
from mudlark.verify.verdict import Problem, Report


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


def test_parts_are_joined_in_order(tmp_path: Path) -> None:
    parts = []
    for number, size in enumerate((70_000, 0, 5)):
        parts.append(tmp_path / str(number))
        parts[-1].write_bytes(bytes([number + 1]) * size)
    join(parts, tmp_path / "whole")
    assert (tmp_path / "whole").read_bytes() == b"\1" * 70_000 + b"\3" * 5


def test_a_single_part_gets_a_second_name(tmp_path: Path) -> None:
    (tmp_path / "part").write_bytes(b"abc")
    join([tmp_path / "part"], tmp_path / "whole")
    (tmp_path / "part").unlink()
    assert (tmp_path / "whole").read_bytes() == b"abc"


def test_an_earlier_item_gives_way_to_the_new_one(tmp_path: Path) -> None:
    old, new = item(tmp_path / "Buoy", b"old"), item(tmp_path / "new", picture())
    place(new, record([]), old, tmp_path / "aside")
    assert (tmp_path / "Buoy" / "buoy.png").read_bytes() == picture()
    assert not new.exists() and not (tmp_path / "aside").exists()


def test_an_earlier_item_stays_when_the_new_one_cannot_be_moved(tmp_path: Path) -> None:
    old = item(tmp_path / "Buoy", b"old")
    new = item(tmp_path / "new", b"new")
    (tmp_path / "aside").mkdir()
    (tmp_path / "aside" / "in the way").write_bytes(b"")
    with pytest.raises(OSError):
        place(new, record([]), old, tmp_path / "aside")
    assert (old / "buoy.png").read_bytes() == b"old"


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
    assert "is missing" in assay(folder)[0].report.problems[0].message


def test_a_record_cannot_point_outside_its_item(tmp_path: Path) -> None:
    secret = tmp_path / "secret"
    secret.write_bytes(b"x")
    folder = item(tmp_path / "Buoy", b"x")
    facts = FileFacts("../secret", "media", 1, hashlib.sha256(b"x").hexdigest())
    (folder / RECORD).write_bytes(to_json(record([facts])))
    found = assay(folder)[0]
    assert found.verdict == "broken" and "outside the item" in found.report.problems[0].message


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
    with pytest.raises(UsageError, match="holds no item"):
        assay(tmp_path / "a" / ".." / "..")


def test_fixity_says_what_differs(tmp_path: Path) -> None:
    path = tmp_path / "f"
    path.write_bytes(b"abc")
    right = hashlib.sha256(b"abc").hexdigest()
    assert compare(path, 3, right) is None
    assert "3 bytes, not 4" in (compare(path, 4, right) or "")
    assert "SHA-256" in (compare(path, 3, "0" * 64) or "")


def checked(path: Path, form: str, data: bytes) -> Report:
    path.write_bytes(data)
    report = Report()
    check_content(path, form, report)
    return report


def test_a_picture_must_decode_to_its_end(tmp_path: Path) -> None:
    assert checked(tmp_path / "p", "png", picture()).verdict == "sound"
    assert checked(tmp_path / "p", "png", picture()[:-30]).verdict == "broken"


def test_a_picture_that_claims_enormous_dimensions_is_not_decoded(tmp_path: Path) -> None:
    header = struct.pack(">IIBBBBB", 60_000, 60_000, 8, 2, 0, 0, 0)
    chunk = struct.pack(">I", 13) + b"IHDR" + header + struct.pack(">I", zlib.crc32(b"IHDR" + header))
    report = checked(tmp_path / "p", "png", b"\x89PNG\r\n\x1a\n" + chunk)
    assert [check.outcome for check in report.checks] in (["skipped"], ["failed"])


def test_an_archive_with_a_password_is_said_and_not_called_broken(tmp_path: Path) -> None:
    data = io.BytesIO()
    with zipfile.ZipFile(data, "w") as archive:
        archive.writestr("a.txt", "x")
    locked = bytearray(data.getvalue())
    locked[6] |= 1
    locked[locked.index(b"PK\1\2") + 8] |= 1
    report = checked(tmp_path / "z", "zip", bytes(locked))
    assert "password" in report.checks[0].detail and report.verdict == "sound"


def test_a_document_that_is_cut_short_is_broken(tmp_path: Path) -> None:
    whole = b"%PDF-1.7\n1 0 obj\n" + b"x" * 5000 + b"\nstartxref\n9\n%%EOF\n"
    assert checked(tmp_path / "d", "pdf", whole).verdict == "sound"
    assert checked(tmp_path / "d", "pdf", whole[:3000]).verdict == "broken"


def test_a_sound_file_that_cannot_be_looked_into_is_flawed(tmp_path: Path) -> None:
    assert checked(tmp_path / "s", "mp3", b"ID3" + bytes(100)).verdict == "flawed"


def test_a_promise_is_kept_or_broken(tmp_path: Path) -> None:
    path = tmp_path / "f"
    path.write_bytes(b"abc")
    sha256, sha512 = hashlib.sha256(b"abc").hexdigest(), hashlib.sha512(b"abc").hexdigest()

    def verdict(promise: Promise) -> str:
        report = Report()
        promise.check(path, 3, sha256, report)
        return report.verdict

    assert verdict(Promise(3)) == "sound"
    assert verdict(Promise(4)) == "broken"
    assert verdict(Promise(None, {"sha512": sha512})) == "sound"
    assert verdict(Promise(3, {"sha512": sha512[:-1] + "x"})) == "broken"
    assert verdict(Promise(3, {}, "0" * 64)) == "broken"
    assert verdict(Promise()) == "flawed"
