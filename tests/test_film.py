"""Renditions into one film: one clock for all, whatever the stretches, wraps and containers; nothing lost unsaid."""

import hashlib
from pathlib import Path
from random import Random

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from mudlark.assemble.film import Assembled, Part, Section, Voice, assemble
from mudlark.assemble.output import ChosenFile, progressive
from mudlark.assemble.subtitles import TextPart, join
from mudlark.assemble.timeline import Timeline
from mudlark.demo.repacked import encrypted, fragments, packed, section
from mudlark.demo.transport import AAC, VIDEO_PID, TransportWriter, Unit
from mudlark.fetch.place import Place
from mudlark.media.movie import Movie
from mudlark.media.mp4.about import About
from mudlark.media.samples import LossCode, Samples, TrackLabel, batches
from mudlark.media.ts import TransportReader
from mudlark.media.webvtt import Cue, Subtitles
from mudlark.verify.account import Account
from mudlark.verify.frames import check_frames, coded_digest
from mudlark.verify.media import check_file
from tests.bytes.fragmented import PICTURE
from tests.streams import AUDIO_FRAME, FRAME, access_unit, demo_segment, pictures, sounds
from tests.test_assemble import load

_VIDEO, _AUDIO = frozenset({"video"}), frozenset({"audio"})
_WRAP = 1 << 33


def stretch(start: int, seconds: int = 2, frames: int = 93, *, picture: bool = True, sound: bool = True) -> bytes:
    """A segment that begins at a time in ticks of 90 kHz, with so many frames of sound."""
    units = pictures(25 * seconds, start=start) if picture else []
    units += sounds(frames, start=start) if sound else []
    units = sorted(units, key=lambda unit: unit.dts)
    return TransportWriter().segment([replace(unit, pts=unit.pts % _WRAP, dts=unit.dts % _WRAP) for unit in units])


