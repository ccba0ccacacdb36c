"""Films played in a real browser, and what they show measured: good, black, frozen, silent, with a hole."""

import json
from base64 import b64decode
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from PIL import Image

from mudlark.demo.site import DemoSite, media_folder
from mudlark.media.index import movie_in
from mudlark.media.movie import TrackIndex
from mudlark.media.samples import Format
from mudlark.media.sound.opus import audio_format
from mudlark.playing.judge import judge_played
from mudlark.playing.measure import Measured, measure_pictures, measure_sound
from mudlark.playing.play import Played, decoder_of, stretches
from mudlark.playing.stage import packed
from mudlark.verify.account import Account
from tests.conftest import Ran

Run = Callable[..., Ran]


def test_samples_are_sent_as_they_stand_in_the_file() -> None:
    path = media_folder() / "harbour-talk.mp4"
    for track in movie_in(path).tracks:
        body = path.read_bytes()
        wanted = [body[at : at + size] for at, size in zip(track.offsets[3:50], track.sizes[3:50], strict=True)]
        sent = packed(path, track, 3, 50)
        assert int.from_bytes(sent[:4], "little") == 47 and sent.endswith(b"".join(wanted))
        assert len(sent) == 8 + 47 * (8 + 8 + 4 + 1) + sum(map(len, wanted))
        assert packed(path, track, 5, 5) == bytes(8)


def test_large_stretches_are_cut_where_decoding_may_begin() -> None:
    count = 100
    ticks, sync = np.arange(count) * 1000, np.arange(count) % 10 == 0
    sizes = np.full(count, 1 << 20)
    form = Format("video", "avc1.64001f", 25_000, b"", sample_duration=1000)
    track = TrackIndex(1, (form,), sizes, np.cumsum(sizes), ticks, ticks, np.full(count, 1000), sync, 0 * sizes)
    assert stretches(track, full=True) == [(0, 30), (30, 60), (60, 90), (90, 100)]


def pictures(kinds: str, step: float = 0.2) -> Measured:
    """b: black, s: the same as before, m: another picture."""
    measured, noise, last = Measured(), np.random.default_rng(1), np.full((36, 64), 90, np.uint8)
    greys = []
    for kind in kinds:
        last = (
            np.zeros_like(last)
            if kind == "b"
            else last
            if kind == "s"
            else noise.integers(60, 200, last.shape, np.uint8)
        )
        greys.append(last)
    measure_pictures(np.arange(len(kinds), dtype=np.float64) * step, np.array(greys), step, measured)
    return measured


def test_black_and_frozen_stretches_are_told_from_when_to_when() -> None:
    assert pictures("m" * 30).black == pictures("m" * 30).frozen == []
    assert pictures("m" * 10 + "b" * 10 + "m" * 10).black == [(2.0, 4.0)]
    assert pictures("m" * 10 + "s" * 15 + "m" * 5).frozen == [(1.8, 4.8)]
    assert pictures("m" * 10 + "bb" + "m" * 10 + "sss" + "m").black == []
    assert pictures("b" * 20).frozen == [] and pictures("b" * 20).black == [(0.0, 4.0)]


def test_what_was_not_measured_is_neither_black_nor_frozen() -> None:
    measured = Measured()
    times = np.array([0.0, 0.2, 0.4, 60.0, 60.2, 60.4])
    measure_pictures(times, np.full((6, 36, 64), 90, np.uint8), 0.2, measured)
    assert measured.frozen == [] and measured.seen == pytest.approx(1.2)


def test_silence_loudness_and_clipping_are_measured() -> None:
    measured = Measured()
    times = np.arange(0, 10, 0.02)
    loud = np.where((times >= 3) & (times < 6), 0.0, 0.1)
    frames = np.stack([times, np.full(len(times), 0.02), loud, loud * 10, np.where(times > 9, 5, 0)], axis=1)
    measure_sound(frames[np.random.default_rng(1).permutation(len(frames))], measured)
    assert measured.silent == [(3.0, 6.0)] and measured.peak == 0.0 and measured.heard == pytest.approx(10)
    assert dict(measured.loudness)[1.0] == -20.0 and dict(measured.loudness)[4.0] < -100 and measured.clipped > 200


