"""WebM and Matroska: clusters, laces, cues, and what other writers' files look like (RFC 9559)."""

import io
import zlib
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mudlark.demo.streamed import MEDIA
from mudlark.errors import MudlarkError, Refused
from mudlark.media.matroska import names
from mudlark.media.matroska.cues import read_cues
from mudlark.media.matroska.ebml import MatroskaError, element, header, real, text, unsigned, vint
from mudlark.media.matroska.formats import codec_delay, codec_private, format_of
from mudlark.media.matroska.read import last_whole_element, read_matroska
from mudlark.media.matroska.stream import ClusterReader
from mudlark.media.matroska.write import MatroskaBuilder
from mudlark.media.movie import reader_of
from mudlark.media.picture.vp import read_vp9, vp9_configuration
from mudlark.media.samples import Samples
from mudlark.media.sniff import sniff
from mudlark.media.sound import opus
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from tests import sounds
from tests.streams import access_unit

FERRY = (MEDIA / "ferry.webm").read_bytes()
SOUND = (MEDIA / "ferry-sound.webm").read_bytes()
CLUSTER = names.CLUSTER.to_bytes(4, "big")
UNKNOWN = b"\x01\xff\xff\xff\xff\xff\xff\xff"
HEAD = element(names.EBML, text(0x4282, "webm"))
VP9_KEY = bytes([0x82, 0x49, 0x83, 0x42, 0x00, 0x13, 0xF0, 0x0B, 0x30]) + bytes(20)


def tracks(*entries: bytes) -> bytes:
    return element(names.TRACKS, *entries)


def picture(number: int = 1, *more: bytes) -> bytes:
    size = element(names.VIDEO, unsigned(names.PIXEL_WIDTH, 320), unsigned(names.PIXEL_HEIGHT, 180))
    head = unsigned(names.TRACK_NUMBER, number), unsigned(names.TRACK_TYPE, 1), text(names.CODEC_ID, "V_VP9")
    return element(names.TRACK_ENTRY, *head, size, *more)


def sound(number: int = 2, codec: str = "A_OPUS", *more: bytes) -> bytes:
    form = element(names.AUDIO, real(names.SAMPLING_FREQUENCY, 48_000.0), unsigned(names.CHANNELS, 2))
    head = unsigned(names.TRACK_NUMBER, number), unsigned(names.TRACK_TYPE, 2), text(names.CODEC_ID, codec)
    return element(names.TRACK_ENTRY, *head, form, *more)


def opened(*parts: bytes) -> bytes:
    """A file whose segment says nothing of its size."""
    info = element(names.INFO, unsigned(names.TIMESTAMP_SCALE, 1_000_000))
    return HEAD + names.SEGMENT.to_bytes(4, "big") + UNKNOWN + info + b"".join(parts)


def cluster(time: int, *blocks: bytes, size: bool = True) -> bytes:
    body = unsigned(names.CLUSTER_TIMESTAMP, time) + b"".join(blocks)
    return CLUSTER + (vint(len(body)) if size else UNKNOWN) + body


def block(track: int, time: int, body: bytes, flags: int = 0x80) -> bytes:
    head = bytes([0x80 | track]) + time.to_bytes(2, "big", signed=True) + bytes([flags])
    return element(names.SIMPLE_BLOCK, head + body)


def read(data: bytes, init: bytes | None = None) -> list[Samples]:
    reader = ClusterReader()
    reader.begin(init)
    return [one.kept() for one in reader.feed(memoryview(data))]


def bytes_of(samples: Samples) -> bytes:
    return b"".join(samples.pieces)


OPUS = opus.silence() or b""


def test_a_film_is_read_as_it_was_written() -> None:
    (seen,) = read(FERRY)
    (heard,) = read(SOUND)
    assert (
        len(seen) == 600
        and seen.format.codec == "vp09.00.21.08"
        and (seen.format.width, seen.format.height) == (640, 360)
    )
    assert np.flatnonzero(seen.sync).tolist() == list(range(0, 600, 100)) and int(seen.pts[-1]) == 23_960
    assert heard.format.codec == "opus" and heard.format.sample_duration == 960
    assert int(heard.pts[0]) == -312 and set(np.diff(heard.pts).tolist()) == {960}
    builder = MatroskaBuilder(kind="webm")
    media = b"".join(bytes(piece) for piece in builder.add([seen, heard]))
    again = read(builder.head() + media + builder.tail())
    for one, other in zip(again, (seen, heard), strict=True):
        assert bytes_of(one) == bytes_of(other) and np.array_equal(one.pts, other.pts)
        assert np.array_equal(one.sync, other.sync) and one.format.config == other.format.config


