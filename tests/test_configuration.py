"""What a decoder must know before the first sample: films whose samples are whole, and whose configuration is not, as a
browser refuses them; and films that begin with a picture that is made from others."""

from pathlib import Path

import pytest

from mudlark.demo.streamed import MEDIA
from mudlark.errors import Refused
from mudlark.media.configuration import fault_of
from mudlark.media.mp4.entries import descriptors_fit
from mudlark.media.picture.beginning import begins_alone
from mudlark.media.samples import Format
from mudlark.media.sound import aac, opus, vorbis
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from tests.bytes.fragmented import box, entry_of_avc, film, full

_RECORDED = Path(__file__).parent / "recorded"


def problems(tmp_path: Path, data: bytes) -> tuple[str, set[str]]:
    path = tmp_path / "film.bin"
    path.write_bytes(data)
    account = Account()
    check_file(path, None, account)
    return account.verdict, {problem.code for problem in account.problems}


def changed(data: bytes, mark: bytes, at: int, new: bytes) -> bytes:
    """Other bytes at a place behind the first of some that mark it."""
    place = data.index(mark) + len(mark) + at
    return data[:place] + new + data[place + len(new) :]


@pytest.fixture(scope="module")
def shop() -> bytes:
    return (MEDIA / "gift-shop.mp4").read_bytes()


@pytest.mark.parametrize(
    ("mark", "at", "new"),
    [
        (b"avcC", 5, b"\xe0"),  # ISO/IEC 14496-15 §5.3.3.1: no sequence parameter set
        (b"avcC", 8, bytes(8)),  # in its place a unit of another kind
        (b"avcC", 12, b"\0\0\0\0\0\0"),  # one that gives no size
        (b"avc1", 24, bytes(4)),  # a picture of no size
    ],
)
def test_pictures_without_what_decodes_them_are_broken(
    tmp_path: Path, shop: bytes, mark: bytes, at: int, new: bytes
) -> None:
    data = shop[shop.index(b"stsd") :]  # the brands of a file are called alike
    verdict, codes = problems(tmp_path, shop[: shop.index(b"stsd")] + changed(data, mark, at, new))
    assert verdict == "broken" and "configuration" in codes


@pytest.mark.parametrize(
    ("at", "new"),
    [
        (0, b"\0"),
        (3, b"\0"),
        (4, b"\xa7"),
        (4, b"\x5f"),
    ],  # none; another unit; of a sequence that is not there; not used
)
def test_the_first_picture_has_its_parameter_set(tmp_path: Path, shop: bytes, at: int, new: bytes) -> None:
    record = shop.index(b"avcC", shop.index(b"stsd")) + 4
    sets = record + 8 + int.from_bytes(shop[record + 6 : record + 8], "big")  # the count of those of pictures
    assert shop[sets] == 1 and shop[sets + 3] == 0x68
    data = shop[: sets + at] + new + shop[sets + at + 1 :]
    assert problems(tmp_path, data) == ("broken", {"configuration"})


@pytest.mark.parametrize("new", [b"\0\0", b"\x17\x90", b"\x12\x00"])  # object 0; a rate cut off; no channels
def test_sound_without_what_decodes_it_is_a_flaw_of_a_film(tmp_path: Path, shop: bytes, new: bytes) -> None:
    at = shop.index(b"\x05", shop.index(b"esds") + 25)
    place = next(at + number for number in range(1, 6) if shop[at + number] == 2 and not shop[at + number] & 0x80) + 1
    verdict, codes = problems(tmp_path, shop[:place] + new + shop[place + 2 :])
    assert (verdict, codes) == ("flawed", {"configuration"})


def test_decoders_take_a_configuration_of_aac_whose_end_is_cut_off() -> None:
    assert fault_of(Format("audio", "mp4a.40.2", 44_100, b"\x12\x12"), b"\x21") == ""  # depends on a core coder
    assert fault_of(Format("audio", "mp4a.40.2", 44_100, b"\x12\x00"), b"\xa0") == ""  # the sample says it (§4.5.2.1)
    assert fault_of(Format("audio", "mp4a.40.2", 44_100, b""), b"\x21")
    assert fault_of(Format("audio", "mp4a.6B", 44_100, b""), b"") == ""


