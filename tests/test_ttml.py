"""TTML, IMSC1 and subtitles in MP4 as WebVTT (TTML2 §8, §10; ISO/IEC 14496-30)."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.demo.dashed import content
from mudlark.errors import FormatError, MudlarkError
from mudlark.media.mp4.boxes import box, full_box
from mudlark.media.mp4.text import TextReader
from mudlark.media.sniff import sniff
from mudlark.media.ttml import parse_ttml
from mudlark.media.webvtt import Cue, joined

SPACES = 'xmlns="http://www.w3.org/ns/ttml" xmlns:tts="http://www.w3.org/ns/ttml#styling"'
PARAMETERS = 'xmlns:ttp="http://www.w3.org/ns/ttml#parameter"'


def cues(body: str, head: str = "", attributes: str = "") -> list[Cue]:
    text = f"<tt {SPACES} {PARAMETERS} {attributes}><head>{head}</head><body>{body}</body></tt>"
    return list(parse_ttml(text.encode()).cues)


@pytest.mark.parametrize(
    ("begin", "seconds"),
    [
        ("00:00:01.500", 1.5),
        ("01:00:00", 3600.0),
        ("00:00:01:12", 1.48),
        ("90s", 90.0),
        ("1.5m", 90.0),
        ("250ms", 0.25),
        ("50f", 2.0),
        ("10000000t", 1.0),
    ],
)
def test_times_in_every_form(begin: str, seconds: float) -> None:
    attributes = 'ttp:frameRate="25" ttp:tickRate="10000000"'
    (cue,) = cues(f'<div><p begin="{begin}" end="99:00:00">A</p></div>', attributes=attributes)
    assert cue.begin == pytest.approx(seconds)


def test_times_count_from_what_is_around() -> None:
    (cue,) = cues('<div begin="10s" end="14s"><p begin="1s" dur="9s">A</p></div>')
    assert (cue.begin, cue.end) == (11.0, 14.0)
    first, second = cues('<div timeContainer="seq"><p dur="2s">A</p><p dur="3s">B</p></div>')
    assert (first.begin, first.end, second.begin, second.end) == (0.0, 2.0, 2.0, 5.0)
    one, two = cues(
        '<div><p begin="5s" end="9s"><span begin="0s" end="1s">A</span><span begin="1s" end="2s">B</span></p></div>'
    )
    assert (one.begin, one.text, two.begin, two.text) == (5.0, "A", 6.0, "B")


def test_words_keep_breaks_styles_and_escapes() -> None:
    head = (
        '<styling><style xml:id="s" tts:fontStyle="italic"/><style xml:id="t" style="s" tts:color="yellow"/></styling>'
    )
    (cue,) = cues('<div><p begin="0s" end="1s">  A &lt; B\n  and<br/><span style="t">C</span> &amp; D</p></div>', head)
    assert cue.text == "A &lt; B and\n<c.yellow><i>C</i></c> &amp; D"


def test_regions_become_places() -> None:
    head = (
        '<layout><region xml:id="r" tts:origin="10% 20%" tts:extent="50% 10%" tts:textAlign="left"/>'
        '<region xml:id="q"><style tts:origin="0% 80%" tts:extent="100% 10%" tts:displayAlign="after"/></region>'
        "</layout>"
    )
    upper, lower = cues(
        '<div><p region="r" begin="0s" end="1s">A</p><p region="q" begin="0s" end="1s">B</p></div>', head
    )
    assert upper.settings == "line:20% position:35% size:50% align:left" and lower.settings == "line:90%,end"


def test_pictures_and_empty_paragraphs_are_no_cues() -> None:
    space = 'xmlns:smpte="http://www.smpte-ra.org/schemas/2052-1/2010/smpte-tt"'
    image = f'<div {space} smpte:backgroundImage="#a" begin="0s"/>'
    text = f'<tt {SPACES}><body>{image}<div><p begin="0s" end="1s"> </p></div></body></tt>'
    read = parse_ttml(text.encode())
    assert (read.cues, read.pictures) == ((), 1)


@pytest.mark.parametrize("text", ["", "<tt", "<html/>", "\0\1"])
def test_what_is_no_ttml_is_said(text: str) -> None:
    with pytest.raises(FormatError):
        parse_ttml(text.encode())
    assert sniff(b'<?xml version="1.0"?><tt:tt xmlns:tt="http://www.w3.org/ns/ttml">') == "ttml"


@given(st.text(max_size=200), st.text("0123456789:.fthms%- ", max_size=12))
def test_whatever_it_says_the_errors_are_ours(words: str, time: str) -> None:
    try:
        cues(f'<div><p begin="{time}" end="{time}">{words}</p></div>')
    except MudlarkError as problem:
        assert problem.what


def test_documents_in_mp4_are_on_the_track_s_clock() -> None:
    reader = TextReader()
    reader.begin(content("described", "words-init.mp4"))
    assert [(cue.begin, cue.text) for cue in reader.feed(content("described", "words-2.m4s") or b"")] == [
        (9.0, "<i>Grain goes in.</i>")
    ]


def _wvtt() -> tuple[bytes, bytes]:
    """Two seconds of one cue in two samples, an empty one, and another."""
    section = (content("described", "words-init.mp4") or b"").replace(b"subt", b"text")
    entry = box("stpp", bytes(6), b"\0\1", b"http://www.w3.org/ns/ttml\0\0\0")
    other = box("wvtt", bytes(6), b"\0\1", box("vttC", b"WEBVTT"), box("free", bytes(len(entry) - 16 - 14 - 8)))
    assert len(other) == len(entry) and entry in section
    cue = box("vttc", box("sttg", b"line:0"), box("payl", b"One"))
    bodies = [cue, cue, box("vtte"), box("vttc", box("payl", b"Two"))]
    rows = b"".join((1000).to_bytes(4, "big") + len(body).to_bytes(4, "big") for body in bodies)

    def moof(place: int) -> bytes:
        run = full_box("trun", 0, 0x301, (4).to_bytes(4, "big"), place.to_bytes(4, "big"), rows)
        traf = box("traf", full_box("tfhd", 0, 0x20000, b"\0\0\0\1"), full_box("tfdt", 1, 0, bytes(8)), run)
        return box("moof", full_box("mfhd", 0, 0, b"\0\0\0\1"), traf)

    return section.replace(entry, other), moof(len(moof(0)) + 8) + box("mdat", *bodies)


def test_cues_in_mp4_go_on_over_samples() -> None:
    section, segment = _wvtt()
    reader = TextReader()
    reader.begin(section)
    read = reader.feed(segment)
    assert [(cue.begin, cue.end, cue.text, cue.settings) for cue in read] == [
        (0.0, 2.0, "One", "line:0"),
        (3.0, 4.0, "Two", ""),
    ]


def test_a_cue_that_is_told_twice_is_one() -> None:
    assert joined([Cue(1, 2, "A"), Cue(2, 3, "A"), Cue(3.5, 4, "A"), Cue(1, 2, "B")]) == [
        Cue(1, 2, "B"),
        Cue(1, 3, "A"),
        Cue(3.5, 4, "A"),
    ]


def test_text_beside_a_timed_span_is_shown_as_long_as_its_paragraph() -> None:
    listed = cues('<div><p begin="0s" end="6s">The tide <span begin="2s" end="4s">turns</span> now</p></div>')
    assert [(cue.begin, cue.end, cue.text) for cue in listed] == [
        (0.0, 2.0, "The tide now"),
        (2.0, 4.0, "The tide turns now"),
        (4.0, 6.0, "The tide now"),
    ]


def test_timed_spans_inside_of_timed_spans_count_from_these() -> None:
    inner = '<span begin="1s" end="2s">B</span>'
    listed = cues(f'<div><p begin="10s" end="20s"><span begin="2s" end="6s">A{inner}</span></p></div>')
    assert [(cue.begin, cue.end, cue.text) for cue in listed] == [
        (12.0, 13.0, "A"),
        (13.0, 14.0, "AB"),
        (14.0, 16.0, "A"),
    ]


def test_a_paragraph_without_an_end_lasts_as_long_as_the_document() -> None:
    first, second = cues('<div><p begin="1s">A</p><p begin="5s" end="9s">B</p></div>')
    assert (first.begin, first.end, second.end) == (1.0, 9.0, 9.0)
    (alone,) = parse_ttml(f"<tt {SPACES}><body><div><p begin='1s'>A</p></div></body></tt>".encode(), 30.0).cues
    assert alone.end == 30.0


def test_styles_are_inherited_from_what_is_around_and_from_regions() -> None:
    head = '<layout><region xml:id="r" tts:color="yellow"/></layout>'
    inside = '<p region="r" begin="0s" end="1s">A <span tts:fontStyle="italic">B</span></p>'
    (cue,) = cues(f'<div tts:fontStyle="italic">{inside}</div>', head)
    assert cue.text == "<c.yellow><i>A B</i></c>"


def test_a_paragraph_that_changes_without_end_is_refused() -> None:
    spans = "".join(f'<span begin="{n}s" end="{n + 1}s">{n}</span>' for n in range(2_500))
    text = f'<tt xmlns="http://www.w3.org/ns/ttml"><body><div><p>{spans}</p></div></body></tt>'
    with pytest.raises(FormatError, match="more often"):
        parse_ttml(text.encode())
