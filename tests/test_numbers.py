"""The numbers of H.264 pictures: headers written by hand (ITU-T H.264 §7.3.3), and films that lack pictures."""

import numpy as np
import pytest
from msgspec.structs import replace

from mudlark.demo.streamed import MEDIA
from mudlark.media.index import movie_in
from mudlark.media.movie import TrackIndex, reader_of
from mudlark.media.picture.numbers import Numbering, Numbers, numbers_of
from mudlark.media.samples import Bytes, Format, Ints
from mudlark.verify.account import Account
from mudlark.verify.coded import check_coded

_PLAIN = Numbering(bits=4, fields=False, planes=False, place_bits=6)


def slice_of(kind: int, *numbers: tuple[int, int]) -> bytes:
    """A unit: its first byte, and numbers with the bits of each, zeros behind; emulation is prevented (§7.4.1)."""
    bits = "".join(f"{value:0{width}b}" for value, width in numbers)
    body = int(bits.ljust(96, "0"), 2).to_bytes(12, "big").replace(b"\0\0", b"\0\0\3")
    return bytes([kind]) + body + b"\x80"


def found_in(numbering: Numbering, *units: bytes) -> tuple[Bytes, Numbers]:
    data, begins, ends = b"", [], []
    for unit in units:
        begins.append(len(data))
        data += (2).to_bytes(4, "big") + b"\x06\x80" + len(unit).to_bytes(4, "big") + unit  # a message before it
        ends.append(len(data))
    format = Format("video", "avc1.64001f", 90_000, b"\1\x64\0\x1f\xff\xe0\0", 3600)
    stream = np.frombuffer(data, np.uint8)
    return stream, numbers_of(stream, np.array(begins), np.array(ends), format, numbering)


def test_numbers_stand_in_slice_headers() -> None:
    begin = ((1, 1), (8, 7), (1, 1))  # first macroblock 0, kind of slice 7, parameter set 0
    _, numbers = found_in(
        _PLAIN,
        slice_of(0x65, *begin, (0, 4), (5, 5), (0, 6)),  # IDR with an idr_pic_id of 4
        slice_of(0x41, *begin, (1, 4), (34, 6)),
        slice_of(0x01, (300, 17), (8, 7), (2, 3), (2, 4), (63, 6)),  # one that begins at macroblock 299; set 1
    )
    assert numbers.number.tolist() == [0, 1, 2] and numbers.place.tolist() == [0, 34, 63]
    assert numbers.reference.tolist() == [True, True, False] and numbers.anew.tolist() == [True, False, False]
    fields = Numbering(bits=8, fields=True, planes=True, place_bits=8)
    _, numbers = found_in(
        fields,
        slice_of(0x41, *begin, (2, 2), (9, 8), (3, 2), (7, 8)),
        slice_of(0x41, *begin, (1, 2), (9, 8), (0, 1), (6, 8)),
    )
    assert numbers.number.tolist() == [9, 9] and numbers.place.tolist() == [7, 6]


def test_bytes_of_emulation_prevention_are_none_of_a_header() -> None:
    wide = Numbering(bits=16, fields=False, planes=False, place_bits=16)
    begin = ((1, 1), (8, 7), (1, 1))
    pairs = ((0, 0), (0, 3), (256, 0), (0, 0x8001), (3, 0x0180))
    made = [slice_of(0x41, *begin, (number, 16), (place, 16)) for number, place in pairs]
    assert all(b"\0\0\3" in unit for unit in made)
    _, numbers = found_in(wide, *made)
    assert list(zip(numbers.number.tolist(), numbers.place.tolist(), strict=True)) == list(pairs)


def numbered(*numbers: int, other: tuple[int, ...] = (), anew: tuple[int, ...] = (0,)) -> Numbers:
    """Pictures with a frame_num each, shown in the order of decoding. other: those from which nothing is made."""
    count = len(numbers)
    begins = np.isin(np.arange(count), anew)
    made_from = ~np.isin(np.arange(count), other)
    return Numbers(np.array(numbers), np.arange(count) * 2 % 64, made_from, begins, np.zeros(count, np.bool_))


