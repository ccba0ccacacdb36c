"""HLS playlists: what they promise, and what makes them unusable."""

import gzip

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from mudlark.errors import ManifestError, MudlarkError
from mudlark.manifest.choose import choose
from mudlark.manifest.hls import attributes, parse
from mudlark.manifest.model import Presentation, Segment
from mudlark.manifest.wish import Wish
from mudlark.web.resource import Span

BASE = "http://media.example/films/master.m3u8?key=a%2Fb"
MASTER = b"""#EXTM3U
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="talk",NAME="Commentary",LANGUAGE="cy",URI="cy/index.m3u8"
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="talk",NAME="English, plain",LANGUAGE="en",DEFAULT=YES,URI="en/index.m3u8"
#EXT-X-STREAM-INF:BANDWIDTH=400000,RESOLUTION=640x360,CODECS="avc1.64001e,mp4a.40.2",AUDIO="talk"
low/index.m3u8
#EXT-X-STREAM-INF:BANDWIDTH=900000,RESOLUTION=1280x720,FRAME-RATE=29.970,CODECS="avc1.64001f,mp4a.40.2",AUDIO="talk"
high/index.m3u8?sig=1%2B2
#EXT-X-STREAM-INF:BANDWIDTH=64000,CODECS="mp4a.40.2"
sound/index.m3u8
"""


def media(*lines: str) -> bytes:
    return "\n".join(["#EXTM3U", "#EXT-X-TARGETDURATION:4", *lines]).encode()


def test_a_master_playlist_lists_renditions_with_their_facts() -> None:
    tracks = {track.url.rpartition("films/")[2]: track for track in parse(MASTER, BASE).renditions}
    high = tracks["high/index.m3u8?sig=1%2B2"]
    assert (high.width, high.height, high.frame_rate, high.bitrate) == (1280, 720, 29.97, 900_000)
    assert high.codecs == ("avc1.64001f", "mp4a.40.2")
    assert tracks["sound/index.m3u8"].type == "audio"
    assert (tracks["cy/index.m3u8"].language, tracks["en/index.m3u8"].label) == ("cy", "English, plain")


def test_the_highest_picture_comes_with_the_default_sound_of_its_group() -> None:
    chosen = choose(Presentation(BASE, "hls", parse(MASTER, BASE).renditions))
    assert [taken.rendition.url.rpartition("/")[0].rpartition("/")[2] for taken in chosen] == ["high", "en"]


def test_segments_carry_durations_ranges_and_discontinuities() -> None:
    body = media(
        "#EXTINF:4.000,",
        "#EXT-X-BYTERANGE:1000@0",
        "all.ts",
        "#EXTINF:3.5,a title",
        "#EXT-X-BYTERANGE:500",
        "all.ts",
        "#EXT-X-DISCONTINUITY",
        "#EXTINF:2,",
        "b.ts",
        "#EXT-X-ENDLIST",
    )
    found = parse(body, BASE)
    assert [segment.duration for segment in found.segments] == [4.0, 3.5, 2.0]
    assert [segment.resource.span for segment in found.segments] == [Span(0, 1000), Span(1000, 500), None]
    assert [segment.stretch for segment in found.segments] == [0, 0, 1]
    assert found.ended and found.segments[2].resource.url == "http://media.example/films/b.ts"


def test_quoted_commas_and_equals_signs_stay_in_attribute_values() -> None:
    assert attributes('A="x,y=z",B=1x2, C=YES') == {"A": "x,y=z", "B": "1x2", "C": "YES"}


@pytest.mark.parametrize(
    ("body", "words"),
    [
        (b"<!doctype html><html><title>Log in</title>", "sends a web page where a playlist was expected"),
        (b"just text", "does not begin with #EXTM3U"),
        (media("#EXTINF:four,", "a.ts"), "Line 3 .* 'four' for a duration"),
        (media("#EXTINF:nan,", "a.ts"), "'nan' for a duration"),
        (media("#EXTINF:4,", "file:///etc/hosts"), "Line 4 .* is not a web address"),
        (media("#EXTINF:4,", "#EXT-X-BYTERANGE:100", "a.ts"), "follows nothing"),
        (MASTER + b"#EXTINF:4,\na.ts\n", "mixes the tags"),
    ],
)
def test_what_is_no_usable_playlist_is_said_with_its_line(body: bytes, words: str) -> None:
    with pytest.raises(ManifestError, match=words):
        parse(body, BASE)


def test_a_key_system_is_named() -> None:
    line = '#EXT-X-KEY:METHOD=SAMPLE-AES,URI="skd://1",KEYFORMAT="com.apple.streamingkeydelivery"'
    assert parse(media(line, "#EXTINF:4,", "a.ts"), BASE).protected == ("FairPlay Streaming",)


