"""Segments into one file: holes, discontinuities, repeats, and an index that needs more room than expected."""

from pathlib import Path

import numpy as np

from mudlark.assemble.film import Assembled, Part, Voice, assemble
from mudlark.assemble.output import progressive
from mudlark.assemble.sound import Filler
from mudlark.assemble.timeline import _scaled
from mudlark.demo.transport import TransportWriter
from mudlark.fetch.place import Place
from mudlark.media.movie import Movie
from mudlark.media.mp4.read import parse_movie, scan
from mudlark.media.samples import Format, LossCode, Samples
from tests.streams import FRAME, demo_segment, pictures, sounds


def parts(folder: Path, segments: list[bytes | None], joins: tuple[int, ...] = (), seconds: float = 1.0) -> list[Part]:
    made = []
    for number, data in enumerate(segments):
        place = None
        if data is not None:
            path = folder / f"{number}.ts"
            path.write_bytes(data)
            place = Place.of(path)
        stretch = sum(join <= number for join in joins)
        made.append(Part(0, number, number * seconds, seconds, place, stretch))
    return made


def made_of(parts: list[Part], target: Path, planned: float) -> Assembled:
    return assemble(parts, [Voice()], target, planned, progressive)


def load(path: Path) -> Movie:
    data = path.read_bytes()
    index = next(b for b in scan(lambda at, n: data[at : at + n], len(data)) if b.kind == "moov")
    return parse_movie(data[index.start : index.end], index.start)


def second(number: int, start: int | None = None) -> bytes:
    """One second of picture and sound."""
    begin = number * 90_000 if start is None else start
    first, last = number * 48_000 // 1024, (number + 1) * 48_000 // 1024
    units = [*pictures(25, start=begin), *sounds(last - first, start=begin)]
    return TransportWriter().segment(sorted(units, key=lambda unit: unit.dts))


def test_a_missing_segment_leaves_a_hole_and_what_follows_keeps_its_time(tmp_path: Path) -> None:
    made = made_of(parts(tmp_path, [second(0), None, second(2)]), tmp_path / "f.mp4", 3.0)
    video = load(tmp_path / "f.mp4").tracks[0]
    assert made.segments == 2
    assert video.dts[25] - video.dts[24] == 26 * FRAME


def test_a_discontinuity_is_joined_without_a_gap(tmp_path: Path) -> None:
    segments: list[bytes | None] = [second(0, 900_000), second(1, 12)]
    made_of(parts(tmp_path, segments, joins=(1,)), tmp_path / "f.mp4", 2.0)
    video = load(tmp_path / "f.mp4").tracks[0]
    assert len(video.dts) == 50
    assert np.diff(video.dts).max() < 2 * FRAME


def test_an_unmarked_leap_is_joined_and_noted(tmp_path: Path) -> None:
    segments: list[bytes | None] = [second(0), second(1, 90_000 * 5000)]
    made = made_of(parts(tmp_path, segments), tmp_path / "f.mp4", 2.0)
    assert np.diff(load(tmp_path / "f.mp4").tracks[0].dts).max() < 2 * FRAME
    assert [loss.code for loss in made.losses] == [LossCode.LEAP]


def test_a_segment_that_comes_twice_is_left_out_and_noted(tmp_path: Path) -> None:
    segments: list[bytes | None] = [second(0), second(1), second(1), second(2)]
    made = made_of(parts(tmp_path, segments), tmp_path / "f.mp4", 3.0)
    assert np.array_equal(load(tmp_path / "f.mp4").tracks[0].dts, np.arange(75) * FRAME)
    assert {loss.code for loss in made.losses} == {LossCode.REPEATED}


def test_a_last_segment_is_short_where_the_film_ends_early(tmp_path: Path) -> None:
    """Segments that are cut where pictures allow it last longer and shorter than the one length that is promised."""
    segments: list[bytes | None] = [second(0), second(1), second(2)]
    uneven = [Part(0, n, n * 1.8, 1.8, part.place) for n, part in enumerate(parts(tmp_path, [*segments]))]
    for made, short in (
        (uneven[:2], [1]),  # 2 of 3 seconds
        ([Part(0, 0, 0.0, 0.4, uneven[0].place), Part(0, 1, 0.4, 1.6, uneven[1].place)], []),  # 2 of 2 seconds
        (
            [Part(0, 0, 0.0, 1.0, uneven[0].place), Part(0, 1, 1.0, 1.0, None), Part(0, 2, 2.0, 1.6, uneven[2].place)],
            [2],
        ),
    ):
        result = made_of(made, tmp_path / "f.mp4", 3.0)
        assert [part.number for part, _ in result.short] == short


def test_an_unreadable_segment_is_reported_and_the_others_are_kept(tmp_path: Path) -> None:
    segments: list[bytes | None] = [second(0), np.random.default_rng(1).bytes(20_000), second(2)]
    made = made_of(parts(tmp_path, segments), tmp_path / "f.mp4", 3.0)
    assert [part.number for part, _ in made.unreadable] == [1]
    assert len(load(tmp_path / "f.mp4").tracks[0].dts) == 50


def test_an_index_larger_than_its_room_moves_the_media(tmp_path: Path) -> None:
    segments: list[bytes | None] = [second(n) for n in range(12)]
    for planned in (1.0, 12.0):  # with 1.0 the first segment seems to be everything
        made_of(parts(tmp_path, segments), tmp_path / f"{planned}.mp4", planned)
    small, roomy = load(tmp_path / "1.0.mp4"), load(tmp_path / "12.0.mp4")
    for a, b in zip(small.tracks, roomy.tracks, strict=True):
        assert np.array_equal(a.dts, b.dts) and np.array_equal(a.sizes, b.sizes)
    first = [(tmp_path / f"{p}.mp4").read_bytes() for p in (1.0, 12.0)]
    places = [(int(m.tracks[0].offsets[200]), int(m.tracks[0].sizes[200])) for m in (small, roomy)]
    bodies = [data[at : at + size] for data, (at, size) in zip(first, places, strict=True)]
    assert bodies[0] == bodies[1]


def test_the_demo_film_keeps_every_picture(tmp_path: Path) -> None:
    segments: list[bytes | None] = [demo_segment(n) for n in range(6)]
    made = made_of(parts(tmp_path, segments, seconds=4.0), tmp_path / "f.mp4", 24.0)
    movie = load(tmp_path / "f.mp4")
    assert made.losses == []
    assert len(movie.tracks[0].dts) == 600
    assert sorted(movie.tracks[0].pts.tolist()) == [7200 + n * FRAME for n in range(600)]


def test_frames_whose_length_is_no_whole_number_of_ticks_leave_no_hole() -> None:
    """AAC at 44.1 kHz on a clock of 48,000 ticks a second: a frame lasts 1114.56 of them."""
    own = Format("audio", "mp4a.40.2", 44_100, b"\x12\x10", 1024, channels=2, sample_rate=44_100)
    count = 20_000
    times = np.arange(count, dtype=np.int64) * 1024
    times[15_000:] += 10 * 1024  # and a hole of ten frames
    ones = np.ones(count, np.int64)
    there = _scaled(Samples(2, own, ones, times, times, ones > 0, [memoryview(b"x" * count)]), 48_000)
    filler = Filler()
    filled = list(filler.fill(there))
    assert sum(len(one.samples) for one in filled if one.silent) == 10 and len(filler.losses()) == 1
    dts = np.concatenate([one.samples.dts for one in filled])
    assert len(dts) == count + 10 and set(np.diff(dts).tolist()) <= {1114, 1115}
