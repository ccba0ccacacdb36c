"""Bags: made of items, validated by the `bagit` package, refused for what is not whole."""

import hashlib
import zipfile
from collections.abc import Callable
from pathlib import Path

import bagit
import pytest

from mudlark.archive.bag import bags_in, items_in, make_bag
from mudlark.archive.bagcheck import check_bag
from mudlark.archive.layout import HISTORY, RECORD
from mudlark.archive.record import FileFacts, to_json
from mudlark.errors import FormatError, UsageError
from tests.conftest import Ran
from tests.test_keep import record

FACTS = {"Source-Organization": "Tidewrack Museum"}


def item(folder: Path, body: bytes = b"tide", verdict: str = "sound") -> Path:
    folder.mkdir(parents=True)
    (folder / "buoy.bin").write_bytes(body)
    facts = record([FileFacts("buoy.bin", "media", len(body), hashlib.sha256(body).hexdigest())])
    facts.verdict = verdict  # type: ignore[assignment]
    facts.source.identity = "http://m.example/buoy"
    (folder / RECORD).write_bytes(to_json(facts))
    return folder


def test_a_bag_of_an_item_is_valid_and_says_what_it_is(tmp_path: Path) -> None:
    buoy = item(tmp_path / "in/Buoy")
    (buoy / HISTORY).write_text('{"checked": 1}\n')
    made = make_bag([buoy], tmp_path / "in", tmp_path / "out", FACTS, zipped=False)
    with (buoy / HISTORY).open("a") as history:  # the item is checked later on
        history.write('{"checked": 2}\n')
    bag = bagit.Bag(str(made.path))
    bag.validate()
    assert bag.version_info == (1, 0) and {"sha256", "sha512"} <= set(bag.algorithms)
    assert bag.info["Source-Organization"] == "Tidewrack Museum" and bag.info["Bagging-Date"]
    assert bag.info["External-Identifier"] == "http://m.example/buoy" and bag.info["External-Description"] == "Buoy"
    assert (made.items, made.files) == (1, 3) and bag.info["Payload-Oxum"] == f"{made.bytes}.3"
    assert (made.path / "data/buoy.bin").samefile(tmp_path / "in/Buoy/buoy.bin")
    assert [one.name for one in (tmp_path / "out").iterdir()] == ["Buoy"]


def test_one_bag_of_all_items_and_one_that_is_a_zip(tmp_path: Path) -> None:
    for name in ("a/Buoy", "b/Buoy"):
        item(tmp_path / "in" / name)
    found = items_in(tmp_path / "in")
    made = make_bag(found, tmp_path / "in", tmp_path / "out", FACTS, zipped=True)
    assert made.path.name == "in.zip" and check_bag(made.path) == []
    with zipfile.ZipFile(made.path) as archive:
        assert {"in/bagit.txt", "in/data/a/Buoy/buoy.bin", "in/data/b/Buoy/record.json"} <= set(archive.namelist())
    again = make_bag(found, tmp_path / "in", tmp_path / "out", FACTS, zipped=True)
    assert again.path == made.path and not again.new
    item(tmp_path / "in/Bell")
    more = make_bag(items_in(tmp_path / "in"), tmp_path / "in", tmp_path / "out", FACTS, zipped=True)
    assert more.path.name == "in (2).zip" and bags_in(tmp_path / "out") == [more.path, made.path]


def test_a_bag_that_was_changed_is_said_to_be_so(tmp_path: Path) -> None:
    made = make_bag([item(tmp_path / "Buoy")], tmp_path, tmp_path / "out", {}, zipped=False)
    (made.path / "data/buoy.bin").unlink()
    (made.path / "data/buoy.bin").write_bytes(b"ebb")
    assert check_bag(made.path)
    (made.path / "bagit.txt").write_text("nothing")
    assert check_bag(made.path)
    (tmp_path / "none.zip").write_bytes(b"PK")
    assert check_bag(tmp_path / "none.zip")


def test_what_is_not_whole_goes_into_no_bag(tmp_path: Path) -> None:
    damaged = item(tmp_path / "in/Damaged")
    (damaged / "buoy.bin").write_bytes(b"ebb!")
    lacking = item(tmp_path / "in/Lacking")
    (lacking / "buoy.bin").unlink()
    linked = item(tmp_path / "in/Linked")
    (linked / "more").symlink_to(tmp_path)
    for folder in (damaged, lacking, item(tmp_path / "in/Broken", verdict="broken")):
        with pytest.raises(FormatError):
            make_bag([folder], tmp_path, tmp_path / "out", {}, zipped=False)
    assert list((tmp_path / "out").iterdir()) == []
    for folder in (tmp_path, tmp_path / ".mudlark/x", tmp_path / "nothing"):
        if folder == tmp_path:
            continue
        with pytest.raises(UsageError):
            items_in(folder)


@pytest.mark.program
def test_bags_are_made_and_checked_by_the_program(tmp_path: Path, mudlark: Callable[..., Ran]) -> None:
    item(tmp_path / "kept/Buoy")
    broken = item(tmp_path / "kept/Wreck", verdict="broken")
    ran = mudlark("bag", "kept", "--into", "bags", "--source-organization", "Tidewrack Museum", "--json")
    assert ran.status != 0 and [bag["path"] for bag in ran.json["bags"]] == ["bags/Buoy"]
    assert str(broken.name) in ran.json["problems"][0]["message"]
    assert bagit.Bag(str(tmp_path / "bags/Buoy")).is_valid()
    assert mudlark("bag", "--check", "bags").status == 0
    (tmp_path / "bags/Buoy/data/buoy.bin").write_bytes(b"ebb!")
    ran = mudlark("bag", "--check", "bags", "--json")
    assert ran.status == 1 and not ran.json["bags"][0]["valid"]
    assert mudlark("bag", "kept").status == 2 and mudlark("bag", "--check", "kept").status == 2
