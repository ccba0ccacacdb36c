"""Long runs: memory does not grow with the recording. By `make soak`."""

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest

from fuzz import FORMS
from mudlark.demo.site import DemoSite
from tests.captures import document, entry, har
from tests.conftest import PROGRAM, Answer, Trouble
from tests.constructs import CONSTRUCTS


@pytest.mark.soak
def test_a_capture_of_half_a_gigabyte_is_read_in_little_memory(tmp_path: Path) -> None:
    film = entry("http://media.test/part.bin", "video/mp4", "A" * 4_000_000)
    many = [entry(f"http://museum.test/{n}.png", "image/png", "A" * 300, resourceType="image") for n in range(40_000)]
    with (tmp_path / "large.har").open("w") as file:
        head, _, tail = json.dumps(har([document()])).rpartition("]}}")
        file.write(head)
        for one in [*[film] * 120, *many]:
            file.write("," + json.dumps(one))
        file.write("]}}" + tail)
    assert (tmp_path / "large.har").stat().st_size > 500_000_000
    command = [str(PROGRAM), "sift", "--har", "large.har", "--no-probe", "--json"]
    process = subprocess.Popen(command, cwd=tmp_path, stdout=subprocess.DEVNULL)
    _, status, usage = os.wait4(process.pid, 0)
    assert status == 0
    print(f"peak {usage.ru_maxrss / 1024:.0f} MB, {usage.ru_utime:.1f} s of CPU")
    assert usage.ru_maxrss / 1024 < 300


@pytest.mark.soak
def test_a_recording_of_three_hours_needs_no_more_memory_than_a_short_one(
    site: DemoSite, trouble: Trouble, tmp_path: Path
) -> None:
    base = f"{site.origins.media}/streams/tide-mill/720p"
    peaks = []
    for rounds in (10, 450):
        lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4"]
        for turn in range(rounds):
            lines.append("#EXT-X-DISCONTINUITY")
            for number in range(6):
                lines += ["#EXTINF:4.0,", f"{base}/part-{number:03d}.ts?turn={turn}"]
        body = "\n".join([*lines, "#EXT-X-ENDLIST"]).encode()
        url = trouble.say(f"/long-{rounds}.m3u8", Answer(body))
        process = subprocess.Popen([str(PROGRAM), "haul", url, "--into", str(tmp_path)], stdout=subprocess.DEVNULL)
        _, status, usage = os.wait4(process.pid, 0)
        assert status == 0
        peaks.append(usage.ru_maxrss / 1024)
    print(f"peak {peaks[0]:.0f} MB for 4 minutes, {peaks[1]:.0f} MB for 3 hours")
    assert peaks[1] < 165  # sample tables and the list of segments may grow, nothing else


@pytest.mark.soak
@pytest.mark.parametrize(("size", "seconds", "megabytes"), [(1_000_000, 10, 1_000), (20_000_000, 60, 2_000)])
@pytest.mark.parametrize("construct", sorted(CONSTRUCTS))
def test_pages_made_to_hurt_are_read_within_limits_that_the_system_keeps(
    construct: str, size: int, seconds: int, megabytes: int
) -> None:
    source = """
import resource, sys
from mudlark.find.places.page import read_page
from mudlark.find.questions import read_forms
from mudlark.find.judge.rank import rank
from tests.constructs import CONSTRUCTS
seconds, megabytes, size = map(int, sys.argv[2:])
resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds))
resource.setrlimit(resource.RLIMIT_AS, (megabytes << 20, megabytes << 20))
markup = "<!doctype html>" + CONSTRUCTS[sys.argv[1]](size)
page = read_page(markup, "http://m.example/p")
read_forms(markup, "http://m.example/p")
page.finds = rank(page)
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss >> 10)
"""
    limits = [str(seconds), str(megabytes), str(size)]
    command = [sys.executable, "-c", source, construct, *limits]
    done = subprocess.run(command, cwd=Path(__file__).parents[1], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr[-500:]
    assert int(done.stdout) < {1_000_000: 300, 20_000_000: 600}[size]


@pytest.mark.soak
@pytest.mark.parametrize("reader", FORMS)
def test_a_fuzzer_finds_nothing_that_is_no_error_of_ours(reader: str) -> None:
    seconds = os.environ.get("MUDLARK_FUZZ_SECONDS", "600")
    command = [sys.executable, str(Path(__file__).parents[1] / "tools/fuzz.py"), reader, seconds]
    done = subprocess.run(command, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr.decode("utf-8", "replace")[-3000:]
