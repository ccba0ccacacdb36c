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

from remux import generate

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


def pairs(what: str, ours: Callable[[Path], None], theirs: Callable[[Path], None], folder: Path, rounds: int) -> None:
    """Print the median of both, and that of their ratios, one after the other."""
    both = [(seconds(ours, folder), seconds(theirs, folder)) for _ in range(rounds)]
    ratio = statistics.median(mine / yardstick for mine, yardstick in both)
    mine, yardstick = (statistics.median(column) for column in zip(*both, strict=True))
    print(f"{what:<44}{mine:>9.2f}{yardstick:>11.2f}{ratio:>8.2f}", flush=True)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--rounds", type=int, default=3)
    parser.add_argument("--megabytes", type=int, default=1000)
    given = parser.parse_args()
    if missing := [name for name in ("nginx", "curl", "sha256sum") if not shutil.which(name)]:
        print(f"{', '.join(missing)} not installed: hauls are not compared with what people do by hand")
        return
    print(f"{os.cpu_count()} cores, median of {given.rounds} pairs, nginx on loopback")
    print(f"{'':<44}{'ours s':>9}{'by hand s':>11}{'ratio':>8}")
    with tempfile.TemporaryDirectory(prefix="mudlark-bench-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        (folder / "in").mkdir()
        block = os.urandom(1 << 20)
        with (folder / "in" / "image.img").open("wb") as file:
            for _ in range(given.megabytes * 1_000_000 >> 20):
                file.write(block)
        paths = generate(folder / "in", 115, 6_000_000)
        lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:6", *(f"#EXTINF:6,\n{path.name}" for path in paths)]
        (folder / "in" / "film.m3u8").write_text("\n".join([*lines, "#EXT-X-ENDLIST"]))
        names = " ".join(path.name for path in paths)
        with nginx(folder) as address:
            pairs(
                f"haul of one file of {given.megabytes} MB",
                lambda into: haul(f"{address}/image.img", into),
                lambda into: run(f"curl -sSf -o image {address}/image.img && sha256sum image", into),
                folder,
                given.rounds,
            )
            fetch = f"printf '%s\\n' {names} | xargs -P 8 -I@ curl -sSf -o @ {address}/@"
            pairs(
                f"haul of 115 MB in {len(paths)} segments",
                lambda into: haul(f"{address}/film.m3u8", into),
                lambda into: run(f"{fetch} && sha256sum {names} && cat {names} > film && sha256sum film", into),
                folder,
                given.rounds,
            )
        with nginx(folder, "limit_rate 12500k;") as address:  # eight lanes of it are 100 MB/s
            pairs(
                "the same at 100 MB/s, fetching alone",
                lambda into: haul(f"{address}/film.m3u8", into),
                lambda into: run(f"printf '%s\\n' {names} | xargs -P 8 -I@ curl -sSf -o @ {address}/@", into),
                folder,
                given.rounds,
            )


if __name__ == "__main__":
    main()