def track(seconds: int, keys: int) -> TrackIndex:
    count = seconds * 25
    times = np.arange(count, dtype=np.int64) * 40
    form = Format("video", "avc1.64001f", 1000, b"")
    ones = np.ones(count, np.int64)
    return TrackIndex(1, (form,), ones * 9000, ones, times, times, ones * 40, np.arange(count) % keys == 0, 0 * ones)


def test_stretches_of_a_long_film_reach_from_its_beginning_to_its_end_and_begin_where_decoding_may() -> None:
    assert stretches(track(50, 100), full=False) == [(0, 1250)]
    some = stretches(track(3600, 250), full=False)
    assert some[0][0] == 0 and some[-1][1] == 90_000 and all(first % 250 == 0 for first, _ in some)
    assert all(before <= first for (_, before), (first, _) in pairwise(some))
    assert sum(last - first for first, last in some) < 5000
    whole = stretches(track(3600, 250), full=True)
    assert whole[0][0] == 0 and whole[-1][1] == 90_000 and sum(last - first for first, last in whole) == 90_000
    assert len(whole) > 10


def test_decoders_are_told_what_stands_before_the_first_sample() -> None:
    """As WebCodecs registers it: the headers of Vorbis, laced; the head of Opus that says which channel is which."""

    def told(codec: str, config: bytes, channels: int = 2) -> bytes:
        given = decoder_of(Format("audio", codec, 48_000, config, channels=channels, sample_rate=48_000))
        return b64decode(given["description"] or "")

    assert told("vorbis", b"\2\1\1abc") == b"\2\1\1abc" and told("mp4a.6B", b"") == b""
    assert told("opus", audio_format(2).config) == b""
    surround = told("opus", audio_format(6).config, 6)
    assert surround[:10] == b"OpusHead\1\6" and surround[18:] == bytes([1, 4, 2, 0, 4, 1, 2, 3, 5])
    assert told("flac", bytes(4) + b"\0\0\0\x22") == b"fLaC\0\0\0\x22"


def test_what_has_no_decoder_passes_nothing() -> None:
    account = Account()
    judge_played(Played(full=True, unplayed=["HEVC in MP4"]), account)
    assert [check.outcome for check in account.checks] == ["skipped"] and "HEVC" in account.checks[0].detail


@pytest.mark.program
@pytest.mark.browser
def test_flawed_films_are_told_by_playing_them(mudlark: Run, tmp_path: Path) -> None:
    for name in ("dark", "still", "mute"):
        (tmp_path / f"{name}.webm").write_bytes((media_folder() / f"{name}.webm").read_bytes())
    whole = bytearray((media_folder() / "foghorn-demonstration.mp4").read_bytes())
    (tmp_path / "good.mp4").write_bytes(whole)
    middle = len(whole) // 2
    whole[middle : middle + 20_000] = bytes(20_000)
    (tmp_path / "torn.mp4").write_bytes(whole)
    (tmp_path / "stream.ts").write_bytes((media_folder() / "slipway-0.ts").read_bytes())
    ran = mudlark("assay", "--play", ".", "--json")
    items = {Path(item["path"]).stem: item for item in ran.json["items"]}
    codes = {name: {problem["code"] for problem in item["problems"]} for name, item in items.items()}
    assert codes["dark"] == {"black"} and codes["still"] == {"frozen"} and codes["mute"] == {"silent"}
    assert codes["good"] == set() and items["good"]["verdict"] == "sound"
    played = items["good"]["played"]
    assert played["seeks"] == 9 and played["pictures"] == 300 and played["ended"] and len(played["loudness"]) == 12
    assert codes["torn"] and items["torn"]["verdict"] in ("flawed", "broken")
    assert any("not played" in check["detail"] for check in items["stream"]["checks"])


@pytest.mark.program
@pytest.mark.browser
def test_a_haul_that_is_played_keeps_how_and_a_contact_sheet(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    item = mudlark("haul", f"{site.origins.media}/films/slipway.mp4", "--play", "full", "--into", "a", "--json").json[
        "items"
    ][0]
    record = json.loads((tmp_path / item["folder"] / "record.json").read_text())
    assert item["verdict"] == "sound" and record["played"]["full"] and not record["played"].get("bad")
    (poster,) = [file for file in record["files"] if file["role"] == "poster"]
    with Image.open(tmp_path / item["folder"] / poster["path"]) as sheet:
        assert sheet.width > 1000 and sheet.height > 600
    assert mudlark("assay", "a").status == 0
