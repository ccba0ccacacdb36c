"""A recording that is killed just before any of its changes to the disk is finished by the next run, once."""

import json
import subprocess
import sys
import time
from email.utils import formatdate
from pathlib import Path

import pytest

from mudlark.demo.streamed import content
from tests.conftest import Answer, Trouble, own_environment

_DYING = Path(__file__).with_name("dying.py")


def broadcast(trouble: Trouble) -> str:
    """A broadcast of four segments that ends while it is recorded."""
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:1", "#EXT-X-MEDIA-SEQUENCE:7"]
    for number in range(4):
        trouble.say(f"/part-{number}.ts", Answer(content("defined", f"mill-{number}.ts") or b""))
        lines += ["#EXTINF:4.0,", f"part-{number}.ts"]
    grown = {"Last-Modified": formatdate(time.time() + 3600, usegmt=True)}
    running = Answer("\n".join(lines[:7]).encode(), headers=grown)
    return trouble.say("/list.m3u8", running, running, Answer("\n".join([*lines, "#EXT-X-ENDLIST"]).encode()))


def killed_at(step: int, trouble: Trouble, folder: Path) -> int:
    """Kill a recording before this change, and let the next run finish it; gives how many changes there were, if it
    came to its end instead."""
    folder.mkdir()
    arguments = ["haul", broadcast(trouble), "--into", "kept", "--from", "earliest", "--json"]
    environment = own_environment(folder)

    def ran(last: int) -> "subprocess.CompletedProcess[bytes]":
        command = [sys.executable, str(_DYING), str(last), str(folder / "steps"), *arguments]
        return subprocess.run(command, cwd=folder, env=environment, capture_output=True, check=False)

    first = ran(step)
    again = ran(0) if first.returncode == -9 else first
    (item,) = json.loads(again.stdout)["items"]
    assert (again.returncode, item["verdict"]) == (0, "sound"), (step, again.stderr)
    assert 15.8 < item["duration"] < 16.2 and item["segments"]["missing"] == 0, step
    left = sorted(path.name for path in (folder / "kept").iterdir())
    assert left == [Path(item["folder"]).name], (step, left)
    assert len([file for file in item["files"] if file["role"] == "media"]) == 1
    return 0 if first.returncode == -9 else int((folder / "steps").read_text())


@pytest.mark.program
def test_a_recording_killed_at_some_steps_is_finished_once(trouble: Trouble, tmp_path: Path) -> None:
    steps = killed_at(0, trouble, tmp_path / "whole")
    assert steps > 20
    for share in (0.3, 0.9):
        assert killed_at(int(share * steps), trouble, tmp_path / str(share)) == 0


@pytest.mark.soak
def test_a_recording_killed_at_every_step_is_finished_once(trouble: Trouble, tmp_path: Path) -> None:
    steps = killed_at(0, trouble, tmp_path / "whole")
    for step in range(1, steps + 1):
        killed_at(step, trouble, tmp_path / str(step))