def test_clusters_of_unknown_size_end_where_the_next_begins() -> None:
    parts = [cluster(40 * n, block(1, 0, VP9_KEY + bytes([n])), size=False) for n in range(3)]
    tags = element(names.TAGS)
    for body in (opened(tracks(picture()), *parts), opened(tracks(picture()), *parts, tags)):
        (seen,) = read(body)
        assert seen.pts.tolist() == [0, 40, 80] and [len(seen)] == [3]
        movie = read_matroska(lambda at, count, body=body: body[at : at + count], len(body))  # type: ignore[misc]
        assert movie.tracks[0].pts.tolist() == [0, 40, 80]


def test_segments_follow_their_initialization_section() -> None:
    reader = ClusterReader()
    reader.begin(opened(tracks(picture())) + b"\x1f\x43\xb6")  # its range reaches into the first cluster
    times = [reader.feed(memoryview(cluster(n * 40, block(1, 0, VP9_KEY))))[0].pts.tolist() for n in range(2)]
    assert times == [[0], [40]]
    with pytest.raises(MatroskaError, match="describes no tracks"):
        ClusterReader().begin(opened())
    with pytest.raises(MatroskaError, match="before anything that describes"):
        read(cluster(0, block(1, 0, b"x")))


@pytest.mark.parametrize(
    ("flags", "laces"),
    [
        (0x82, bytes([2, 3, 3])),  # Xiph
        (0x84, bytes([2])),  # of one size
        (0x86, bytes([2, 0x83, 0xBF])),  # EBML: the first size, then the difference of none
    ],
)
def test_all_lacings_give_their_frames(flags: int, laces: bytes) -> None:
    lasts = unsigned(names.DEFAULT_DURATION, 20_000_000)
    (heard,) = read(opened(tracks(sound(2, "A_OPUS", lasts)), cluster(100, block(2, 5, laces + OPUS * 3, flags))))
    assert heard.sizes.tolist() == [3, 3, 3] and bytes_of(heard) == OPUS * 3
    assert heard.pts.tolist() == [105 * 48, 125 * 48, 145 * 48]


def test_laced_frames_without_a_stated_duration_lie_between_their_blocks() -> None:
    laced = [block(2, 60 * n, bytes([2]) + OPUS * 3, 0x84) for n in range(2)]
    (heard,) = read(opened(tracks(sound()), cluster(0, *laced)))
    assert heard.pts.tolist() == [960 * n for n in range(6)]


@pytest.mark.parametrize("laces", [b"\x02\x09\x09", b"\xff", b"\x01\xff\xff\xff", b""])
def test_laces_that_lie_are_said(laces: bytes) -> None:
    with pytest.raises(MatroskaError, match="block"):
        read(opened(tracks(sound()), cluster(0, block(2, 0, laces, 0x82))))


def test_groups_void_and_checksums_are_read_as_they_come() -> None:
    inner = bytes([0x81]) + bytes(2) + b"\0" + VP9_KEY
    alone = element(names.BLOCK_GROUP, element(names.BLOCK, inner), unsigned(names.BLOCK_DURATION, 40))
    later = inner[:1] + (40).to_bytes(2, "big") + inner[3:]
    refers = element(names.BLOCK_GROUP, element(names.BLOCK, later), element(names.REFERENCE_BLOCK, b"\xd8"))
    body = (
        element(0xBF, bytes(4))
        + unsigned(names.CLUSTER_TIMESTAMP, 1000)
        + element(names.VOID, bytes(9))
        + alone
        + refers
    )
    (seen,) = read(opened(element(names.VOID, bytes(3)), tracks(picture()), CLUSTER + vint(len(body)) + body))
    assert seen.pts.tolist() == [1000, 1040] and seen.sync.tolist() == [True, False]


