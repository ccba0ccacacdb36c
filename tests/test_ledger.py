"""The ledger: read from records, by an index that is only a saving; filters, doubles, tables."""

import threading
from collections.abc import Callable
from pathlib import Path

import pandas as pd
import pytest
from msgspec import msgpack
from msgspec.structs import replace

from mudlark.archive import ledger as rooms
from mudlark.archive import shelf as shelves
from mudlark.archive.entries import Block, Entries
from mudlark.archive.entry import LedgerEntry, LedgerTrack
from mudlark.archive.glance import MISSING, WIDTH, stamps
from mudlark.archive.identity import identity_of
from mudlark.archive.layout import HISTORY, RECORD
from mudlark.archive.ledger import Wanted, read_ledger
from mudlark.archive.record import read_record, to_json
from mudlark.archive.shelf import find_earlier
from mudlark.errors import UsageError
from tests.conftest import Ran
from tests.test_bag import item


@pytest.fixture
def shelf(tmp_path: Path) -> Path:
    """Four items, two of the same bytes, one flawed, one whose record cannot be read."""
    folder = tmp_path / "shelf"
    for name, body, verdict in (
        ("Buoy", b"tide", "sound"),
        ("a/Ebb", b"ebb", "flawed"),
        ("a/b/Twin", b"tide", "sound"),
    ):
        change(item(folder / name, body), title=name.rpartition("/")[2], verdict=verdict)
    item(folder / "Wreck").joinpath(RECORD).write_text("{")
    return folder


def change(folder: Path, **values: object) -> None:
    facts = read_record(folder)
    for name, value in values.items():
        setattr(facts, name, value)
    (folder / RECORD).unlink()
    (folder / RECORD).write_bytes(to_json(facts))


def paths(folder: Path, wanted: Wanted | None = None, sort: rooms.Sort = "path") -> list[str]:
    return [one.path for one in read_ledger(folder, wanted, sort).entries]


def test_all_items_at_any_depth_are_listed_also_those_whose_record_is_broken(shelf: Path) -> None:
    ledger = read_ledger(shelf)
    assert [one.path for one in ledger.entries] == ["a/b/Twin", "a/Ebb", "Buoy", "Wreck"]
    *_, buoy, wreck = ledger.entries
    assert wreck.verdict == "broken" and "cannot be read" in wreck.problem
    assert ledger.doubles == [["Buoy", "a/b/Twin"]] and buoy.bytes == 4


def test_entries_column_by_column_are_the_same_one_by_one() -> None:
    film, sound = LedgerTrack("video", "avc1", 720), LedgerTrack("audio", "mp4a", None, "de")
    talk = LedgerEntry(
        "Talk", "The Talk", "sound", "2031", "2032", 60.5, 7, (film, sound), ("ab", "cd"), "", {"no": "1"}
    )
    bell, wreck = (
        LedgerEntry("Bell", "Bell", "flawed", tracks=(sound,)),
        LedgerEntry("Wreck", "", "broken", problem="!"),
    )
    kept = msgpack.decode(msgpack.encode(Block.of([talk, bell])), type=Block)
    columns = Entries([("", kept), ("empty/", Block.of()), ("in/", Block.of([wreck, bell]))])
    *before, third, fourth = columns
    assert before == [talk, bell] and third == replace(wreck, path="in/Wreck")
    assert fourth == replace(bell, path="in/Bell") and len(columns) == 4 and not Entries()
    assert list(columns.take([3, 1])) == [fourth, bell] and list(columns.take(range(4))) == list(columns)


def test_items_are_chosen_and_sorted(shelf: Path) -> None:
    change(shelf / "Buoy", finished="2031-05-17T10:00:00Z", duration=7.0)
    assert paths(shelf, Wanted(verdicts=frozenset({"flawed", "broken"}))) == ["a/Ebb", "Wreck"]
    assert paths(shelf, Wanted(since="2031-05")) == ["Buoy"]
    assert paths(shelf, Wanted(text="TWIN")) == ["a/b/Twin"] and paths(shelf, Wanted(source="nowhere")) == []
    digest = next(one.media[0] for one in read_ledger(shelf).entries if one.path == "Buoy")
    assert paths(shelf, Wanted(text=digest[:20].upper())) == ["a/b/Twin", "Buoy"]
    assert "Buoy" in paths(shelf, Wanted(unchecked="2031-06")) and "Buoy" not in paths(
        shelf, Wanted(unchecked="2031-05")
    )
    assert paths(shelf, Wanted(doubles=True), "title") == ["Buoy", "a/b/Twin"]
    assert paths(shelf, sort="length")[0] == paths(shelf, sort="date")[0] == "Buoy"
    assert paths(shelf, sort="bytes")[:2] == ["a/b/Twin", "Buoy"]


