"""MPEG transport streams: what a reader must make of them, and what it must say when they are damaged."""

import itertools

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mudlark.demo.transport import AAC, AUDIO_PID, AVC, VIDEO_PID, TransportWriter, Unit
from mudlark.errors import MudlarkError, Refused
from mudlark.media.samples import Loss, LossCode
from mudlark.media.sound.adts import ADTS
from mudlark.media.sound.framed import FramedStream
from mudlark.media.ts import TransportError, TransportReader, align, unwrap
from mudlark.media.ts_packets import PACKET
from tests.streams import (
    AUDIO_FRAME,
    DELIMITER,
    FRAME,
    PPS_UNIT,
    SPS_UNIT,
    Collected,
    aac_frame,
    access_unit,
    demo_segment,
    pictures,
    slice_unit,
    sounds,
)

VIDEO, AUDIO = 1, 2


def test_pictures_and_sound_come_out_with_their_times_and_bytes() -> None:
    data = TransportWriter().segment([*pictures(5, start=9000), *sounds(10, start=9000)])
    got = Collected(data)
    assert got.dts[VIDEO] == [9000 + n * FRAME for n in range(5)]
    assert got.pts[VIDEO] == [9000 + (n + 2) * FRAME for n in range(5)]
    assert got.sync[VIDEO] == [True, False, False, False, False]
    expected = b"".join((500 + n).to_bytes(4, "big") + slice_unit(500 + n, instant=n == 0) for n in range(5))
    assert got.data[VIDEO] == expected
    assert got.dts[AUDIO] == [4800 + n * 1024 for n in range(10)]
    assert got.data[AUDIO] == b"".join(b"\x21" + bytes([n + 1]) * 88 + b"\7" for n in range(10))


def test_a_picture_that_goes_on_in_the_next_segment_stays_whole() -> None:
    whole = TransportWriter().segment(pictures(4, size=3000))
    cut = 30 * PACKET  # in the middle of a picture
    assert Collected(whole[:cut], whole[cut:]).data == Collected(whole).data


@settings(max_examples=40, deadline=None)
@given(st.lists(st.integers(3, 60), min_size=1, max_size=5))  # the tables are in the first three packets
def test_where_segments_are_cut_makes_no_difference(cuts: list[int]) -> None:
    whole = TransportWriter().segment(sorted([*pictures(6, size=1500), *sounds(12)], key=lambda u: u.dts))
    edges = sorted({0, len(whole), *(min(c * PACKET, len(whole)) for c in cuts)})
    parts = [whole[a:b] for a, b in itertools.pairwise(edges)]
    got, expected = Collected(*parts), Collected(whole)
    assert (got.data, got.dts, got.pts, got.sync) == (expected.data, expected.dts, expected.pts, expected.sync)


def test_times_run_on_across_the_wrap_of_33_bits() -> None:
    start = (1 << 33) - 2 * FRAME
    writer = TransportWriter()
    first, second = (
        writer.segment(pictures(4, start=start)),
        writer.segment(pictures(4, start=start + 4 * FRAME)),
    )
    assert Collected(first, second).dts[VIDEO] == [start + n * FRAME for n in range(8)]


@given(st.lists(st.integers(-(1 << 31), 1 << 31), min_size=1, max_size=20), st.integers(0, 1 << 40))
def test_unwrap_finds_the_nearest_time(steps: list[int], after: int) -> None:
    times = np.array([after + step for step in steps])
    assert unwrap(times % (1 << 33), after).tolist() == times.tolist()


def test_three_byte_start_codes_between_slices_become_lengths() -> None:
    slices = [slice_unit(40, fill=7), slice_unit(41, fill=8), slice_unit(42, fill=9)]
    first = access_unit(50, instant=True)
    second = b"\0\0\0\1\x09\xf0" + b"".join(b"\0\0\1" + unit for unit in slices)
    units = [Unit(VIDEO_PID, first, 7200, 0), Unit(VIDEO_PID, second, 10800, 3600)]
    got = Collected(TransportWriter(AVC).segment(units))
    expected = b"".join(len(unit).to_bytes(4, "big") + unit for unit in slices)
    assert got.data[VIDEO][-len(expected) :] == expected
    assert got.sizes[VIDEO] == [54, len(expected)]


def test_two_pictures_in_one_unit_become_two_samples() -> None:
    both = access_unit(60, instant=True) + access_unit(61)
    units = [Unit(VIDEO_PID, both, 0, 0), Unit(VIDEO_PID, access_unit(62), 2 * FRAME, 2 * FRAME)]
    got = Collected(TransportWriter(AVC).segment(units))
    assert got.sizes[VIDEO] == [64, 65, 66]
    assert got.dts[VIDEO] == [0, FRAME, 2 * FRAME]


def test_changed_parameter_sets_stay_in_the_samples() -> None:
    other = PPS_UNIT[:-1] + bytes([PPS_UNIT[-1] ^ 0x10])
    sets = b"\0\0\0\1" + SPS_UNIT + b"\0\0\0\1" + other
    changed = b"\0\0\0\1\x09\xf0" + sets + b"\0\0\1" + slice_unit(30, instant=True)
    reader = TransportReader()
    writer = TransportWriter(AVC)
    Collected(writer.segment(pictures(2)), reader=reader)
    samples = reader.feed(
        writer.segment([Unit(VIDEO_PID, changed, 18000, 18000), Unit(VIDEO_PID, changed, 21600, 21600)])
    )
    assert samples[0].format.codec.startswith("avc3")
    assert other in b"".join(samples[0].pieces)


