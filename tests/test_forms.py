"""Formats looked into from first byte to last: what is whole is sound; a cut, a hole, a flipped bit is placed."""

import struct
from io import BytesIO
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from PIL import Image
from pypdf import PdfReader, PdfWriter

from mudlark.archive.record import TrackFacts
from mudlark.assemble.bind import bind, eight_bits
from mudlark.demo.streamed import MEDIA
from mudlark.errors import Refused
from mudlark.media.crc import crc16, crc32_forward, mirrored
from mudlark.media.sniff import sniff
from mudlark.verify.account import Account
from mudlark.verify.forms.found import at_second
from mudlark.verify.media import Checked, check_file, form_of
from tests import sounds
from tests.bytes.fragmented import PICTURE, entry_of_avc, film
from tests.streams import demo_segment


def look(tmp_path: Path, data: bytes, name: str = "file.bin") -> tuple[Account, Checked]:
    path = tmp_path / name
    path.write_bytes(data)
    account = Account()
    return account, check_file(path, None, account)


def codes(account: Account) -> list[str]:
    return [problem.code for problem in account.problems]


@given(st.binary(max_size=200), st.binary(max_size=90))
def test_check_sums_over_arrays_are_those_of_the_plain_form(one: bytes, other: bytes) -> None:
    stream = np.frombuffer(one + other, np.uint8)
    begins, lengths = np.array([0, len(one)]), np.array([len(one), len(other)])
    assert crc16(stream, begins, lengths).tolist() == [sounds.crc16(one), sounds.crc16(other)]
    assert crc32_forward(one) == mirrored(sounds._ogg_crc(one).to_bytes(4, "little"))


MP3 = sounds.id3() + sounds.mp3(500, 500) + sounds.APE_TAG + sounds.ID3_1


@pytest.mark.parametrize(
    ("data", "verdict"),
    [
        (sounds.mp3(500), "unproven"),
        (sounds.mp3(500) + bytes(3000), "unproven"),
        (sounds.mp3(500, 500, b"Info"), "sound"),
        (sounds.mp3(500, 501, b"Info"), "unproven"),  # it may count the one that states it, or one is missing
        (sounds.mp3(500, 501, b"Info", size=501 * 417), "sound"),
        (sounds.mp3(500, 500, b"Info") + b"LYRICSBEGIN" + b"x" * 50 + b"000061LYRICS200" + sounds.ID3_1, "sound"),
        (sounds.ac3(100), "unproven"),
        (sounds.flac(sounds.noise(30_000)), "sound"),
        (sounds.id3() + sounds.flac(sounds.noise(30_000)) + sounds.ID3_1, "sound"),
        (sounds.flac(sounds.noise(4608), stated=0), "unproven"),
    ],
)
def test_what_does_not_state_where_it_ends_is_proven_by_whoever_does(tmp_path: Path, data: bytes, verdict: str) -> None:
    account, _ = look(tmp_path, data)
    assert (account.verdict, account.problems) == (verdict, [])
    if verdict == "unproven":
        assert "where it ends" in account.reason
        account.passed("length", "as the server announced")
        assert account.verdict == "sound"


@pytest.mark.parametrize(
    ("data", "form", "seconds"),
    [
        (sounds.mp3(500), "mp3", 500 * 1152 / 44_100),
        (MP3, "mp3", 500 * 1152 / 44_100),
        (sounds.mp3(500, 500, b"Info"), "mp3", 500 * 1152 / 44_100),
        (sounds.mp3(500, 501, b"VBRI"), "mp3", 500 * 1152 / 44_100),
        (sounds.ac3(100), "ac3", 100 * 1536 / 48_000),
        (sounds.flac(sounds.noise(30_000)), "flac", 30_000 / 44_100),
        (sounds.flac(sounds.noise(4608), stated=0), "flac", 4608 / 44_100),
        (sounds.joined(sounds.ogg_pages(5)), "ogg", 5.0),
        (sounds.joined(sounds.ogg_pages(5) + sounds.ogg_pages(3, 8)), "ogg", 8.0),
        (sounds.wav(sounds.noise(8000)), "wav", 1.0),
        (sounds.aiff(sounds.noise(8000)), "aiff", 1.0),
    ],
    ids=["mp3", "tags", "info", "vbri", "ac3", "flac", "unstated", "opus", "chain", "wav", "aiff"],
)
def test_whole_sound_is_sound(tmp_path: Path, data: bytes, form: str, seconds: float) -> None:
    account, checked = look(tmp_path, data)
    assert (account.proven or account.open_ended, account.problems, checked.form) == (True, [], form)
    assert checked.length == pytest.approx(seconds, abs=0.01) and checked.formats[0].sample_rate


