"""Long runs: memory does not grow with the recording. By `make soak`."""

import os
import subprocess
from pathlib import Path

import pytest

from mudlark.demo.site import DemoSite
from tests.conftest import PROGRAM, Answer, Trouble


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
