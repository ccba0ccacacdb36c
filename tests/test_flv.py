"""FLV: tags written by hand around the samples of a film, live ones that break off, and damage."""

import time
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.demo.streamed import MEDIA
from mudlark.errors import FormatError
from mudlark.media.flv import read_flv
from mudlark.media.index import movie_in
from mudlark.verify.account import Account
from mudlark.verify.media import check_file
from tests.bytes.flv import HEADER, SOUND, VIDEO, film, tag, tags_of
from tests.conftest import QuietHandler, Ran, serving

Run = Callable[..., Ran]
SOURCE = MEDIA / "gift-shop.mp4"
TAGS = tags_of(SOURCE)
LENGTH = TAGS[-1][0] / 1000


def judged(folder: Path, data: bytes, *, endless: bool = False) -> Account:
    (folder / "film.flv").write_bytes(data)
    account = Account()
    checked = check_file(folder / "film.flv", None, account, endless=endless)
    assert checked.form == "flv"
    return account


@pytest.mark.parametrize("enhanced", [False, True])
def test_samples_are_those_of_the_film(tmp_path: Path, enhanced: bool) -> None:
    (tmp_path / "film.flv").write_bytes(film(tags_of(SOURCE, enhanced=enhanced)))
    seen, made = movie_in(tmp_path / "film.flv"), movie_in(SOURCE)
    for track, other in zip(seen.tracks, made.tracks, strict=True):
        assert track.sizes.tolist() == other.sizes.tolist() and track.sync.tolist() == other.sync.tolist()
        assert track.format.config == other.format.config and track.format.codec == other.format.codec
        apart = (track.pts - track.pts.min()) / 1000 - (other.pts - other.pts.min()) / other.format.timescale
        assert abs(apart).max() < 0.002
    picture, sound = seen.tracks
    assert (picture.format.width, picture.format.height) == (made.tracks[0].format.width, made.tracks[0].format.height)
    assert (sound.format.sample_rate, sound.format.channels) == (48_000, made.tracks[1].format.channels)


def test_one_that_states_its_length_is_sound_and_one_that_does_not_is_unproven(tmp_path: Path) -> None:
    stated = film(TAGS, duration=LENGTH)
    assert (judged(tmp_path, stated).verdict, judged(tmp_path, stated).problems) == ("sound", [])
    account = judged(tmp_path, film(TAGS))
    assert (account.verdict, account.problems) == ("unproven", []) and "where it ends" in account.reason
    assert judged(tmp_path, film(TAGS, filesize=len(film(TAGS, filesize=1)))).verdict == "sound"