def test_what_was_cut_out_of_an_endless_body_may_have_torn_ends_and_nothing_else(tmp_path: Path) -> None:
    whole = sounds.mp3(300)
    for data, verdict in ((whole[:-100], "unproven"), (whole[:50_000] + whole[50_100:-100], "flawed")):
        (tmp_path / "radio.mp3").write_bytes(data)
        account = Account()
        check_file(tmp_path / "radio.mp3", None, account, endless=True)
        assert account.verdict == verdict, account.problems


def test_radio_is_known_wherever_it_was_cut(tmp_path: Path) -> None:
    """What stands inside of a frame may look like the beginning of another: fog signals have such places."""
    sound, path = (MEDIA / "fog-signals.mp3").read_bytes(), tmp_path / "radio"
    for begin in (*range(15_300, 15_900, 7), 38_175, 52_310, 54_210):  # the last begin as a frame of AAC does
        path.write_bytes(sound[begin : begin + 24_000])
        assert form_of(path) == "mp3", begin


def test_radio_that_begins_inside_of_a_frame_is_known_by_the_frames_behind(tmp_path: Path) -> None:
    for whole, form, verdict in (
        (sounds.mp3(300)[200:], "mp3", "unproven"),
        (sounds.ac3(100)[99:], "ac3", "unproven"),
        (sounds.joined(sounds.ogg_pages(20)[:2] + sounds.ogg_pages(20)[9:15])[:-40], "ogg", "unproven"),
        (sounds.joined(sounds.ogg_pages(4)[:-1] + sounds.ogg_pages(5, 9)), "ogg", "unproven"),
    ):
        (tmp_path / "radio").write_bytes(whole)
        account = Account()
        assert check_file(tmp_path / "radio", None, account, endless=True).form == form
        assert (account.verdict, account.problems) == (verdict, []), form


FLAC = sounds.flac(sounds.noise(30_000))
OGG = sounds.ogg_pages(20)
WAV = sounds.wav(sounds.noise(8000))


@pytest.mark.parametrize(
    ("data", "code", "second"),
    [
        (sounds.mp3(500)[:-100], "cut-off", 13.0),
        (sounds.mp3(300, 500), "cut-off", 7.8),
        (sounds.mp3(500, 300), "frame-count", 13.1),
        (sounds.mp3(499, 500, b"Info", size=501 * 417), "cut-off", 13.0),
        (sounds.mp3(200) + bytes(5000) + sounds.mp3(200), "stray-bytes", 5.2),
        (sounds.ac3(50) + sounds.ac3(60)[: 10 * 256 - 1], "cut-off", 1.9),
        (FLAC[:-700], "check-sum", 0.66),
        (sounds.flac(sounds.noise(30_000), stated=60_000), "cut-off", 0.68),
        (sounds.joined(OGG)[:-30], "cut-off", 19.0),
        (sounds.joined(OGG[:-1]), "cut-off", 19.0),
        (sounds.joined(OGG[:10] + OGG[12:]), "gap", 8.0),
        (WAV[:-4000], "cut-off", 0.75),
        (sounds.aiff(sounds.noise(8000))[:8000], "sound", None),
    ],
    ids=["mp3", "xing", "more", "bytes", "hole", "ac3", "flac", "stated", "ogg", "ending", "pages", "wav", "aiff"],
)
def test_what_is_cut_off_or_has_a_hole_is_placed(tmp_path: Path, data: bytes, code: str, second: float | None) -> None:
    account, _ = look(tmp_path, data)
    assert code in codes(account), account
    problem = next(problem for problem in account.problems if problem.code == code)
    if second is not None and problem.at is not None:
        assert problem.at == pytest.approx(second, abs=0.15)
    assert problem.at is not None or at_second(second or 0.0) in problem.message or problem.grave


