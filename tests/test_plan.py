"""A plan says what a haul would make, and asks for none of it."""

from collections.abc import Callable
from pathlib import Path

import pytest

from mudlark.demo.site import media_folder
from mudlark.demo.streamed import content
from tests.conftest import Answer, Ran, Trouble

pytestmark = pytest.mark.program
Run = Callable[..., Ran]


def test_a_plan_asks_for_pages_and_manifests_only(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    lines = ["#EXTM3U", "#EXT-X-TARGETDURATION:4"]
    for number in range(2):
        trouble.say(f"/part-{number}.ts", Answer(content("defined", f"mill-{number}.ts") or b""))
        lines += ["#EXTINF:4.0,", f"part-{number}.ts"]
    trouble.say("/film.m3u8", Answer("\n".join([*lines, "#EXT-X-ENDLIST"]).encode()))
    best = b'#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=800000,AVERAGE-BANDWIDTH=400000,CODECS="avc1.64001f"\nfilm.m3u8\n'
    master = trouble.say("/master.m3u8", Answer(best))
    (planned,) = mudlark("haul", "--plan", master, "--into", "kept", "--title", "Mill", "--json").json["plans"]
    assert (planned["kind"], planned["segments"], planned["duration"]) == ("hls", 2, 8.0)
    assert planned["bytes"] == 400_000 and planned["reckoned"] and planned["folder"] == "kept/Mill"
    assert not any(path.endswith("1.ts") for path in trouble.asked) and not (tmp_path / "kept").exists()
    assert mudlark("haul", master, "--into", "kept", "--title", "Mill").status == 0
    told = mudlark("haul", "--plan", master, f"{trouble.url}/none", "--into", "kept", "--title", "Mill")
    assert told.status == 5 and "there  kept/Mill" in told.out and "404" in told.err
    file = trouble.say(
        "/film.mp4", Answer((media_folder() / "foghorn-demonstration.mp4").read_bytes(), type="video/mp4")
    )
    (planned,) = mudlark("haul", "--plan", file, "--into", "kept", "--json").json["plans"]
    assert planned["seconds"] == pytest.approx(planned["bytes"] / planned["rate"], abs=0.1)
