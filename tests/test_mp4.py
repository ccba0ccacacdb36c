"""MP4: what is written is what is read, and damage is said."""

import itertools
import struct
from collections.abc import Sequence
from contextlib import suppress

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

from mudlark.demo.streamed import MEDIA
from mudlark.demo.transport import TransportWriter
from mudlark.errors import MudlarkError, Refused
from mudlark.media.movie import Movie
from mudlark.media.mp4.boxes import Mp4Error, box, header
from mudlark.media.mp4.entries import read_entry
from mudlark.media.mp4.read import parse_movie, scan
from mudlark.media.mp4.tree import Sketch, sketch
from mudlark.media.mp4.write import Mp4Builder
from mudlark.media.samples import Format, Samples, batches, cut_pieces
from mudlark.media.ts import TransportReader
from tests.streams import FRAME, demo_segment, pictures, sounds

SOUND = Format("audio", "mp4a.40.2", 48_000, b"\x11\x90", 1024, channels=2, sample_rate=48_000)


def samples(track: int, dts: Sequence[int], sizes: Sequence[int], form: Format = SOUND) -> Samples:
    times = np.array(dts, np.int64)
    data = b"".join(bytes([n % 251]) * size for n, size in enumerate(sizes))
    return Samples(track, form, np.array(sizes), times, times, np.ones(len(sizes), bool), [memoryview(data)])


def written(batches: list[list[Samples]]) -> bytes:
    builder = Mp4Builder()
    media = b"".join(bytes(piece) for batch in batches for piece in builder.add(batch))
    head = builder.head(builder.room_needed())
    assert head is not None
    return head + media


def read(data: bytes) -> Movie:
    index = next(b for b in scan(lambda at, n: data[at : at + n], len(data)) if b.kind == "moov")
    return parse_movie(data[index.start : index.end], index.start)


def from_transport(*segments: bytes) -> bytes:
    reader = TransportReader()
    builder = Mp4Builder()
    media = b""
    for batch in batches(reader, segments):
        media += b"".join(bytes(piece) for piece in builder.add(batch))
    head = builder.head(builder.room_needed())
    assert head is not None
    return head + media


@given(st.lists(st.binary(min_size=1, max_size=9), min_size=1, max_size=8), st.lists(st.integers(0, 72), max_size=6))
def test_buffers_are_cut_where_asked(buffers: list[bytes], places: list[int]) -> None:
    whole = b"".join(buffers)
    cuts = sorted(min(place, len(whole)) for place in places)
    got = [b"".join(part) for part in cut_pieces([memoryview(b) for b in buffers], cuts)]
    edges = [0, *cuts, len(whole)]
    assert got == [whole[a:b] for a, b in itertools.pairwise(edges)]


def test_samples_are_read_back_from_where_the_index_says() -> None:
    data = from_transport(TransportWriter().segment([*pictures(60), *sounds(100)]))
    movie = read(data)
    video, sound = movie.tracks
    assert (video.format.width, video.format.height) == (320, 180)
    assert np.array_equal(video.dts, np.arange(60) * FRAME)
    assert video.sync.tolist() == [True] + [False] * 59
    for place in (0, 17, 99):
        at = int(sound.offsets[place])
        assert data[at : at + 90] == b"\x21" + bytes([place % 200 + 1]) * 88 + b"\7"
    assert int(video.sizes[3]) == int.from_bytes(data[int(video.offsets[3]) :][:4], "big") + 4


def test_the_index_comes_first_and_the_tracks_take_turns() -> None:
    data = from_transport(TransportWriter().segment([*pictures(75), *sounds(141)]))
    kinds = [b.kind for b in scan(lambda at, n: data[at : at + n], len(data))]
    assert kinds == ["ftyp", "moov", "mdat"]
    video, sound = read(data).tracks
    assert video.offsets[0] < sound.offsets[0] < video.offsets[-1]


def test_picture_and_sound_that_begin_apart_stay_apart() -> None:
    units = [*pictures(50, start=90_000), *sounds(60, start=90_000 + 2 * FRAME + 45_000)]
    movie = read(from_transport(TransportWriter().segment(units)))
    video, sound = movie.tracks
    assert video.presented()[0] == 0.0
    assert sound.presented()[0] == pytest.approx(0.5, abs=0.001)


def test_a_file_over_four_gigabytes_gets_wide_offsets() -> None:
    builder = Mp4Builder()
    big = samples(1, range(0, 40 * 48_000, 48_000), [1] * 40)
    big.sizes[:] = 200_000_000
    big.pieces = []
    builder.add([big])
    head = builder.head(builder.room_needed())
    assert head is not None and b"co64" in head
    assert int(read(head + b"").tracks[0].offsets[-1]) > 7 << 30


