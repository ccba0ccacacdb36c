"""Access units in the packets of other makers: a picture in many, many in one, times that are missing or equal."""

from itertools import pairwise

import numpy as np
import pytest

from mudlark.media.samples import Samples
from mudlark.media.ts import TransportReader
from tests.bytes.transport import Counters, association, program_map, timed
from tests.streams import PPS_UNIT, SPS_UNIT

_MAP, _PID, _OTHER = 0x1000, 0x100, 0x101
_START = b"\0\0\0\1"
_TICKS = 3600


def first_slice(number: int, *, instant: bool = False) -> bytes:
    """ITU-T H.264 §7.3.3: first_mb_in_slice is 0, one bit."""
    return bytes([0x65 if instant else 0x41, 0x88]) + bytes([number % 200 + 1]) * (60 + number)


def further_slice(number: int, *, instant: bool = False) -> bytes:
    """first_mb_in_slice is 1: 010."""
    return bytes([0x65 if instant else 0x41, 0x48]) + bytes([number % 200 + 1]) * 40


def picture(number: int, *, delimited: bool = False) -> list[bytes]:
    """The units of a picture of two slices, each behind its start code; every tenth is an IDR with its sets."""
    instant = number % 10 == 0
    units = [b"\x09\xf0"] if delimited else []
    units += [SPS_UNIT, PPS_UNIT] if instant else []
    units += [first_slice(number, instant=instant), further_slice(number, instant=instant)]
    return [_START + unit for unit in units]


def sizes_of(numbers: range) -> list[int]:
    return [(4 + 62 + number) + (4 + 42) for number in numbers]


def untimed(data: bytes) -> bytes:
    """ISO/IEC 13818-1 §2.4.3.6: a PES packet without times."""
    return b"\0\0\1\xe0\0\0\x80\0\0" + data


def read(packets: list[bytes], *, segments: int = 1) -> tuple[list[int], list[int]]:
    """Sizes and times of all pictures out of some PES packets, in so many segments."""
    pack, reader, made = Counters(), TransportReader(), list[Samples]()
    share = -(-len(packets) // segments)
    for first in range(0, len(packets), share):
        data = pack.packets(0, association()) + pack.packets(_MAP, program_map((0x1B, _PID)))
        data += b"".join(pack.packets(_PID, packet) for packet in packets[first : first + share])
        made += [samples.kept() for samples in reader.feed(memoryview(data))]
    made += reader.flush()
    assert not reader.losses()
    times = np.concatenate([samples.pts for samples in made])
    return np.concatenate([samples.sizes for samples in made]).tolist(), times.tolist()


@pytest.mark.parametrize("segments", [1, 3])
@pytest.mark.parametrize("delimited", [False, True])
def test_each_unit_in_a_packet_of_its_own(segments: int, delimited: bool) -> None:
    packets = [timed(unit, n * _TICKS) for n in range(30) for unit in picture(n, delimited=delimited)]
    sizes, times = read(packets, segments=segments)
    assert sizes == sizes_of(range(30)) and times == [n * _TICKS for n in range(30)]


@pytest.mark.parametrize("segments", [1, 3])
def test_several_pictures_in_one_packet(segments: int) -> None:
    packets = [timed(b"".join(u for n in range(at, at + 3) for u in picture(n)), at * _TICKS) for at in range(0, 30, 3)]
    sizes, times = read(packets, segments=segments)
    assert sizes == sizes_of(range(30)) and times == [n * _TICKS for n in range(30)]


def test_packets_without_times_in_between() -> None:
    packets = []
    for n in range(30):
        data = b"".join(picture(n))
        packets.append(timed(data, n * _TICKS) if n % 3 == 0 else untimed(data))
    sizes, times = read(packets)
    assert sizes == sizes_of(range(30)) and times == [n * _TICKS for n in range(30)]


def test_what_stands_before_the_first_time_does_not_put_off_what_has_one() -> None:
    packets = [untimed(b"".join(picture(0))), *(timed(b"".join(picture(n)), n * _TICKS) for n in range(10, 20))]
    sizes, times = read(packets)
    assert sizes == sizes_of(range(10, 20)) and times == [n * _TICKS for n in range(10, 20)]


def test_a_burst_of_pictures_with_one_time_loses_none() -> None:
    """As a server writes what has waited while it stalled: five of one time, then on as before."""
    stated = [min(n, 10) if n < 15 else n for n in range(30)]
    sizes, times = read([timed(b"".join(picture(n)), at * _TICKS) for n, at in enumerate(stated)])
    assert sizes == sizes_of(range(30)) and all(later > before for before, later in pairwise(times))
    assert times[:11] == [n * _TICKS for n in range(11)] and times[15:] == [n * _TICKS for n in range(15, 30)]


def test_streams_that_swap_their_pids_lose_nothing() -> None:
    pack, reader, made = Counters(), TransportReader(), list[Samples]()
    for number, pid in enumerate((_PID, _OTHER, _PID)):
        data = pack.packets(0, association()) + pack.packets(_MAP, program_map((0x1B, pid), version=number))
        numbers = range(number * 10, number * 10 + 10)
        data += b"".join(pack.packets(pid, timed(b"".join(picture(n)), n * _TICKS)) for n in numbers)
        made += [samples.kept() for samples in reader.feed(memoryview(data))]
    made += reader.flush()
    assert np.concatenate([samples.sizes for samples in made]).tolist() == sizes_of(range(30))
    assert np.concatenate([samples.pts for samples in made]).tolist() == [n * _TICKS for n in range(30)]
