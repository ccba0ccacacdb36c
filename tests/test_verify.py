"""Verification: each kind of damage is seen, and said where."""

from pathlib import Path

import numpy as np
import pytest

from mudlark.archive.assay import assay
from mudlark.demo.site import media_folder
from mudlark.media.movie import Edit, Movie
from mudlark.media.mp4.read import parse_movie, scan
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from mudlark.verify.timeline import check_timeline
from tests.test_mp4 import samples, written

FILM = (media_folder() / "foghorn-demonstration.mp4").read_bytes()


def index() -> tuple[int, int]:
    box = next(b for b in scan(lambda at, n: FILM[at : at + n], len(FILM)) if b.kind == "moov")
    return box.start, box.end


def movie() -> Movie:
    start, end = index()
    return parse_movie(FILM[start:end], start)


def checked(tmp_path: Path, data: bytes, planned: float | None = 12.0) -> Account:
    path = tmp_path / "film.mp4"
    path.write_bytes(data)
    account = Account()
    check_file(path, planned, account)
    return account


def codes(account: Account) -> set[str]:
    return {problem.code for problem in account.problems}


def test_a_whole_film_is_sound(tmp_path: Path) -> None:
    account = checked(tmp_path, FILM)
    assert account.verdict == "sound"
    assert len(account.checks) >= 9 and all(check.outcome == "passed" for check in account.checks)


def test_samples_without_bytes_overlap_nothing(tmp_path: Path) -> None:
    """As texts have them that say nothing for a while: they stand at a byte between two samples of another track."""
    each = range(0, 4 * 48_000, 1024)
    data = written([[samples(1, each, [20] * len(each)), samples(2, each, [0] * len(each))]])
    assert "sample-overlap" not in codes(checked(tmp_path, data, None))
    alone = written([[samples(1, each, [20] * len(each))]])
    place = alone.index(b"stco") + 12
    overlapping = alone[: place + 4] + alone[place : place + 4] + alone[place + 8 :]  # the second chunk is the first
    assert "sample-overlap" in codes(checked(tmp_path, overlapping, None))


@pytest.mark.parametrize("kept", [20, 4000, 100_000, len(FILM) - 1])
def test_a_truncated_film_is_broken(tmp_path: Path, kept: int) -> None:
    assert checked(tmp_path, FILM[:kept]).verdict == "broken"


def test_a_file_of_which_nothing_can_be_proven_is_unproven(tmp_path: Path) -> None:
    (tmp_path / "scrap").write_bytes(FILM[:3])
    (found,) = assay(tmp_path / "scrap")
    assert found.verdict == "unproven" and not found.account.problems


def test_where_a_truncated_film_ends_is_said(tmp_path: Path) -> None:
    account = checked(tmp_path, FILM[:100_000])
    assert codes(account) == {"truncated"}
    assert "should end at byte 318,041" in account.problems[0].message


def test_a_damaged_length_inside_a_picture_is_seen(tmp_path: Path) -> None:
    damaged = bytearray(FILM)
    damaged[int(movie().tracks[0].offsets[100]) + 2] ^= 0x40
    account = checked(tmp_path, bytes(damaged))
    assert codes(account) == {"picture-units"} and account.verdict == "broken"
    assert "picture 100" in account.problems[0].message


def test_samples_outside_the_media_data_are_seen(tmp_path: Path) -> None:
    start, end = index()
    at = FILM.index(b"stco", start, end)
    damaged = bytearray(FILM)
    damaged[at + 12 : at + 16] = (len(FILM) + 5).to_bytes(4, "big")
    assert codes(checked(tmp_path, bytes(damaged))) == {"sample-outside"}


def test_a_length_other_than_promised_is_a_flaw(tmp_path: Path) -> None:
    account = checked(tmp_path, FILM, planned=16.0)
    assert codes(account) == {"duration"} and account.verdict == "flawed"


def test_what_cannot_be_looked_into_is_not_called_sound(tmp_path: Path) -> None:
    account = checked(tmp_path, b"KDMV" + bytes(500))
    assert account.verdict == "unproven" and [check.outcome for check in account.checks] == ["skipped"]


def test_only_the_last_box_of_a_file_may_leave_its_size_open(tmp_path: Path) -> None:
    damaged = bytearray(FILM)
    at = damaged.index(b"trak") - 4
    damaged[at : at + 4] = bytes(4)
    account = checked(tmp_path, bytes(damaged))
    assert codes(account) == {"boxes"} and account.verdict == "broken"
    assert "only the last box of a file may do" in account.problems[0].message


def test_gaps_still_times_and_ends_apart_are_flaws() -> None:
    film = movie()
    video, sound = film.tracks
    video.edits, video.delay = (), 0
    video.pts[150:] += 90_000
    video.dts[150:] += 90_000
    video.durations, sound.durations = video.durations.copy(), sound.durations.copy()
    video.durations[149] += 90_000
    sound.durations[10] = 0
    account = Account()
    check_timeline(film, None, account, streamed=True)
    assert {"gap", "times", "ends-apart"} <= codes(account)
    assert "no picture at 6.00–7.00 s" in " ".join(problem.message for problem in account.problems)


def test_drift_overlaps_and_beginnings_apart_are_placed() -> None:
    film = movie()
    _, sound = film.tracks
    sound.pts[300:] += np.arange(len(sound.pts) - 300) * 60  # a little more with each frame
    for first in range(100, 200, 10):  # each by less than a frame, and a seventh of a second together
        sound.pts[first:] -= 700
    sound.edits, sound.delay = (Edit(0, None),), sound.format.timescale
    account = Account()
    check_timeline(film, None, account)
    assert {"drift", "overlap", "begins-apart"} <= codes(account)
    overlap = next(problem for problem in account.problems if problem.code == "overlap")
    assert overlap.at == pytest.approx(100 * 1024 / 48_000, abs=0.05)
    still = Account()
    slides = movie()
    slides.tracks[0].pts[150:] += 90_000
    check_timeline(slides, None, still)  # a picture lasts until the next one, whoever made the file
    assert "gap" not in codes(still) and any("stands still at 6.00–7.00 s" in check.detail for check in still.checks)
    once = movie()
    once.tracks[1].pts[100:] -= 700  # as where sound is cut at the end of a part
    note = Account()
    check_timeline(once, None, note)
    assert "overlap" not in codes(note) and any("15 ms together" in check.detail for check in note.checks)
    whole = Account()
    check_timeline(movie(), 12.0, whole)
    assert not whole.problems and any(check.name == "drift" and check.outcome == "passed" for check in whole.checks)