def test_room_that_is_too_small_is_said() -> None:
    builder = Mp4Builder()
    builder.add([samples(1, range(0, 4096, 1024), [10] * 4)])
    assert builder.head(builder.room_needed() - 1) is None
    larger = builder.head(builder.room_needed() + 100)
    assert larger is not None and len(larger) == builder.room_needed() + 100


def test_a_box_that_reaches_past_its_parent_is_an_error() -> None:
    data = box("moov", box("mvhd", bytes(100))[:-20])
    with pytest.raises(Mp4Error, match="past the box around it"):
        parse_movie(data)


def test_what_is_no_box_is_an_error() -> None:
    with pytest.raises(Mp4Error):
        header(b"\0\0\0\4moov", 0, 100)
    with pytest.raises(Mp4Error, match="not an MP4"):
        scan(lambda at, n: box("abcd", b"1")[at : at + n], 9)


@settings(max_examples=200, deadline=None)
@given(st.data())
def test_a_damaged_index_never_ends_in_anything_but_our_own_errors(data: st.DataObject) -> None:
    whole = from_transport(demo_segment())
    index = next(b for b in scan(lambda at, n: whole[at : at + n], len(whole)) if b.kind == "moov")
    damaged = bytearray(whole[index.start : index.end])
    for _ in range(data.draw(st.integers(1, 6))):
        damaged[data.draw(st.integers(8, len(damaged) - 1))] = data.draw(st.integers(0, 255))
    try:
        movie = parse_movie(bytes(damaged), index.start)
    except MudlarkError:
        with suppress(MudlarkError):
            sketch(bytes(damaged), index.start)
        return
    for track in movie.tracks:
        assert len(track.sizes) == len(track.dts) == len(track.offsets)
    assert sketch(bytes(damaged), index.start) == sketched(movie)


def sketched(movie: Movie) -> Sketch:
    """What the headers must have said."""
    sizes = [(one.format.width, one.format.height) for one in movie.tracks if one.format.type == "video"]
    return Sketch(movie.stated, next(iter(sizes), None))


@pytest.mark.parametrize("name", ["foghorn-demonstration.mp4", "gift-shop.mp4"])
def test_headers_alone_say_what_a_list_shows(name: str) -> None:
    whole = (MEDIA / name).read_bytes()
    index = next(b for b in scan(lambda at, n: whole[at : at + n], len(whole)) if b.kind == "moov")
    drawn = sketch(whole[index.start : index.end], index.start)
    assert drawn == sketched(read(whole)) and drawn.duration and drawn.size
    guarded = whole[index.start : index.end].replace(b"avc1", b"encv")
    with pytest.raises(Refused, match="protected"):
        sketch(guarded, index.start)
    with pytest.raises(Mp4Error, match="no index"):
        sketch(box("moov", box("mvex")))


def test_a_hole_that_fine_ticks_cannot_tell_is_told_in_coarser_ones() -> None:
    form = replace(SOUND, timescale=10_000_000, sample_duration=10_000_000)
    times = [0, 10_000_000, 5_040_000_000, 5_050_000_000]  # 504 s, of which 32 bits of such ticks hold 429
    (track,) = read(written([[samples(1, times, [5] * 4, form)]])).tracks
    assert track.format.timescale == 90_000 and (track.dts / 90_000).tolist() == [0.0, 1.0, 504.0, 505.0]


def quicktime(version: int, rate: float, *inside: bytes) -> bytes:
    """A sound entry of QuickTime (its file format specification, sound sample descriptions versions 1 and 2)."""
    common = bytes(6) + b"\0\1" + version.to_bytes(2, "big") + bytes(6) + b"\0\2\0\x10" + bytes(4)
    if version == 1:
        fields = common + (round(rate) << 16).to_bytes(4, "big") + bytes(16)
    else:
        two = (72).to_bytes(4, "big") + struct.pack(">d", rate) + (6).to_bytes(4, "big") + b"\x7f\0\0\0" + bytes(16)
        fields = common + b"\0\1\0\0" + two
    return box("mp4a", fields, *inside)


def test_sound_entries_of_quicktime_are_read_in_both_of_their_versions() -> None:
    described = b"\x03\x19\0\0\0\x04\x11\x40\x15" + bytes(11) + b"\x05\x02\x11\x90\x06\x01\x02"
    esds = box("esds", bytes(4), described)
    terminator = b"\0\0\0\x08\0\0\0\0"
    wave = box("wave", box("frma", b"mp4a"), box("mp4a", bytes(4)), esds, terminator)
    one = read_entry(quicktime(1, 44_100.0, wave), 44_100, "soun")
    assert (one.codec, one.config, one.channels, one.sample_rate) == ("mp4a.40.2", b"\x11\x90", 2, 44_100)
    two = read_entry(quicktime(2, 96_000.0, wave), 96_000, "soun")
    assert (two.codec, two.config, two.channels, two.sample_rate) == ("mp4a.40.2", b"\x11\x90", 6, 96_000)
