"""Whole hauls against what people do by hand: `curl` and `sha256sum`, from nginx on loopback, pair by pair.

Needs nginx, curl and sha256sum (Debian's packages); says so where one is missing.
"""

import argparse
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from remux import generate

_IMAGE = 700_000_000  # bytes
_CONFIGURATION = """
daemon off; worker_processes 1; error_log {folder}/error.log; pid {folder}/pid;
events {{ worker_connections 256; }}
http {{
  access_log off; sendfile on; etag on; types {{ application/vnd.apple.mpegurl m3u8; video/mp2t ts; }}
  client_body_temp_path {folder}/a; proxy_temp_path {folder}/b; fastcgi_temp_path {folder}/c;
  uwsgi_temp_path {folder}/d; scgi_temp_path {folder}/e;
  server {{ listen 127.0.0.1:{port}; root {folder}/in; {limit} }}
}}
"""


@contextmanager
def nginx(folder: Path, limit: str = "") -> Iterator[str]:
    """Serves folder/in; gives the address."""
    import socket

    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    (folder / "nginx.conf").write_text(_CONFIGURATION.format(folder=folder, port=port, limit=limit))
    with subprocess.Popen([shutil.which("nginx") or "nginx", "-c", str(folder / "nginx.conf")]) as process:
        for _ in range(100):
            with socket.socket() as probe:
                if probe.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        try:
            yield f"http://127.0.0.1:{port}"
        finally:
            process.terminate()


def seconds(work: Callable[[Path], None], folder: Path) -> float:
    """Wall time of something that works in an empty folder."""
    with tempfile.TemporaryDirectory(dir=folder) as name:
        begun = time.perf_counter()
        work(Path(name))
        return time.perf_counter() - begun


def run(command: str, folder: Path) -> None:
    subprocess.run(["bash", "-c", command], cwd=folder, check=True, stdout=subprocess.DEVNULL)


def haul(address: str, into: Path) -> None:
    command = [sys.executable, "-m", "mudlark", "haul", address, "--into", str(into / "kept"), "--quiet"]
    status = subprocess.run(command, check=False, stdout=subprocess.DEVNULL).returncode
    assert status in (0, 1), status  # nothing proves a file of random bytes


class Pairs(msgspec.Struct, frozen=True):
    """Seconds of ours and by hand, medians of pairs, and the median of their ratios."""

    ours: float
    by_hand: float
    ratio: float


def pairs(ours: Callable[[Path], None], theirs: Callable[[Path], None], folder: Path, rounds: int) -> Pairs:
    """Both, one after the other, so many times."""
    both = [(seconds(ours, folder), seconds(theirs, folder)) for _ in range(rounds)]
    mine, yardstick = (statistics.median(column) for column in zip(*both, strict=True))
    return Pairs(mine, yardstick, statistics.median(one / other for one, other in both))


def missing() -> list[str]:
    """What is not installed and would be needed."""
    return [name for name in ("nginx", "curl", "sha256sum") if not shutil.which(name)]


def compared(folder: Path, rounds: int) -> Iterator[tuple[str, Pairs, float]]:
    """What is hauled, how both did, and the ratio that was set as the aim."""
    (folder / "in").mkdir()
    block = os.urandom(1 << 20)
    with (folder / "in" / "image.img").open("wb") as file:
        for _ in range(_IMAGE >> 20):
            file.write(block)
    short, long = (_listed(folder / "in" / name, size) for name, size in (("short", 115), ("long", 1_000)))
    with nginx(folder) as address:
        yield (
            f"one file of {_IMAGE / 1e9:.1f} GB",
            pairs(
                lambda into: haul(f"{address}/image.img", into),
                lambda into: run(f"curl -sSf -o image {address}/image.img && sha256sum image", into),
                folder,
                rounds,
            ),
            0.85,
        )
        for size, names, wanted in (("115 MB", short, 0.85), ("1 GB", long, 0.7)):
            place = names[0].partition("/")[0]
            fetch = f"printf '%s\\n' {' '.join(names)} | xargs -P 8 -I@ curl -sSf --create-dirs -o @ {address}/@"
            by_hand = f"{fetch} && sha256sum {place}/*.ts && cat {place}/*.ts > film && sha256sum film"
            yield (
                f"HLS of {size} in {len(names)} segments",
                pairs(
                    lambda into, place=place: haul(f"{address}/{place}/film.m3u8", into),  # type: ignore[misc]
                    lambda into, command=by_hand: run(command, into),  # type: ignore[misc]
                    folder,
                    rounds,
                ),
                wanted,
            )


def _listed(folder: Path, megabytes: int) -> list[str]:
    """A playlist of so many megabytes; gives the paths of its segments, from the folder around it."""
    folder.mkdir()
    paths = generate(folder, megabytes, 6_000_000)
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:6", *(f"#EXTINF:6,\n{path.name}" for path in paths)]
    (folder / "film.m3u8").write_text("\n".join([*lines, "#EXT-X-ENDLIST"]))
    return [f"{folder.name}/{path.name}" for path in paths]


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    given = parser.parse_args()
    if lacking := missing():
        print(f"{', '.join(lacking)} not installed: hauls are not compared with what people do by hand")
        return
    print(f"{os.cpu_count()} cores, median of {given.rounds} pairs, nginx on loopback")
    print(f"{'':<44}{'ours s':>9}{'by hand s':>11}{'ratio':>8}")
    with tempfile.TemporaryDirectory(prefix="mudlark-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        for what, both, _ in compared(folder, given.rounds):
            print(f"{what:<44}{both.ours:>9.2f}{both.by_hand:>11.2f}{both.ratio:>8.2f}", flush=True)


if __name__ == "__main__":
    main()
