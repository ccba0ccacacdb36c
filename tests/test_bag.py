"""Bags: made of items, validated by the `bagit` package, refused for what is not whole."""

import hashlib
import json
import zipfile
from collections.abc import Callable
from pathlib import Path

import bagit
import pytest
from lxml import etree

from mudlark.archive.bag import bags_in, make_bag
from mudlark.archive.bagcheck import check_bag
from mudlark.archive.choosing import Meant, choose
from mudlark.archive.history import note_check
from mudlark.archive.layout import HISTORY, RECORD
from mudlark.archive.ledger import Wanted
from mudlark.archive.ocfl import check_object, objects_in, store
from mudlark.archive.preservation import PREMIS, dublin_core_of, premis_of
from mudlark.archive.record import FileFacts, Note, read_record, to_json
from mudlark.errors import FormatError, UsageError
from mudlark.verify.account import Account, Problem
from tests.conftest import Ran
from tests.test_keep import record

FACTS = {"Source-Organization": "Tidewrack Museum"}


def item(folder: Path, body: bytes = b"tide", verdict: str = "sound", identity: str = "http://m.example/buoy") -> Path:
    folder.mkdir(parents=True)
    (folder / "buoy.bin").write_bytes(body)
    facts = record([FileFacts("buoy.bin", "media", len(body), hashlib.sha256(body).hexdigest())])
    facts.verdict = verdict  # type: ignore[assignment]
    facts.source.identity = identity
    (folder / RECORD).write_bytes(to_json(facts))
    return folder


def meant(*folders: Path) -> list[Meant]:
    return choose(folders, Wanted()).items


def valid(data: bytes, name: str) -> bool:
    schema = etree.XMLSchema(etree.parse(Path(__file__).parent / "schemas" / name))
    return bool(schema.validate(etree.fromstring(data)))


def test_a_bag_of_an_item_is_valid_and_says_what_it_is(tmp_path: Path) -> None:
    buoy = item(tmp_path / "in/Buoy")
    (buoy / HISTORY).write_text('{"checked": 1}\n')
    made = make_bag(meant(buoy), tmp_path / "out", FACTS, zipped=False)
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
    said = {one.name: one.read_bytes() for one in (made.path / "metadata").iterdir()}
    assert valid(said["premis.xml"], "premis-v3-0.xsd") and valid(said["dublin-core.xml"], "oai_dc.xsd")
    (made.path / "metadata/premis.xml").write_bytes(b"<premis/>")
    assert check_bag(made.path)  # it is part of what the bag vouches for


def test_one_bag_of_all_items_and_one_that_is_a_zip(tmp_path: Path) -> None:
    for name in ("a/Buoy", "b/Buoy"):
        item(tmp_path / "in" / name)
    found = meant(tmp_path / "in")
    made = make_bag(found, tmp_path / "out", FACTS, zipped=True)
    assert made.path.name == "in.zip" and check_bag(made.path) == []
    with zipfile.ZipFile(made.path) as archive:
        assert {"in/bagit.txt", "in/data/a/Buoy/buoy.bin", "in/data/b/Buoy/record.json"} <= set(archive.namelist())
    again = make_bag(found, tmp_path / "out", FACTS, zipped=True)
    assert again.path == made.path and not again.new
    item(tmp_path / "in/Bell")
    more = make_bag(meant(tmp_path / "in"), tmp_path / "out", FACTS, zipped=True)
    assert more.path.name == "in (2).zip" and bags_in(tmp_path / "out") == [more.path, made.path]


def test_a_bag_that_was_changed_is_said_to_be_so(tmp_path: Path) -> None:
    made = make_bag(meant(item(tmp_path / "Buoy")), tmp_path / "out", {}, zipped=False)
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
            make_bag(meant(folder), tmp_path / "out", {}, zipped=False)
    assert list((tmp_path / "out").iterdir()) == []
    for folder in (tmp_path / ".mudlark/x", tmp_path / "nothing", tmp_path / "out"):
        with pytest.raises(UsageError):
            meant(folder)


def test_every_event_and_agent_of_a_history_is_valid_premis(tmp_path: Path) -> None:
    buoy = item(tmp_path / "Buoy", verdict="flawed")
    for verdict, operator in (("sound", None), ("flawed", "A. Keeper"), ("broken", "<&\x07")):
        account = Account(problems=[Problem("zeros", "Zeros", grave=verdict == "broken")] if verdict != "sound" else [])
        note_check(buoy, account, "2031-05-17T10:00:00Z", validated=verdict == "sound", operator=operator)
    facts = read_record(buoy)
    facts.notes.append(Note("replaced", "The item was mended"))
    facts.title, facts.operator = "Tide & <Mill>", {"name": "Tidewrack Museum"}
    data = premis_of(buoy, facts)
    assert (
        valid(data, "premis-v3-0.xsd") and valid(dublin_core_of(facts), "oai_dc.xsd") and data == premis_of(buoy, facts)
    )
    types = [one.text for one in etree.fromstring(data).iter(f"{{{PREMIS}}}eventType")]
    assert types[:3] == ["capture", "message digest calculation", "modification"]
    assert types[3:] == ["validation", "fixity check", "fixity check"]