class Parts:
    """Parts in the order in which they are added, their bytes in files of a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.all: list[Part] = []

    def add(
        self, data: bytes | None, stretch: int = 0, *, rendition: int = 0, seconds: float = 2.0, **more: object
    ) -> None:
        place = None
        same = [part for part in self.all if part.rendition == rendition]
        if data is not None:
            path = self.folder / f"{len(self.all)}.bin"
            path.write_bytes(data)
            place = Place.of(path)
        begin = sum(part.duration for part in same)
        self.all.append(Part(rendition, len(same), begin, seconds, place, stretch, **more))  # type: ignore[arg-type]

    def section(self, data: bytes) -> Section:
        path = self.folder / f"init-{hashlib.sha256(data).hexdigest()[:8]}"
        path.write_bytes(data)
        return Section(Place.of(path))

    def film(self, *voices: Voice) -> tuple[Movie, Assembled]:
        target = self.folder / "film.mp4"
        planned = sum(part.duration for part in self.all if part.rendition == 0)
        made = assemble(self.all, voices or [Voice()], target, planned, progressive)
        return load(target), made


def test_picture_and_sound_stay_together_over_many_splices(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    for number in range(20):
        parts.add(stretch(number * 7_777_777 % _WRAP), number)
    movie, made = parts.film()
    video, sound = movie.tracks
    apart = 2 * FRAME / 90_000 + 0.016  # as in each stretch: the picture begins later, and the sound is shorter
    ends = [track.presented()[1] for track in (video, sound)]
    assert len(video.sizes) == 1000 and abs(ends[0] - ends[1] - apart) < 0.03
    by_frames = len(sound.sizes) * 1024 / 48_000
    assert abs(by_frames - ends[1]) < 0.03  # as a player counts
    silence = [loss for loss in made.losses if loss.code == LossCode.SILENCE]
    assert sum(loss.count for loss in silence) == len(sound.sizes) - 20 * 93 > 10
    assert np.diff(video.dts).max() == FRAME


def test_one_rendition_before_the_wrap_of_the_clock_and_one_after(tmp_path: Path) -> None:
    for picture_first in (-AUDIO_FRAME, AUDIO_FRAME):
        parts = Parts(tmp_path)
        start = _WRAP - picture_first if picture_first > 0 else _WRAP
        parts.add(stretch(start % _WRAP, sound=False))
        parts.add(stretch((start + picture_first) % _WRAP, picture=False), rendition=1)
        movie, _ = parts.film(Voice(_VIDEO), Voice(_AUDIO))
        begins = [track.presented()[0] for track in movie.tracks]
        assert abs(begins[0] - begins[1]) < 0.2


def test_stretches_of_renditions_apart_share_one_shift(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    for number in range(20):
        start = number * 5_000_001
        parts.add(stretch(start, sound=False), number)
        parts.add(stretch(start, picture=False), number, rendition=1)
    movie, _ = parts.film(Voice(_VIDEO), Voice(_AUDIO))
    video, sound = movie.tracks
    shown = [int(video.pts[place]) / 90_000 for place in np.flatnonzero(video.sync)]
    began = sound.dts[np.flatnonzero(np.isin(np.arange(len(sound.dts)), [0]))] / 48_000
    assert len(shown) == 20 and abs(float(began[0]) - (shown[0] - 2 * FRAME / 90_000)) < 0.001
    ends = [track.presented()[1] for track in (video, sound)]
    assert abs(ends[0] - ends[1] - 2 * FRAME / 90_000 - 0.016) < 0.03


def test_three_thousand_leaps_without_a_mark_end_in_no_recursion(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    units = [unit for n in range(3_000) for unit in pictures(2, start=(n * 4_000_000) % _WRAP, size=60)]
    parts.add(TransportWriter().segment(units), seconds=240.0)
    movie, made = parts.film()
    assert len(movie.tracks[0].sizes) == 6_000
    assert {loss.code for loss in made.losses} == {LossCode.LEAP}


def slides(count: int, seconds: int, start: int = 0) -> list[Unit]:
    """Pictures that stand for some seconds each, every one of them an IDR."""
    ticks = seconds * 90_000
    return [
        Unit(VIDEO_PID, access_unit(400 + n, instant=True), start + n * ticks, start + n * ticks) for n in range(count)
    ]


@pytest.mark.parametrize("per_segment", [1, 2])
def test_slides_that_stand_for_longer_than_a_leap_keep_their_times(tmp_path: Path, per_segment: int) -> None:
    parts = Parts(tmp_path)
    units = slides(6, 15)
    for first in range(0, 6, per_segment):
        parts.add(TransportWriter().segment(units[first : first + per_segment]), seconds=15.0 * per_segment)
    movie, made = parts.film()
    assert np.diff(movie.tracks[0].pts).tolist() == [15 * 90_000] * 5
    assert movie.tracks[0].presented()[1] == pytest.approx(90.0)
    assert not made.losses


def test_slides_in_fragments_last_as_long_as_their_runs_say(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    samples = Samples(
        1,
        replace(_demo("video")[0].format, timescale=1000, sample_duration=0),
        np.full(3, 9),
        np.array([0, 12_000, 42_000]),
        np.array([0, 12_000, 42_000]),
        np.ones(3, np.bool_),
        [memoryview(PICTURE * 3)],
        np.array([12_000, 30_000, 18_000]),
    )
    init = parts.section(section([samples]))
    parts.add(fragments(1, [samples]), init=init, seconds=60.0)
    late = replace(samples, dts=samples.dts + 60_000, pts=samples.pts + 60_000)
    parts.add(fragments(2, [late]), init=init, seconds=60.0)
    movie, made = parts.film()
    assert movie.tracks[0].durations.tolist() == [12_000, 30_000, 18_000] * 2
    assert not made.losses


def test_an_encoder_that_begins_anew_without_a_word_loses_nothing(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    for size in (500, 900):
        for number in range(2):
            units = pictures(50, start=number * 180_000, size=size) + sounds(93, start=number * 180_000)
            parts.add(TransportWriter().segment(sorted(units, key=lambda unit: unit.dts)))
    movie, made = parts.film()
    assert len(movie.tracks[0].sizes) == 200 and movie.tracks[0].presented()[1] == pytest.approx(8.0, abs=0.1)
    assert np.diff(movie.tracks[0].dts).max() <= 2 * FRAME
    codes = [loss.code for loss in made.losses]
    assert codes.count(LossCode.LEAP) == 1 and set(codes) <= {LossCode.LEAP, LossCode.SILENCE}


def test_sound_of_one_frame_size_that_begins_anew_is_told_from_a_repeat_by_its_bytes(tmp_path: Path) -> None:
    first = TransportWriter(AAC).segment(sounds(94))
    other = TransportWriter(AAC).segment(
        [replace(unit, data=unit.data.replace(b"\1" * 20, b"\2" * 20)) for unit in sounds(94)]
    )
    for second, count in ((first, 94), (other, 188)):
        parts = Parts(tmp_path)
        parts.add(first)
        parts.add(second)
        movie, _ = parts.film()
        assert len(movie.tracks[0].sizes) == count


def test_segments_that_come_a_second_time_are_taken_once(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    for start in (0, 180_000, 180_000, 360_000):
        parts.add(TransportWriter().segment(pictures(50, start=start)))
    movie, made = parts.film()
    assert len(movie.tracks[0].sizes) == 150
    assert {loss.code for loss in made.losses} == {LossCode.REPEATED} and sum(loss.count for loss in made.losses) == 50


def test_pictures_that_are_late_and_carry_a_time_that_was_there_are_kept(tmp_path: Path) -> None:
    units = pictures(50)
    late = [replace(unit, pts=unit.pts - 2 * FRAME, dts=unit.dts - 2 * FRAME) for unit in units[20:22]]
    parts = Parts(tmp_path)
    parts.add(TransportWriter().segment(units[:20]))
    parts.add(TransportWriter().segment([*late, *units[22:]]))
    movie, made = parts.film()
    assert len(movie.tracks[0].sizes) == 50 and (np.diff(movie.tracks[0].dts) > 0).all()
    assert not made.losses


def test_what_cannot_be_decoded_alone_is_left_out_at_the_beginning(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    units = pictures(50)
    cut = TransportWriter().segment([*units[:1], *units[5:25], *pictures(25, start=25 * FRAME)])
    reader = TransportReader()
    first = reader.feed(memoryview(cut))[0].split(1)[1].kept()  # without the sync picture at its head
    parts.add(fragments(1, [first]), init=parts.section(section([first])))
    movie, made = parts.film()
    assert movie.tracks[0].sync[0]
    assert [(loss.code, loss.count) for loss in made.losses] == [(LossCode.LEADING, 20)]


def test_a_segment_that_cannot_be_read_leaves_what_came_before_it_as_it_was(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    bad = bytearray(stretch(180_000))
    reader = TransportReader()
    reader.feed(memoryview(stretch(0)))
    before = reader._state.copy()
    sound = bytes(bad).replace(b"\xff\xf1\x4c", b"\xff\xf1\x7c")  # a reserved sample rate
    with pytest.raises(Exception, match="reserved"):
        reader.feed(memoryview(sound))
    assert reader._state.clock == before.clock and reader._state.carried.keys() == before.carried.keys()
    parts.add(stretch(0))
    parts.add(sound)
    parts.add(stretch(360_000))
    movie, made = parts.film()
    assert [part.number for part, _ in made.unreadable] == [1]
    assert len(movie.tracks[0].sizes) == 100


def _demo(kind: str) -> list[Samples]:
    reader = TransportReader()
    batch = [samples.kept() for samples in reader.feed(memoryview(demo_segment(0)))]
    batch += [samples.kept() for samples in reader.flush()]
    return [samples for samples in batch if samples.format.type == kind]


def test_containers_change_in_the_middle_and_nothing_is_lost(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    video = _demo("video")[0]
    init = parts.section(section([video]))
    parts.add(demo_segment(0), 0, seconds=4.0)
    parts.add(fragments(1, [video]), 1, seconds=4.0, init=init)
    parts.add(demo_segment(1), 2, seconds=4.0)
    movie, made = parts.film()
    assert not made.unreadable and len(movie.tracks[0].sizes) == 100 + len(video) + 100
    assert np.diff(movie.tracks[0].dts).max() <= 2 * FRAME


def test_a_new_picture_size_is_said_inside_of_the_samples(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    small, large = demo_segment(0), demo_segment(0, 360)
    made = []
    for data in (small, large, small):
        reader = TransportReader()
        batch = [s.kept() for s in reader.feed(memoryview(data)) if s.format.type == "video"]
        made.append(batch[0])
    for number, samples in enumerate(made):
        parts.add(fragments(1, [samples]), number, seconds=4.0, init=parts.section(section([samples])))
    movie, result = parts.film()
    track = movie.tracks[0]
    data = (tmp_path / "film.mp4").read_bytes()
    assert track.format.codec.startswith("avc3") and (track.format.width, track.format.height) == (320, 180)
    for place in np.flatnonzero(track.sync):
        offset = int(track.offsets[place])
        assert data[offset + 4] & 31 == 7  # a parameter set comes first
    digest = coded_digest(tmp_path / "film.mp4", [track], np.ones(len(track.sizes), np.bool_))
    assert digest == result.frames[0].digest


def test_keys_are_used_and_wrong_ones_are_said(tmp_path: Path) -> None:
    key, iv = bytes(range(16)), bytes(15) + b"\7"
    parts = Parts(tmp_path)
    parts.add(encrypted(stretch(0), key, iv), key=key, iv=iv)
    parts.add(encrypted(stretch(180_000), key, iv), key=bytes(15) + b"x", iv=iv)
    parts.add(encrypted(stretch(360_000), key, iv)[:-5], key=key, iv=iv)
    movie, made = parts.film()
    assert len(movie.tracks[0].sizes) == 50
    assert [part.number for part, _ in made.unreadable] == [1, 2]
    assert "another key" in made.unreadable[0][1].what and "blocks of 16" in made.unreadable[1][1].what


def test_packed_sound_goes_with_fragments_at_its_stated_time(tmp_path: Path) -> None:
    video, sound = _demo("video")[0], _demo("audio")[0]
    parts = Parts(tmp_path)
    parts.add(fragments(1, [video]), seconds=4.0, init=parts.section(section([video])))
    parts.add(packed(sound), rendition=1, seconds=4.0)
    movie, made = parts.film(Voice(_VIDEO), Voice(_AUDIO, TrackLabel("cy", "Cymraeg")))
    assert not made.losses and movie.tracks[1].language == "cy"
    expected = int(sound.pts[0]) / 48_000 - int(video.pts.min()) / 90_000
    begins = [track.presented()[0] for track in movie.tracks]
    assert begins[1] - begins[0] == pytest.approx(expected, abs=0.001)


def test_the_digest_of_coded_frames_is_that_of_the_file(tmp_path: Path) -> None:
    parts = Parts(tmp_path)
    for number in range(6):
        parts.add(stretch(number * 1_000_003), number)
    movie, made = parts.film()
    for track, frames in zip(movie.tracks, made.frames, strict=True):
        kept = np.ones(len(track.sizes), np.bool_)
        for first, count in frames.added:
            kept[first : first + count] = False
        assert coded_digest(tmp_path / "film.mp4", [track], kept) == frames.digest and int(kept.sum()) == frames.count


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.randoms(use_true_random=False), st.sampled_from(["mp4", "mkv"]))
def test_damaged_segments_in_any_order_give_a_film_that_holds_what_came(
    tmp_path: Path, random: Random, container: str
) -> None:
    video, audio = _demo("video")[0], _demo("audio")[0]
    good = [stretch(0), demo_segment(0), demo_segment(1, 360), packed(audio), fragments(1, [video, audio])]
    init = Parts(tmp_path).section(section([video, audio]))
    parts = Parts(tmp_path)
    number = 0
    for _ in range(random.randint(1, 4)):
        number += random.random() < 0.4
        data = bytearray(random.choice(good))
        fragmented = bytes(data[4:8]) == b"moof"
        for _ in range(random.choice([0, 1, 3, 20])):
            data[random.randrange(len(data))] = random.randrange(256)
        if random.random() < 0.2:
            del data[random.randrange(len(data)) :]
        parts.add(None if random.random() < 0.1 else bytes(data), number, init=init if fragmented else None)

    def output(target: Path, planned: float, labels: dict[int, TrackLabel]) -> ChosenFile:
        return ChosenFile(target, planned, labels, About(), container)

    made = assemble(parts.all, [Voice()], tmp_path / "made", random.choice([0.0, 8.0]), output)
    if made.segments and made.frames:
        account = Account()
        movie = check_file(made.path, None, account, streamed=True).movie
        if movie:
            check_frames(made.path, movie, made.frames, account)
        assert not {problem.code for problem in account.problems if problem.grave} - {"picture-units", "configuration"}


@pytest.mark.parametrize("clock", ["media", "presentation"])
@pytest.mark.parametrize("start", [1.4, 10.0, 95.0])
def test_texts_that_say_nothing_of_their_clock_are_on_the_one_that_fits(clock: str, start: float) -> None:
    timeline = Timeline()
    timeline.begin(0)
    unit = pictures(3, start=round(start * 90_000))
    read = batches(TransportReader(), [TransportWriter().segment(unit)])
    samples = next(one.kept() for batch in read for one in batch)
    timeline.open([(0, 0.0, [samples])])
    late = start if clock == "media" else 0.0
    cues = [Cue(n * 6 + 1.5 + late, n * 6 + 5.5 + late, f"cue {n}") for n in range(5)]
    parts = [TextPart(n * 6.0, 6.0, 0, Subtitles((cue,))) for n, cue in enumerate(cues)]
    text, count = join(parts, timeline, start)
    assert count == 5 and b"00:01.500 --> " in text


def test_a_segment_that_reaches_over_its_stretch_is_not_presented_twice(tmp_path: Path) -> None:
    """Two periods that share the segment in which one ends and the other begins (ISO/IEC 23009-1 §5.3.2.1)."""
    heard = _demo("audio")[0]
    heard = replace(heard, dts=heard.dts - heard.dts[0], pts=heard.pts - heard.pts[0])
    parts = Parts(tmp_path)
    init = parts.section(section([heard]))
    data = fragments(1, [heard])
    parts.add(data, 0, init=init, seconds=3.0, offset=0.0, shown=(0.0, 3.0))
    parts.add(data, 1, init=init, seconds=1.0, offset=-3.0, shown=(0.0, float("inf")))
    movie, made = parts.film()
    (track,) = movie.tracks
    assert len(track.sizes) in (len(heard), len(heard) + 1)  # a frame over the seam may be there twice
    assert not made.losses or made.losses[0].seconds < 0.03
    assert track.presented()[1] == pytest.approx(len(heard) * 1024 / 48_000, abs=0.03)


def test_pictures_behind_the_end_of_a_stretch_are_left_out(tmp_path: Path) -> None:
    seen = _demo("video")[0]
    late = -int(seen.pts.min()) / seen.format.timescale
    parts = Parts(tmp_path)
    parts.add(fragments(1, [seen]), init=parts.section(section([seen])), seconds=2.0, offset=late, shown=(0.0, 2.0))
    (track,) = parts.film()[0].tracks
    assert 50 <= len(track.sizes) <= 53  # those that others need stay
