"""Verifying files, against `sha256sum` of the same: wall time and memory; and how fast sound is looked into."""

import argparse
import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from msgspec.structs import replace

from mudlark.archive.record import FileFacts, Record, RequestFacts, SegmentCounts, Source, to_json
from mudlark.demo.site import media_folder
from mudlark.demo.transport import TransportWriter
from mudlark.media.matroska.stream import ClusterReader
from mudlark.media.matroska.write import HEAD_ROOM, MatroskaBuilder
from mudlark.media.mp4.write import Mp4Builder
from mudlark.media.samples import Samples, batches
from mudlark.media.sound.mpeg_audio import silence
from mudlark.media.ts import TransportReader
from mudlark.verify.fixity import digest
from remux import parameter_sets, segment

_ROUND = 25  # seconds


def measured(command: list[str]) -> tuple[float, float]:
    """Seconds and megabytes that a command takes, started by a small program: what this one has is not counted."""
    small = "import resource, subprocess, sys; subprocess.run(sys.argv[1:], stdout=subprocess.DEVNULL)\n"
    small += "print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)"
    begun = time.perf_counter()
    done = subprocess.run([sys.executable, "-c", small, *command], capture_output=True, check=True)
    return time.perf_counter() - begun, int(done.stdout) / 1000


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--segments", type=int, default=330, help="segments of 6 s at 16 Mbit/s; 330 are 4 GB")
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="mudlark-bench-") as name:
        folder = Path(name)
        sound = (silence(b"\xff\xfb\x90\x64") or b"") * 500_000
        (folder / "sound.mp3").write_bytes(sound)
        long_film(folder / "film.mp4", given.segments)
        long_webm(folder / "film.webm", given.segments)
        for path in (folder / "film.mp4", folder / "film.webm", folder / "sound.mp3"):
            hashing, _ = measured(["sha256sum", str(path)])
            recorded(path)
            took, memory = measured([sys.executable, "-m", "mudlark", "assay", str(folder), "--no-history"])
            size = path.stat().st_size
            print(
                f"{path.name}: {size / 1e9:.2f} GB in {took:.1f} s ({size / 1e6 / took:.0f} MB/s), {memory:.0f} MB; "
                f"sha256sum {hashing:.1f} s: {took / hashing:.2f} times"
            )
        print(f"{os.cpu_count()} cores")


def recorded(path: Path) -> None:
    """A record of this one file, so that its digest is verified too."""
    size, sha256 = digest(path)
    source = Source("https://museum.example/", None, "", None, None, [], RequestFacts("plain", {}))
    record = Record(
        title=path.stem,
        verdict="sound",
        problems=[],
        started="2031-01-01T00:00:00Z",
        finished="2031-01-01T00:00:00Z",
        source=source,
        duration=None,
        planned_duration=None,
        tracks=[],
        files=[FileFacts(path.name, "media", size, sha256)],
        segments=SegmentCounts(1, 1, 0, 0, 0),
        segment_list=[],
        checks=[],
        versions={},
    )
    (path.parent / "record.json").write_bytes(to_json(record))


def long_film(path: Path, count: int) -> None:
    """A film of so many segments, put together as a haul does it."""
    random, sets, writer = np.random.default_rng(1), parameter_sets(), TransportWriter()
    builder = Mp4Builder()
    media = path.with_suffix(".part")
    with media.open("wb") as file:
        segments = (segment(writer, number, random, 16_000_000, sets) for number in range(count))
        for batch in batches(TransportReader(), segments):
            for piece in builder.add(batch):
                file.write(piece)
    head = builder.head(builder.room_needed())
    assert head is not None
    with path.open("wb") as file, media.open("rb") as body:
        file.write(head)
        while block := body.read(1 << 24):
            file.write(block)
    media.unlink()


def long_webm(path: Path, rounds: int) -> None:
    """A film of so many times 24 s, in small frames as browsers record them."""
    builder, film = MatroskaBuilder(kind="webm"), list[Samples]()
    for name in ("ferry.webm", "ferry-sound.webm"):
        reader = ClusterReader()
        reader.begin(None)
        film += [samples.kept() for samples in reader.feed(memoryview((media_folder() / name).read_bytes()))]
    with path.open("wb") as file:
        file.write(bytes(HEAD_ROOM))
        for turn in range(rounds):
            ticks = [turn * _ROUND * one.format.timescale for one in film]
            for piece in builder.add(
                [replace(one, dts=one.dts + late, pts=one.pts + late) for one, late in zip(film, ticks, strict=True)]
            ):
                file.write(piece)
        file.write(builder.tail())
        file.seek(0)
        file.write(builder.head())


if __name__ == "__main__":
    main()