def test_delay_of_the_codec_is_taken_from_the_times() -> None:
    delay = unsigned(names.CODEC_DELAY, 6_500_000)
    (heard,) = read(opened(tracks(sound(2, "A_OPUS", delay)), cluster(0, block(2, 0, OPUS), block(2, 20, OPUS))))
    assert heard.pts.tolist() == [-312, 648]


def test_times_in_thousandths_give_way_to_those_of_the_frames() -> None:
    config = element(names.CODEC_PRIVATE, b"\x11\x90")
    blocks = [block(2, round(n * 1024 / 48), b"\x21\x00" + bytes([n]), 0x80) for n in range(40)]
    (heard,) = read(opened(tracks(sound(2, "A_AAC", config)), cluster(0, *blocks)))
    assert heard.pts.tolist() == [1024 * n for n in range(40)] and heard.format.codec == "mp4a.40.2"
    late = [block(2, round(n * 1024 / 48) + (500 if n > 20 else 0), b"\x21\x00", 0x80) for n in range(40)]
    (heard,) = read(opened(tracks(sound(2, "A_AAC", config)), cluster(0, *late)))
    assert int(np.diff(heard.pts).max()) > 20_000  # a hole stays one


def test_cues_say_where_the_clusters_are() -> None:
    begin = FERRY.rindex(names.CUES.to_bytes(4, "big"))
    listed = read_cues(FERRY[:1024], FERRY[begin:], begin)
    assert (
        listed
        and listed.duration == pytest.approx(24.0)
        and [time for _, time in listed.places] == [0, 4, 8, 12, 16, 20]
    )
    assert all(FERRY[place : place + 4] == CLUSTER for place, _ in listed.places)
    assert read_cues(opened(tracks(picture()), cluster(0)), b"", 0) is None
    with pytest.raises(MatroskaError, match="not where they are said to be"):
        read_cues(FERRY[:1024], FERRY[begin - 40 :], begin - 40)


def test_formats_survive_both_ways() -> None:
    head = b"OpusHead\1\2" + (312).to_bytes(2, "little") + (48_000).to_bytes(4, "little") + bytes(3)
    format = format_of({names.CODEC_ID: b"A_OPUS", names.CODEC_PRIVATE: head}, 2)
    assert codec_private(format) == head and codec_delay(format) == 6_500_000
    flac = b"fLaC" + b"\x80\0\0\x22" + (4096).to_bytes(2, "big") * 2 + bytes(30)
    format = format_of({names.CODEC_ID: b"A_FLAC", names.CODEC_PRIVATE: flac}, 2)
    assert codec_private(format) == flac and format.sample_duration == 4096
    av1 = b"\x81\x04\x0c\x00\x0a\x0b"
    assert codec_private(format_of({names.CODEC_ID: b"V_AV1", names.CODEC_PRIVATE: av1}, 1)) == av1


def test_what_vp9_says_of_itself() -> None:
    seen = read_vp9(VP9_KEY)
    assert seen and (seen.profile, seen.depth, seen.chroma) == (0, 8, 1)
    assert vp9_configuration(VP9_KEY, {1: 2, 3: 10}, (1920, 1080))[4:7] == bytes([2, 40, 10 << 4 | 1 << 1])
    assert read_vp9(b"\x86") is None and read_vp9(b"\x00" * 20) is None


def test_encrypted_tracks_are_refused() -> None:
    guard = element(names.CONTENT_ENCODINGS, element(names.CONTENT_ENCODING, element(names.CONTENT_ENCRYPTION)))
    with pytest.raises(Refused, match="protected"):
        read(opened(tracks(picture(1, guard)), cluster(0, block(1, 0, VP9_KEY))))


def test_a_segment_that_cannot_be_read_is_as_if_it_had_not_been_fed() -> None:
    reader = ClusterReader()
    reader.begin(opened(tracks(picture())))
    reader.feed(memoryview(cluster(0, block(1, 0, VP9_KEY))))
    with pytest.raises(MatroskaError):
        reader.feed(memoryview(opened(tracks(sound())) + cluster(40, block(1, 0, VP9_KEY))[:-9]))
    assert reader.feed(memoryview(cluster(40, block(1, 0, VP9_KEY))))[0].pts.tolist() == [40]


