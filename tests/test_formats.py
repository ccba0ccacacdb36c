"""Readers of all formats: what the standards allow, and anything else as our own error, in bounded work."""

import random
from collections.abc import Callable

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mudlark.demo.repacked import encrypted, fragments, packed, section
from mudlark.demo.streamed import MEDIA, content
from mudlark.demo.transport import AAC, AUDIO_PID, AVC, VIDEO_PID, MappedStream, TransportWriter, Unit
from mudlark.errors import MudlarkError
from mudlark.media.bits import Bits
from mudlark.media.language import packed_code, same_language, three_letters
from mudlark.media.movie import Movie
from mudlark.media.mp4.boxes import Mp4Error, box, full_box
from mudlark.media.mp4.fragments import FragmentReader, read_movie
from mudlark.media.mp4.read import scan
from mudlark.media.picture.hevc import codec_name, parse_sps
from mudlark.media.readers import READERS, container, reader_for
from mudlark.media.samples import Samples
from mudlark.media.sniff import sniff
from mudlark.media.sound import ac3, ac3_silence, adts, mpeg_audio, opus
from mudlark.media.sound.framed import Syntax, frames
from mudlark.media.sound.opus import packet_duration
from mudlark.media.sound.packed import PackedReader, skip_tags
from mudlark.media.ts import TransportReader
from mudlark.media.webvtt import Cue, Subtitles, parse, write
from tests.streams import aac_frame, demo_segment, pictures


def _demo(kind: str, number: int = 0) -> Samples:
    reader = TransportReader()
    batch = [one.kept() for one in reader.feed(memoryview(demo_segment(number)))]
    batch += [one.kept() for one in reader.flush()]
    return next(one for one in batch if one.format.type == kind)


VIDEO, AUDIO = _demo("video"), _demo("audio")
INIT = section([VIDEO, AUDIO])
SEGMENT = fragments(1, [VIDEO, AUDIO])


def bytes_of(samples: Samples) -> bytes:
    return b"".join(samples.pieces)


# Fragmented MP4 (ISO/IEC 14496-12 §8.8)


def test_fragments_give_the_samples_that_were_written() -> None:
    reader = FragmentReader()
    reader.begin(INIT)
    video, audio = reader.feed(memoryview(SEGMENT))
    for got, given_ in ((video, VIDEO), (audio, AUDIO)):
        assert np.array_equal(got.sizes, given_.sizes) and np.array_equal(got.pts, given_.pts)
        assert np.array_equal(got.dts, given_.dts) and np.array_equal(got.sync, given_.sync)
        assert bytes_of(got) == bytes_of(given_) and got.format.config == given_.format.config


def _fragment(header: bytes, decoded: bytes, run: bytes, media: bytes) -> bytes:
    return box("moof", full_box("mfhd", 0, 0, b"\0\0\0\1"), box("traf", header, decoded, run)) + box("mdat", media)


@pytest.mark.parametrize("wide", [False, True])
@pytest.mark.parametrize("based", ["moof", "given", "none"])
@pytest.mark.parametrize("usual", ["tfhd", "trex"])
def test_every_way_to_state_defaults_and_places(wide: bool, based: str, usual: str) -> None:
    init = section([AUDIO])
    flags = {"moof": 0x20000, "given": 0x1, "none": 0}[based]
    fields = b"\0\0\0\2" + (bytes(8) if based == "given" else b"")
    if usual == "tfhd":
        flags |= 0x38
        fields += (1024).to_bytes(4, "big") + (10).to_bytes(4, "big") + (0x02000000).to_bytes(4, "big")
    else:
        at = init.index(b"trex") + 16
        rest = (1024).to_bytes(4, "big") + (10).to_bytes(4, "big") + bytes(4)
        init = init[:at] + rest + init[at + 12 :]
    header = full_box("tfhd", 0, flags, fields)
    time = (5_000_000_000 if wide else 48_000).to_bytes(8 if wide else 4, "big")
    decoded = full_box("tfdt", int(wide), 0, time)
    head = len(_fragment(header, decoded, full_box("trun", 0, 1, bytes(8)), b""))
    run = full_box("trun", 0, 1, (3).to_bytes(4, "big"), head.to_bytes(4, "big"))
    reader = FragmentReader()
    reader.begin(init)
    (got,) = reader.feed(memoryview(_fragment(header, decoded, run, bytes(range(30)))))
    assert got.sizes.tolist() == [10, 10, 10] and np.diff(got.dts).tolist() == [1024, 1024]
    assert int(got.dts[0]) == int.from_bytes(time, "big") and bytes_of(got) == bytes(range(30))


