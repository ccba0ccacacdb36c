"""Peeking: a picture, the sound and the size of finds before they are fetched; and series without a playlist."""

from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from mudlark.demo.pictures import read_counter
from mudlark.demo.site import DemoSite, media_folder
from mudlark.peek import Peek, judge
from tests.captures import document, entry, write
from tests.conftest import Answer, Ran, Trouble
from tests.pages import named

Run = Callable[..., Ran]


def _grey(level: int) -> Image.Image:
    return Image.new("RGB", (64, 36), (level, level, level))


def _noise(seed: int) -> Image.Image:
    return Image.fromarray(np.random.default_rng(seed).integers(0, 255, (36, 64, 3)).astype(np.uint8))


@pytest.mark.parametrize(
    ("frames", "level", "notes"),
    [
        ([_noise(1), _noise(2)], -12.0, []),
        ([_grey(0), _grey(3)], -12.0, ["the picture is black"]),
        ([_noise(1), _noise(1)], -12.0, ["the picture does not move"]),
        ([_grey(0), _noise(2)], -80.0, ["the sound is silent at the beginning"]),
        ([], -12.0, ["there is no picture"]),
    ],
)
def test_what_is_black_still_or_silent_is_said(frames: list[Image.Image], level: float, notes: list[str]) -> None:
    one = Peek(named("http://a.test/film.mp4", "video"), sound=True, level=level)
    judge(one, frames)
    assert one.notes == notes


@pytest.mark.program
@pytest.mark.browser
def test_a_contact_sheet_shows_every_find_with_its_facts(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    ran = mudlark("peek", site.address("tide-mill"), site.address("harbour-talk"), "--json")
    assert ran.status == 0, ran.err
    mill, talk, spot = ran.json["finds"]
    assert (mill["width"], mill["height"], mill["duration"], mill["estimated"]) == (1280, 720, 24, True)
    assert mill["codecs"] == ["avc1.64001f", "mp4a.40.2"]
    assert (talk["bytes"], talk["sound"]) == (549429, True)
    assert -45 < talk["level"] < -3  # a low hum, and a beep if the browser came that far
    assert spot["role"] == "advert"
    assert not [note for find in ran.json["finds"] for note in find["notes"]]
    with Image.open(tmp_path / ran.json["sheet"]) as sheet:
        cell = sheet.crop((20, 64, 420, 289))
        assert read_counter(cell)
    again = mudlark("peek", f"{site.origins.media}/stored/bell-7c41")
    assert "Contact sheet: peek-2.png" in again.out
    assert (tmp_path / "peek.png").exists()


@pytest.mark.program
@pytest.mark.browser
def test_what_cannot_be_played_says_why(mudlark: Run, trouble: Trouble) -> None:
    url = trouble.say("/film.mp4", Answer(b"\0\0\0\x18ftypisom" + b"\0" * 3000, type="video/mp4"))
    ran = mudlark("peek", url, "--json")
    assert ran.status == 1
    assert "cannot play" in ran.json["finds"][0]["problem"]


@pytest.mark.program
def test_a_series_without_a_playlist_is_fetched_to_both_ends_when_told(
    mudlark: Run, trouble: Trouble, tmp_path: Path
) -> None:
    folder = media_folder() / "tide-mill" / "180p"
    for path in folder.glob("*.ts"):
        trouble.say(f"/v/{path.name}", Answer(path.read_bytes(), type="video/mp2t"))
    entries = [entry(f"{trouble.url}/v/part-{n:03d}.ts", "video/mp2t", resourceType="fetch") for n in (1, 2, 3)]
    write(tmp_path, [document("<title>The Mill</title>"), *entries])
    ran = mudlark("haul", "--har", "capture.har", "--into", "kept")
    assert ran.status == 3
    assert "--series" in ran.err
    item = mudlark("haul", "--har", "capture.har", "--series", "--into", "kept", "--json").json["items"][0]
    assert (item["verdict"], item["title"], item["segments"]["planned"]) == ("sound", "The Mill", 6)
    assert round(item["duration"]) == 24


@pytest.mark.program
def test_a_gap_in_a_series_is_a_flaw_that_says_where(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    folder = media_folder() / "tide-mill" / "180p"
    for path in sorted(folder.glob("*.ts")):
        if path.name != "part-002.ts":
            trouble.say(f"/v/{path.name}", Answer(path.read_bytes(), type="video/mp2t"))
    entries = [entry(f"{trouble.url}/v/part-{n:03d}.ts", "video/mp2t", resourceType="fetch") for n in (0, 1, 3, 5)]
    write(tmp_path, [document("<title>The Mill</title>"), *entries])
    ran = mudlark("haul", "--har", "capture.har", "--series", "--into", "kept", "--json", "--tries", "1")
    item = ran.json["items"][0]
    assert (ran.status, item["verdict"], item["segments"]["missing"]) == (1, "flawed", 1)
    assert any(problem["code"] == "segment-missing" for problem in item["problems"])
