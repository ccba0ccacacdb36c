"""Fixity over the years: histories, samples, what no record lists, digests for others; and items mended from their
records alone."""

import errno
import io
import json
import os
import re
import subprocess
from collections.abc import Callable
from pathlib import Path
from threading import Event
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image

from mudlark.archive import assay as assaying
from mudlark.archive import entry as entries
from mudlark.archive import record as records
from mudlark.archive.assay import LASTING, Sampling, assay
from mudlark.archive.history import PastCheck, checks_of, last_check, note_check
from mudlark.archive.layout import CHECKSUMS, HISTORY, RECORD
from mudlark.archive.ledger import read_ledger
from mudlark.archive.record import read_record, to_json
from mudlark.archive.sidecar import sidecar
from mudlark.archive.tree import items_below
from mudlark.demo.site import DemoSite, media_folder
from mudlark.verify import fixity
from mudlark.verify.account import Account, Problem
from mudlark.verify.fixity import digest
from tests.conftest import Ran
from tests.test_bag import item

Run = Callable[..., Ran]


def digests_hold(folder: Path) -> bool:
    """True if another program finds the digests of an item right."""
    command = ["sha256sum", "--check", "--strict", CHECKSUMS]
    return subprocess.run(command, cwd=folder, capture_output=True, check=False).returncode == 0


