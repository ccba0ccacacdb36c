"""Sweeps on the workers of a cluster: real ones on this machine, of which one is killed."""

import asyncio
import os
import signal
import subprocess
from pathlib import Path
from typing import Any

import pytest

from mudlark.errors import StorageError, UsageError
from mudlark.sweeping.cluster import Cluster, _share
from mudlark.web.connection import Connection
from tests.conftest import PROGRAM, Answer, Trouble, own_environment, wait_until
from tests.streams import demo_segment

ROWS = 6
SEGMENTS = 4


def films(trouble: Trouble) -> str:
    """A list of films that come slowly."""
    lines = "".join(f"#EXTINF:4.0,\n{number}.ts\n" for number in range(SEGMENTS))
    playlist = f"#EXTM3U\n#EXT-X-TARGETDURATION:4\n{lines}#EXT-X-ENDLIST\n"
    for row in range(ROWS):
        trouble.say(f"/{row}/film.m3u8", Answer(playlist.encode(), type="application/vnd.apple.mpegurl"))
        for number in range(SEGMENTS):
            trouble.say(f"/{row}/{number}.ts", Answer(demo_segment(number), hold=0.3))
    return "\n".join(f"{trouble.url}/{row}/film.m3u8" for row in range(ROWS))


def workers_of(process: int) -> list[int]:
    """Processes that a program started to work for it."""
    found = []
    for entry in Path("/proc").iterdir():
        try:
            parent = int((entry / "stat").read_text().rpartition(")")[2].split()[1])
            command = (entry / "cmdline").read_text()
        except (OSError, ValueError, IndexError):
            continue
        if parent == process and "spawn_main" in command:
            found.append(int(entry.name))
    return found


@pytest.mark.program
def test_a_worker_that_is_killed_has_its_row_done_by_another(tmp_path: Path, trouble: Trouble) -> None:
    (tmp_path / "films.txt").write_text(films(trouble))
    command = [str(PROGRAM), "sweep", "films.txt", "--into", "kept", "--cluster", "local:2", "--lanes", "4"]
    with subprocess.Popen(
        command, cwd=tmp_path, env=own_environment(tmp_path), stdout=subprocess.PIPE, stderr=subprocess.PIPE
    ) as program:
        wait_until(lambda: any("/0.ts" in path for path in trouble.asked))
        workers = workers_of(program.pid)
        assert len(workers) == 2
        os.kill(workers[0], signal.SIGKILL)
        out, err = program.communicate(timeout=90)
    assert program.returncode == 0, err.decode()
    assert b"Traceback" not in err and b"6 sound" in out
    assert len([one for one in (tmp_path / "kept").iterdir() if one.name.startswith("film")]) == ROWS
    assert trouble.busiest <= 4 + 2  # what a killed worker had asked for is still being answered


def test_rows_share_what_one_program_may_ask_of_a_host() -> None:
    shared = _share(Connection(lanes=8, rate=900.0, gap=0.5), 3)
    assert (shared.lanes, shared.rate, shared.gap) == (2, 300.0, 1.5)
    assert _share(Connection(lanes=2), 5).lanes == 1


def test_workers_that_do_not_see_the_folder_are_not_used(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    async def open_it(name: str) -> None:
        async with Cluster(name, Connection(), tmp_path):
            raise AssertionError

    monkeypatch.setattr("mudlark.sweeping.cluster._sees", _blind)
    with pytest.raises(StorageError, match="None of 1 workers"):
        asyncio.run(open_it("local:1"))
    with pytest.raises(UsageError, match="names no number"):
        asyncio.run(open_it("local:many"))
    monkeypatch.setattr("mudlark.sweeping.cluster._STARTING", 0.5)
    with pytest.raises(UsageError, match="no scheduler"):
        asyncio.run(open_it("tcp://127.0.0.1:9"))


def _blind(_: str) -> bool:
    return False


@pytest.mark.program
def test_workers_of_this_machine_listen_to_nobody_else(tmp_path: Path) -> None:
    distributed: Any = pytest.importorskip("distributed")

    async def knock(address: str, security: object) -> None:
        async with distributed.Client(address, asynchronous=True, timeout=3, security=security, set_as_default=False):
            pass

    async def main() -> None:
        async with Cluster("local:1", Connection(), tmp_path) as cluster:
            address = cluster._client.scheduler.address
            assert address.startswith("tls://127.0.0.1:") and not address.endswith(":8786")
            for key in (None, distributed.Security.temporary()):
                with pytest.raises((OSError, TypeError)):
                    await knock(address, key)

    asyncio.run(main())