lines = st.sampled_from(
    [*MASTER.decode().splitlines(), "#EXTINF:4,", "a.ts", "#EXT-X-BYTERANGE:1@", "#EXT-X-KEY:", "\0"]
)


@given(st.lists(lines | st.text(max_size=40), max_size=12))
def test_any_text_is_read_or_refused_in_our_own_words(text: list[str]) -> None:
    try:
        parse(("#EXTM3U\n" + "\n".join(text)).encode("utf-8", "replace"), BASE)
    except MudlarkError:
        return


# Section by section (RFC 8216 and its revision)


def segments(*lines: str, imported: dict[str, str] | None = None) -> list[Segment]:
    return list(parse(media(*lines, "#EXT-X-ENDLIST"), BASE, imported).segments)


def test_the_sequence_number_begins_where_the_list_says() -> None:  # §4.3.3.2
    found = segments("#EXT-X-MEDIA-SEQUENCE:7", "#EXTINF:4,", "a.ts", "#EXTINF:4,", "b.ts")
    assert [(one.sequence, one.begin) for one in found] == [(7, 0.0), (8, 4.0)]


def test_a_key_holds_until_the_next_and_its_iv_is_the_sequence_number_unless_stated() -> None:  # §4.3.2.4, §5.2
    found = segments(
        "#EXT-X-MEDIA-SEQUENCE:5",
        "#EXTINF:4,",
        "clear.ts",
        '#EXT-X-KEY:METHOD=AES-128,URI="k1"',
        "#EXTINF:4,",
        "a.ts",
        '#EXT-X-KEY:METHOD=AES-128,URI="/k2",IV=0x0102',
        "#EXTINF:4,",
        "b.ts",
        "#EXT-X-KEY:METHOD=NONE",
        "#EXTINF:4,",
        "c.ts",
    )
    assert [one.cipher and (one.cipher.key.url, one.cipher.iv[-2:]) for one in found] == [
        None,
        ("http://media.example/films/k1", b"\0\6"),
        ("http://media.example/k2", b"\1\2"),
        None,
    ]


def test_of_several_key_formats_side_by_side_the_identity_one_is_used() -> None:
    fair = '#EXT-X-KEY:METHOD=SAMPLE-AES,URI="skd://1",KEYFORMAT="com.apple.streamingkeydelivery"'
    plain = '#EXT-X-KEY:METHOD=AES-128,URI="k",KEYFORMAT="identity"'
    for pair in ((fair, plain), (plain, "", fair)):
        found = parse(media(*pair, "#EXTINF:4,", "a.ts"), BASE)
        assert found.segments[0].cipher and not found.protected
    assert parse(media(plain, "#EXTINF:4,", "a.ts", fair, "#EXTINF:4,", "b.ts"), BASE).protected


def test_the_initialization_section_changes_and_may_be_encrypted() -> None:  # §4.3.2.5
    found = segments(
        '#EXT-X-KEY:METHOD=AES-128,URI="k",IV=0x1',
        '#EXT-X-MAP:URI="all.mp4",BYTERANGE="700@0"',
        "#EXT-X-KEY:METHOD=NONE",
        "#EXTINF:4,",
        "#EXT-X-BYTERANGE:1000@700",
        "all.mp4",
        "#EXT-X-DISCONTINUITY",
        '#EXT-X-MAP:URI="other.mp4"',
        "#EXTINF:4,",
        "b.m4s",
    )
    first, second = (one.init for one in found)
    assert first and first.cipher and first.resource.span == Span(0, 700) and not found[0].cipher
    assert second and second.cipher is None and second.resource.url.endswith("other.mp4")
    assert [one.stretch for one in found] == [0, 1]


def test_discontinuity_sequence_and_gaps() -> None:  # §4.3.3.3, revision §4.4.4.7
    found = segments(
        "#EXT-X-DISCONTINUITY-SEQUENCE:3",
        "#EXTINF:4,",
        "a.ts",
        "#EXT-X-DISCONTINUITY",
        "#EXT-X-GAP",
        "#EXTINF:4,",
        "b.ts",
    )
    assert [(one.stretch, one.gap) for one in found] == [(3, False), (4, True)]


def test_variables_come_from_the_list_its_master_and_the_address() -> None:  # revision §4.4.2.3
    found = segments(
        '#EXT-X-DEFINE:NAME="host",VALUE="http://two.example"',
        '#EXT-X-DEFINE:IMPORT="shelf"',
        '#EXT-X-DEFINE:QUERYPARAM="key"',
        "#EXTINF:4,",
        "{$host}/{$shelf}/a.ts?k={$key}",
        imported={"shelf": "mill"},
    )
    assert found[0].resource.url == "http://two.example/mill/a.ts?k=a/b"
    with pytest.raises(ManifestError, match=r"Line 4.*'none'"):
        segments("#EXTINF:4,", "{$none}.ts")
    with pytest.raises(ManifestError, match=r"EXT-X-DEFINE.*imports"):
        segments('#EXT-X-DEFINE:IMPORT="none"')