@pytest.mark.parametrize(
    ("mark", "at", "flip"),
    [
        (b"avcC", 0, 2),  # the version of the record
        (b"avcC", 7, 1),  # the length of a parameter set
        (b"avcC", 12, 8),  # bits of the sequence parameter set, behind which it does not end where its fields do
        (b"avcC", 14, 1),
        (b"dref", 7, 2),  # ISO/IEC 14496-12 §8.7.2: as many references as there are
        (b"stsd", 7, 2),
        (b"mdhd", 0, 2),  # a version that is not known
        (b"mdhd", 25, 1),  # how long its samples last
        (b"mvhd", 52, 1),  # its matrix, as large as a wall
        (b"mvhd", 49, 1),  # as nothing
    ],
)
def test_a_flipped_bit_of_a_header_is_seen(tmp_path: Path, shop: bytes, mark: bytes, at: int, flip: int) -> None:
    place = shop.index(mark, shop.index(b"moov")) + 4 + at
    data = shop[:place] + bytes([shop[place] ^ flip]) + shop[place + 1 :]
    assert problems(tmp_path, shop)[0] == "sound" and problems(tmp_path, data)[0] != "sound"


def test_descriptors_lie_inside_of_each_other() -> None:
    """ISO/IEC 14496-1 §7.2.6."""
    inside = b"\5\2\x12\x10"
    decoder = b"\4" + bytes([13 + len(inside), 0x40, 0x15]) + bytes(11) + inside
    stream = b"\3" + bytes([3 + len(decoder)]) + bytes(3) + decoder
    for esds, fits in (
        (stream, True),
        (stream.replace(b"\5\2", b"\5\x80\x80\2"), False),  # longer by two bytes
        (stream.replace(b"\5\2", b"\5\3"), False),
        (stream.replace(b"\4" + bytes([17]), b"\4" + bytes([18])), False),
        (b"\6\2ab", True),
    ):
        assert descriptors_fit(bytes(8) + b"mp4a" + full(b"esds", esds)) is fits


def test_media_in_another_file_are_not_there(tmp_path: Path, shop: bytes) -> None:
    """ISO/IEC 14496-12 §8.7.2: without the flag a reference says where they stand."""
    at = shop.index(b"url ", shop.index(b"dref"))
    there = bytearray(shop)
    there[at + 7] = 0  # which says nothing by itself
    assert problems(tmp_path, bytes(there))[0] == "sound"
    entry = entry_of_avc()
    elsewhere = full(b"dref", (1).to_bytes(4, "big"), full(b"url ", b"media.mov\0"))
    plain = film(1, entries=(entry,))
    stbl = plain.index(b"stbl") - 4
    with_references = plain[:stbl] + box(b"dinf", elsewhere) + plain[stbl:]
    grown = len(box(b"dinf", elsewhere))
    for name in (b"moov", b"trak", b"mdia", b"minf"):
        place = with_references.index(name) - 4
        size = int.from_bytes(with_references[place : place + 4], "big") + grown
        with_references = with_references[:place] + size.to_bytes(4, "big") + with_references[place + 4 :]
    assert problems(tmp_path, with_references) == ("broken", {"boxes"})


def test_sound_has_the_rate_and_the_channels_that_it_says() -> None:
    mono, stereo = b"\x12\x08", b"\x12\x10"  # 44,100 Hz
    step = 1024 / 44_100
    assert aac.oddity(stereo, step, b"\x21") == aac.oddity(mono, step, b"\x01") == aac.oddity(stereo, 0, b"\xde") == ""
    assert aac.oddity(stereo, 2 * step, b"\x21") == ""  # of twice as many samples, made up from hints
    assert aac.oddity(mono, step, b"\x21") and aac.oddity(stereo, step, b"\x01")
    assert aac.oddity(b"\x11\x90", step, b"\x21") and aac.oddity(b"\x92\x10", step, b"\x21")


def test_a_matroska_head_asks_for_what_a_reader_can_do(tmp_path: Path) -> None:
    """RFC 8794 §11.2."""
    data = (_RECORDED / "opus.webm").read_bytes()
    end = data.index(b"\x18\x53\x80\x67")
    for at in range(5, end):
        verdict, _ = problems(tmp_path, data[:at] + bytes([data[at] ^ 0x20]) + data[at + 1 :])
        versions = {data.index(mark) + 3 for mark in (b"\x42\x86\x81", b"\x42\x87\x81") if mark in data}
        assert verdict != "sound" or at in versions, at


def test_a_browser_records_h264_without_a_configuration(tmp_path: Path) -> None:
    data = (_RECORDED / "h264-silent.webm").read_bytes()
    assert problems(tmp_path, data)[0] == "sound"
    unit = data.index(b"\0\0\0\1\x68")
    assert problems(tmp_path, data[: unit + 4] + b"\x0c" + data[unit + 5 :]) == ("broken", {"configuration"})


