"""Real Chromium plays what was hauled: right size and length, right pictures in order, beeps at the right seconds."""

from collections.abc import Callable
from pathlib import Path

import pytest

from mudlark.demo.pictures import BEEP_EVERY, FRAME_RATE
from mudlark.demo.site import DemoSite
from tests.conftest import Answer, Ran, Trouble
from tests.judge import watch
from tests.streams import demo_segment

pytestmark = [pytest.mark.program, pytest.mark.browser]


def middle(frame: int) -> float:
    """The time in the middle of a frame."""
    return (frame + 0.5) / FRAME_RATE


def test_the_hauled_film_plays_with_the_right_pictures_and_beeps(
    mudlark: Callable[..., Ran], site: DemoSite, tmp_path: Path
) -> None:
    assert mudlark("haul", site.address("tide-mill"), "--into", "kept").status == 0
    frames = [0, 1, 57, 99, 100, 203, 310, 399, 501, 599]
    seen = watch(tmp_path / "kept/The Tide Mill at Work/The Tide Mill at Work.mp4", [middle(n) for n in frames])
    assert (seen.width, seen.height) == (1280, 720)
    assert seen.duration == pytest.approx(24.0, abs=0.05) and seen.ended == pytest.approx(24.0, abs=0.05)
    assert seen.counters == frames
    assert len(seen.heard) == 11
    for number, heard in enumerate(seen.heard, start=1):
        assert heard == pytest.approx(number * BEEP_EVERY, abs=0.12)


def test_pictures_after_a_hole_still_come_at_their_time(
    mudlark: Callable[..., Ran], trouble: Trouble, tmp_path: Path
) -> None:
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4"]
    for number in range(4):
        lines += ["#EXTINF:4.0,", f"part-{number}.ts"]
        answer = Answer(b"gone", 404) if number == 1 else Answer(demo_segment(number))
        trouble.say(f"/mill/part-{number}.ts", answer)
    url = trouble.say("/mill/list.m3u8", Answer("\n".join([*lines, "#EXT-X-ENDLIST"]).encode()))
    assert mudlark("haul", url, "--into", "kept", "--title", "Mill").status == 1
    frames = [10, 99, 200, 399]
    seen = watch(tmp_path / "kept/Mill/Mill.mp4", [middle(n) for n in frames], listen=False)
    assert seen.counters == frames


def test_a_change_of_size_at_a_discontinuity_plays_on(
    mudlark: Callable[..., Ran], trouble: Trouble, tmp_path: Path
) -> None:
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4"]
    for number, height in ((0, 180), (2, 360), (3, 180)):
        trouble.say(f"/mill/{number}.ts", Answer(demo_segment(number, height)))
        lines += ["#EXT-X-DISCONTINUITY"] * bool(number) + ["#EXTINF:4.0,", f"{number}.ts"]
    url = trouble.say("/mill/list.m3u8", Answer("\n".join([*lines, "#EXT-X-ENDLIST"]).encode()))
    ran = mudlark("haul", url, "--into", "kept", "--title", "Mill", "--json")
    assert ran.json["items"][0]["tracks"][0]["codec"].startswith("avc3")
    seen = watch(tmp_path / "kept/Mill/Mill.mp4", [1.0, 5.5, 9.5], listen=False)
    counters = [counter or -1 for counter in seen.counters]
    assert 20 <= counters[0] < 30 and 200 <= counters[1] < 300 and 300 <= counters[2] < 400
