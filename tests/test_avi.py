"""AVI: chunks written by hand, what they state and what is there, and damage."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.errors import FormatError
from mudlark.media.avi import read_avi
from mudlark.media.index import movie_in
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from tests.bytes.avi import PICTURES, RATE, chunk, film

WHOLE = film()


def judged(folder: Path, data: bytes) -> Account:
    (folder / "film.avi").write_bytes(data)
    account = Account()
    assert check_file(folder / "film.avi", None, account).form == "avi"
    return account


@pytest.mark.parametrize("opendml", [False, True])
def test_a_whole_one_is_sound_and_its_tracks_are_told(tmp_path: Path, opendml: bool) -> None:
    account = judged(tmp_path, film(opendml=opendml))
    assert (account.verdict, account.problems) == ("sound", []), account
    picture, sound = movie_in(tmp_path / "film.avi").tracks
    assert (picture.format.codec, picture.format.width, picture.format.height) == ("jpeg", 64, 48)
    assert len(picture.sizes) == PICTURES and picture.presented() == (0.0, 2.0)
    assert (sound.format.codec, sound.format.sample_rate, sound.format.channels) == ("lpcm", RATE, 1)
    assert sound.presented() == (0.0, 2.0)


@pytest.mark.parametrize(
    ("data", "code"),
    [
        (WHOLE[:-100], "cut-off"),
        (WHOLE[:60_000], "cut-off"),
        (film(stated=PICTURES + 30), "cut-off"),
        (film(shift=2), "boxes"),
        (film(behind=b"something else"), "stray-bytes"),
        (WHOLE.replace(b"\xff\xd8\xff\xe0", bytes(4), 1), "coded-form"),
        (film(opendml=True)[:-3000], "cut-off"),
    ],
    ids=["index", "half", "stated", "places", "behind", "picture", "second part"],
)
def test_damage_is_said(tmp_path: Path, data: bytes, code: str) -> None:
    account = judged(tmp_path, data)
    assert account.verdict in ("flawed", "broken") and code in {problem.code for problem in account.problems}, account


def test_zeros_in_place_of_a_picture_are_damage(tmp_path: Path) -> None:
    data = bytearray(WHOLE)
    at = data.index(b"00dc", 30_000) + 100
    data[at : at + 550] = bytes(550)
    assert "zeros" in {problem.code for problem in judged(tmp_path, bytes(data)).problems}


def test_pictures_without_bytes_show_the_one_before_once_more(tmp_path: Path) -> None:
    at = WHOLE.index(b"00dc")
    length = int.from_bytes(WHOLE[at + 4 : at + 8], "little")
    empty = chunk(b"00dc")
    data = bytearray(WHOLE[: at + 8 + length + (length & 1)] + empty + WHOLE[at + 8 + length + (length & 1) :])
    for place in (4, data.index(b"movi") - 4):  # the sizes around it
        data[place : place + 4] = (int.from_bytes(data[place : place + 4], "little") + len(empty)).to_bytes(4, "little")
    (tmp_path / "film.avi").write_bytes(data)
    picture = movie_in(tmp_path / "film.avi").tracks[0]
    assert len(picture.sizes) == PICTURES and picture.durations[:3].tolist() == [2, 1, 1]


@pytest.mark.parametrize("name", [b"zzzz", b"00dd"])
def test_chunks_that_no_one_knows_are_left_out(tmp_path: Path, name: bytes) -> None:
    data = bytearray(WHOLE)
    at = data.index(b"00dc", 2000)
    data[at : at + 4] = name
    account = judged(tmp_path, bytes(data))
    assert any("chunks of no known kind" in check.detail for check in account.checks) and account.verdict != "sound"


@given(st.integers(0, len(WHOLE) - 1), st.binary(min_size=1, max_size=8))
def test_changed_bytes_end_in_nothing_but_our_own_errors(at: int, some: bytes) -> None:
    data = WHOLE[:at] + some + WHOLE[at + len(some) :]
    try:
        read_avi(lambda place, count: data[place : place + count], len(data))
    except FormatError as problem:
        assert str(problem)
