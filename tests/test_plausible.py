"""Coded samples as their standards have them, written byte by byte, and as they have them not."""

from collections.abc import Iterable
from pathlib import Path
from zlib import crc32

import numpy as np
import pytest

from mudlark.demo.streamed import MEDIA
from mudlark.media.codecs import misfits_of
from mudlark.media.index import movie_in
from mudlark.media.matroska import names
from mudlark.media.matroska.ebml import element, unsigned, vint
from mudlark.media.mp4.write import Mp4Builder
from mudlark.media.samples import Bytes, Format, Ints, Samples
from mudlark.media.sound.opus import audio_format
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from tests import sounds

_AAC_LC = bytes([0x11, 0x90])  # ISO/IEC 14496-3 §1.6.2.1: object type 2, 48 kHz, stereo
_AVC = bytes([1, 0x42, 0, 30, 0xFF, 0xE1])  # ISO/IEC 14496-15 §5.3.3.1: lengths of four bytes
_USAC = bytes([0xF9, 0x46])  # object type 42, behind an escape


def packed(*samples: bytes) -> tuple[Bytes, Ints, Ints]:
    ends = np.cumsum([len(sample) for sample in samples])
    return np.frombuffer(b"".join(samples), np.uint8), np.append(0, ends[:-1]), ends


def misfits(codec: str, *samples: bytes, config: bytes = b"") -> list[bool]:
    look = misfits_of(codec)
    assert look is not None
    return [bool(one) for one in look(*packed(*samples), Format("video", codec, 1000, config))]


def judged(folder: Path, samples: Samples) -> Account:
    """What is said of an MP4 with some samples of sound."""
    builder = Mp4Builder()
    body = b"".join(bytes(piece) for piece in builder.add([samples]))
    path = folder / "sound.m4a"
    path.write_bytes((builder.head(builder.room_needed()) or b"") + body)
    account = Account()
    check_file(path, None, account)
    return account


def test_units_fill_their_samples() -> None:
    good = b"\0\0\0\3abc\0\0\0\1x"
    assert misfits("avc1", good, b"\0\0\0\4abc\0\0\0\1x", bytes(4), bytes(2), b"\0\0\0\2abc", good, config=_AVC) == [
        False,
        True,
        True,
        True,
        True,
        False,
    ]
    assert misfits("avc1", b"\0\0\0\1\xe5", config=_AVC) == [True]  # the forbidden bit
    assert misfits("avc1", b"\0\0\0\1\x65a", b"\0\0\1\x65a", b"\0\1\2\x65a") == [False, False, True]  # Annex B
    short = bytes([1, 0x42, 0, 30, 0xFD, 0xE1])  # an avcC with lengths of two bytes
    assert misfits("avc1", b"\0\3abc", good, config=short) == [False, True]


@pytest.mark.parametrize(
    ("codec", "good", "bad"),
    [
        # AV1 §5.3.2: a temporal delimiter and a frame, each with its size; the last may have none
        ("av01.0.04M.08", [b"\x12\0\x32\x03abc", b"\x12\0\x30abc"], [b"\x12\0\x32\x04abc", b"\x92\0", b"\x13\0"]),
        # RFC 6386 §9.1: a key frame with its start code, and one between
        ("vp8", [b"\x10\x02\0\x9d\x01\x2a" + bytes(22), b"\x31\0\0a"], [b"\x10\x02\0\x9d\x01\x2b" + bytes(22)]),
        ("vp8", [b"\x31\0\0a"], [b"\x31\x01\0a", b"\x3e\0\0", b"a"]),
        # VP9 §6.2: marker, profile 0, a key frame with its sync code; one between
        ("vp9", [b"\x82\x49\x83\x42\0", b"\x86\0"], [b"\x82\x49\x83\x43\0", b"\x46\0"]),
        # VP9 Annex B: an index of two frames of 2 and 3 bytes
        ("vp09", [b"\x86\0\x86\0\0\xc1\2\3\xc1"], [b"\x86\0\x86\0\0\xc1\2\x09\xc1"]),
        # RFC 6716 §3.2: one frame, two of a size, two, three at will
        ("opus", [b"\xf8abc", b"\xf9abcd", b"\xfa\1abc", b"\xfb\3abc"], [b"\xf9abc", b"\xfb\0ab", b"\xfb\x3fab"]),
        ("vorbis", [b"\x02abc", b""], [b"\x03vorbis"]),
        ("mp4a.6B", [sounds.mp3(1)], [sounds.mp3(1)[:-1], b"\0" + sounds.mp3(1)[1:]]),
        ("ac-3", [sounds.ac3(1)], [sounds.ac3(1)[:-2], sounds.ac3(1)[1:]]),
        ("tx3g", [b"\0\4tide", b"\0\0"], [b"\0\5tide", b"\0"]),
        ("tmcd", [bytes(4)], [bytes(3)]),
    ],
)
def test_samples_look_like_their_codec_or_not(codec: str, good: list[bytes], bad: list[bytes]) -> None:
    assert misfits(codec, *good, *bad) == [False] * len(good) + [True] * len(bad)


def test_blocks_of_aac_end_with_their_end() -> None:
    """ISO/IEC 14496-3 §4.4.2.1: 111, then zeros up to the next byte."""
    good = [b"\x21\x10\x07", b"\x21\x10\x0e", b"\x21\x03\x80", b"\x21\x01\xc0", b"\x21\x10\xff"]
    bad = [b"\x21\x10\x05", b"\x21\x10\0", b"\xe0\x10\x07", b"\x07"]
    assert misfits("mp4a.40.2", *good, *bad, config=_AAC_LC) == [False] * 5 + [True] * 4
    assert misfits("mp4a.40.42", b"\x21\x10\x05", config=_USAC) == [False]  # which has no such end