@pytest.mark.parametrize(
    ("numbers", "expected"),
    [
        (numbered(0, 1, 2, 3), []),
        (numbered(0, 1, 3, 4), [2]),
        (numbered(0, 1, 2, 2, 3), [3]),
        (numbered(0, 1, 2, 3, 4, 4, 5, other=(2, 4, 5)), [3, 6]),
        (numbered(0, 1, 2, 2, 3, other=(2,)), []),
        (numbered(*range(16), 0, 1), []),
        (numbered(0, 1, 2, 0, 1, anew=(0, 3)), []),
        (numbered(0, 1, -1, 7, 8), []),
    ],
    ids=["good", "missing", "twice", "both", "from which nothing is made", "round", "anew", "unknown"],
)
def test_numbers_follow_those_of_what_others_are_made_from(numbers: Numbers, expected: list[int]) -> None:
    nowhere = np.zeros(len(numbers.number), np.bool_)
    only_numbers = replace(_PLAIN, place_bits=0)
    assert [found.tolist() for found in numbers.breaks(only_numbers, nowhere, np.arange(len(nowhere)))] == [expected]


def test_fields_share_a_number_and_streams_may_be_joined() -> None:
    nowhere = np.zeros(4, np.bool_)
    fields = replace(_PLAIN, fields=True)
    assert not any(map(len, numbered(0, 0, 1, 1).breaks(fields, nowhere, np.arange(4))))
    joined = np.array([False, False, True, False])
    assert not any(map(len, numbered(0, 1, 7, 8).breaks(_PLAIN, joined, np.arange(4))))


FILM = MEDIA / "harbour-talk.mp4"


def picture() -> TrackIndex:
    return next(track for track in movie_in(FILM).tracks if track.format.type == "video")


def judged(order: Ints) -> Account:
    """The film with its pictures in another order, or not all of them, and tables that agree with it."""
    track, account = picture(), Account()
    track.sizes, track.offsets, track.sync = track.sizes[order], track.offsets[order], track.sync[order]
    track.pts = np.resize(track.pts, len(order)) + track.pts.max() * (np.arange(len(order)) >= len(track.pts))
    track.dts, track.durations = np.arange(len(order)) * 40, np.resize(track.durations, len(order))
    track.described = np.zeros(len(order), np.int64)
    with FILM.open("rb") as file:
        check_coded(reader_of(file), [track], account)
    return account


def test_a_picture_that_is_missing_twice_or_swapped_is_seen_though_all_tables_agree() -> None:
    every = np.arange(len(picture().sizes))
    assert judged(every).problems == []
    for number in (40, 41, 42, 43, 250, 460):  # of those that others are made from, and of the others
        swapped = every.copy()
        swapped[[number, number + 1]] = [number + 1, number]
        for order in (np.delete(every, number), np.insert(every, number, number), swapped):
            problems = judged(order).problems
            assert [problem.code for problem in problems] == ["picture-order"], (number, order[:50])
            assert problems[0].at == pytest.approx(number / 25, abs=0.3)


def test_a_recording_that_is_cut_off_at_its_end_misses_nothing_else() -> None:
    every = np.arange(len(picture().sizes))
    assert all(judged(every[:-cut]).problems == [] for cut in range(1, 20))


def test_an_encoder_that_counts_otherwise_all_the_way_through_is_left_alone() -> None:
    assert judged(np.repeat(np.arange(len(picture().sizes)), 2)).problems == []


def test_what_states_no_numbers_is_not_judged() -> None:
    assert Numbering.of(picture().format) == _PLAIN
    assert Numbering.of(replace(picture().format, config=picture().format.config[:12])) is None
    assert Numbering.of(replace(picture().format, codec="vp09")) is None
