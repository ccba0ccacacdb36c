"""Transport streams whose tables change, are damaged or stand apart: what they say is followed where it is said."""

from pathlib import Path

import numpy as np
import pytest

from mudlark.media.samples import LossCode, Samples
from mudlark.media.ts import TransportReader
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from tests.bytes.transport import Counters, association, program_map, timed
from tests.streams import access_unit

_MAP, _FIRST, _SECOND, _OTHER = 0x1000, 0x100, 0x200, 0x300
_AVC, _MPEG_2, _PRIVATE = 0x1B, 0x02, 0x06


def pictures(pack: Counters, pid: int, first: int, count: int) -> bytes:
    """Pictures at 25 frames a second, each of them an IDR."""
    numbers = range(first, first + count)
    return b"".join(pack.packets(pid, timed(access_unit(300 + n, instant=True), n * 3600)) for n in numbers)


def read(*segments: bytes) -> tuple[list[Samples], TransportReader]:
    reader = TransportReader()
    made = [samples.kept() for data in segments for samples in reader.feed(memoryview(data))]
    return made + reader.flush(), reader


def test_a_new_version_of_the_program_map_is_followed_where_it_begins() -> None:
    pack = Counters()
    data = pack.packets(0, association()) + pack.packets(_MAP, program_map((_AVC, _FIRST)))
    data += pictures(pack, _FIRST, 0, 30)
    data += pack.packets(_MAP, program_map((_AVC, _SECOND), version=1)) + pictures(pack, _SECOND, 30, 30)
    made, reader = read(data)
    times = np.concatenate([samples.pts for samples in made])
    assert times.tolist() == [n * 3600 for n in range(60)]
    assert {samples.track for samples in made} == {1}
    assert {_FIRST, _SECOND} <= reader.pids and not reader.losses()


def test_a_damaged_program_map_is_not_believed() -> None:
    pack = Counters()
    data = pack.packets(0, association()) + pack.packets(_MAP, program_map((_AVC, _FIRST)))
    data += pictures(pack, _FIRST, 0, 10)
    data += pack.packets(_MAP, program_map((_AVC, _OTHER), damaged=True)) + pictures(pack, _FIRST, 10, 10)
    made, _ = read(data)
    assert sum(len(samples) for samples in made) == 20


def test_a_writer_that_knows_of_no_check_sums_is_read_all_the_same() -> None:
    pack = Counters()
    data = pack.packets(0, association()) + pack.packets(_MAP, program_map((_AVC, _FIRST), damaged=True))
    made, _ = read(data + pictures(pack, _FIRST, 0, 10))
    assert sum(len(samples) for samples in made) == 10


def test_tables_of_an_initialization_section_hold_for_segments_without_any() -> None:
    pack = Counters()
    init = pack.packets(0, association()) + pack.packets(_MAP, program_map((_AVC, _FIRST)))
    reader = TransportReader()
    reader.begin(init)
    made = reader.feed(memoryview(pictures(pack, _FIRST, 0, 10))) + reader.flush()
    assert sum(len(samples) for samples in made) == 10


@pytest.mark.parametrize("lost", [0, 5])
def test_streams_that_no_one_reads_are_counted_all_the_same(tmp_path: Path, lost: int) -> None:
    pack, path = Counters(), tmp_path / "film.ts"
    data = pack.packets(0, association())
    data += pack.packets(_MAP, program_map((_AVC, _FIRST), (_PRIVATE, _OTHER))) + pictures(pack, _FIRST, 0, 25)
    others = pack.packets(_OTHER, bytes(range(1, 185)) * 40)
    path.write_bytes(data + others[: 10 * 188] + others[(10 + lost) * 188 :])
    account = Account()
    check_file(path, None, account)
    assert account.verdict == ("flawed" if lost else "unproven")
    if lost:
        assert f"{lost} transport packets" in account.reason
    else:
        assert any(check.name == "left-out" for check in account.checks)


def test_a_film_in_a_codec_that_no_one_reads_is_unproven(tmp_path: Path) -> None:
    pack, path = Counters(), tmp_path / "film.ts"
    data = pack.packets(0, association()) + pack.packets(_MAP, program_map((_MPEG_2, _FIRST)))
    path.write_bytes(data + pack.packets(_FIRST, bytes(range(1, 185)) * 40))
    account = Account()
    check_file(path, None, account)
    assert account.verdict == "unproven" and "MPEG-2" in " ".join(check.detail for check in account.checks)


def test_packets_that_are_missing_are_lost_to_a_film_too() -> None:
    pack = Counters()
    data = pack.packets(0, association()) + pack.packets(_MAP, program_map((_AVC, _FIRST)))
    whole = data + pictures(pack, _FIRST, 0, 20)
    _, reader = read(whole[: 188 * 20] + whole[188 * 23 :])
    assert sum(loss.count for loss in reader.losses() if loss.code == LossCode.PACKETS) == 3


def test_what_is_beside_picture_and_sound_is_named() -> None:
    pack = Counters()
    data = pack.packets(0, association())
    data += pack.packets(_MAP, program_map((_AVC, _FIRST), (_PRIVATE, _OTHER), (0x15, _SECOND)))
    _, reader = read(data + pictures(pack, _FIRST, 0, 10))
    named = {loss.detail for loss in reader.losses() if loss.code == LossCode.BESIDE}
    assert len(named) == 2 and any("ID3" in words for words in named) and any("subtitles" in words for words in named)
