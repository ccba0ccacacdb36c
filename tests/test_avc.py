"""H.264: start codes, parameter sets, and length-prefixed samples."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.errors import FormatError
from mudlark.media.bits import Bits
from mudlark.media.picture.avc import configuration, parse_sps
from mudlark.media.picture.nal import nal_units, start_codes
from tests.streams import PPS_UNIT, SPS_UNIT

zeros_and_ones = st.lists(st.sampled_from([0, 0, 1, 2]), max_size=120).map(bytes)


@given(zeros_and_ones, st.integers(0, 1))
def test_every_start_code_is_found_at_even_and_odd_places(data: bytes, shift: int) -> None:
    stream = np.frombuffer(bytes(shift) + data, np.uint8)
    found, at = [], -1
    while (at := stream.tobytes().find(b"\0\0\1", at + 1)) >= 0:
        found.append(at)
    assert start_codes(stream).tolist() == found


def test_start_codes_are_found_across_the_scanner_s_chunks() -> None:
    for place in (65533, 65534, 65535, 65536, 131071):
        stream = np.full(140_000, 9, np.uint8)
        stream[place : place + 3] = (0, 0, 1)
        assert start_codes(stream).tolist() == [place]


@given(st.lists(st.binary(min_size=1, max_size=20).map(lambda b: bytes(x or 7 for x in b)), min_size=1, max_size=8))
def test_units_come_back_whatever_zeros_stand_between(units: list[bytes]) -> None:
    stream = b"".join(b"\0" * (index % 3) + b"\0\0\1" + unit for index, unit in enumerate(units)) + b"\0\0"
    array = np.frombuffer(stream, np.uint8)
    begins, ends = nal_units(array)
    assert [stream[b:e] for b, e in zip(begins, ends, strict=True)] == units


def test_parameter_sets_tell_the_picture() -> None:
    found = parse_sps(SPS_UNIT)
    assert (found.width, found.height, found.profile, found.frames_only) == (320, 180, 100, True)
    assert found.ticks_per_frame == 3600


def test_a_parameter_set_that_ends_early_is_our_own_error() -> None:
    needed = 21  # bytes of the 25 that hold what is read of it
    for size in range(1, needed):
        with pytest.raises(FormatError):
            parse_sps(SPS_UNIT[:size])
    assert parse_sps(SPS_UNIT[:needed]) == parse_sps(SPS_UNIT)


def test_the_configuration_record_holds_both_sets() -> None:
    record = configuration([SPS_UNIT], [PPS_UNIT])
    assert record[:6] == bytes([1, *SPS_UNIT[1:4], 0xFF, 0xE1])
    assert SPS_UNIT in record and PPS_UNIT in record


@pytest.mark.parametrize(("bits", "value"), [("1", 0), ("010", 1), ("011", 2), ("00100", 3), ("0001001", 8)])
def test_exp_golomb_codes(bits: str, value: int) -> None:
    padded = int(bits.ljust(8, "0"), 2).to_bytes(1, "big")
    assert Bits(padded).unsigned() == value
