"""What formats say of themselves, and how regular pictures are."""

import random
from pathlib import Path

import numpy as np
import pytest
from msgspec.structs import replace

from mudlark.archive.record import tracks_of
from mudlark.demo.streamed import MEDIA
from mudlark.errors import FormatError
from mudlark.media.details import Details, details_of, rate_of
from mudlark.media.index import movie_in
from mudlark.media.movie import TrackIndex
from mudlark.media.picture.colour import Colour
from mudlark.media.samples import Format, Ints
from mudlark.media.sound.aac import read_config
from mudlark.verify.account import Account
from mudlark.verify.media import check_file


@pytest.mark.parametrize(
    ("bits", "words", "rate", "channels"),
    [  # ISO/IEC 14496-3 §1.6.2.1: object, rate, channels, and three bits of the general configuration
        ("00010 0100 0010 000", "AAC-LC", 44_100, 2),
        ("00101 0110 0010 0011 00010 000", "HE-AAC", 48_000, 2),  # said first
        ("11101 0110 0001 0011 00010 000", "HE-AAC v2", 48_000, 2),
        ("00010 0110 0010 000 01010110111 00101 1 0011", "HE-AAC", 48_000, 2),  # said behind (§1.6.5.2)
        ("00010 0110 0001 000 01010110111 00101 1 0011 10101001000 1", "HE-AAC v2", 48_000, 2),
        ("00010 0110 0010 000 01010110111 00101 0", "AAC-LC", 24_000, 2),  # said that there is none
        ("11111 001010 0011 0010 0", "xHE-AAC", 48_000, 2),
        ("00010 1111 000000001011101110000000 0010 000", "AAC-LC", 48_000, 2),  # a rate that is written out
        ("00010 0011 0111 000", "AAC-LC", 48_000, 8),
    ],
)
def test_codings_of_aac_are_told_apart(bits: str, words: str, rate: int, channels: int) -> None:
    text = bits.replace(" ", "")
    size = -(-len(text) // 8)
    said = read_config(int(text.ljust(size * 8, "0"), 2).to_bytes(size, "big"))
    assert (said.words, said.rate, said.channels) == (words, rate, channels)


@pytest.mark.parametrize("config", [b"", b"\x12", b"\x16\x90"])
def test_a_configuration_of_aac_that_says_nothing_is_an_error(config: bytes) -> None:
    with pytest.raises(FormatError):
        read_config(config)


def adts(frames: list[str]) -> bytes:
    """Frames of a channel at 24,000 Hz (ISO/IEC 14496-3 §1.A.2.2), of the bits of their elements."""
    made = b""
    for bits in frames:
        body = int(bits.ljust(-(-len(bits) // 8) * 8, "0"), 2).to_bytes(-(-len(bits) // 8), "big")
        header = 0xFFF1 << 40 | 1 << 38 | 6 << 34 | 1 << 30 | (len(body) + 7) << 13 | 0x7FF << 2
        made += header.to_bytes(7, "big") + body
    return made


@pytest.mark.parametrize("count", [3, 14, 15, 40, 268])  # bytes of hints: from 15 on a byte more says how many
def test_hints_of_which_no_header_speaks_are_found_in_the_frames(tmp_path: Path, count: int) -> None:
    sound, chance = "000 0000" + "00000000" + "10110" * 90, random.Random(count)
    filled = "110" + (f"{count:04b}" if count < 15 else f"1111{count - 14:08b}")
    hints = ["1101" + f"{chance.getrandbits(count * 8 - 4):0{count * 8 - 4}b}" for _ in range(20)]
    path = tmp_path / "talk.aac"
    path.write_bytes(adts([(sound + filled + one + "111").replace(" ", "") for one in hints]))
    (track,) = tracks_of(check_file(path, None, Account()))
    assert (track.profile, track.sample_rate, track.channels) == ("HE-AAC", 48_000, 1)
    if 10 < count < 200:  # with an extension of four bytes, and three bits behind it
        ending = ["1" + "0100" + "10" + "1" * 30 + "000"] * 20
        filling = [one[: count * 8 - len(end)] + end for one, end in zip(hints, ending, strict=True)]
        path.write_bytes(adts([(sound + filled + one + "111").replace(" ", "") for one in filling]))
        (track,) = tracks_of(check_file(path, None, Account()))
        assert (track.profile, track.sample_rate, track.channels) == ("HE-AAC v2", 48_000, 2)
    path.write_bytes(adts([(sound + filled + "0000" + one[4:] + "111").replace(" ", "") for one in hints]))
    (track,) = tracks_of(check_file(path, None, Account()))
    assert (track.profile, track.sample_rate) == ("AAC-LC", 24_000)  # it fills up and says nothing


def test_pictures_are_described_in_the_words_of_their_standard() -> None:
    film = next(one.format for one in movie_in(MEDIA / "harbour-talk.mp4").tracks if one.format.type == "video")
    assert details_of(film) == Details("High 3.0", 8, "4:2:0")
    turned = bytes(4) + (1 << 16).to_bytes(4, "big") + bytes(28)  # by a quarter (ISO/IEC 14496-12 §8.3.2)
    seen = details_of(
        replace(film, pixel_aspect=(4, 3), matrix=turned, colour=Colour(9, 16, 9, full_range=True), config=b"damaged")
    )
    assert seen == Details(None, None, None, (4, 3), 90, "BT.2020, PQ, full range")
    av1 = Format("video", "av01.0.08M.10", 1000, b"\x81\x08\x4c\0")
    assert details_of(av1) == Details("Main 4.0", 10, "4:2:0")


def track(pts: Ints) -> TrackIndex:
    count = len(pts)
    ones, yes = np.ones(count, np.int64), np.ones(count, np.bool_)
    lasts = np.diff(pts, append=pts[-1] + 40)
    format = Format("video", "avc1", 1000, b"")
    return TrackIndex(1, (format,), ones, np.arange(count), np.sort(pts), pts, lasts, yes, ones - 1)


def test_a_rate_that_varies_is_told_with_its_bounds() -> None:
    steady = rate_of(track(np.arange(100) * 40))
    assert (steady.usual, steady.least, steady.most) == (25.0, None, None)
    rounded = rate_of(track(np.rint(np.arange(100) * 1000 / 30).astype(np.int64)))
    assert rounded.usual == pytest.approx(30, abs=0.5) and rounded.least is None  # as times in milliseconds are
    slides = rate_of(track(np.cumsum(np.array([0, 40, 40, 2000, 40, 40, 500, 40, 40, 100]))))
    assert (slides.least, slides.most) == (0.5, 25.0) and slides.usual == pytest.approx(9 / 2.84, abs=0.01)