def test_what_is_said_beside_the_media_is_noted() -> None:
    found = parse(
        media('#EXT-X-DATERANGE:ID="t",START-DATE="1931-03-02T14:00:00Z"', "#EXTINF:4,", "a.ts", "#EXT-X-ENDLIST"), BASE
    )
    assert found.notes[0].name == "date-range t"
    master = MASTER + b'#EXT-X-SESSION-DATA:DATA-ID="org.museum.title",VALUE="The Mill"\n'
    assert [(note.name, note.value) for note in parse(master, BASE).notes] == [("org.museum.title", "The Mill")]


def test_lists_as_careless_servers_write_them() -> None:
    body = (
        "\ufeff\r\n#EXTM3U\r\n#EXT-X-ENDLIST\r\n#EXT-X-VERSION:99\r\n#EXTINF: 10 ,a title\r\n#EXT-X-ALLOW-CACHE:NO\r\n"
        "#EXT-X-PROGRAM-DATE-TIME:2020-01-01T00:00:00Z\r\n# a comment\r\n\r\n  a.ts  \r\n#EXTINF:10,\r\nb c.ts"
    )
    found = parse(body.encode(), BASE)
    assert found.ended and [one.duration for one in found.segments] == [10.0, 10.0]
    assert found.segments[1].resource.url == "http://media.example/films/b c.ts" and found.precision == 0.5
    assert found.segments[0].moment and not found.segments[1].moment


def test_parts_and_hints_of_low_latency_belong_to_their_segments() -> None:  # revision §4.4.4.9, §4.4.5.3
    found = segments(
        "#EXT-X-PART-INF:PART-TARGET=1.0",
        "#EXT-X-SERVER-CONTROL:CAN-BLOCK-RELOAD=YES,PART-HOLD-BACK=3.0",
        '#EXT-X-PART:DURATION=1.0,URI="a-1.m4s"',
        '#EXT-X-PART:DURATION=1.0,URI="a-2.m4s"',
        "#EXTINF:2.0,",
        "a.m4s",
        '#EXT-X-PRELOAD-HINT:TYPE=PART,URI="b-1.m4s"',
    )
    assert [one.resource.url.rpartition("/")[2] for one in found] == ["a.m4s"]


def test_stills_alone_are_said_as_such() -> None:  # §4.3.4.3
    body = b'#EXTM3U\n#EXT-X-I-FRAME-STREAM-INF:BANDWIDTH=1,URI="i.m3u8"\n'
    assert parse(body, BASE).only_stills
    assert not parse(MASTER + body.partition(b"\n")[2], BASE).only_stills


def test_copies_of_a_variant_are_one_with_several_addresses() -> None:  # §6.2.4
    line = '#EXT-X-STREAM-INF:BANDWIDTH=900000,RESOLUTION=1280x720,CODECS="avc1.64001f"\n'
    found = parse(f"#EXTM3U\n{line}one.m3u8\n{line}http://two.example/one.m3u8\n".encode(), BASE).renditions
    assert len(found) == 1 and found[0].others == ("http://two.example/one.m3u8",)


def test_pathways_are_copies_with_groups_of_their_own() -> None:  # revision §4.4.6.2
    body = "#EXTM3U\n"
    for host in ("one", "two"):
        body += f"""#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="a-{host}",NAME="English",LANGUAGE="en",URI="http://{host}.example/en.m3u8"
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="a-{host}",NAME="Cymraeg",LANGUAGE="cy",URI="http://{host}.example/cy.m3u8"
#EXT-X-STREAM-INF:BANDWIDTH=900000,RESOLUTION=1280x720,CODECS="avc1.64001f",AUDIO="a-{host}",PATHWAY-ID="{host}"
http://{host}.example/v.m3u8
"""
    found = {one.url: one.others for one in parse(body.encode(), BASE).renditions}
    assert found == {
        f"http://one.example/{name}.m3u8": (f"http://two.example/{name}.m3u8",) for name in ("en", "cy", "v")
    }


