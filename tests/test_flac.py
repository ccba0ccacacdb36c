"""FLAC decoded: files of another encoder, subframes written by hand, and whatever chance makes of them."""

import hashlib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.media.samples import Bytes
from mudlark.media.sound.flac import FlacFrames, batches, decoded
from mudlark.verify.account import Account
from mudlark.verify.forms.flac import check_flac
from tests import sounds

FILES = sorted((Path(__file__).parent / "bytes/flac").glob("*.flac"))
SUMS = slice(26, 42)  # where STREAMINFO states the MD5


def checked(folder: Path, data: bytes) -> Account:
    (folder / "sound.flac").write_bytes(data)
    account = Account()
    check_flac(folder / "sound.flac", account)
    return account


@pytest.mark.parametrize("path", FILES, ids=[path.stem for path in FILES])
def test_the_sound_of_another_encoder_has_the_md5_that_it_states(tmp_path: Path, path: Path) -> None:
    data = bytearray(path.read_bytes())
    account = checked(tmp_path, bytes(data))
    assert account.problems == [] and "has the MD5 that it states" in account.checks[0].detail
    data[SUMS.start + 4] ^= 1
    assert [problem.code for problem in checked(tmp_path, bytes(data)).problems] == ["sound-digest"]
    data[SUMS] = bytes(16)  # not stated
    account = checked(tmp_path, bytes(data))
    assert account.problems == [] and "MD5" not in account.checks[0].detail


def test_frames_that_differ_from_their_stream_are_placed(tmp_path: Path) -> None:
    data = bytearray(FILES[-1].read_bytes())
    data[20] ^= 1 << 1  # two channels more than the frames have
    (problem,) = checked(tmp_path, bytes(data)).problems
    assert (problem.code, problem.at) == ("undecoded", 0.0) and problem.offset


def test_a_last_frame_that_is_shorter_than_a_header_may_be_is_found(tmp_path: Path) -> None:
    samples = np.append(sounds.noise(1152), np.zeros(4, np.int16))
    whole = sounds.flac(samples, stated=len(samples))
    assert checked(tmp_path, whole).problems == []
    stated = bytearray(whole)
    stated[SUMS] = hashlib.md5(samples.astype("<i2").tobytes()).digest()
    assert checked(tmp_path, bytes(stated)).problems == []


def subframe(*numbers: tuple[int, int]) -> Bytes:
    """A frame of one subframe: numbers with the bits of each, behind a header of 16 bits mono, and a check sum."""
    bits = "".join(f"{value & (1 << width) - 1:0{width}b}" for value, width in numbers)
    bits += "0" * (-len(bits) % 8)
    body = int(bits, 2).to_bytes(len(bits) // 8, "big")
    return np.frombuffer(b"\xff\xf8\x79\x08\0" + body + bytes(2), np.uint8)


def samples_of(data: Bytes, size: int) -> list[int] | None:
    frames = FlacFrames(np.array([0]), np.array([len(data)]), np.array([5]), np.array([size]))
    found = decoded(data, frames, 1, 16)
    return None if found is None else found[:, 0].tolist()


def rice(value: int, low: int) -> tuple[int, int]:
    """A residual with so many low bits (§9.2.7.3)."""
    folded = value << 1 if value >= 0 else (-value << 1) - 1
    return 1 << low | folded & (1 << low) - 1, (folded >> low) + 1 + low


def test_subframes_written_by_hand() -> None:
    constant = subframe((0, 8), (-5, 16))
    assert samples_of(constant, 3) == [-5, -5, -5]
    wasted = subframe((1, 8), (1, 3), (7, 13))  # constant, three bits wasted
    assert samples_of(wasted, 2) == [56, 56]
    fixed = subframe((9 << 1, 8), (100, 16), (0, 6), (2, 4), rice(3, 2), rice(-9, 2), rice(0, 2))
    assert samples_of(fixed, 4) == [100, 103, 94, 94]
    # two coefficients of four bits, 2 and -1, shifted by nothing; as they are, in five bits
    linear = subframe(
        (33 << 1, 8), (10, 16), (13, 16), (3, 4), (0, 5), (2, 4), (-1, 4), (0, 6), (15, 4), (5, 5), (1, 5), (-2, 5)
    )
    assert samples_of(linear, 4) == [10, 13, 17, 19]
    parts = subframe((8 << 1, 8), (1, 2), (1, 4), (0, 5), rice(1, 0), rice(-1, 0), (9, 5), rice(1000, 9), rice(-70, 9))
    assert samples_of(parts, 4) == [1, -1, 1000, -70]
    empty_first = subframe((9 << 1, 8), (7, 16), (0, 2), (1, 4), (3, 4), (0, 4), rice(1, 0))
    assert samples_of(empty_first, 2) == [7, 8]
    far = subframe((8 << 1, 8), (0, 6), (0, 4), (1, 201))  # two hundred zeros
    assert samples_of(far, 1) == [100]


@pytest.mark.parametrize(
    "wrong",
    [
        subframe((2 << 1, 8), (0, 64)),  # a reserved kind
        subframe((32 << 1, 8), (0, 16), (15, 4), (0, 60)),  # a precision that is not allowed
        subframe((32 << 1, 8), (0, 16), (1, 4), (-1, 5), (0, 60)),  # shifted to the left
        subframe((8 << 1, 8), (2, 2), (0, 60)),  # a reserved coding
        subframe((8 << 1, 8), (0, 2), (3, 4), (0, 60)),  # eight parts of four samples
        subframe((8 << 1, 8), (0, 6), (0, 4), (0, 400_000)),  # zeros without end
        subframe((0, 8), (1, 16), (0, 8)),  # a byte too many
        subframe((1, 8), (0, 80)),  # all bits wasted
    ],
)
def test_what_the_standard_forbids_decodes_to_nothing(wrong: Bytes) -> None:
    assert samples_of(wrong, 4) is None


@given(st.binary(min_size=1, max_size=300), st.integers(1, 64))
def test_whatever_chance_writes_decodes_or_not(body: bytes, size: int) -> None:
    data = np.frombuffer(b"\xff\xf8\x79\x08\0" + body, np.uint8)
    found = samples_of(data, size)
    assert found is None or len(found) == size


@given(st.lists(st.integers(1, 65_535), max_size=300))
def test_batches_are_all_frames_in_their_order(sizes: list[int]) -> None:
    parts = list(batches(np.array(sizes, np.int64)))
    assert [size for part in parts for size in sizes[part]] == sizes
    assert all((part.stop - part.start) * max(sizes[part]) <= 3 << 20 or part.stop - part.start == 1 for part in parts)