def test_frames_of_flac_have_their_check_sum() -> None:
    whole = sounds.flac(sounds.noise(4608))
    frame = whole[whole.index(b"\xff\xf8", 42) :]
    assert misfits("flac", frame, frame[:-1], frame[:20] + b"\1" + frame[21:]) == [False, True, True]


@pytest.mark.parametrize(("odd", "verdict"), [(range(0, 100, 2), "sound"), (range(40, 60), "flawed"), ([7], "flawed")])
def test_how_an_encoder_ends_its_blocks_is_told_from_damage(tmp_path: Path, odd: Iterable[int], verdict: str) -> None:
    frames = [b"\x21" + bytes([9]) * 60 + (b"\xfa" if number in odd else b"\x07") for number in range(100)]
    samples = Samples(
        2,
        Format("audio", "mp4a.40.2", 48_000, _AAC_LC, 1024, channels=2, sample_rate=48_000),
        np.full(100, 62),
        np.arange(100) * 1024,
        np.arange(100) * 1024,
        np.ones(100, np.bool_),
        [memoryview(b"".join(frames))],
    )
    assert judged(tmp_path, samples).verdict == verdict


@pytest.mark.parametrize(
    ("holes", "sound"),
    [
        ([(100, 500)], True),
        ([(0, 300)], False),
        ([(790, 1100)], False),
        ([(100, 700)], False),  # as long as a sector
        ([(at * 800 + 100, at * 800 + 700) for at in range(-5, 15)], True),  # in all: its rate is constant
    ],
)
def test_zeros_in_the_midst_of_opus_are_what_an_encoder_left(
    tmp_path: Path, holes: list[tuple[int, int]], sound: bool
) -> None:
    """RFC 6716 §5.1.5: between what is coded from the front of a frame and what from its back there may be zeros."""
    size = 800
    frames = bytearray((b"\xfc" + bytes(range(1, 200)) * 5)[:size] * 20)
    for begin, end in holes:
        frames[size * 5 + begin : size * 5 + end] = bytes(end - begin)
    times = np.arange(20) * 960
    samples = Samples(
        1, audio_format(2), np.full(20, size), times, times, np.ones(20, np.bool_), [memoryview(bytes(frames))]
    )
    account = judged(tmp_path, samples)
    assert (account.verdict == "sound") is sound and ({"zeros"} == {one.code for one in account.problems}) is not sound


def test_free_space_and_check_sums_stand_in_a_seek_head(tmp_path: Path) -> None:
    """RFC 9559 §5.1.1, RFC 8794 §11.3: of elements of other kinds nothing inside is read."""
    whole = (Path(__file__).parent / "recorded" / "opus.webm").read_bytes()
    segment = whole.index(b"\x18\x53\x80\x67") + 4
    width = 9 - whole[segment].bit_length()
    size = int.from_bytes(whole[segment : segment + width], "big") & (1 << 7 * width) - 1
    inside = whole[segment + width :]
    assert size == len(inside)
    entry = element(names.SEEK, element(names.SEEK_ID, inside[:4]), unsigned(names.SEEK_POSITION, 100))
    content = element(names.VOID, b"\1" + bytes(30)) + entry
    head = element(names.SEEK_HEAD, element(names.CRC_32, crc32(content).to_bytes(4, "little")), content)
    head += element(names.VOID, bytes(98 - len(head)))
    (tmp_path / "film.webm").write_bytes(whole[:segment] + vint(size + len(head), 8) + head + inside)
    account = Account()
    check_file(tmp_path / "film.webm", None, account)
    assert (len(head), account.problems) == (100, [])
    assert any(check.name == "promises" and check.outcome == "passed" for check in account.checks)


def test_a_block_that_became_an_element_that_no_one_knows_is_left_out(tmp_path: Path) -> None:
    whole = (MEDIA / "dark.webm").read_bytes()
    (tmp_path / "film.webm").write_bytes(whole)
    (track, *_) = movie_in(tmp_path / "film.webm").tracks
    begin = int(track.offsets[20]) - 13  # identifier, size of eight bytes, track, time and flags stand before a frame
    assert whole[begin] == names.SIMPLE_BLOCK
    for identifier in (0x83, 0xA7, 0xE3):
        account = Account()
        (tmp_path / "film.webm").write_bytes(whole[:begin] + bytes([identifier]) + whole[begin + 1 :])
        check_file(tmp_path / "film.webm", None, account)
        assert account.verdict != "sound" and any("does not know" in check.detail for check in account.checks)


def test_decoding_begins_where_the_file_says_or_that_is_a_flaw(tmp_path: Path) -> None:
    whole = (MEDIA / "dark.webm").read_bytes()
    (tmp_path / "film.webm").write_bytes(whole)
    track = next(one for one in movie_in(tmp_path / "film.webm").tracks if one.format.type == "video")
    flags = int(track.offsets[7]) - 1
    account = Account()
    (tmp_path / "film.webm").write_bytes(whole[:flags] + bytes([whole[flags] | 0x80]) + whole[flags + 1 :])
    check_file(tmp_path / "film.webm", None, account)
    assert [problem.code for problem in account.problems] == ["picture-sync"] and "picture 7" in account.reason
    film = bytearray((MEDIA / "gift-shop.mp4").read_bytes())
    table = film.index(b"stss") + 12  # the number of the second picture at which decoding may begin (§8.6.2)
    film[table + 7] += 4
    account = Account()
    (tmp_path / "film.mp4").write_bytes(film)
    check_file(tmp_path / "film.mp4", None, account)
    assert "picture-sync" in {problem.code for problem in account.problems}