OFFER = parse(
    b"""#EXTM3U
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="a",NAME="English",LANGUAGE="en-GB",DEFAULT=YES,URI="en.m3u8"
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="a",NAME="Cymraeg",LANGUAGE="cy",URI="cy.m3u8"
#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID="s",NAME="English",LANGUAGE="en",FORCED=YES,URI="s-en.m3u8"
#EXT-X-MEDIA:TYPE=CLOSED-CAPTIONS,GROUP-ID="c",NAME="CC",INSTREAM-ID="CC1"
#EXT-X-STREAM-INF:BANDWIDTH=900000,RESOLUTION=1280x720,CODECS="avc1.64001f,mp4a.40.2",AUDIO="a",SUBTITLES="s"
v1.m3u8
#EXT-X-STREAM-INF:BANDWIDTH=700000,RESOLUTION=1280x720,CODECS="hvc1.1.6.L93.B0,mp4a.40.2",AUDIO="a",SUBTITLES="s"
v2.m3u8
#EXT-X-STREAM-INF:BANDWIDTH=3000000,RESOLUTION=1920x1080,CODECS="hvc1.2.4.L123.B0,ec-3",VIDEO-RANGE=PQ,AUDIO="a"
v3.m3u8
#EXT-X-STREAM-INF:BANDWIDTH=300000,RESOLUTION=640x360,CODECS="avc1.64001e,mp4a.40.2",AUDIO="a",SUBTITLES="s"
v4.m3u8
""",
    BASE,
).renditions


@pytest.mark.parametrize(
    ("wish", "taken"),
    [
        (Wish(), ["v3", "a1"]),
        (Wish(within=(None, 720)), ["v1", "a1", "s1"]),
        (Wish(within=(640, 720)), ["v4", "a1", "s1"]),
        (Wish(under=800_000), ["v2", "a1", "s1"]),
        (Wish(codecs=("avc", "aac")), ["v1", "a1", "s1"]),
        (Wish(codecs=("hevc", "aac")), ["v2", "a1", "s1"]),
        (Wish(codecs=("avc",), languages=("cy", "en")), ["v1", "a2", "a1", "s1"]),
        (Wish(codecs=("avc",), languages=("all",), subtitles=("none",)), ["v1", "a1", "a2"]),
        (Wish(codecs=("avc",), subtitles=("cy",)), ["v1", "a1"]),
        (Wish(rendition="a2"), ["a2"]),
    ],
)
def test_wishes_leave_what_is_wanted_highest_first(wish: Wish, taken: list[str]) -> None:
    chosen = choose(Presentation(BASE, "hls", OFFER), wish)
    assert [one.rendition.name for one in chosen] == taken
    if len(chosen) > 1:
        assert chosen[0].types == {"video"}  # the sound inside is not taken twice


@pytest.mark.parametrize(
    ("wish", "words"),
    [
        (Wish(within=(None, 100)), "--within"),
        (Wish(under=1_000), "--under"),
        (Wish(codecs=("av1",)), "--codecs"),
        (Wish(codecs=("mpeg9",)), "no codec"),
        (Wish(languages=("fr",)), "no sound in fr"),
        (Wish(rendition="v9"), "no rendition 'v9'"),
    ],
)
def test_wishes_that_leave_nothing_are_said_with_what_there_is(wish: Wish, words: str) -> None:
    with pytest.raises(MudlarkError, match=words) as caught:
        choose(Presentation(BASE, "hls", OFFER), wish)
    assert "There " in caught.value.advice


def test_a_maker_s_own_score_decides_where_it_is_given() -> None:
    scored = tuple(replace(one, score=9.0 if one.name == "v4" else 1.0) for one in OFFER)
    assert choose(Presentation(BASE, "hls", scored))[0].rendition.name == "v4"


def test_a_playlist_that_is_a_gzip_file_is_read_and_one_without_end_is_not() -> None:
    body = media("#EXTINF:4,", "a.ts", "#EXT-X-ENDLIST")
    assert len(parse(gzip.compress(body), BASE).segments) == 1
    with pytest.raises(ManifestError, match="larger than any manifest"):
        parse(gzip.compress(bytes(80_000_000)), BASE)
    with pytest.raises(ManifestError, match="damaged"):
        parse(b"\x1f\x8b\x08" + bytes(7) + b"\xff" * 20, BASE)


def test_closed_captions_are_listed_and_stay_inside_of_the_picture() -> None:
    master = (
        '#EXTM3U\n#EXT-X-MEDIA:TYPE=CLOSED-CAPTIONS,GROUP-ID="cc",NAME="Welsh",LANGUAGE="cy",INSTREAM-ID="CC1"\n'
        '#EXT-X-STREAM-INF:BANDWIDTH=1000,CLOSED-CAPTIONS="cc"\nv.m3u8\n'
    )
    playlist = parse(master.encode(), BASE)
    assert ("c1", "captions", "cy") in [(one.name, one.type, one.language) for one in playlist.renditions]