def test_composition_times_before_decoding_and_flags_of_the_first_sample() -> None:
    init = section([VIDEO])
    header = full_box("tfhd", 0, 0x20028, b"\0\0\0\1", (3600).to_bytes(4, "big"), (0x10000).to_bytes(4, "big"))
    rows = b"".join(
        size.to_bytes(4, "big") + shift.to_bytes(4, "big", signed=True)
        for size, shift in ((5, 0), (6, -3600), (7, 3600))
    )
    run = full_box(
        "trun", 1, 0xA05, (3).to_bytes(4, "big"), (0).to_bytes(4, "big"), (0x02000000).to_bytes(4, "big"), rows
    )
    whole = _fragment(header, b"", run, bytes(18))
    run = full_box("trun", 1, 0xA05, (3).to_bytes(4, "big"), (len(whole) - 18).to_bytes(4, "big"), bytes(4), rows)
    reader = FragmentReader()
    reader.begin(init)
    (got,) = reader.feed(memoryview(_fragment(header, b"", run, bytes(18))))
    assert (got.pts - got.dts).tolist() == [0, -3600, 3600] and got.sync.tolist() == [True, False, False]
    (later,) = reader.feed(memoryview(_fragment(header, b"", run, bytes(18))))
    assert int(later.dts[0]) == 3 * 3600  # without a stated time it goes on


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda data: data[:-10], "past the segment's end"),
        (lambda data: data.replace(b"moof", b"free"), "no fragment"),
        (lambda data: data.replace(b"tfhd", b"free"), "no header"),
        (lambda _: b"<!doctype html><html>", "."),
    ],
)
def test_segments_that_contradict_themselves_are_as_if_never_fed(change: Callable[[bytes], bytes], words: str) -> None:
    reader = FragmentReader()
    reader.begin(INIT)
    with pytest.raises(MudlarkError, match=words):
        reader.feed(memoryview(change(SEGMENT)))
    assert len(reader.feed(memoryview(SEGMENT))) == 2


def test_a_billion_samples_claimed_are_refused_at_once() -> None:
    header = full_box("tfhd", 0, 0x20038, b"\0\0\0\2", b"\0\0\4\0", b"\0\0\0\0", b"\0\0\0\0")
    run = full_box("trun", 0, 1, (1_000_000_000).to_bytes(4, "big"), b"\0\0\0\x60")
    reader = FragmentReader()
    reader.begin(section([AUDIO]))
    with pytest.raises(MudlarkError, match="claims 1,000,000,000 samples"):
        reader.feed(memoryview(_fragment(header, b"", run, bytes(10))))


def test_encrypted_tracks_are_recognised() -> None:
    with pytest.raises(MudlarkError, match="protected"):
        FragmentReader().begin(INIT.replace(b"avc1\0\0\0\0\0\0", b"encv\0\0\0\0\0\0"))


# Frames of sound


def _mp3() -> bytes:
    return b"".join(content("signals", f"part-{number}.mp3") or b"" for number in range(3))


def _ac3(count: int) -> bytes:
    """AC-3 of 48 kHz, 192 kbit/s, stereo: 768 bytes a frame; what is inside does not matter here."""
    head = b"\x0b\x77\x12\x34" + bytes([20]) + bytes([8 << 3]) + bytes([0b01000000])
    body = random.Random(3).randbytes(768 - len(head)).replace(b"\x0b\x77", b"\0\0")
    return (head + body) * count


def _eac3(count: int, dependent: bool) -> bytes:
    """E-AC-3 of 48 kHz, six blocks, 5.1: 400 bytes, with a dependent frame of 200 behind each if wanted."""

    def frame(size: int, kind: int) -> bytes:
        bits = f"{kind:02b}000{size // 2 - 1:011b}00111111" + f"{16:05b}"
        head = b"\x0b\x77" + int(bits.ljust(40, "0"), 2).to_bytes(5, "big")
        return head + bytes([0x55]) * (size - len(head))

    return (frame(400, 0) + (frame(200, 1) if dependent else b"")) * count