@pytest.mark.parametrize(
    ("channels", "mapping", "good"),
    [
        (2, [0], True),
        (0, [0], False),
        (3, [0], False),
        (6, [1, 4, 2, 0, 4, 1, 2, 3, 5], True),
        (9, [1, 9, 0, *range(9)], False),
        (1, [1], False),
        (2, [1, 0, 0, 0, 1], False),
        (2, [1, 1, 2, 0, 1], False),
        (2, [1, 1, 1, 0, 2], False),
        (2, [1, 1, 1, 0, 255], True),
        (4, [255, 4, 0, 0, 1, 2, 3], True),
    ],
)
def test_opus_says_which_channel_is_which(channels: int, mapping: list[int], good: bool) -> None:
    """RFC 7845 §5.1."""
    assert bool(opus.fault(b"\1", bytes([channels]), bytes(mapping))) is not good
    assert opus.fault(b"\x10", bytes([channels]), bytes(mapping))


def test_opus_in_webm_has_its_header(tmp_path: Path) -> None:
    data = (_RECORDED / "opus.webm").read_bytes()
    head = data.index(b"OpusHead")
    assert problems(tmp_path, data)[1] == set()
    for at, byte in ((9, 0), (18, 1), (0, 0)):
        assert problems(tmp_path, data[: head + at] + bytes([byte]) + data[head + at + 1 :]) == (
            "broken",
            {"configuration"},
        )


def test_vorbis_in_matroska_has_three_headers() -> None:
    """Vorbis I §4.2.2, laced as in RFC 9559 §6.2."""
    head = b"\1vorbis" + bytes(4) + b"\2" + (44_100).to_bytes(4, "little") + bytes(12) + b"\xb8\1"
    comments, tables = b"\3vorbis" + bytes(300), b"\5vorbis" + bytes(20)
    packed = bytes([2, len(head), 255, len(comments) - 255]) + head + comments + tables
    assert vorbis.fault_of_headers(packed) == ""
    for wrong in (b"", packed[:30], b"\1" + packed[1:], packed.replace(b"\5vorbis", b"\7vorbis"), bytes(len(packed))):
        assert vorbis.fault_of_headers(wrong)
    for at, byte in ((11, 0), (28, 0x8B), (28, 0xF0), (29, 0), (7, 1)):
        assert vorbis.fault(head[:at] + bytes([byte]) + head[at + 1 :])


def test_flac_and_av1_are_described() -> None:
    block = bytes([0, 0, 0, 34]) + bytes(10) + (44_100 << 4).to_bytes(3, "big") + bytes(21)
    flac = Format("audio", "flac", 44_100, bytes(4) + block)
    assert fault_of(flac, b"") == "" and fault_of(Format("audio", "flac", 44_100, bytes(4) + bytes(38)), b"")
    pictures = Format("video", "av01.0.04M.08", 1000, b"\x81\4\0\0", width=160, height=90)
    # AV1 §5.3.2: a temporal delimiter, a sequence header, a frame
    assert fault_of(pictures, b"\x12\0\x0a\1a\x32\1a") == "" and fault_of(pictures, b"\x12\0\x32\1a")


@pytest.mark.parametrize(
    ("codec", "alone", "made", "unknown"),
    [
        ("avc1.42c00c", b"\0\0\0\2\x65\x88", b"\0\0\0\2\x41\x9a", b"\0\0\0\2\6\5\0\0\0\2\x41\x9a"),  # a message first
        ("avc1.42c00c", b"\0\0\0\2\x41\x88", b"\0\0\0\2\x01\x9a", b""),  # a slice that is made from no others
        ("hvc1.1.6.L60.90", b"\0\0\0\3\x40\1a\0\0\0\3\x26\1a", b"\0\0\0\3\x02\1a", b"\0\0\0\3\x4e\1a"),
        ("av01.0.04M.08", b"\x12\0\x32\2\x10\0", b"\x12\0\x32\2\x30\0", b"\x12\0"),
        ("vp09.00.10.08", b"\x82\x49\x83\x42", b"\x86\0\0\0", b""),
        ("vp08", b"\x10\2\0\x9d", b"\x31\0\0\0", b""),
    ],
)
def test_decoding_begins_with_a_picture_that_is_made_from_no_others(
    codec: str, alone: bytes, made: bytes, unknown: bytes
) -> None:
    config = b"\1" + bytes(20) + b"\3" if codec.startswith("hvc1") else b"\1\x42\xc0\x0c\xff"
    format = Format("video", codec, 1000, config)
    assert [begins_alone(sample, format) for sample in (alone, made, unknown)] == [True, False, None]


def test_a_film_that_begins_in_the_middle_says_where_it_can_be_shown(tmp_path: Path) -> None:
    data = (_RECORDED / "vp8-opus.webm").read_bytes()
    key = data.index(b"\x9d\x01\x2a") - 3
    assert data[key] & 1 == 0
    late = data[:key] + bytes([data[key] | 1]) + data[key + 1 :]  # RFC 6386 §9.1: no key frame
    verdict, codes = problems(tmp_path, late)
    assert verdict in ("flawed", "broken") and codes == {"picture-sync"}


