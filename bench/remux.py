"""Segments to MP4: CPU of readers and writer against `cp` of the same bytes; and reading a long playlist.

Input is generated: H.264-like access units of realistic sizes with B-frame times, AAC frames, 6 s segments.
"""

import argparse
import math
import os
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import msgspec
import numpy as np

from mudlark.demo.transport import AUDIO_PID, VIDEO_PID, TransportWriter, Unit
from mudlark.media.matroska.write import MatroskaBuilder
from mudlark.media.mp4.fragment import fragment, initialization
from mudlark.media.mp4.fragments import FragmentReader
from mudlark.media.picture.nal import nal_units
from mudlark.media.samples import Format, Samples
from mudlark.media.ts import TransportReader

SECONDS, RATE = 6, 25
DEMO = Path(__file__).parent.parent / "src/mudlark/demo/media/tide-mill/720p/part-000.ts"


def parameter_sets() -> bytes:
    """Real parameter sets out of the demo's media."""
    data = np.frombuffer(DEMO.read_bytes(), np.uint8)
    begins, ends = nal_units(data)
    found = {int(data[b]) & 31: data[b:e].tobytes() for b, e in zip(begins[:20], ends[:20], strict=True)}
    return b"".join(b"\0\0\0\1" + found[kind] for kind in (7, 8))


def segment(writer: TransportWriter, number: int, random: np.random.Generator, bits: int, sets: bytes) -> bytes:
    """One segment of about `bits` a second. Slice bytes are random without zeros, as if emulation were prevented."""
    units = []
    frame = bits // 8 // RATE
    for index in range(SECONDS * RATE):
        place = number * SECONDS * RATE + index
        size = max(64, int(frame * (4 if index % 50 == 0 else 0.94 if index % 3 else 1.3)))
        body = random.integers(1, 256, size, np.uint8).tobytes()
        slice_ = b"\0\0\1" + (b"\x65" if index % 50 == 0 else b"\x41") + b"\x88" + body
        data = b"\0\0\0\1\x09\xf0" + (sets if index % 50 == 0 else b"") + slice_
        dts = place * 3600
        units.append(Unit(VIDEO_PID, data, dts + (3600, 10800, 3600)[index % 3], dts))
    first, last = number * SECONDS * 48000 // 1024, (number + 1) * SECONDS * 48000 // 1024
    for at in range(first, last, 6):
        count = min(6, last - at)
        body = b"".join(
            b"\xff\xf1\x4c\x80" + ((341 + 7) << 5 | 31).to_bytes(2, "big") + b"\xfc" + b"\x55" * 341
            for _ in range(count)
        )
        ticks = at * 1024 * 90000 // 48000
        units.append(Unit(AUDIO_PID, body, ticks, ticks))
    return writer.segment(sorted(units, key=lambda unit: unit.dts))


def generate(folder: Path, megabytes: int, bits: int) -> list[Path]:
    """Segments of that many megabytes together."""
    random, writer, sets = np.random.default_rng(7), TransportWriter(), parameter_sets()
    paths: list[Path] = []
    total = 0
    while total < megabytes * 1_000_000:
        data = segment(writer, len(paths), random, bits, sets)
        total += len(data)
        paths.append(folder / f"{len(paths):05d}.ts")
        paths[-1].write_bytes(data)
    return paths


WORK = """
import sys, resource
from pathlib import Path
from mudlark.assemble.film import Part, Section, Voice, assemble
from mudlark.assemble.output import ChosenFile
from mudlark.fetch.place import Place
from mudlark.media.mp4.about import About
before = resource.getrusage(resource.RUSAGE_SELF)
folder = Path(sys.argv[1])
init = Section(Place.of(folder / "init.mp4")) if (folder / "init.mp4").exists() else None
paths = sorted(path for path in folder.iterdir() if path.name != "init.mp4")
parts = (Part(0, n, 6.0 * n, 6.0, Place.of(p), init=init) for n, p in enumerate(paths))
make = lambda path, planned, labels: ChosenFile(path, planned, labels, About())
done = assemble(parts, [Voice()], Path(sys.argv[2]), 6.0 * len(paths), make)
after = resource.getrusage(resource.RUSAGE_SELF)
assert done.segments == len(paths) and not done.losses, done
used = next(line.split()[1] for line in open("/proc/self/status") if line.startswith("VmHWM"))  # not the starter's
print(after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime, int(used) / 1024)
"""


PLAYLIST = """
import resource, time
from mudlark.manifest import hls
lines = "".join(f"#EXTINF:4.000,\\nseg/part-{n:06d}.ts\\n" for n in range(100_000))
body = f"#EXTM3U\\n#EXT-X-TARGETDURATION:4\\n{lines}#EXT-X-ENDLIST\\n".encode()
times = []
for _ in range(5):
    begun = time.process_time()
    hls.parse(body, "http://m.example/list.m3u8")
    times.append(time.process_time() - begun)
print(min(times), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


MANIFEST = """
import resource, time
from mudlark.manifest.dash.document import parse_document
from mudlark.manifest.dash.presentation import open_mpd
entries = "".join(f'<S t="{n * 360_000}" d="{360_000 - n % 2}"/>' for n in range(100_000))
template = f'<SegmentTemplate timescale="90000" media="$Time$.m4s"><SegmentTimeline>{entries}</SegmentTimeline>'
body = f\'\'\'<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" mediaPresentationDuration="PT400000S"><Period>
<AdaptationSet mimeType="video/mp4">{template}</SegmentTemplate><Representation id="v" bandwidth="1"/></AdaptationSet>
</Period></MPD>\'\'\'.encode()
times = []
for _ in range(5):
    begun = time.process_time()
    made = open_mpd(parse_document(body, "http://m.example/a.mpd"), "http://m.example/a.mpd", ())
    assert len(made.renditions[0].segments) == 100_000
    times.append(time.process_time() - begun)
