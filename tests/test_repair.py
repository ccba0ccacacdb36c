"""What a record may ask of a repair, and what none may: records come from strangers."""

import json
import stat
from pathlib import Path
from typing import Any

import pytest

from mudlark.archive.record import Record, read_record
from mudlark.errors import FormatError, MudlarkError, Refused, UsageError
from mudlark.hauling.fix import Trust, guise_of, order_of
from mudlark.web.guise import built_in
from mudlark.web.reach import Reach, is_public
from tests.conftest import Ran, Trouble
from tests.test_bag import item

Run = Any


def changed(folder: Path, **source: object) -> Record:
    """The record of an item whose source says otherwise."""
    path = folder / "record.json"
    record = json.loads(path.read_bytes())
    record["source"] |= source
    path.write_text(json.dumps(record))
    return read_record(folder)


def test_a_record_names_no_program_and_no_file(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy")
    heard = {"listening": {"browser": "/bin/evil", "press": ["Play"], "at_most": 20.0, "picture": True}}
    record = changed(folder, target="https://tidewrack.example/buoy", asked=heard)
    with pytest.raises(Refused):
        order_of(record, folder)
    order = order_of(record, folder, Trust(record=True))
    assert order.means.listening and order.means.listening.browser is None and order.means.har is None
    assert order.means.listening.press == ("Play",)
    for target in ("file:///etc/passwd", "/etc/passwd", "capture.har", "ftp://a.example/", "http://", "h" * 20_000):
        with pytest.raises(UsageError):
            order_of(changed(folder, target=target, asked={}), folder)


@pytest.mark.parametrize(
    "asked",
    [
        {"listening": {"press": [1]}},
        {"listening": {"at_most": 1e9}},
        {"listening": {"scroll": "yes"}},
        {"listening": {"press": ["x"] * 1000}},
        {"wish": {"within": "720"}},
        {"wish": {"under": -1}},
        {"wish": {"languages": [None]}},
        {"wish": {"codecs": "avc"}},
        {"answers": [["a", "b" * 10_000]]},
    ],
)
def test_wrong_types_and_sizes_end_in_words_about_the_item(tmp_path: Path, asked: dict[str, Any]) -> None:
    folder = item(tmp_path / "Buoy")
    record = changed(folder, target="https://tidewrack.example/buoy", asked=asked)
    with pytest.raises(FormatError, match="Buoy"):
        order_of(record, folder, Trust(record=True))


def test_the_guise_of_a_record_is_known_by_name_or_by_its_strings(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy")
    name = next(name for name in built_in() if name != "plain")
    assert guise_of(changed(folder, request={"guise": name, "headers": {}})) == built_in()[name]
    sent = {"user-agent": "Lamp/1", "Cookie": "a=b", "Accept-Language": "cy\r\nX: y", "Authorization": "Bearer x"}
    guise = guise_of(changed(folder, request={"guise": "of a stranger", "headers": sent}))
    assert guise.user_agent == "Lamp/1" and guise.language == "" and "Cookie" not in guise.headers("http://a/")


def test_special_addresses_are_not_public_however_they_are_written() -> None:
    for address in (
        *("127.0.0.1", "10.0.0.1", "169.254.169.254", "192.168.1.1", "100.64.0.1", "0.0.0.0", "224.0.0.1", "::1"),
        *("::ffff:127.0.0.1", "fe80::1%eth0", "fd00::1", "64:ff9b::7f00:1", "2002:7f00:1::", "nowhere"),
    ):
        assert not is_public(address)
    assert is_public("93.184.216.34") and is_public("2606:2800:220:1::1") and is_public("64:ff9b::5db8:d822")
    hosts: list[str] = []
    reach = Reach(frozenset({"archive.internal"}), hosts.append)
    for host in ("127.1", "2130706433", "0x7f.1", "[::1]", "localhost", "LOCALHOST.", "sea.localhost", "10.0.0.1"):
        with pytest.raises(Refused):
            reach.enter(host)
    reach.enter("tidewrack.example")
    reach.enter("tidewrack.example")
    reach.admit("tidewrack.example", ["93.184.216.34"])
    reach.admit("archive.internal", ["10.1.1.1"])
    with pytest.raises(Refused):
        reach.admit("tidewrack.example", ["93.184.216.34", "127.0.0.1"])
    assert hosts == ["tidewrack.example"]


@pytest.mark.program
def test_a_repair_asks_nobody_near_unless_the_record_is_trusted(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    program = tmp_path / "evil"
    program.write_text(f"#!/bin/sh\ntouch {tmp_path}/ran\n")
    program.chmod(program.stat().st_mode | stat.S_IXUSR)
    folder = item(tmp_path / "kept/Buoy")
    changed(folder, target=f"{trouble.url}/buoy", asked={"listening": {"browser": str(program)}})
    (folder / "buoy.bin").write_bytes(b"ebb")
    ran: Ran = mudlark("assay", "kept", "--fix", "--json")
    assert ran.status == 4 and not trouble.asked and not (tmp_path / "ran").exists()
    changed(folder, asked={})
    ran = mudlark("assay", "kept", "--fix", "--json")
    assert ran.status == 4 and not trouble.asked and "--trust-record" in ran.err
    ran = mudlark("assay", "kept", "--fix", "--trust-record", "--tries", "1", "--json")
    assert trouble.asked and "Asking 127.0.0.1" in ran.err


def test_a_record_is_checked_before_anything_is_opened(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy")
    with pytest.raises(MudlarkError):
        changed(folder, asked={"container": "exe"})