@pytest.mark.parametrize(
    ("data", "code"),
    [
        (film(TAGS, duration=LENGTH)[:-100], "cut-off"),
        (film(TAGS[: len(TAGS) // 2], duration=LENGTH), "duration"),
        (film(TAGS, filesize=1_000_000), "cut-off"),
        (film([*TAGS[:50], (0, bytes(3000)), *TAGS[50:]], duration=LENGTH), "boxes"),
        (film(TAGS[:20] + TAGS[60:], duration=LENGTH), "gap"),
    ],
    ids=["cut", "half", "size", "hole", "gap"],
)
def test_damage_is_said(tmp_path: Path, data: bytes, code: str) -> None:
    account = judged(tmp_path, data)
    assert account.verdict in ("flawed", "broken") and code in {problem.code for problem in account.problems}, account


def test_zeros_in_place_of_coded_data_are_damage(tmp_path: Path) -> None:
    data = bytearray(film(TAGS, duration=LENGTH))
    place = max(range(len(TAGS)), key=lambda number: len(TAGS[number][1]))
    begin = data.index(TAGS[place][1]) + 200
    data[begin : begin + 1500] = bytes(1500)
    assert judged(tmp_path, bytes(data)).problems


def test_a_recording_that_broke_off_is_read_on_from_where_it_begins_anew(tmp_path: Path) -> None:
    torn = film(TAGS[:150])[:-40] + film(TAGS[:200])
    assert judged(tmp_path, torn).verdict == "broken"
    account = judged(tmp_path, torn, endless=True)
    assert (account.verdict, account.problems) == ("unproven", []), account.problems
    with (tmp_path / "film.flv").open("rb") as file:
        movie = read_flv(lambda at, count: (file.seek(at), file.read(count))[1], len(torn), torn=True)
    assert sum(len(track.sizes) for track in movie.tracks) == 150 + 200 - 4 - 1  # configurations, and the torn one


def test_what_is_damaged_in_the_middle_of_a_recording_is_no_break(tmp_path: Path) -> None:
    data = film(TAGS)
    at = data.index(TAGS[100][1])
    assert judged(tmp_path, data[:at] + bytes(20) + data[at + 20 :], endless=True).verdict == "broken"
    assert judged(tmp_path, data[: at + 40], endless=True).problems == []  # where a recording ends


def test_a_live_stream_begins_at_any_time(tmp_path: Path) -> None:
    hours = 3 * 3_600_000
    later = [
        (time, one[:4] + (hours + time).to_bytes(4, "big")[1:] + bytes([(hours + time) >> 24]) + one[8:])
        for time, one in TAGS
    ]
    (tmp_path / "film.flv").write_bytes(film([*TAGS[:2], *later[2:]]))
    for begin, end in (track.presented() for track in movie_in(tmp_path / "film.flv").tracks):
        assert 0 <= begin < 0.2 and LENGTH - 0.2 < end < LENGTH + 0.2


def test_codecs_that_are_not_read_are_said_with_their_number(tmp_path: Path) -> None:
    body = [(n * 40, tag(VIDEO, n * 40, b"\x14" + bytes(range(1, 200)))) for n in range(50)]
    body += [(n * 20, tag(SOUND, n * 20, b"\xb2" + bytes(range(1, 40)))) for n in range(100)]
    account = judged(tmp_path, film(body, duration=2.0))
    said = " ".join(check.detail for check in account.checks)
    assert account.verdict == "unproven" and "50 pictures of 'VP6'" in said and "100 frames of sound of 'Speex'" in said


def test_other_codecs_of_the_enhanced_form(tmp_path: Path) -> None:
    frame = b"vp09" + b"\x82\x49\x83\x42" + bytes(range(1, 90))
    vp9 = [(n * 40, tag(VIDEO, n * 40, (b"\xa1" if n else b"\x91") + frame)) for n in range(5)]
    mp3 = [(n * 26, tag(SOUND, n * 26, b"\x2f\xff\xfb\x90\x64" + bytes([1]) * 413)) for n in range(8)]
    begin = (0, tag(VIDEO, 0, b"\x90vp09\1\0\0\0\0\x0a\x82\2\2\2\0\0"))
    (tmp_path / "film.flv").write_bytes(film([begin, *vp9, *mp3]))
    picture, sound = movie_in(tmp_path / "film.flv").tracks
    assert picture.format.codec.startswith("vp09") and len(picture.sizes) == 5
    assert (sound.format.codec, sound.format.sample_rate, sound.format.channels) == ("mp4a.6B", 44_100, 2)


@given(st.binary(max_size=400))
def test_whatever_stands_behind_the_header_is_read_or_our_own_error(body: bytes) -> None:
    data = HEADER + body
    for torn in (False, True):
        try:
            read_flv(lambda at, count: data[at : at + count], len(data), torn=torn)
        except FormatError:
            assert not torn or body


@given(st.integers(0, 40_000), st.integers(0, 255))
def test_a_changed_byte_ends_in_nothing_but_our_own_errors(at: int, value: int) -> None:
    data = bytearray(film(TAGS))
    data[at] = value
    try:
        read_flv(lambda at, count: bytes(data[at : at + count]), len(data))
    except FormatError as problem:
        assert str(problem)


@pytest.mark.program
@pytest.mark.parametrize("chunked", [False, True])
def test_a_live_one_is_recorded_for_as_long_as_is_wanted(mudlark: Run, tmp_path: Path, chunked: bool) -> None:
    class Handler(QuietHandler):
        protocol_version = "HTTP/1.1" if chunked else "HTTP/1.0"

        def do_GET(self) -> None:
            self.send_response(200)
            self.send_header("Content-Type", "video/x-flv")
            if chunked:
                self.send_header("Transfer-Encoding", "chunked")
            self.end_headers()
            parts = [HEADER, *(one for _, one in TAGS)]
            for first in range(0, len(parts), 10):
                part = b"".join(parts[first : first + 10])
                self.wfile.write(b"%x\r\n%s\r\n" % (len(part), part) if chunked else part)
                self.wfile.flush()
                time.sleep(0.2)

    with serving(Handler) as server:
        address = f"{server}/live/quay.flv"
        ran = mudlark("haul", address, "--into", "kept", "--json", "--for", "2s")
    (item,) = ran.json["items"]
    assert (item["verdict"], item["problems"]) == ("sound", []), ran.err
    path = tmp_path / item["folder"] / item["files"][0]["path"]
    assert path.suffix == ".flv" and film(TAGS).startswith(path.read_bytes()[:1000])
    assert {track["codec"].partition(".")[0] for track in item["tracks"]} == {"avc1", "mp4a"}