print(min(times), resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024)
"""


def fragmented(paths: list[Path], folder: Path) -> list[Path]:
    """The same media as fragmented MP4."""
    folder.mkdir()
    reader = TransportReader()
    made = []
    for number, path in enumerate(paths):
        batch = [*(one.kept() for one in reader.feed(memoryview(path.read_bytes()))), *reader.flush()]
        joined = {track: [one for one in batch if one.track == track] for track in (1, 2)}
        samples = [max(ones, key=len) for ones in joined.values() if ones]
        if not number:
            (folder / "init.mp4").write_bytes(initialization({one.track: one.format for one in samples}))
        made.append(folder / f"{number:05d}.m4s")
        made[-1].write_bytes(b"".join(fragment(number + 1, samples)))
    return made


def clustered(paths: list[Path], folder: Path) -> list[Path]:
    """Pictures of the same sizes as WebM, called VP9."""
    folder.mkdir()
    builder = MatroskaBuilder(kind="webm")
    made = []
    for number, path in enumerate(fragmented(paths, folder / "fragments")):
        reader = FragmentReader()
        reader.begin((folder / "fragments" / "init.mp4").read_bytes())
        video = reader.feed(memoryview(path.read_bytes()))[0]
        ticks = np.arange(len(video), dtype=np.int64) * 40 + number * 6000
        format = Format("video", "vp09", 1000, bytes(12), 40, 1280, 720)
        samples = Samples(1, format, video.sizes, ticks, ticks, video.sync, video.pieces)
        made.append(folder / f"{number:05d}.webm")
        made[-1].write_bytes(b"".join(map(bytes, builder.add([samples]))))
    shutil.rmtree(folder / "fragments")
    (folder / "init.mp4").write_bytes(builder.head())
    return made


def cpu_of_copy(paths: list[Path], target: Path) -> float:
    """CPU seconds of `cp` of all the bytes."""
    target.mkdir()
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(["cp", *map(str, paths), str(target)], check=True)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    shutil.rmtree(target)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


class Measured(msgspec.Struct):
    """CPU seconds of `cp` and of ours, wall seconds of ours, and its peak in megabytes."""

    copy: float = math.inf
    ours: float = math.inf
    wall: float = math.inf
    peak: float = 0.0


def measured(form: str, bits: int, folder: Path, megabytes: int, rounds: int) -> Measured:
    """Segments of a form (TS, fMP4, WebM) of so many bits a second, made into one film in an empty folder."""
    (folder / "in").mkdir()
    paths = generate(folder / "in", megabytes, bits)
    if form in ("fMP4", "WebM"):
        paths = (fragmented if form == "fMP4" else clustered)(paths, folder / "fragments")
        shutil.rmtree(folder / "in")
        (folder / "fragments").rename(folder / "in")
        paths = [folder / "in" / path.name for path in paths]
    best = Measured()
    for _ in range(rounds):
        best.copy = min(best.copy, cpu_of_copy(paths, folder / "copy"))
        begun = time.perf_counter()
        command = [sys.executable, "-c", WORK, str(folder / "in"), str(folder / "out")]
        said = subprocess.run(command, check=True, capture_output=True, text=True).stdout.split()
        best.wall = min(best.wall, time.perf_counter() - begun)
        best.ours, best.peak = min(best.ours, float(said[0])), max(best.peak, float(said[1]))
        next(folder.glob("out.*")).unlink()
    return best


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--megabytes", type=int, default=500)
    parser.add_argument("--rounds", type=int, default=3)
    given = parser.parse_args()
    print(f"{os.cpu_count()} cores, Python {sys.version.split()[0]}, {given.megabytes} MB, best of {given.rounds}")
    print(f"{'input':<24}{'cp CPU s':>10}{'ours CPU s':>12}{'ratio':>8}{'wall s':>8}{'peak MB':>9}")
    for form, bits in (("TS", 6_000_000), ("TS", 1_000_000), ("fMP4", 6_000_000), ("WebM", 6_000_000)):
        with tempfile.TemporaryDirectory() as name:
            one = measured(form, bits, Path(name), given.megabytes, given.rounds)
            print(
                f"{f'{form} {bits / 1e6:.0f} Mbit/s':<24}{one.copy:>10.2f}{one.ours:>12.2f}{one.ours / one.copy:>8.1f}"
                f"{one.wall:>8.2f}{one.peak:>9.0f}"
            )
    for words, code in (("a playlist of 100,000 segments", PLAYLIST), ("an MPD of 100,000 entries", MANIFEST)):
        said = subprocess.run([sys.executable, "-c", code], check=True, capture_output=True, text=True).stdout.split()
        print(f"{words}: {float(said[0]):.2f} s of CPU, {float(said[1]):.0f} MB")


if __name__ == "__main__":
    main()
