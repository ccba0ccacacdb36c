"""Reports of an item in 10,000 pieces, and of a folder of 1,000 items: wall time, memory and size."""

import json
import os
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from msgspec.structs import replace

from ledger import item
from mudlark.demo.transport import TransportWriter
from mudlark.media.mp4.write import Mp4Builder
from mudlark.media.ts import TransportReader
from remux import parameter_sets, segment


def long_item(folder: Path) -> None:
    """An item of 10,000 pieces with the log of its requests."""
    item(folder, 1)
    record = json.loads((folder / "record.json").read_text())
    url = "https://media.museum.example/film/{}.ts"
    record["segment_list"] = [
        {"track": "v1", "number": n, "url": url.format(n), "duration": 4.0, "bytes": 9000} for n in range(10_000)
    ]
    (folder / "record.json").write_text(json.dumps(record))
    with (folder / "requests.jsonl").open("w") as file:
        for n in range(10_000):
            row = {"at": n / 20, "sent": 0.0, "ended": 0.3, "lane": n % 8, "status": 200, "try": 1, "bytes": 9000}
            file.write(json.dumps({**row, "for": "v1", "url": "u", "problem": None}) + "\n")


def real_item(folder: Path, turns: int = 6_600) -> None:
    """The same with a film of eleven hours: one segment of six seconds, over and over."""
    long_item(folder)
    random, sets = np.random.default_rng(1), parameter_sets()
    reader = TransportReader()
    part = [one.kept() for one in reader.feed(memoryview(segment(TransportWriter(), 0, random, 60_000, sets)))]
    part += [one.kept() for one in reader.flush()]
    builder, media = Mp4Builder(), folder / "film.part"
    with media.open("wb") as file:
        for turn in range(turns):
            ticks = [turn * 6 * one.format.timescale for one in part]
            again = [
                replace(one, dts=one.dts + late, pts=one.pts + late) for one, late in zip(part, ticks, strict=True)
            ]
            file.writelines(builder.add(again))
    head = builder.head(builder.room_needed())
    assert head is not None
    with (folder / "film.mp4").open("wb") as file, media.open("rb") as body:
        file.write(head)
        shutil.copyfileobj(body, file, 1 << 24)
    media.unlink()


def reported(path: Path, into: Path) -> None:
    """Time a report."""
    begun = time.perf_counter()
    command = [sys.executable, "-m", "mudlark", "report", str(path), "--into", str(into)]
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    print(f"{path.name}: {time.perf_counter() - begun:.1f} s, {into.stat().st_size / 1e6:.2f} MB")


def main() -> None:
    with tempfile.TemporaryDirectory(prefix="mudlark-bench-") as name:
        folder = Path(name)
        long_item(folder / "long")
        for number in range(1_000):
            item(folder / "many" / f"Film {number}", number)
        print(f"{os.cpu_count()} cores")
        reported(folder / "long", folder / "long.html")
        reported(folder / "many", folder / "many.html")


if __name__ == "__main__":
    main()