def test_a_gap_in_the_sound_moves_the_following_frames() -> None:
    units = [*sounds(4), *sounds(4, start=10 * AUDIO_FRAME)]
    got = Collected(TransportWriter(AAC).segment(units))
    assert got.dts[AUDIO] == [n * 1024 for n in (0, 1, 2, 3, 10, 11, 12, 13)]


def test_rounding_of_timestamps_does_not_disturb_the_running_count() -> None:
    units = [Unit(u.pid, u.data, u.pts + n % 3, u.dts + n % 3) for n, u in enumerate(sounds(40))]
    got = Collected(TransportWriter(AAC).segment(units))
    assert set(np.diff(got.dts[AUDIO]).tolist()) == {1024}


def test_of_two_times_for_one_frame_the_first_counts() -> None:
    stream = FramedStream(AUDIO, ADTS)
    data = np.frombuffer(b"".join(aac_frame(b"x" * 50) for _ in range(3)), np.uint8)
    samples, _ = stream.samples(data, np.array([0, 0, 57]), np.array([0, 900_000, AUDIO_FRAME]))
    assert samples is not None and samples.dts.tolist() == [0, 1024, 2048]


def test_frames_of_sound_may_be_cut_by_units() -> None:
    data = b"".join(unit.data for unit in sounds(9))
    units = [Unit(AUDIO_PID, data[at : at + 130], 0 if not at else at * 20, 0) for at in range(0, len(data), 130)]
    units = [
        Unit(u.pid, u.data, (i * 130 // 97) * AUDIO_FRAME + (AUDIO_FRAME if i else 0), 0) for i, u in enumerate(units)
    ]
    got = Collected(TransportWriter(AAC).segment([Unit(u.pid, u.data, u.pts, u.pts) for u in units]))
    assert got.sizes[AUDIO] == [90] * 9


def test_lost_packets_are_counted_and_said() -> None:
    data = TransportWriter(AVC).segment(pictures(6, size=2000))
    reader = TransportReader()
    Collected(data[: 20 * PACKET] + data[23 * PACKET :], reader=reader)
    assert reader.losses() == [Loss(LossCode.PACKETS, 3)]


def test_packets_sent_twice_count_once() -> None:
    data = TransportWriter(AVC).segment(pictures(6, size=2000))
    twice = data[: 21 * PACKET] + data[20 * PACKET : 21 * PACKET] + data[21 * PACKET :]
    reader = TransportReader()
    assert Collected(twice, reader=reader).data == Collected(data).data
    assert reader.losses() == []


def test_sync_is_found_again_after_stray_bytes() -> None:
    data = TransportWriter(AVC).segment(pictures(6, size=2000))
    reader = TransportReader()
    stray = b"\x00" * 101
    got = Collected(stray + data[: 20 * PACKET] + stray + data[20 * PACKET :], reader=reader)
    assert got.data == Collected(data).data
    assert reader.losses() == [Loss(LossCode.STRAY_BYTES, 202)]


def test_random_bytes_are_no_transport_stream() -> None:
    with pytest.raises(TransportError, match="no chain of sync bytes"):
        align(np.random.default_rng(3).bytes(50_000))


def test_scrambled_packets_are_refused() -> None:
    data = bytearray(TransportWriter(AVC).segment(pictures(3)))
    for at in range(2 * PACKET, len(data), PACKET):
        data[at + 3] |= 0x80
    with pytest.raises(Refused, match="scrambled"):
        TransportReader().feed(bytes(data))


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_damage_never_ends_in_anything_but_our_own_errors(data: st.DataObject) -> None:
    segment = bytearray(demo_segment()[: 120 * PACKET])
    for _ in range(data.draw(st.integers(1, 30))):
        at = data.draw(st.integers(0, len(segment) - 1))
        segment[at] = data.draw(st.integers(0, 255))
    kept = data.draw(st.integers(0, len(segment)))
    reader = TransportReader()
    try:
        for part in (bytes(segment[:kept]), bytes(segment[kept:])):
            for samples in reader.feed(part):
                assert sum(map(len, samples.pieces)) == int(samples.sizes.sum())
        reader.flush()
    except MudlarkError:
        return


def test_a_stream_that_begins_behind_its_idr_begins_at_a_recovery_point() -> None:
    """H.264 D.1.8: an SEI message of type 6; one of type 1 (picture timing) may stand before it in the same unit."""
    timing = b"\x01\x02\xaa\xbb"
    sei = b"\0\0\1\x06" + timing + b"\x06\x01\xc4\x80"
    sets = b"\0\0\0\1" + SPS_UNIT + b"\0\0\0\1" + PPS_UNIT

    def unit(number: int, *, point: bool) -> Unit:
        before = sets + sei if point else b"\0\0\1\x06" + timing + b"\x80"
        data = DELIMITER + before + b"\0\0\1" + slice_unit(500, instant=False)
        return Unit(VIDEO_PID, data, (number + 2) * FRAME, number * FRAME)

    reader = TransportReader()
    batch = reader.feed(TransportWriter().segment([unit(n, point=n in (5, 20)) for n in range(40)]))
    batch += reader.flush()
    sync = np.concatenate([one.sync for one in batch if one.format.type == "video"])
    assert np.flatnonzero(sync).tolist() == [5, 20]