@settings(max_examples=300, deadline=None)
@given(st.lists(st.tuples(st.integers(0, 3_000), st.integers(0, 255)), max_size=12), st.integers(0, 3_000))
def test_whatever_a_file_says_the_errors_are_ours(changes: list[tuple[int, int]], length: int) -> None:
    data = bytearray(SOUND[: length + 500])
    for place, value in changes:
        data[place % len(data)] = value
    body = bytes(data)
    for attempt in (
        lambda: read(body),
        lambda: read_matroska(lambda at, count: body[at : at + count], len(body)),
        lambda: read_cues(body, b"", 0),
    ):
        try:
            attempt()
        except MudlarkError as problem:
            assert problem.what


def test_clusters_alone_are_known_for_what_they_are() -> None:
    assert sniff(FERRY) == "matroska" == sniff(cluster(0))


def packing(algorithm: int, settings: bytes = b"") -> bytes:
    """RFC 9559 §5.1.4.1.31: what was done to the frames of a track."""
    parts = [unsigned(names.CONTENT_ALGORITHM, algorithm)]
    parts += [element(names.CONTENT_SETTINGS, settings)] if settings else []
    return element(names.CONTENT_ENCODINGS, element(names.CONTENT_ENCODING, element(names.CONTENT_COMPRESSION, *parts)))


def test_frames_whose_beginning_is_left_out_get_it_back() -> None:
    frames = [sounds.ac3(1), sounds.ac3(1)]
    data = opened(
        tracks(sound(2, "A_AC3", packing(3, b"\x0b\x77"))),
        cluster(0, *(block(2, n * 32, frame[2:]) for n, frame in enumerate(frames))),
    )
    (samples,) = read(data)
    assert bytes_of(samples) == b"".join(frames) and samples.format.codec == "ac-3"


def test_frames_that_are_packed_are_unpacked() -> None:
    blocks = [block(2, n * 20, zlib.compress(OPUS)) for n in range(3)]
    data = opened(tracks(sound(2, "A_OPUS", packing(0))), cluster(0, *blocks))
    (samples,) = read(data)
    assert bytes_of(samples) == OPUS * 3 and samples.format.sample_duration == 960
    with pytest.raises(MatroskaError, match="unpacked"):
        read(opened(tracks(sound(2, "A_OPUS", packing(0))), cluster(0, block(2, 0, OPUS))))
    with pytest.raises(MatroskaError, match="cut off"):
        read(opened(tracks(sound(2, "A_OPUS", packing(0))), cluster(0, block(2, 0, zlib.compress(OPUS)[:-5]))))
    with pytest.raises(MatroskaError, match="not read"):
        read(opened(tracks(sound(2, "A_OPUS", packing(1))), cluster(0, block(2, 0, OPUS))))


def test_pictures_with_start_codes_get_lengths_and_a_description() -> None:
    """As browsers record H.264: no CodecPrivate, units behind start codes."""
    size = element(names.VIDEO, unsigned(names.PIXEL_WIDTH, 320), unsigned(names.PIXEL_HEIGHT, 180))
    head = unsigned(names.TRACK_NUMBER, 1), unsigned(names.TRACK_TYPE, 1), text(names.CODEC_ID, "V_MPEG4/ISO/AVC")
    entry = element(names.TRACK_ENTRY, *head, size)
    units = [access_unit(300 + n, instant=n == 0) for n in range(5)]
    data = opened(tracks(entry), cluster(0, *(block(1, n * 40, unit) for n, unit in enumerate(units))))
    (samples,) = read(data)
    assert samples.format.codec.startswith("avc1.64") and samples.format.config[:1] == b"\1"
    assert samples.sizes.tolist() == [304 + n for n in range(5)]
    assert samples.pts.tolist() == [n * 3600 for n in range(5)]


def checked(tmp_path: Path, data: bytes) -> Account:
    (tmp_path / "film.webm").write_bytes(data)
    account = Account()
    check_file(tmp_path / "film.webm", None, account)
    return account


def test_cues_lead_to_clusters_or_that_is_said(tmp_path: Path) -> None:
    assert checked(tmp_path, FERRY).verdict == "sound"
    position = (
        FERRY.index(b"\xf1", FERRY.rindex(names.CUES.to_bytes(4, "big"))) + 2
    )  # CueClusterPosition (§5.1.5.1.2.2)
    damaged = FERRY[:position] + bytes([FERRY[position] ^ 0x01]) + FERRY[position + 1 :]
    account = checked(tmp_path, damaged)
    assert account.verdict == "flawed" and "cue" in account.reason


