"""Fetching, whole hauls and start-up, each against a yardstick in the same run."""

import argparse
import asyncio
import hashlib
import math
import os
import resource
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

from mudlark.fetch.engine import Engine, Job
from mudlark.fetch.store import Store
from mudlark.manifest.model import Segment
from mudlark.web.connection import Connection
from mudlark.web.resource import Resource
from mudlark.web.session import Session
from remux import generate

SERVER = Path(__file__).with_name("server.py")


@contextmanager
def served(delay_ms: float, folder: Path | None = None) -> Iterator[int]:
    """The benchmark server; gives its port."""
    command = [sys.executable, str(SERVER), str(delay_ms), *([str(folder)] if folder else [])]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout
        yield int(process.stdout.readline())
        process.terminate()


def ours(port: int, count: int, size: int, lanes: int) -> float:
    """Wall seconds of the engine with its store."""

    async def work(folder: str) -> float:
        with Store(Path(folder), "bench") as store:
            async with Session(Connection(lanes=lanes)) as session:
                engine = Engine(session, store, lambda _head: None)
                jobs = [
                    Job("v1", n, Segment(n, Resource(f"http://127.0.0.1:{port}/bytes/{size}?{n}")))
                    for n in range(count)
                ]
                begun = time.perf_counter()
                async for outcome in engine.run(jobs):
                    assert outcome.row and outcome.row.bytes == size
                return time.perf_counter() - begun

    with tempfile.TemporaryDirectory() as folder:
        return asyncio.run(work(folder))


def bare(port: int, count: int, size: int, lanes: int) -> float:
    """Wall seconds of plain sockets in threads that hash and write the same."""

    def one(lane: int) -> None:
        with socket.create_connection(("127.0.0.1", port)) as connection:
            buffer = memoryview(bytearray(1 << 20))
            for number in range(lane, count, lanes):
                connection.sendall(b"GET /bytes/%d HTTP/1.1\r\nHost: x\r\n\r\n" % size)
                digest, left, started = hashlib.sha256(), size, False
                with (Path(folder) / str(number)).open("wb", buffering=0) as file:
                    while left:
                        got = connection.recv_into(buffer)
                        part = buffer[:got]
                        if not started:
                            part = part[bytes(part).index(b"\r\n\r\n") + 4 :]
                            started = True
                        digest.update(part)
                        file.write(part)
                        left -= len(part)

    with tempfile.TemporaryDirectory() as folder, ThreadPoolExecutor(lanes) as pool:
        begun = time.perf_counter()
        list(pool.map(one, range(lanes)))
        return time.perf_counter() - begun


def haul(port: int, folder: Path) -> tuple[float, float]:
    """Wall seconds and peak megabytes of `mudlark haul` of a playlist."""
    command = [sys.executable, "-m", "mudlark", "haul", f"http://127.0.0.1:{port}/film.m3u8", "--into", str(folder)]
    begun = time.perf_counter()
    process = subprocess.Popen([*command, "--json"], stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    assert process.stdout
    process.stdout.read()
    _, status, usage = os.wait4(process.pid, 0)
    assert status == 0, status
    return time.perf_counter() - begun, usage.ru_maxrss / 1024


def wall(command: list[str], rounds: int) -> float:
    """Best wall seconds of a command."""
    best = math.inf
    for _ in range(rounds):
        begun = time.perf_counter()
        subprocess.run(command, check=True, capture_output=True)
        best = min(best, time.perf_counter() - begun)
    return best


def row(what: str, mine: float, yardstick: float, note: str = "") -> None:
    print(f"{what:<44}{mine:>9.2f}{yardstick:>11.2f}{mine / yardstick:>8.2f}  {note}", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--megabytes", type=int, default=300)
    given = parser.parse_args()
    print(f"{os.cpu_count()} cores, Python {sys.version.split()[0]}, best of {given.rounds}")
    print(f"{'':<44}{'ours s':>9}{'yardstick':>11}{'ratio':>8}")
    with served(50) as port:
        for lanes in (8, 32):
            best = min(ours(port, 400, 20_000, lanes) for _ in range(given.rounds))
            row(f"400 x 20 KB, 50 ms away, {lanes} lanes", best, math.ceil(400 / lanes) * 0.05, "ideal wall")
    with served(0) as port:
        mine = min(ours(port, 150, 2_000_000, 8) for _ in range(given.rounds))
        plain = min(bare(port, 150, 2_000_000, 8) for _ in range(given.rounds))
        row("150 x 2 MB, 8 lanes", mine, plain, "bare sockets, hashed and written")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "in").mkdir()
        paths = generate(folder / "in", given.megabytes, 6_000_000)
        lines = [
            "#EXTM3U",
            "#EXT-X-TARGETDURATION:6",
            *(f"#EXTINF:6,\n{path.name}" for path in paths),
            "#EXT-X-ENDLIST",
        ]
        (folder / "in" / "film.m3u8").write_text("\n".join(lines))
        with served(0, folder / "in") as port:
            size = paths[0].stat().st_size
            taken, peak = min(haul(port, folder / f"out{n}") for n in range(given.rounds))
            alone = min(ours(port, len(paths), size, 8) for _ in range(given.rounds))
            row(
                f"haul of {given.megabytes} MB of transport stream",
                taken,
                alone,
                f"the fetch alone; peak {peak:.0f} MB",
            )
    program = [sys.executable, "-m", "mudlark", "--help"]
    empty = [
        sys.executable,
        "-c",
        "import click; click.command()(lambda: None).main(['--help'], standalone_mode=False)",
    ]
    row("mudlark --help", wall(program, 10), wall(empty, 10), "an empty Click program")
    print(f"(this program itself: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:.0f} MB)")


if __name__ == "__main__":
    main()