@pytest.mark.parametrize(
    ("data", "at"),
    [(sounds.ac3(100), 5000), (FLAC, 40_000 + 70_000), (sounds.joined(sounds.ogg_pages(20)), 50_000)],
    ids=["ac3", "flac", "ogg"],
)
@pytest.mark.parametrize("width", [1, 3000])
def test_a_flipped_bit_and_a_hole_of_zeros_are_found_where_there_are_check_sums(
    tmp_path: Path, data: bytes, at: int, width: int
) -> None:
    damaged = bytearray(data)
    damaged[at : at + width] = bytes([damaged[at] ^ 4]) if width == 1 else bytes(width)
    account, _ = look(tmp_path, bytes(damaged))
    assert account.verdict in ("flawed", "broken")
    places = [problem.offset for problem in account.problems if problem.offset is not None]
    assert min(abs(at - place) for place in places) < 6000


def test_a_transport_stream_is_read_to_its_end(tmp_path: Path) -> None:
    whole = b"".join(demo_segment(number) for number in range(3))
    account, checked = look(tmp_path, whole)
    assert (account.verdict, account.problems) == ("unproven", []) and checked.length == pytest.approx(12, abs=0.1)
    guarded = b"".join(whole[at : at + 188] + bytes(16) for at in range(0, len(whole), 188))
    assert look(tmp_path, guarded)[0].verdict == "unproven"
    others = [bytes([0x47, 1, 0x77, 0x10 | number % 16]) + bytes(184) for number in range(100)]
    account, _ = look(tmp_path, whole[: 188 * 300] + b"".join(others) + whole[188 * 300 :])
    assert account.verdict == "unproven" and any("100 packets of 1 other" in check.detail for check in account.checks)
    account, _ = look(tmp_path, whole[: 188 * 300] + b"".join(others[:50] + others[53:]) + whole[188 * 300 :])
    assert account.verdict == "flawed" and "3 transport packets" in account.reason
    lost = whole[: 188 * 300] + whole[188 * 320 :]
    account, _ = look(tmp_path, lost)
    assert account.verdict == "flawed" and "packets-lost" in codes(account)
    account, _ = look(tmp_path, whole[: len(whole) // 188 * 94 * 2 - 50])
    assert "cut-off" in codes(account) or "stray-bytes" in codes(account)
    gone = demo_segment(0) + demo_segment(2)
    account, _ = look(tmp_path, gone)
    gap = next(problem for problem in account.problems if problem.code == "gap")
    assert gap.at == pytest.approx(4.0, abs=0.2)


SRT = "1\r\n00:00:01,000 --> 00:00:02,500\r\nThe tide\r\n\r\n2\r\n00:00:03,000 --> 00:00:04,000\r\nturns.\r\n"


@pytest.mark.parametrize(
    ("data", "verdict"),
    [
        (b"WEBVTT\n\n00:01.000 --> 00:02.000\nThe tide\n", "unproven"),
        (b"WEBVTT\n\nNOTES\n00:01.000 --> 00:02.000\nThe tide\n\nNOTE a comment\n", "unproven"),
        (b"WEBVTT\n\n00:01.000 --> 00:02.000\nThe tide\n\n00:03.00", "flawed"),
        (b"WEBVTT\n\n00:01.000 --> 00:02.000\nThe tide\n\n00:03.000 --> 00:02.000\nturns\n", "flawed"),
        (b"WEBVTT\n\n00:01.000 --> 00:02.000\nThe tide\n\n00:61.000 --> 00:x2.000\nturns\n", "flawed"),
        (b"WEBVTT\n\n", "flawed"),
        (SRT.encode(), "unproven"),
        (b"\xef\xbb\xbf" + SRT.encode(), "unproven"),
        (SRT.encode() + b"\r\n3\r\n", "flawed"),
        (SRT.replace("00:00:03,000", "00:00:0x,000").encode(), "flawed"),
        (SRT.replace("04,000", "01,000").encode(), "flawed"),
        (SRT.encode() + bytes(50), "flawed"),
        (b'<tt xmlns="http://www.w3.org/ns/ttml"><body><div><p begin="1s" end="2s">a</p></div></body></tt>', "sound"),
        (b'<tt xmlns="http://www.w3.org/ns/ttml"><body><div><p begin="1s"', "broken"),
    ],
)
def test_subtitles_are_read(tmp_path: Path, data: bytes, verdict: str) -> None:
    assert look(tmp_path, data)[0].verdict == verdict


def picture(form: str) -> bytes:
    out = BytesIO()
    Image.fromarray(np.random.default_rng(1).integers(0, 255, (60, 80, 3), np.uint8)).save(out, form)
    return out.getvalue()


@pytest.mark.parametrize("form", ["PNG", "JPEG", "GIF", "WEBP", "TIFF", "AVIF"])
def test_pictures_decode_to_their_end_or_not(tmp_path: Path, form: str) -> None:
    data = picture(form)
    assert look(tmp_path, data)[0].verdict == "sound" and sniff(data) == form.lower()
    assert look(tmp_path, data[: len(data) * 2 // 3])[0].verdict == "broken"


def test_drawings_are_read(tmp_path: Path) -> None:
    svg = b'<?xml version="1.0"?>\n<!-- a buoy --><svg xmlns="http://www.w3.org/2000/svg"><g><path d="M0 0"/></g></svg>'
    assert look(tmp_path, svg)[0].verdict == "sound" and look(tmp_path, svg[:-9])[0].verdict == "broken"


def test_documents_have_their_pages(tmp_path: Path) -> None:
    writer, out = PdfWriter(), BytesIO()
    for _ in range(3):
        writer.add_blank_page(200, 300)
    writer.write(out)
    account, _ = look(tmp_path, out.getvalue())
    assert account.verdict == "sound" and {"pages": 3} in [check.measured for check in account.checks]
    assert look(tmp_path, out.getvalue()[:-60])[0].verdict == "broken"
    torn = out.getvalue().replace(b"/Kids [", b"/Kids ]", 1)
    assert look(tmp_path, torn)[0].verdict in ("flawed", "broken")


def iso(blocks: int, there: int) -> bytes:
    descriptor = bytearray(2048)
    descriptor[:6] = b"\1CD001"
    descriptor[80:84], descriptor[128:130] = struct.pack("<I", blocks), struct.pack("<H", 2048)
    return bytes(16 * 2048) + bytes(descriptor) + b"\xffCD001" + bytes(2042) + bytes((there - 18) * 2048)


def test_disk_images_and_installers_fit_what_they_state_or_are_cut_off(tmp_path: Path) -> None:
    assert look(tmp_path, iso(40, 40))[0].verdict == "unproven" and look(tmp_path, iso(40, 30))[0].verdict == "broken"
    program = bytearray(
        b"MZ" + bytes(58) + struct.pack("<I", 64) + b"PE\0\0" + bytes(2) + struct.pack("<H", 1) + bytes(400)
    )
    program[64 + 24 + 16 : 64 + 24 + 24] = struct.pack("<II", 300, 150)
    assert look(tmp_path, bytes(program))[0].verdict == "unproven"
    assert look(tmp_path, bytes(program[:400]))[0].verdict == "broken"
    member = b"debian-binary".ljust(48) + b"4".ljust(10) + b"`\n" + b"2.0\n"
    package = b"!<arch>\n" + member + b"data.tar".ljust(48) + b"100".ljust(10) + b"`\n" + bytes(100)
    assert look(tmp_path, package)[0].verdict == "unproven" and look(tmp_path, package[:-9])[0].verdict == "broken"
    assert look(tmp_path, b"MSCF\0\0\0\0" + struct.pack("<I", 99) + bytes(20))[0].verdict == "broken"


FILES = [MP3, FLAC[:100_000], sounds.joined(OGG), WAV, sounds.aiff(sounds.noise(500)), demo_segment(0), SRT.encode()]
FILES += [picture("TIFF"), iso(40, 40), sounds.ac3(20)]


@given(
    st.sampled_from(FILES),
    st.lists(st.tuples(st.floats(0, 1), st.binary(min_size=1, max_size=12)), max_size=6),
    st.floats(0.02, 1),
)
def test_anything_damaged_ends_in_a_verdict(
    tmp_path_factory: pytest.TempPathFactory, data: bytes, changes: list[tuple[float, bytes]], share: float
) -> None:
    damaged = bytearray(data)
    for place, change in changes:
        at = int(place * len(damaged))
        damaged[at : at + len(change)] = change
    folder = tmp_path_factory.mktemp("damaged")
    account, _ = look(folder, bytes(damaged[: max(1, int(share * len(damaged)))]))
    assert account.verdict in ("sound", "unproven", "flawed", "broken") and (account.checks or account.problems)


@pytest.mark.parametrize("options", [{}, {"optimize": True}, {"progressive": True}, {"restart_marker_blocks": 4}])
def test_a_jpeg_has_an_end_and_no_hole(tmp_path: Path, options: dict[str, Any]) -> None:
    out = BytesIO()
    Image.effect_noise((200, 150), 60).convert("RGB").save(out, "JPEG", **options)
    whole, half = out.getvalue(), len(out.getvalue()) // 2
    assert look(tmp_path, whole)[0].verdict == "sound" and look(tmp_path, whole + bytes(9))[0].verdict == "sound"
    for damaged in (whole[:-2], whole[:half], whole + b"more"):
        assert look(tmp_path, damaged)[0].verdict in ("flawed", "broken")
    if "progressive" not in options:  # whose refining scans may mean zeros
        assert look(tmp_path, whole[:half] + bytes(200) + whole[half + 200 :])[0].verdict in ("flawed", "broken")


def test_a_picture_of_one_colour_is_no_hole(tmp_path: Path) -> None:
    for options in ({}, {"optimize": True}, {"progressive": True}):
        out = BytesIO()
        Image.new("RGB", (900, 700), (9, 99, 200)).save(out, "JPEG", **options)
        assert look(tmp_path, out.getvalue())[0].verdict == "sound"


def test_a_gif_has_its_trailer(tmp_path: Path) -> None:
    whole = picture("GIF")
    assert whole[-1] == 0x3B and look(tmp_path, whole)[0].verdict == "sound"
    assert look(tmp_path, whole + bytes(4))[0].verdict == "sound"
    assert look(tmp_path, whole[:-1])[0].verdict == "flawed" and look(tmp_path, whole + b"x")[0].verdict == "flawed"


@pytest.mark.parametrize("name", ["gift-shop.mp4", "fog-bell.m4a", "ferry.webm", "ferry-sound.webm"])
def test_zeros_in_place_of_coded_data_and_bytes_behind_the_end_are_found(tmp_path: Path, name: str) -> None:
    whole = (MEDIA / name).read_bytes()
    assert look(tmp_path, whole)[0].verdict == "sound"
    for size in (900, 4096):
        half = len(whole) // 2
        account, _ = look(tmp_path, whole[:half] + bytes(size) + whole[half + size :])
        assert account.verdict in ("flawed", "broken")
    assert look(tmp_path, whole + b"\x99" * 100_000)[0].verdict in ("flawed", "broken")


def test_fragments_are_as_many_as_their_index_states(tmp_path: Path) -> None:
    verdicts = [look(tmp_path, data)[0].verdict for data in (film(3, stated=12), film(3))]
    assert verdicts == ["sound", "unproven"]
    account, _ = look(tmp_path, film(1, stated=12))
    assert account.verdict == "flawed" and "its fragments last 4.00 s" in account.reason


def test_nothing_decodes_ogg_without_its_headers(tmp_path: Path) -> None:
    """RFC 7845 §5, Vorbis I §4.2.1: packets that stand before all sound, over as many pages as it takes."""
    good = sounds.ogg_pages(3)
    assert look(tmp_path, b"".join(good))[0].verdict == "sound"
    silent = sounds.ogg_page(7, 0, 0, [b"OpusHead\x01\x00" + bytes(9)], 2)  # of no channels
    alone = sounds.ogg_page(7, 0, 0, [b"OpusHead\x01\x02" + bytes(9)], 2)
    for pages in ([silent, *good[1:]], [alone, sounds.ogg_page(7, 1, 0, [b"OpusTaps"]), *good[2:]]):
        account, _ = look(tmp_path, b"".join(pages))
        assert (account.verdict, codes(account)) == ("broken", ["sound"])
    head = b"\1vorbis" + bytes(4) + b"\2" + (44_100).to_bytes(4, "little") + bytes(12) + b"\xb8\1"
    long = [b"\3vorbis" + bytes(40_000), b"\5vorbis" + bytes(30)]  # a comment with a picture, over two pages
    first, rest = b"".join(long)[: 255 * 100], b"".join(long)[255 * 100 :]
    table = bytes([255]) * ((len(long[0]) - len(first)) // 255) + bytes(
        [(len(long[0]) - len(first)) % 255, len(long[1])]
    )
    middle = sounds.ogg_page(7, 1, 0, [first], table=bytes([255]) * 100) + sounds.ogg_page(7, 2, 0, [rest], table=table)
    end = sounds.ogg_page(7, 3, 44_100, [b"\0sound"], 4)
    start = sounds.ogg_page(7, 0, 0, [head], 2)
    assert look(tmp_path, start + middle + end)[0].verdict == "sound"
    assert look(tmp_path, start + sounds.ogg_page(7, 1, 44_100, [long[1]], 4))[0].verdict == "broken"


@pytest.mark.parametrize(
    ("at", "value", "verdict"),
    [
        (22, 5, "flawed"),  # more channels than a frame can hold
        (34, 24, "flawed"),  # more bits than its bytes have
        (24, 44_100, "flawed"),  # a rate of other bytes a second
        (28, 0, "sound"),  # of which nothing is said
        (20, 0x5757, "unproven"),  # sound of a form that nobody knows
    ],
)
def test_a_wav_does_not_contradict_itself(tmp_path: Path, at: int, value: int, verdict: str) -> None:
    whole = sounds.wav(sounds.noise(4000))
    size = 4 if at in (24, 28) else 2
    data = whole[:at] + value.to_bytes(size, "little") + whole[at + size :]
    assert (look(tmp_path, whole)[0].verdict, look(tmp_path, data)[0].verdict) == ("sound", verdict)


def test_files_without_sound_are_none(tmp_path: Path) -> None:
    headers = sounds.ogg_pages(0)
    last = sounds.ogg_page(7, 2, 200, [b"\xf8\xff\xfe"], 4)  # less than what is skipped at the beginning
    nothing = np.zeros(0, np.int16)
    for data, name in (
        (headers[0] + headers[1] + last, "a.opus"),
        (sounds.wav(nothing), "a.wav"),
        (sounds.aiff(nothing), "a.aif"),
        (sounds.mp3(0, stated=0), "a.mp3"),
        (sounds.id3(500), "a.mp3"),
        (sounds.id3(500)[:300], "a.mp3"),
    ):
        account, _ = look(tmp_path, data, name)
        assert account.verdict == "broken" and "empty" in codes(account), name


@pytest.mark.parametrize("name", ["mp4", "m4a", "webm", "mkv", "flv", "avi", "flac", "ogg", "wav", "aif", "mpg", "mp3"])
def test_names_promise_films_and_sound(tmp_path: Path, name: str) -> None:
    text, noise = b"Not found, sorry. " * 20, bytes([200, 3, 7, 0, 150, 9]) * 100
    for data, verdict in ((text, "broken"), (noise, "broken" if name == "mp3" else "flawed")):
        account, _ = look(tmp_path, data, f"film.{name}")
        assert account.verdict == verdict and codes(account) == ["sound" if name == "mp3" else "misnamed"]


def test_a_film_in_ogg_tells_its_pictures(tmp_path: Path) -> None:
    """Theora I §6.2 and §A.2.3: the granule holds the last picture that stands alone, and how many follow it."""
    size = (320).to_bytes(3, "big") + (180).to_bytes(3, "big") + bytes(2)
    head = b"\x80theora" + bytes([3, 2, 1]) + bytes([0, 20, 0, 12]) + size + struct.pack(">II", 25, 2)
    head += (4).to_bytes(3, "big") + (3).to_bytes(3, "big") + bytes(4) + (6 << 5).to_bytes(2, "big")
    pages = sounds.ogg_page(9, 0, 0, [head], 2) + sounds.ogg_page(8, 0, 0, [b"fishead\0" + bytes(56)], 2)
    pages += sounds.ogg_page(8, 1, 0, [b""], 4) + sounds.ogg_page(9, 1, 0, [b"\x81theora", b"\x82theora"])
    pages += sounds.ogg_page(9, 2, 1 << 6 | 29, [b"p"] * 30) + sounds.ogg_page(9, 3, 31 << 6 | 19, [b"p"] * 20, 4)
    account, checked = look(tmp_path, pages)
    (track,) = [TrackFacts.of_format(form, checked.seconds or 0.0) for form in checked.formats]
    assert (account.verdict, checked.seconds, track.codec) == ("sound", 4.0, "theora"), account
    assert (track.width, track.height, track.frame_rate, track.pixel_aspect) == (320, 180, 12.5, (4, 3))


@pytest.mark.parametrize("form", ["PNG", "JPEG", "GIF", "WEBP", "BMP"])
def test_what_stands_behind_a_picture_is_told_unless_it_is_known(tmp_path: Path, form: str) -> None:
    kept = BytesIO()
    Image.radial_gradient("L").convert("RGB").save(kept, form)
    for behind, verdict in ((b"\0", "sound"), (b"\r\n", "sound"), (bytes(70_000), "sound"), (b"\n<p>", "flawed")):
        assert look(tmp_path, kept.getvalue() + behind)[0].verdict == verdict
    note = bytes(range(200)) + b"cbipcbbl"  # as programs that sort pictures leave it
    assert look(tmp_path, kept.getvalue() + note)[0].verdict == ("sound" if form == "JPEG" else "flawed")


def test_a_bmp_is_as_long_as_it_states(tmp_path: Path) -> None:
    kept = BytesIO()
    Image.radial_gradient("L").convert("RGB").save(kept, "BMP")
    whole = kept.getvalue()
    unknown = whole[:2] + bytes(4) + whole[6:]  # nobody knew how long it would be
    verdicts = [look(tmp_path, data)[0].verdict for data in (whole, unknown, whole + b"\1", whole[:-1], unknown[:-100])]
    assert verdicts == ["sound", "sound", "flawed", "broken", "broken"]


@pytest.mark.parametrize("timed", [True, False])
def test_fragments_go_on_behind_the_samples_of_the_index(tmp_path: Path, *, timed: bool) -> None:
    """Its header and edit list tell of the index alone (§8.2.2.3), as recorders write them that fear for the power."""
    account, checked = look(tmp_path, film(2, stated=20, own=3, timed=timed))
    assert account.verdict == "sound" and checked.movie and checked.seconds == 20.0
    assert look(tmp_path, film(2, own=3, timed=timed))[0].verdict == "unproven"
    assert look(tmp_path, film(1, stated=20, own=3, timed=timed))[0].verdict == "flawed"


def test_a_wav_of_the_other_byte_order_is_read(tmp_path: Path) -> None:
    sound = b"WAVE" + b"fmt " + struct.pack(">IHHIIHH", 16, 1, 2, 44_100, 176_400, 4, 16)
    sound += b"data" + struct.pack(">I", 44_100) + bytes(44_100)
    whole = b"RIFX" + struct.pack(">I", len(sound)) + sound
    account, checked = look(tmp_path, whole)
    assert (account.verdict, checked.form, checked.seconds) == ("sound", "wav", 0.25)
    assert look(tmp_path, whole[:-100])[0].verdict == "flawed"


@pytest.mark.parametrize(
    ("head", "form"),
    [
        (b"wvpk\x10\0\0\0", "wavpack"),
        (b"MAC \x96\x0f\0\0", "ape"),
        (b"MAC OS is a system", "text"),
        (b"MThd\0\0\0\6\0\1\0\2", "midi"),
        (b"DSD \x1c\0\0\0\0\0\0\0", "dsf"),
        (b"FORM\0\0\1\0AIFC", "aiff"),
        (b"FORM\0\0\1\0ILBM", "unknown"),
        (bytes.fromhex("060e2b34020501010d01020101020400"), "mxf"),
        (b"\x1f\x07\0\xbf\xf8\x78", "dv"),
        (b"BM\x36\x30\0\0\0\0\0\0\x36\0\0\0\x28\0\0\0\x20\0\0\0", "bmp"),
        (b"BMX is a sport, as everybody knows", "text"),
        (b"\0\0\0\x0cjP  \r\n\x87\n\0\0\0\x14ftypjp2 ", "jp2"),
        (b"\xff\x0a\xba\x21\xe8\x1f", "jxl"),
    ],
)
def test_what_is_only_named_is_named(head: bytes, form: str) -> None:
    assert sniff(head) == form


@pytest.mark.parametrize("based", [None, 0, 8, -40, 1000])
def test_samples_are_counted_from_the_base_that_is_stated(tmp_path: Path, based: int | None) -> None:
    data = film(3, stated=12, based=based)
    account, checked = look(tmp_path, data)
    assert account.verdict == "sound" and checked.movie
    (track,) = checked.movie.tracks
    assert [data[at : at + 9] for at in track.offsets.tolist()] == [PICTURE] * 3


def test_a_film_that_is_protected_from_its_middle_on_is_refused(tmp_path: Path) -> None:
    clear = entry_of_avc()
    account, _ = look(tmp_path, film(3, stated=12, entries=(clear, clear)))
    assert account.verdict == "sound"
    (tmp_path / "file").write_bytes(film(3, stated=12, entries=(clear, clear.replace(b"avc1", b"encv", 1))))
    with pytest.raises(Refused, match="protected"):
        check_file(tmp_path / "file", None, Account())


def test_grey_of_sixteen_bits_stays_grey_in_a_pdf(tmp_path: Path) -> None:
    grey = np.linspace(0, 65_535, 20_000).reshape(100, 200).astype(np.uint16)
    Image.fromarray(grey).save(tmp_path / "grey.tif")
    with Image.open(tmp_path / "grey.tif") as image:
        scaled = np.asarray(eight_bits(image))
    assert (scaled.min(), scaled.max()) == (0, 255) and abs(float(scaled.mean()) - 127.5) < 1
    bind([tmp_path / "grey.tif"], tmp_path / "grey.pdf", "Grey")
    (page,) = PdfReader(tmp_path / "grey.pdf").pages
    assert abs(float(np.asarray(page.images[0].image).mean()) - 127.5) < 1