def test_elements_have_their_check_sums_or_that_is_said(tmp_path: Path) -> None:
    """RFC 8794 §11.3.1: the CRC-32 of what follows it, least significant byte first."""
    inside = tracks(picture())[4 + 1 :]
    for wrong, verdict in ((0, "unproven"), (1, "flawed")):
        crc = element(0xBF, (zlib.crc32(inside) ^ wrong).to_bytes(4, "little"))
        data = opened(element(names.TRACKS, crc, inside), cluster(0, *(block(1, n * 40, VP9_KEY) for n in range(5))))
        assert checked(tmp_path, data).verdict == verdict


def endless(film: bytes) -> bytes:
    """A film as it is written while it is made: neither the segment nor its clusters say how long they are, and nothing
    says where they stand."""
    first = header(film, 0, len(film))
    segment = header(film, first.end, len(film))
    body, at = film[: first.end] + names.SEGMENT.to_bytes(4, "big") + UNKNOWN, segment.content
    while at < segment.end:
        part = header(film, at, segment.end)
        if part.identifier == names.CLUSTER:
            body += CLUSTER + UNKNOWN + film[part.content : part.end]
        elif part.identifier == names.TRACKS:
            body += film[at : part.end]
        at = part.end
    return body


@given(st.integers(400, len(FERRY)))
def test_what_was_cut_out_of_an_endless_body_ends_behind_a_whole_element(cut: int) -> None:
    body = endless(FERRY)[:cut]
    end = last_whole_element(lambda at, count: body[at : at + count], len(body))
    assert len(body) - end < 300_000
    whole = body[:end]
    read_matroska(lambda at, count: whole[at : at + count], end)
    assert last_whole_element(lambda at, count: FERRY[at : at + count], len(FERRY)) == len(FERRY)


def test_sizes_and_channels_beyond_reason_are_bounded() -> None:
    most = b"\xff" * 8
    values = {names.CODEC_ID: b"A_OPUS", names.CHANNELS: most, names.SAMPLING_FREQUENCY: b"\x7f\xf0" + bytes(6)}
    assert format_of(values, 2).channels == 255
    values = {names.CODEC_ID: b"V_VP9", names.PIXEL_WIDTH: most, names.PIXEL_HEIGHT: most}
    assert format_of(values, 1).width == 2**31 - 1


def test_many_blocks_are_read_as_one_by_one_whatever_stands_among_them() -> None:
    plain = [block(2, n % 50 * 20, bytes([0x78 | n & 3]) * (n * 37 % 300 + 1)) for n in range(400)]
    laced = block(2, 20, b"\1" + bytes(40), 0x84)
    group = element(names.BLOCK_GROUP, element(names.BLOCK, b"\x82\0\1\0" + b"\x78" * 9))
    wide = element(names.SIMPLE_BLOCK, b"\x40\2\0\3\x80" + b"\x78" * 7)  # the number of its track in two bytes
    for odd in (b"", laced, group, wide, element(names.VOID, bytes(30)), block(9, 5, b"nobody's")):
        blocks = [*plain[:150], odd, *plain[150:]]
        together = opened(tracks(sound()), *(cluster(n * 1000, *blocks[n * 50 : n * 50 + 50]) for n in range(9)))
        apart = opened(tracks(sound()), *(cluster(n // 50 * 1000, one) for n, one in enumerate(blocks)))
        frames = []
        for data in (together, apart):
            (track,) = read_matroska(reader_of(io.BytesIO(data)), len(data)).tracks
            places = zip(track.offsets.tolist(), track.sizes.tolist(), strict=True)
            frames.append(([data[at : at + size] for at, size in places], track.pts.tolist()))
        assert frames[0] == frames[1] and len(frames[0][0]) >= 400
    short = cluster(0, *plain[:40], element(names.SIMPLE_BLOCK, b"\x82\0"))
    with pytest.raises(MatroskaError, match="too short"):
        data = opened(tracks(sound()), short)
        read_matroska(reader_of(io.BytesIO(data)), len(data))