def test_each_check_leaves_a_line_and_what_is_none_is_passed_over(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy")
    account = Account()
    account.failed("fixity", "fixity", "it has changed", grave=True)
    assert note_check(folder, account, "2031-01-01T00:00:00Z", validated=True, operator="A. Penrose")
    with (folder / HISTORY).open("ab") as file:
        file.write(b"no line\n")
    assert note_check(folder, Account(), "2032-01-01T00:00:00Z", validated=False)
    first, second = checks_of(folder)
    assert (first.event, first.verdict, first.problems, first.operator) == (
        "validation",
        "broken",
        ["fixity"],
        "A. Penrose",
    )
    assert (second.event, second.when) == ("fixity check", "2032-01-01T00:00:00Z")
    assert last_check(str(folder)) == second and isinstance(first, PastCheck)
    entry = next(iter(read_ledger(tmp_path).entries))
    assert entry.checked == "2032-01-01T00:00:00Z" and entry.verdict == "unproven" and "last checked" in entry.problem


@pytest.mark.parametrize(
    ("number", "verdict"), [(errno.EACCES, "unproven"), (errno.EMFILE, "unproven"), (errno.EIO, "broken")]
)
def test_what_may_not_be_read_is_unproven_and_what_the_disk_does_not_give_is_broken(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, number: int, verdict: str
) -> None:
    folder, real = (
        item(tmp_path / "Buoy", (media_folder() / "foghorn-demonstration.mp4").read_bytes()),
        io.FileIO.__init__,
    )

    def opened(self: io.FileIO, path: Path, *given: Any) -> None:
        if Path(path).name == "buoy.bin":
            raise OSError(number, os.strerror(number), str(path))
        real(self, path, *given)

    monkeypatch.setattr(fixity._Heeding, "__init__", opened)
    (assayed,) = assay(folder)
    assert assayed.verdict == verdict and os.strerror(number) in assayed.account.reason
    monkeypatch.undo()
    assert assay(folder)[0].verdict == "sound"

    def read(_path: Path, _most: int) -> bytes:
        raise OSError(number, os.strerror(number), RECORD)

    monkeypatch.setattr(records, "read_plain", read)
    monkeypatch.setattr(entries, "read_plain", read)
    assert assay(folder)[0].verdict == verdict
    shown = next(iter(read_ledger(tmp_path).entries)).verdict
    assert shown == verdict
    monkeypatch.undo()
    if verdict == "unproven":  # nothing changed but that it may be read
        assert next(iter(read_ledger(tmp_path).entries)).verdict == "sound"


def test_what_only_the_haul_could_know_is_told_by_every_assay(tmp_path: Path) -> None:
    sources = (Path(assaying.__file__).parents[1] / "hauling").glob("*.py")
    told = {code for path in sources for code in re.findall(r"Problem\(\s*\"([a-z-]+)\"", path.read_text())}
    assert told <= LASTING and "radio-gap" in told
    for code in sorted(LASTING):
        folder = item(tmp_path / code)
        facts = read_record(folder)
        facts.problems, facts.verdict = [Problem(code, "It is so")], "flawed"
        (folder / RECORD).write_bytes(to_json(facts))
        assert [problem.code for problem in assay(folder)[0].account.problems] == [code]


def test_a_history_that_is_a_link_is_not_followed(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy")
    (folder / HISTORY).symlink_to(tmp_path / "elsewhere")
    assert not note_check(folder, Account(), "2031-01-01T00:00:00Z", validated=True)
    assert not (tmp_path / "elsewhere").exists() and last_check(str(folder)) is None and checks_of(folder) == []


def test_only_what_is_due_and_a_sample_of_it_are_taken(tmp_path: Path) -> None:
    for number in range(10):
        folder = item(tmp_path / f"Buoy {number}")
        note_check(folder, Account(), f"203{number}-01-01T00:00:00Z", validated=True)
    folders = items_below(tmp_path)
    assert len(folders) == 10
    assert {one.name for one in Sampling("2034").takes(folders)} == {f"Buoy {number}" for number in range(4)}
    assert len(Sampling(None, 0.3).takes(folders)) == 3 and len(Sampling(None, 0.001).takes(folders)) == 1
    assert Sampling("2020").takes(folders) == set()
    assert len({frozenset(Sampling(None, 0.5).takes(folders)) for _ in range(20)}) > 1


def test_what_no_record_lists_is_told_and_left_alone(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy")
    (folder / "notes").mkdir()
    (folder / "notes/mine.txt").write_text("mine")
    (folder / "replaced").mkdir()
    (folder / "replaced/old.bin").write_text("old")
    (account,) = [one.account for one in assay(folder)]
    told = next(check for check in account.checks if check.name == "unlisted")
    assert (
        told.outcome == "skipped" and told.detail.endswith(": notes/mine.txt") and (folder / "notes/mine.txt").exists()
    )


@given(
    st.lists(st.text(st.characters(blacklist_categories=["Cs"], blacklist_characters="\0/"), min_size=1, max_size=12))
)
def test_digests_are_in_the_form_that_others_read(tmp_path_factory: pytest.TempPathFactory, names: list[str]) -> None:
    folder = tmp_path_factory.mktemp("item")
    files = []
    for name in {one for one in names if one not in (".", "..", CHECKSUMS, RECORD)}:
        (folder / name).write_bytes(name.encode())
        digest = subprocess.run(["sha256sum", "--", folder / name], capture_output=True, check=True).stdout
        files.append({"path": name, "sha256": digest.decode("utf-8", "replace").lstrip("\\")[:64]})
    record = json.dumps({"files": files}).encode()
    (folder / RECORD).write_bytes(record)
    (folder / CHECKSUMS).write_bytes(sidecar(record))
    assert digests_hold(folder)


@pytest.mark.program
def test_an_item_is_mended_from_its_record_alone(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    command = ["haul", site.address("tide-mill"), "--within", "180", "--into", "kept", "--operator", "A. Penrose"]
    folder = tmp_path / mudlark(*command, "--header", "X-Auth-Token: tellnobody", "--json").json["items"][0]["folder"]
    facts = read_record(folder)
    assert facts.operator and facts.operator["name"] == "A. Penrose" and facts.operator["machine"]
    assert facts.command and "--within 180" in facts.command and "tellnobody" not in facts.command
    assert facts.files[0].media_type == "video/mp4" and facts.files[0].pronom == "fmt/199"
    assert facts.source.response["content-type"].startswith("application/vnd.apple.mpegurl")
    assert (
        subprocess.run(["sha256sum", "--check", CHECKSUMS], cwd=folder, capture_output=True, check=False).returncode
        == 0
    )
    film = folder / facts.files[0].path
    whole = film.read_bytes()
    film.write_bytes(whole[:9000] + bytes(500) + whole[9500:])
    (folder / "mine.txt").write_text("mine")
    damaged = mudlark("assay", "kept", "--json").json["items"][0]
    assert damaged["verdict"] == "broken" and "SHA-256" in damaged["reason"]
    folder = folder.rename(tmp_path / "kept/Box 17, shelf 3")  # whatever it is called by now
    film = folder / facts.files[0].path
    fixed = mudlark("assay", "kept", "--fix", "--trust-record", "--json")
    assert [one.name for one in (tmp_path / "kept").iterdir()] == [folder.name]
    assert fixed.status == 0 and [(one["verdict"], one["state"]) for one in fixed.json["items"]] == [
        ("sound", "repaired")
    ]
    assert film.read_bytes() == whole and (folder / "mine.txt").exists() and list((folder / "replaced").iterdir())
    assert (
        subprocess.run(["sha256sum", "--check", CHECKSUMS], cwd=folder, capture_output=True, check=False).returncode
        == 0
    )
    assert [check.verdict for check in checks_of(folder)] == ["broken", "sound"]
    assert mudlark("assay", "kept", "--since", "2020-01-01").status == 0 and len(checks_of(folder)) == 2
    assert mudlark("assay", "kept", "--sample", "5%", "--no-history").status == 0 and len(checks_of(folder)) == 2
    assert mudlark("assay", "kept", "--sample", "none").status == 2


@pytest.mark.program
def test_an_item_whose_source_is_gone_is_left_as_it_is(mudlark: Run, tmp_path: Path) -> None:
    folder = item(tmp_path / "kept/Buoy")
    (folder / "buoy.bin").write_bytes(b"ebb")
    ran = mudlark("assay", "kept", "--fix", "--tries", "1", "--json")
    assert ran.status != 0 and ran.json["problems"] and ran.json["items"][0]["verdict"] == "broken"
    assert (folder / "buoy.bin").read_bytes() == b"ebb"


@pytest.mark.program
def test_a_plan_checks_nothing_and_only_what_is_bad_is_shown(mudlark: Callable[..., Ran], tmp_path: Path) -> None:
    for name in ("Buoy", "Bell"):
        item(tmp_path / "kept" / name, b"tide")
    (planned := mudlark("assay", "kept", "--plan", "--json").json["plan"]).pop("seconds")
    assert planned == {"items": 2, "files": 0, "bytes": 8} and not list(tmp_path.rglob("history.jsonl"))
    (tmp_path / "kept/Bell/buoy.bin").write_bytes(b"ebbs")
    shown = mudlark("assay", "kept", "--only-bad", "--json")
    assert shown.status == 1 and [one["verdict"] for one in shown.json["items"]].count("broken") == 1
    refused = mudlark("assay", "kept", "--play", "--browser", "no-such-browser")
    assert refused.status == 2 and "no program" in refused.err


@pytest.mark.program
def test_what_lies_beside_items_is_looked_at_and_what_is_not_is_named(tmp_path: Path, mudlark: Run) -> None:
    item(tmp_path / "kept/Buoy")
    Image.effect_noise((64, 64), 50).save(tmp_path / "kept/loose.png")
    (tmp_path / "kept/torn.pdf").write_bytes(b"%PDF-1.4 and no end")
    (tmp_path / "kept/list.csv").write_text("a,b\n1,2\n3\n")
    (tmp_path / "kept/sweep.csv").write_text("row,address\n")
    (tmp_path / "kept/letter.txt").write_text("Dear Keeper")
    ran = mudlark("assay", "kept", "--json")
    verdicts = {Path(one["path"]).name: one["verdict"] for one in ran.json["items"]}
    assert verdicts == {"Buoy": "unproven", "list.csv": "unproven", "loose.png": "sound", "torn.pdf": "broken"}
    assert [Path(one).name for one in ran.json["passed_over"]] == ["letter.txt"] and ran.status == 1
    told = mudlark("assay", "kept")
    assert "3 rows of 1 to 2 cells" in told.out and "letter.txt" in told.err and "sweep.csv" not in told.out + told.err


@pytest.mark.program
def test_a_history_that_cannot_be_written_is_said(tmp_path: Path, mudlark: Run) -> None:
    folder = item(tmp_path / "Buoy")
    (folder / HISTORY).mkdir()
    ran = mudlark("assay", "Buoy", "--json")
    assert ran.status == 1 and "cannot be noted" in ran.json["problems"][0]["message"]
    assert "--no-history" in mudlark("assay", "Buoy").err


def test_a_digest_that_nobody_wants_any_more_is_given_up(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    folder = item(tmp_path / "Buoy", b"tide")
    ended = Event()
    ended.set()
    assert digest(folder / RECORD, unwanted=ended)[0] == 0 < digest(folder / RECORD)[0]
    given_up: list[bool] = []

    def compare(path: Path, size: int, sha256: str, unwanted: Event) -> str | None:
        given_up.append(unwanted.wait(60))
        return None

    def interrupted(*_: object) -> Account:
        raise KeyboardInterrupt

    monkeypatch.setattr(assaying, "compare", compare)
    monkeypatch.setattr(assaying, "_look_into", interrupted)
    with pytest.raises(KeyboardInterrupt):
        list(assaying.assays(folder))
    assert given_up and all(given_up)
