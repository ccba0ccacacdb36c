"""Recordings that a browser made of a page (tools/make_recordings.py): read, accounted for, and damaged."""

from pathlib import Path
from random import Random

import pytest

from mudlark.media.details import rate_of
from mudlark.media.index import movie_in
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from tests import mutations

RECORDED = sorted(path for path in (Path(__file__).parent / "recorded").iterdir() if path.suffix != ".md")
_NAMES = {"vp8": "vp08", "vp9": "vp09", "av1": "av01", "h264": "avc", "opus": "opus"}


def judged(path: Path, data: bytes) -> Account:
    path.write_bytes(data)
    account = Account()
    check_file(path, None, account)
    return account


@pytest.mark.parametrize("path", RECORDED, ids=[path.name for path in RECORDED])
def test_what_a_browser_records_is_good_and_proven_where_it_says_how_long_it_is(tmp_path: Path, path: Path) -> None:
    account = judged(tmp_path / path.name, path.read_bytes())
    streamed = "slices" in path.name  # what is written while it goes on states no length
    assert (account.verdict, account.problems) == ("unproven" if streamed else "sound", []), account
    movie = movie_in(path)
    kinds = [track.format.type for track in movie.tracks]
    silent, blind = "silent" in path.name, path.stem == "opus"
    assert sorted(kinds) == ["audio"] * (not silent) + ["video"] * (not blind)
    for track in movie.tracks:
        wanted = _NAMES[path.name.partition(".")[0].partition("-")[0]] if track.format.type == "video" else "opus"
        assert track.format.codec.lower().startswith(wanted)
        begin, end = track.presented()
        assert begin < 0.3 and 1.5 < end < 2.6
        if track.format.type == "video":
            assert (track.format.width, track.format.height) == (160, 90) and 15 < (rate_of(track).usual or 0) < 30


@pytest.mark.parametrize("path", RECORDED, ids=[path.name for path in RECORDED])
def test_damage_to_what_a_browser_recorded_is_seen(tmp_path: Path, path: Path) -> None:
    whole, chance = path.read_bytes(), Random(path.name)
    for number in range(60):
        mutate = (mutations.cut, mutations.hole, mutations.drop, mutations.repeat)[number % 4]
        data = mutate(whole, chance)
        if data != whole:
            verdict = judged(tmp_path / path.name, data).verdict
            assert verdict != "sound", (mutate.__name__, len(data))


def test_a_fragment_at_a_time_beyond_reason_is_broken_and_said_with_its_place(tmp_path: Path) -> None:
    path = next(path for path in RECORDED if path.name == "opus.mp4")
    data = bytearray(path.read_bytes())
    place = data.index(b"tfdt")
    data[place + 4 : place + 16] = b"\1\0\0\0" + b"\x80" * 8
    account = judged(tmp_path / path.name, bytes(data))
    assert account.verdict == "broken" and f"(at byte {place - 4:,})" in account.problems[0].message
