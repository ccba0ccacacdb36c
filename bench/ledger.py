"""The ledger of many items, the first time and again, against listing the same folder."""

import argparse
import json
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path


def item(folder: Path, number: int, segments: int = 50) -> None:
    """A record as a haul of a film in so many segments leaves it."""
    folder.mkdir(parents=True)
    listed = [
        {"track": "v1", "number": n, "url": f"https://media.museum.example/{number}/{n}.ts", "sha256": "ab" * 32}
        for n in range(segments)
    ]
    record = {
        "title": f"Film {number}",
        "verdict": "sound",
        "problems": [],
        "started": "2031-05-17T10:00:00Z",
        "finished": "2031-05-17T10:01:00Z",
        "duration": 60.0,
        "planned_duration": 60.0,
        "segments": {"planned": segments, "fetched": segments, "reused": 0, "retried": 0, "missing": 0},
        "checks": [{"name": "samples", "outcome": "passed", "detail": "all 1,500 samples lie inside the media data"}],
        "versions": {},
        "tracks": [{"type": "video", "codec": "avc1.64001f", "height": 720}],
        "files": [{"path": "film.mp4", "role": "media", "bytes": 1_000_000, "sha256": f"{number:064x}"}],
        "segment_list": listed,
        "source": {
            "target": f"https://museum.example/film/{number}",
            "identity": f"{number:064x}",
            "alike": f"{number + 1:064x}",
            "choice": None,
            "address": f"https://media.museum.example/{number}/film.m3u8",
            "page": None,
            "find": None,
            "manifests": [],
            "request": {"guise": "plain", "headers": {}},
        },
    }
    (folder / "record.json").write_text(json.dumps(record, indent=2))


def seconds(command: list[str]) -> float:
    begun = time.perf_counter()
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    return time.perf_counter() - begun


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--items", type=int, default=10_000)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="mudlark-bench-") as name:
        folder = Path(name)
        for number in range(given.items):
            item(folder / f"{number // 1000:03d}" / f"Film {number}", number)
        listing = seconds(["find", name, "-name", "record.json"])
        ledger = [sys.executable, "-m", "mudlark", "ledger", name, "--most", "20"]
        print(f"{os.cpu_count()} cores; ledger of {given.items:,} items; `find` takes {listing:.2f} s")
        print(f"the first time {seconds(ledger):.2f} s, again {min(seconds(ledger) for _ in range(3)):.2f} s")


if __name__ == "__main__":
    main()