def test_samples_of_another_codec_are_no_film(tmp_path: Path) -> None:
    data = (_RECORDED / "vp8-opus.webm").read_bytes()
    verdict, codes = problems(tmp_path, data.replace(b"V_VP8", b"V_VP9"))
    assert verdict == "broken" and "coded-form" in codes


def test_a_second_index_describes_the_same_tracks(tmp_path: Path) -> None:
    plain = film(2, stated=8)
    index = plain[plain.index(b"moov") - 4 :][: int.from_bytes(plain[plain.index(b"moov") - 4 :][:4], "big")]
    other = changed(index, b"avc1", 24, b"\0\x20\0\x20")
    assert problems(tmp_path, plain)[1] == problems(tmp_path, plain + index)[1]
    assert problems(tmp_path, plain + other)[1] - problems(tmp_path, plain)[1] == {"boxes"}
    entry = entry_of_avc()
    with pytest.raises(Refused):  # of protected samples behind clear ones
        problems(tmp_path, plain + film(1, entries=(entry[:4] + b"encv" + entry[8:],)))


@pytest.mark.parametrize(
    ("scale", "shift", "size", "trex", "codes"),
    [
        (1000, 0, 0, 1, set()),
        (100, 0, 0, 1, {"duration"}),
        (1000, 3, 0, 1, {"boxes"}),  # it leads to where no box begins
        (1000, 0, 90, 1, {"cut-off"}),
        (0, 0, 0, 1, {"boxes"}),
        (1000, 0, 0, 2, {"boxes"}),
    ],
)
def test_what_a_segment_index_lists_is_there(
    tmp_path: Path, scale: int, shift: int, size: int, trex: int, codes: set[str]
) -> None:
    """ISO/IEC 14496-12 §8.16.3, and §8.8.3 for the track that goes on in fragments."""
    plain = changed(film(2, stated=8), b"trex", 4, trex.to_bytes(4, "big"))
    first = plain.index(b"moof") - 4
    second = plain.index(b"moof", first + 8) - 4
    sizes = [second - first + shift, len(plain) - second - shift + size]
    references = b"".join(one.to_bytes(4, "big") + (4000).to_bytes(4, "big") + b"\x90\0\0\0" for one in sizes)
    times = (1).to_bytes(4, "big") + scale.to_bytes(4, "big") + bytes(8)
    index = full(b"sidx", times, bytes(2), (2).to_bytes(2, "big"), references)
    assert problems(tmp_path, plain[:first] + index + plain[first:])[1] == codes


def test_tracks_in_fragments_are_on_one_clock(tmp_path: Path) -> None:
    """ISO/IEC 14496-12 §8.8.12: a picture whose fragments state that they are decoded minutes later."""
    data = (_RECORDED / "vp9-opus.mp4").read_bytes()
    assert problems(tmp_path, data) == ("sound", set())
    assert problems(tmp_path, changed(data, b"tfdt", 6, b"\1"))[1] >= {"begins-apart", "ends-apart"}


def test_pixels_are_about_as_wide_as_high(tmp_path: Path) -> None:
    data = (_RECORDED / "vp9-opus.mp4").read_bytes()
    assert problems(tmp_path, changed(data, b"pasp", 2, b"\1"))[1] == {"configuration"}


def test_lengths_that_could_not_be_determined_are_none(tmp_path: Path) -> None:
    """ISO/IEC 14496-12 §8.2.2.3: all ones."""
    plain = film(2, stated=8)
    assert problems(tmp_path, changed(plain, b"mvhd", 16, b"\xff\xff\xff\xff"))[1] == problems(tmp_path, plain)[1]


def test_tracks_are_told_from_each_other(tmp_path: Path, shop: bytes) -> None:
    first = shop.index(b"tkhd")
    second = shop.index(b"tkhd", first + 4)
    at = 20 if shop[first + 4] else 12  # §8.3.2.2, behind the two times
    for number in (bytes(4), shop[second + 4 + at : second + 8 + at]):
        assert problems(tmp_path, shop[: first + 4 + at] + number + shop[first + 8 + at :]) == ("flawed", {"boxes"})


def test_an_edit_list_presents_something(tmp_path: Path, shop: bytes) -> None:
    at = shop.index(b"elst") + 4
    assert shop[at : at + 8] == bytes([shop[at], 0, 0, 0, 0, 0, 0, 1])
    place = at + 8 + (8 if shop[at] else 4)
    width = 8 if shop[at] else 4
    verdict, codes = problems(tmp_path, shop[:place] + b"\x7f".ljust(width, b"\xff")[:width] + shop[place + width :])
    assert verdict == "flawed" and "times" in codes