def test_the_index_saves_reading_again_and_never_tells_what_is_no_longer_so(
    shelf: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = list(read_ledger(shelf).entries)
    with monkeypatch.context() as patched:
        patched.setattr(shelves, "read_entry", lambda *_: pytest.fail("a record was read again"))
        assert list(read_ledger(shelf).entries) == before
    change(shelf / "a/Ebb", title="Flood")
    (shelf / "Wreck" / RECORD).unlink()
    (shelf / "Buoy").rename(shelf / "Bell")
    assert [one.title for one in read_ledger(shelf).entries] == ["Twin", "Flood", "Buoy"]
    assert paths(shelf) == ["a/b/Twin", "a/Ebb", "Bell"]


def test_an_index_that_is_damaged_or_missing_changes_nothing_and_the_shelf_is_only_read(
    shelf: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    files = sorted(shelf.rglob("*"))
    before = list(read_ledger(shelf).entries)
    (index,) = (tmp_path / "cache").rglob("*.sqlite")
    index.write_bytes(index.read_bytes().replace(b"Twin", b"Twim"))  # which no database notices
    assert list(read_ledger(shelf).entries) == before
    index.write_bytes(b"no database" * 1000)
    assert list(read_ledger(shelf).entries) == before == list(read_ledger(shelf).entries)
    index.unlink()
    assert list(read_ledger(shelf).entries) == before
    monkeypatch.setenv("XDG_CACHE_HOME", "/proc/nowhere")
    assert list(read_ledger(shelf).entries) == before and sorted(shelf.rglob("*")) == files
    with pytest.raises(UsageError):
        read_ledger(tmp_path / "nowhere")


@pytest.mark.program
def test_the_ledger_is_shown_written_and_told_to_programs(shelf: Path, mudlark: Callable[..., Ran]) -> None:
    change(shelf / "Buoy", title="=1+1\x1b[31m")
    ran = mudlark("ledger", "shelf", "--csv", "shelf.csv")
    assert ran.status == 0 and "4 items, 1 broken, 1 flawed, 2 sound" in ran.out and "\x1b" not in ran.out
    table = pd.read_csv(shelf.parent / "shelf.csv", keep_default_na=False)
    assert list(table["path"]) == ["a/b/Twin", "a/Ebb", "Buoy", "Wreck"]
    assert table["title"][2].startswith("'=1+1") and list(table["bytes"]) == [4, 3, 4, 0]
    assert mudlark("ledger", "shelf", "--csv", "shelf.csv").status == 2
    told = mudlark("ledger", "shelf", "--verdict", "sound", "--json").json
    assert told["totals"]["items"] == 2 and told["totals"]["all"] == 4 and len(told["items"]) == 2
    assert all({"duration", "url"} <= one.keys() and isinstance(one["tracks"], list) for one in told["items"])
    assert not any({"length", "source"} & one.keys() for one in told["items"])  # which are called so nowhere else
    assert mudlark("ledger", "shelf", "--since", "yesterday").status == 2


def test_an_item_that_was_moved_deeper_is_found_once_it_was_listed(shelf: Path) -> None:
    change(shelf / "Buoy", finished="2031-05-17T10:00:00Z")  # the latest
    key = identity_of(read_record(shelf / "Buoy"))
    assert (found := find_earlier(shelf, key)) and found.folder == shelf / "Buoy"
    (shelf / "Buoy").rename(shelf / "a/b/Bell")
    read_ledger(shelf)
    assert (found := find_earlier(shelf, key)) and found.folder == shelf / "a/b/Bell"
    assert find_earlier(shelf / "a/b", key) and find_earlier(shelf / "a/b/Twin", key) is None


def test_a_torn_line_of_a_history_is_lost_alone(shelf: Path) -> None:
    history = b'{"event": "fixity check", "when": "2031-05-18T10:00:00Z", "verdict": "broken"}\n{"event": "fix'
    (shelf / "Buoy" / HISTORY).write_bytes(history)
    assert next(one.verdict for one in read_ledger(shelf).entries if one.path == "Buoy") == "broken"


def test_an_index_that_is_kept_for_many_is_the_same_as_one_that_is_read(
    shelf: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    before = list(read_ledger(shelf).entries)
    monkeypatch.setattr(shelves, "_MANY", 1)
    monkeypatch.setattr(threading, "active_count", lambda: 1)
    assert list(read_ledger(shelf).entries) == before


def test_a_glance_tells_what_is_no_item(shelf: Path) -> None:
    seen = stamps([str(one) for one in (shelf / "Buoy", shelf / "a", shelf / "Wreck")])
    assert seen[WIDTH + 1] == MISSING != seen[1] and len(seen) == 3 * WIDTH