def test_an_object_has_a_version_for_each_state_and_is_never_changed(tmp_path: Path) -> None:
    buoy, root = item(tmp_path / "kept/Buoy"), tmp_path / "root"
    first = store(buoy, root, {"name": "Tidewrack Museum"})
    again = store(buoy, root, {})
    assert (first.version, first.new, again.version, again.new) == ("v1", True, "v1", False)
    before = {one: one.read_bytes() for one in (first.path / "v1").rglob("*") if one.is_file()}
    (buoy / HISTORY).write_text('{"event":"fixity check","when":"2031-05-17T10:00:00Z","verdict":"sound"}\n')
    second = store(buoy, root, {})
    assert second.version == "v2" and objects_in(root) == [first.path] and check_object(first.path) == []
    assert all(one.read_bytes() == data for one, data in before.items())
    assert not (first.path / "v2/content/buoy.bin").exists()  # it is in the first
    inventory = json.loads((first.path / "inventory.json").read_text())
    assert inventory["head"] == "v2" and inventory["id"].startswith("urn:uuid:")
    paths = {path for paths in inventory["versions"]["v2"]["state"].values() for path in paths}
    assert {"buoy.bin", "record.json", "history.jsonl", "metadata/premis.xml"} <= paths
    (first.path / "inventory.json").write_bytes((first.path / "v1/inventory.json").read_bytes())
    assert check_object(first.path)  # as a run leaves it that was killed in between
    assert store(buoy, root, {}).new is False and check_object(first.path) == []
    assert [one.name for one in root.iterdir() if one.name.startswith(".")] == []


@pytest.mark.parametrize(
    "damage",
    [
        lambda place: (place / "v1/content/buoy.bin").unlink(),
        lambda place: (place / "v1/content/record.json").write_text("{}"),
        lambda place: (place / "v1/content/more.txt").write_text("more"),
        lambda place: (place / "inventory.json").write_text("{}"),
        lambda place: (place / "inventory.json.sha512").write_text("0 inventory.json"),
        lambda place: (place / "v1/inventory.json").unlink(),
    ],
)
def test_damage_to_an_object_is_said(tmp_path: Path, damage: Callable[[Path], object]) -> None:
    place = store(item(tmp_path / "Buoy"), tmp_path / "root", {}).path
    assert check_object(place) == []
    (place / "v1/content/buoy.bin").chmod(0o644)
    damage(place)
    assert check_object(place)


def test_a_root_is_made_in_no_folder_of_something_else(tmp_path: Path) -> None:
    (tmp_path / "mine").mkdir()
    (tmp_path / "mine/letter.txt").write_text("mine")
    with pytest.raises(UsageError):
        store(item(tmp_path / "Buoy"), tmp_path / "mine", {})
    assert [one.name for one in (tmp_path / "mine").iterdir()] == ["letter.txt"]
    store(tmp_path / "Buoy", tmp_path / "root", {})
    (tmp_path / "root/ocfl_layout.json").write_text('{"extension": "0002-flat-direct-storage-layout"}')
    with pytest.raises(UsageError, match="0002-flat"):
        store(tmp_path / "Buoy", tmp_path / "root", {})


def test_items_are_chosen_by_text_date_and_names(tmp_path: Path) -> None:
    for name in ("a/Buoy", "b/Bell", "b/Lamp"):
        item(tmp_path / name)
    folders = [tmp_path / "a", tmp_path / "b", tmp_path / "b/Lamp"]
    assert [one.folder.name for one in meant(*folders)] == ["Buoy", "Bell", "Lamp"]
    by_text = choose(folders, Wanted(text="Bell")).items
    assert [one.folder.name for one in by_text] == ["Bell"]
    by_name = choose(folders, Wanted(), ["lamp", str(tmp_path / "a/Buoy")]).items
    assert [one.folder.name for one in by_name] == ["Lamp", "Buoy"]
    with pytest.raises(UsageError, match="'Wreck' and 1 more"):
        choose(folders, Wanted(), ["Bell", "Wreck", "Keel"])
    with pytest.raises(UsageError, match="None of 3 items"):
        choose(folders, Wanted(since="2999"))
    made = make_bag(meant(*folders[:2]), tmp_path / "out", {}, zipped=False)
    assert (made.path / "data/01 a/Buoy/buoy.bin").is_file() and (made.path / "metadata/02 b/Lamp/premis.xml").is_file()


@pytest.mark.program
def test_a_repository_is_filled_and_checked_by_the_program(tmp_path: Path, mudlark: Callable[..., Ran]) -> None:
    for name in ("Buoy", "Bell"):
        item(tmp_path / "kept" / name, name.encode(), identity=name)
    ran = mudlark("bag", "kept", "--form", "ocfl", "--into", "root", "--text", "Bell", "--json")
    assert ran.status == 0 and [one["version"] for one in ran.json["bags"]] == ["v1"]
    ran = mudlark("bag", "kept", "--form", "ocfl", "--into", "root")
    assert ran.status == 0 and "2 packages, 1 there already" in ran.out
    assert mudlark("bag", "--check", "root").out.count("is whole") == 2
    refused = mudlark("bag", "kept", "--into", "kept/bags")
    assert refused.status == 2 and "Choose a folder outside" in refused.err and not (tmp_path / "kept/bags").exists()


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
