"""Program streams written by hand: whole ones, and what is missing in those that are not."""

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.verify.account import Account
from mudlark.verify.media import Checked, check_file
from tests.bytes.program import END, film, packet

PACKS = film()
WHOLE = b"".join(PACKS)


def judged(folder: Path, data: bytes) -> tuple[Account, Checked]:
    (folder / "film.mpg").write_bytes(data)
    account = Account()
    checked = check_file(folder / "film.mpg", None, account)
    assert checked.form == "program"
    return account, checked


@pytest.mark.parametrize("mpeg_1", [False, True])
def test_a_whole_one_is_sound_if_it_has_its_end_code(tmp_path: Path, mpeg_1: bool) -> None:
    account, checked = judged(tmp_path, b"".join(film(mpeg_1=mpeg_1)))
    assert (account.verdict, account.problems) == ("sound", []), account
    picture, sound = checked.formats
    assert (picture.codec, picture.width, picture.height) == ("mp4v.61", 176, 144)
    assert picture.timescale / picture.sample_duration == 25 and picture.pixel_aspect == (1, 1)
    wide = b"".join(film(mpeg_1=mpeg_1)).replace(b"\x90\x13\xff", b"\x90\x33\xff")  # 16:9
    assert judged(tmp_path, wide)[1].formats[0].pixel_aspect == (16, 11)
    assert (sound.sample_rate, sound.channels) == (44_100, 2) and checked.seconds == pytest.approx(2.0, abs=0.1)
    account, _ = judged(tmp_path, b"".join(film(end=b"", mpeg_1=mpeg_1)))
    assert (account.verdict, account.problems) == ("unproven", [])


@pytest.mark.parametrize(
    ("data", "code"),
    [
        (WHOLE[:-300], "cut-off"),
        (WHOLE[:20_000] + WHOLE[20_500:], "stray-bytes"),
        (WHOLE[:20_000] + bytes(4_000) + WHOLE[24_000:], "stray-bytes"),
        (b"".join(PACKS[:20] + PACKS[23:]), "stray-bytes"),  # frames of sound are torn
        (b"".join(PACKS[:20]) + PACKS[20].replace(b"\0\0\1\5", b"\0\0\1\4") + b"".join(PACKS[21:]), "coded-form"),
    ],
    ids=["cut", "dropped", "hole", "packs", "row"],
)
def test_damage_is_said(tmp_path: Path, data: bytes, code: str) -> None:
    account, _ = judged(tmp_path, data)
    assert account.verdict == "flawed" and code in {problem.code for problem in account.problems}, account


def test_zeros_before_a_start_code_are_stuffing_and_others_are_a_hole(tmp_path: Path) -> None:
    stuffed = PACKS[20].replace(b"\0\0\1\6", bytes(900) + b"\0\0\1\6")
    begin = stuffed.index(b"\0\0\1\xe0") + 4
    size = int.from_bytes(stuffed[begin : begin + 2], "big") + 900
    stuffed = stuffed[:begin] + size.to_bytes(2, "big") + stuffed[begin + 2 :]
    account, _ = judged(tmp_path, b"".join([*PACKS[:20], stuffed, *PACKS[21:]]))
    assert (account.verdict, account.problems) == ("sound", [])
    hole = stuffed.replace(bytes(900) + b"\0\0\1\6", bytes(903) + b"\6")
    account, _ = judged(tmp_path, b"".join([*PACKS[:20], hole, *PACKS[21:]]))
    assert {problem.code for problem in account.problems} == {"zeros", "coded-form"}


def test_streams_that_no_one_reads_are_said(tmp_path: Path) -> None:
    pictures = packet(0xBD, b"\x20" + bytes(range(1, 200)), 90_000)  # subtitles of a disc
    account, _ = judged(tmp_path, b"".join([*PACKS[:-1], pictures, END]))
    assert account.verdict == "unproven" and "200 bytes of stream 0x120" in " ".join(
        one.detail for one in account.checks
    )


@given(st.integers(0, len(WHOLE) - 1), st.binary(min_size=1, max_size=8))
def test_changed_bytes_end_in_a_verdict(tmp_path_factory: pytest.TempPathFactory, at: int, some: bytes) -> None:
    data = bytearray(WHOLE)
    data[max(at, 4) : max(at, 4) + len(some)] = some
    folder = tmp_path_factory.getbasetemp()
    judged(folder, bytes(data))
