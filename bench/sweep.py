"""A sweep of many small items, against the same items one after the other, divided by how many ran side by side.

The server answers each request after a while, as one far away does.
"""

import argparse
import os
import resource
import subprocess
import sys
import tempfile
import time
import wave
from pathlib import Path

import numpy as np


def sounds(folder: Path, count: int) -> None:
    """Small sounds, each another."""
    folder.mkdir()
    for number in range(count):
        with wave.open(str(folder / f"{number}.wav"), "wb") as file:
            file.setparams((1, 2, 8000, 0, "NONE", ""))
            file.writeframes(np.random.default_rng(number).integers(-999, 999, 10_000, np.int16).tobytes())


def swept(folder: Path, name: str, at_once: int) -> float:
    """Seconds that a sweep takes."""
    begun = time.perf_counter()
    command = [sys.executable, "-m", "mudlark", "sweep", "list.txt", "--into", name, "--at-once", str(at_once)]
    ran = subprocess.run(command, cwd=folder, capture_output=True, check=False)
    if b"failed" in ran.stdout or b"rows" not in ran.stderr:
        raise SystemExit(ran.stdout.decode() + ran.stderr.decode())
    return time.perf_counter() - begun


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--items", type=int, default=200)
    parser.add_argument("--wait", type=int, default=100, help="milliseconds before each answer")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="mudlark-bench-") as name:
        folder = Path(name)
        sounds(folder / "sounds", given.items)
        command = [sys.executable, str(Path(__file__).with_name("server.py")), str(given.wait), str(folder / "sounds")]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as server:
            assert server.stdout
            base = f"http://127.0.0.1:{server.stdout.readline().strip()}"
            (folder / "list.txt").write_text("\n".join(f"{base}/{number}.wav" for number in range(given.items)))
            alone = swept(folder, "alone", 1)
            print(f"{os.cpu_count()} cores; {given.items} items one after the other: {alone:.1f} s")
            for at_once in (2, 4):
                took = swept(folder, f"by-{at_once}", at_once)
                print(f"{at_once} at once: {took:.1f} s, {took / (alone / at_once):.2f} times the ideal")
            print(f"at most {resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss / 1000:.0f} MB")
            server.kill()


if __name__ == "__main__":
    main()