@pytest.mark.parametrize(
    ("data", "syntax", "count", "codec", "rate", "channels", "duration"),
    [
        (_mp3(), mpeg_audio.MPEG_AUDIO, len(_mp3()) // 192, "mp4a.6B", 48_000, 2, 1152),
        (_ac3(20), ac3.AC3, 20, "ac-3", 48_000, 2, 1536),
        (_eac3(20, False), ac3.AC3, 20, "ec-3", 48_000, 6, 1536),
    ],
    ids=["mp3", "ac-3", "e-ac-3"],
)
def test_frames_are_found_by_their_lengths(
    data: bytes, syntax: Syntax, count: int, codec: str, rate: int, channels: int, duration: int
) -> None:
    stream = np.frombuffer(data, np.uint8)
    found = frames(stream, syntax)
    assert len(found.positions) == count and int(found.lengths.sum()) == len(data) == found.rest
    described = syntax.format(data[: syntax.header])
    assert (described.codec, described.sample_rate, described.channels) == (codec, rate, channels)
    assert described.sample_duration == duration
    cut = frames(stream[:-3], syntax)
    assert len(cut.positions) == count - 1 and cut.rest == int(found.positions[-1])
    behind = frames(np.frombuffer(b"\1\2\3" + data, np.uint8), syntax)
    assert len(behind.positions) == count and int(behind.positions[0]) == 3


def test_dependent_frames_belong_to_the_sample_before() -> None:
    reader = PackedReader(ac3.AC3)
    (got,) = reader.feed(memoryview(_eac3(10, True)))
    assert got.sizes.tolist() == [600] * 10 and np.diff(got.dts).tolist() == [1536] * 9


def test_headers_are_taken_off_and_the_stated_time_is_kept() -> None:
    data = packed(AUDIO)
    behind, time = skip_tags(data)
    assert time == int(AUDIO.pts[0]) * 90_000 // 48_000 and data[behind] == 0xFF
    (got,) = PackedReader(adts.ADTS).feed(memoryview(data))
    assert bytes_of(got) == bytes_of(AUDIO) and np.array_equal(got.sizes, AUDIO.sizes)
    assert abs(int(got.dts[0]) - int(AUDIO.dts[0])) <= 1


@pytest.mark.parametrize("channels", [1, 2, 3, 4, 5, 6, 7])
def test_silence_is_a_whole_raw_data_block(channels: int) -> None:
    made = adts.silence((2 << 11 | 3 << 7 | channels << 3).to_bytes(2, "big"))
    assert made is not None
    bits = Bits(made)
    elements = []
    while (element := bits.take(3)) != 7:
        elements.append(element)
        bits.take(4)
        if element == 1:
            assert bits.flag()
            bits.take(11 + 2 + 11 + 11)
        else:
            bits.take(8 + 11 + 3)
    assert sum(2 if element == 1 else 1 for element in elements) == (channels if channels < 7 else 8)
    assert bits.left < 8


def test_silence_of_mpeg_layer_3_is_a_frame_like_its_neighbour() -> None:
    made = mpeg_audio.silence(_mp3()[:16])
    assert made is not None and len(made) == 192
    (position,) = frames(np.frombuffer(made, np.uint8), mpeg_audio.MPEG_AUDIO).positions
    assert position == 0 and mpeg_audio.audio_format(made[:4]) == mpeg_audio.audio_format(_mp3()[:4])
    assert not any(made[4:])
    assert mpeg_audio.silence(b"\xff\xfd\x90\0") is None  # layer 2


@pytest.mark.parametrize("layout", range(8))
@pytest.mark.parametrize("low", [0, 1])
def test_silence_of_ac3_is_a_whole_frame_like_its_neighbour(layout: int, low: int) -> None:
    bits = "01010101" if layout in (5, 7) else "01" * (layout in (2, 3, 4, 6))
    head = f"{0x0B77:016b}{0x1234:016b}00011000{8:05b}000{layout:03b}"
    head += bits[: 2 * ((layout & 1 and layout != 1) + bool(layout & 4) + (layout == 2))] + f"{low}11011" + "0" * 40
    neighbour = int(head[: len(head) // 8 * 8], 2).to_bytes(len(head) // 8, "big")
    size = ac3.frame_size(neighbour)
    made = ac3_silence.silence(neighbour, size)
    assert made and len(made) == size == 1024  # 256 kbit/s at 48 kHz
    assert ac3.audio_format(made) == ac3.audio_format(neighbour)
    assert ac3_silence.checksum(made[2 : 2 * (size // 4 + size // 16)]) == 0 == ac3_silence.checksum(made[2:])


@pytest.mark.parametrize("layout", range(8))
def test_silence_of_eac3_is_a_whole_frame_like_its_neighbour(layout: int) -> None:
    neighbour = (0x0B77 << 80 | (767 << 64) | (3 << 60) | layout << 57 | 1 << 56 | (16 << 51) | 27 << 46).to_bytes(
        12, "big"
    )
    size = ac3.frame_size(neighbour)
    made = ac3_silence.silence(neighbour, size)
    assert made and len(made) == size == 1536
    assert ac3.audio_format(made) == ac3.audio_format(neighbour) and ac3_silence.checksum(made[2:]) == 0
    dependent = bytes([*neighbour[:2], neighbour[2] | 0x40, *neighbour[3:]])
    assert ac3_silence.silence(dependent, size) is None


def test_several_sounds_of_a_transport_stream_keep_their_languages() -> None:
    def descriptor(code: bytes) -> bytes:
        return b"\x0a\4" + code + b"\0"

    streams = (
        AVC,
        MappedStream(AUDIO_PID, 0x0F, descriptor(b"eng")),
        MappedStream(0x102, 0x03, descriptor(b"cym")),
        MappedStream(0x103, 0x06, b"\x6a\1\0" + descriptor(b"fra")),
        MappedStream(0x104, 0x15),
        MappedStream(0x105, 0x02),
    )
    adts_frames = packed(AUDIO)[skip_tags(packed(AUDIO))[0] :]
    units = [
        *pictures(50),
        Unit(AUDIO_PID, adts_frames[:4000], 0, 0),
        Unit(0x102, _mp3()[: 192 * 40], 0, 0),
        Unit(0x103, _ac3(20), 0, 0),
    ]
    reader = TransportReader()
    got = reader.feed(memoryview(TransportWriter(*streams).segment(units)))
    assert [(one.track, one.format.codec[:4], one.format.language) for one in got] == [
        (1, "avc1", ""),
        (2, "mp4a", "eng"),
        (3, "mp4a", "cym"),
        (4, "ac-3", "fra"),
    ]
    assert [loss.detail for loss in reader.losses()] == ["MPEG-2 video", "timed metadata (ID3, KLV)"]


def _latm(payload: bytes, first: bool) -> bytes:
    config = "0" + "1" + "000000" + "0000" + "000" + f"{2:05b}{3:04b}{2:04b}000" + "000" + "1" * 8 + "00"
    bits = ("0" + config if first else "1") + f"{len(payload):08b}" + "".join(f"{byte:08b}" for byte in payload)
    bits += "0" * (-len(bits) % 8)
    body = int(bits, 2).to_bytes(len(bits) // 8, "big")
    return (0x2B7 << 13 | len(body)).to_bytes(3, "big") + body


def test_latm_is_unpacked_bit_by_bit() -> None:
    payloads = [bytes([number]) * 90 for number in range(20)]
    data = b"".join(_latm(payload, number % 5 == 0) for number, payload in enumerate(payloads))
    reader = TransportReader()
    (got,) = reader.feed(
        memoryview(TransportWriter(MappedStream(AUDIO_PID, 0x11)).segment([Unit(AUDIO_PID, data, 900, 900)]))
    )
    assert bytes_of(got) == b"".join(payloads) and got.format.codec == "mp4a.40.2"
    assert (got.format.sample_rate, got.format.channels, int(got.dts[0])) == (48_000, 2, 480)


def test_opus_in_a_transport_stream() -> None:
    packet = bytes([0xFC]) + b"\x11" * 299
    unit = b"\x7f\xe0\xff" + bytes([300 - 255]) + packet
    stream = MappedStream(AUDIO_PID, 0x06, b"\5\4Opus")
    reader = TransportReader()
    (got,) = reader.feed(memoryview(TransportWriter(stream).segment([Unit(AUDIO_PID, unit * 5, 0, 0)])))
    assert got.sizes.tolist() == [300] * 5 and bytes_of(got) == packet * 5 and got.format.channels == 2
    assert packet_duration(packet) == 960


def test_hevc_tells_its_picture_and_its_name() -> None:
    reader = TransportReader()
    (got,) = reader.feed(memoryview(content("hevc", "part-0.ts") or b""))
    assert got.format.codec == "hvc1.1.6.L60.90" and (got.format.width, got.format.height) == (320, 180)
    assert got.sync[0] and got.sync.sum() == 1
    config = got.format.config
    assert config[0] == 1 and config[22] == 3 and codec_name(config[1:13]) == got.format.codec
    size = int.from_bytes(config[26:28], "big")
    first = next(config[at:] for at in range(23, len(config)) if config[at] >> 1 == 33)
    assert size and parse_sps(first[:60]).chroma_format == 1


def test_packets_of_192_bytes_are_read() -> None:
    plain = demo_segment(0)
    longer = b"".join(bytes(4) + plain[at : at + 188] for at in range(0, len(plain), 188))
    reader = TransportReader()
    batch = [*(one.kept() for one in reader.feed(memoryview(longer))), *reader.flush()]
    assert sum(len(one) for one in batch if one.format.type == "video") == 100
    assert container(longer) == "ts"


# WebVTT


def test_subtitles_come_back_as_they_were() -> None:
    made = Subtitles(
        (Cue(1.5, 3.0, "One\nline", "line:0", "7"), Cue(3661.25, 3662.0, "<i>Two</i>")), ("STYLE\n::cue {}",)
    )
    assert parse(write(made)) == made


def test_subtitles_as_careless_servers_write_them() -> None:
    text = "\ufeffWEBVTT - a title\r\nX-TIMESTAMP-MAP=LOCAL:00:00:10.000,MPEGTS:1800000\r\n"
    text += "00:01.000 --> 00:02,500\r\nA\r\n\r\n"
    read = parse(
        (
            text + "NOTE no\r\n\r\n00:03.000-->00:02.000\r\nB\r\n\r\nx\r\n00:04.000 --> 00:05.000 align:start\r\nC"
        ).encode()
    )
    assert [(cue.begin, cue.end, cue.text, cue.settings) for cue in read.cues] == [
        (1.0, 2.5, "A", ""),
        (4.0, 5.0, "C", "align:start"),
    ]
    assert read.offset == 10.0


# Languages


@pytest.mark.parametrize(
    ("tag", "code"),
    [("en", "eng"), ("en-GB", "eng"), ("cy", "cym"), ("wel", "cym"), ("eng", "eng"), ("", "und"), ("x", "und")],
)
def test_languages_have_codes_of_three_letters(tag: str, code: str) -> None:
    assert three_letters(tag) == code and len(packed_code(tag)) == 2


def test_a_wish_for_a_language_is_met_by_any_of_its_regions() -> None:
    assert same_language("en-GB", "en") and same_language("en", "eng") and same_language("pt-BR", "pt-BR")
    assert not same_language("pt-PT", "pt-BR") and not same_language("cy", "en") and not same_language("", "en")


# Anything at all

_GOOD = {
    "ts": demo_segment(0)[: 188 * 60],
    "mp4": SEGMENT,
    "adts": packed(AUDIO)[:4_000],
    "mp3": _mp3()[:4_000],
    "ac3": _ac3(5),
    "matroska": (MEDIA / "ferry-sound.webm").read_bytes()[:20_000],
}


@settings(max_examples=300, deadline=None)
@given(
    st.sampled_from(sorted(READERS)),
    st.lists(st.tuples(st.integers(0, 20_000), st.integers(0, 255)), max_size=12),
    st.integers(0, 20_000),
    st.booleans(),
)
def test_damaged_segments_give_samples_or_our_own_error(
    form: str, changes: list[tuple[int, int]], length: int, cut: bool
) -> None:
    data = bytearray(_GOOD[form])
    for place, value in changes:
        data[place % len(data)] = value
    reader = reader_for(form)
    try:
        reader.begin(INIT)
        for samples in [*reader.feed(memoryview(bytes(data[: length % len(data)] if cut else data))), *reader.flush()]:
            assert int(samples.sizes.sum()) == sum(map(len, samples.pieces)) and len(samples.pts) == len(samples.sizes)
    except MudlarkError as problem:
        assert problem.what


@settings(max_examples=200, deadline=None)
@given(st.sampled_from(sorted(READERS)), st.binary(max_size=3_000))
def test_any_bytes_give_samples_or_our_own_error(form: str, data: bytes) -> None:
    reader = reader_for(form)
    try:
        reader.begin(None)
        reader.feed(memoryview(data))
        reader.flush()
    except MudlarkError as problem:
        assert problem.what


@settings(max_examples=200, deadline=None)
@given(st.binary(max_size=400), st.integers(0, 600), st.integers(0, 255))
def test_initialization_sections_of_any_content_are_read_or_refused(data: bytes, place: int, value: int) -> None:
    damaged = bytearray(INIT)
    damaged[place % len(damaged)] = value
    for init in (data, bytes(damaged), INIT[: place % len(INIT)]):
        try:
            FragmentReader().begin(init)
        except MudlarkError as problem:
            assert problem.what


@settings(max_examples=200, deadline=None)
@given(
    st.text(max_size=300)
    | st.lists(st.sampled_from(["WEBVTT\n\n", "00:01.000 --> 00:02.000\n", "A\n", "\n", "-->"])).map("".join)
)
def test_any_text_is_subtitles_or_our_own_error(text: str) -> None:
    try:
        read = parse(text.encode("utf-8", "replace"))
    except MudlarkError:
        return
    assert all(cue.end > cue.begin >= 0 for cue in read.cues)


def test_padding_is_looked_at() -> None:
    assert len(encrypted(b"x" * 16, bytes(16), bytes(16))) == 32 and VIDEO_PID and AAC


def _whole(data: bytes) -> Movie:
    def read(at: int, count: int) -> bytes:
        return data[at : at + count]

    boxes = scan(read, len(data))
    return read_movie(read, boxes, next(box for box in boxes if box.kind == "moov"))


def test_a_fragmented_file_is_looked_into_as_one_with_an_index() -> None:
    data = INIT + SEGMENT + fragments(2, [VIDEO, AUDIO])
    for track, samples in zip(_whole(data).tracks, (VIDEO, AUDIO), strict=True):
        assert track.sizes.tolist() == samples.sizes.tolist() * 2 and len(track.durations) == 2 * len(samples)
        first = b"".join(
            data[at : at + size] for at, size in zip(track.offsets[: len(samples)], samples.sizes, strict=True)
        )
        assert first == bytes_of(samples)
    short = bytearray(data)
    short[data.index(b"trun") + 12 : data.index(b"trun") + 16] = (1 << 30).to_bytes(4, "big")
    with pytest.raises(Mp4Error, match="outside"):
        _whole(bytes(short))


@pytest.mark.parametrize("duration", [120, 240, 480, 960, 1920, 2880, 5760])
def test_silence_of_opus_lasts_as_long_as_the_packets_around_it(duration: int) -> None:
    assert packet_duration(opus.silence(duration) or b"") == duration
    assert opus.silence(duration + 1) is None


@pytest.mark.parametrize(
    ("head", "form"),
    [
        (b"The wide sea is cold.", "text"),
        (b"The free tide runs on.", "text"),
        (b"\0\0\0\x08wide\0\0\0\x10mdat", "mp4"),
        (b"\0\0\1\0free" + bytes(99), "mp4"),
    ],
)
def test_a_text_that_seems_to_begin_with_a_box_is_a_text(head: bytes, form: str) -> None:
    assert sniff(head) == form


def test_the_time_of_each_segment_of_packed_sound_counts() -> None:
    """RFC 8216 §3.4: a private frame of ID3 with 33 bits of time. A hole is one; a time that only goes back is none."""
    owner = b"com.apple.streaming.transportStreamTimestamp\0"

    def segment(time: int, count: int) -> memoryview:
        frame = b"PRIV" + bytes([0, 0, 0, len(owner) + 8, 0, 0]) + owner + time.to_bytes(8, "big")
        tag = b"ID3\4\0\0" + bytes([0, 0, 0, len(frame)]) + frame
        return memoryview(tag + b"".join(aac_frame(bytes([n % 200 + 1]) * 90) for n in range(count)))

    reader = PackedReader(adts.ADTS)
    near = (1 << 33) - 90_000  # a second before the clock wraps
    begins = []
    for time, count in ((near, 94), (90_000 * 5, 94), (near, 94), (90_000 * 20, 10)):
        (samples,) = reader.feed(segment(time, count))
        begins.append(int(samples.dts[0]) / samples.format.timescale - near / 90_000)
    lasts = 94 * 1024 / 48_000
    assert begins == pytest.approx([0.0, 6.0, 6.0 + lasts, 21.0], abs=0.001)


def test_only_as_much_is_priming_as_a_decoder_needs() -> None:
    """An edit list of which a bit was changed made seven minutes of sound unheard, and the film end before it began."""
    format = opus.audio_format(2)
    for begin, priming in ((-312, 312), (0, 0), (-48_000 * 400, 0)):
        times = begin + np.arange(3) * 960
        made = Samples(1, format, np.full(3, 10), times, times, np.ones(3, np.bool_), [memoryview(bytes(30))])
        assert made.primed().format.priming == priming
