"""What was appended to a player: pieces wherever it was cut, and what of them a viewer has seen."""

from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mudlark.browser.tap import TappedBuffer, TappedSource, formats_of, readable_in
from mudlark.demo.fed import parts
from mudlark.demo.streamed import MEDIA
from mudlark.errors import FormatError, Refused
from mudlark.manifest.appended import Presented, Setting, codecs_in, holes, is_only_sound, presented
from mudlark.media.appended import Extent, Piece, extent, pieces, refuse_protected
from mudlark.media.samples import Bytes

FILM = b"".join(parts())
FERRY = (MEDIA / "ferry.webm").read_bytes()
MP3 = (MEDIA / "fog-signals.mp3").read_bytes()


def taken(data: bytes) -> Bytes:
    return np.frombuffer(data, np.uint8)


@given(st.lists(st.integers(1, len(FILM) - 1), max_size=12))
@settings(max_examples=30)
def test_fragments_are_found_wherever_appends_are_cut(cuts: list[int]) -> None:
    places = sorted({0, *cuts})
    found = list(pieces(taken(FILM), places))
    assert [piece.end - piece.begin for piece in found] == [len(part) for part in parts()[1:]]
    assert {piece.section for piece in found} == {(0, len(parts()[0]))}
    for piece in found:
        assert places[piece.first] <= piece.begin and all(place >= piece.end for place in places[piece.last + 1 :])


def test_what_is_unfinished_is_no_piece_and_a_reset_forgets_it() -> None:
    section, first, second = parts()[:3]
    torn = section + first + second[:500]
    assert len(list(pieces(taken(torn), [0]))) == 1
    data = torn + second
    assert len(list(pieces(taken(data), [0, len(torn)], [1]))) == 2
    assert [seen.begin for piece in pieces(taken(data), [0, len(torn)], [1]) if (seen := extent(taken(data), piece))]


def test_clusters_and_packed_sound_have_pieces() -> None:
    found = list(pieces(taken(FERRY), range(0, len(FERRY), 9_000)))
    assert len(found) > 1 and found[-1].end <= len(FERRY) and {piece.form for piece in found} == {"matroska"}
    lengths = [seen.end - seen.begin for piece in found if (seen := extent(taken(FERRY), piece))]
    assert sum(lengths) == pytest.approx(24.0, abs=0.1)
    (whole,) = pieces(taken(MP3), range(0, len(MP3), 50_000))  # cut in the middle of frames
    assert (whole.begin, whole.end, whole.form) == (0, len(MP3), "mp3")


@pytest.mark.parametrize("data", [b"<html>no", bytes(5_000), b"A" * 5_000, b"%PDF-1.7 " * 50])
def test_what_is_no_media_is_said(data: bytes) -> None:
    with pytest.raises(FormatError, match="What was appended is"):
        list(pieces(taken(data), [0]))


def test_protected_sections_are_refused() -> None:
    section = parts()[0].replace(b"avc1", b"encv")
    with pytest.raises(Refused):
        refuse_protected(section)
    with pytest.raises(Refused):
        list(pieces(taken(section + parts()[1]), [0]))
    refuse_protected(parts()[0])
    refuse_protected(b"nothing at all")


PICTURES = Piece(0, 1, None, 0, 0, "mp4")


def shown(*spans: tuple[float, float], step: float = 1.0) -> list[tuple[float, float]]:
    """What is seen of pictures that are appended one after the other, and can be begun with at every step."""
    found = []
    for begin, end in spans:
        random = tuple(np.arange(begin, end, step))
        found.append((PICTURES, Extent(begin, end, random), Setting()))
    return [(one.begin, one.end) for one in presented(found)]


def test_the_later_append_has_a_second_that_came_twice() -> None:
    assert shown((0, 4), (4, 8)) == [(0, 4), (4, 8)]
    assert shown((0, 4), (0, 4)) == [(0, 4)]
    assert shown((0, 8), (4, 8)) == [(0, 4), (4, 8)]
    assert shown((0, 8), (2, 4)) == [(0, 2), (2, 4), (4, 8)]
    assert shown((0, 8), (2.5, 4.5)) == [(0, 2.5), (2.5, 4.5), (5, 8)]  # its pictures need those before them
    assert shown((4, 8), (0, 4.02)) == [(0, 4.02), (4, 8)]  # a frame that reaches over the edge is no repetition
    assert shown((0, 4), (8, 12), (4, 8)) == [(0, 4), (4, 8), (8, 12)]


def test_offsets_and_windows_hold_for_the_append_that_came_with_them() -> None:
    pictures = Extent(10.0, 14.0, (10.0, 12.0))
    (one,) = presented([(PICTURES, pictures, Setting(offset=-10.0))])
    assert (one.begin, one.end, one.shift, one.whole) == (0.0, 4.0, -10.0, True)
    (one,) = presented([(PICTURES, pictures, Setting(-10.0, (1.0, 3.0)))])
    assert (one.begin, one.end, one.whole) == (2.0, 3.0, False)
    assert presented([(PICTURES, pictures, Setting(-10.0, (4.0, None)))]) == []
    sound = Piece(0, 1, None, 0, 0, "mp3")  # whose time the browser counts on
    placed = presented([(sound, Extent(0.0, 2.0, None), Setting()), (sound, Extent(0.0, 2.0, None), Setting())])
    assert [(one.begin, one.end) for one in placed] == [(0.0, 2.0), (2.0, 4.0)]


@given(st.lists(st.tuples(st.integers(0, 40), st.integers(1, 12)), min_size=1, max_size=12))
def test_nothing_is_presented_twice_and_nothing_of_the_last_append_is_lost(spans: list[tuple[int, int]]) -> None:
    seen = shown(*((float(begin), float(begin + length)) for begin, length in spans))
    assert all(first[1] <= second[0] for first, second in pairwise(seen))
    begin, length = spans[-1]
    assert (float(begin), float(begin + length)) in seen
    covered = {second for first, last in seen for second in range(int(first), int(last))}
    assert covered == {second for first, count in spans for second in range(first, first + count)}


def test_holes_are_where_nothing_is_presented() -> None:
    def at(begin: float, end: float) -> Presented:
        return Presented(PICTURES, Extent(begin, end, None), begin, end, 0.0)

    assert holes([at(0, 4), at(4.05, 8)], 8.0, 0.15) == []
    assert holes([at(1, 4), at(6, 8)], 10.0, 0.15) == [(0.0, 1), (4, 6), (8, 10.0)]
    assert holes([at(0, 4)], None, 0.15) == []


def test_types_name_codecs() -> None:
    assert codecs_in('video/mp4; codecs="avc1.64001f, mp4a.40.2"') == ("avc1.64001f", "mp4a.40.2")
    assert codecs_in("audio/mpeg") == () and is_only_sound("audio/mpeg")
    assert is_only_sound('video/mp4; codecs="mp4a.40.2"') and not is_only_sound('video/webm; codecs="vp9"')


def test_a_buffer_to_which_nothing_was_appended_tells_nothing(tmp_path: Path) -> None:
    source = TappedSource("1", "http://museum.example/")
    source.buffers.append(TappedBuffer(1, source, "audio/mp4", tmp_path / "appended-1"))
    fetched = [("/a", parts()[0] + parts()[1]), ("/b", b"nothing")]
    assert readable_in(fetched, source.buffers) == ["/a"] and formats_of(source) == []
