"""HLS playlists: what they promise, and what makes them unusable."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.errors import ManifestError, MudlarkError
from mudlark.manifest.choose import choose
from mudlark.manifest.hls import attributes, parse
from mudlark.manifest.model import Presentation
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
        *(
            "#EXTINF:4.000,",
            "#EXT-X-BYTERANGE:1000@0",
            "all.ts",
            "#EXTINF:3.5,a title",
            "#EXT-X-BYTERANGE:500",
            "all.ts",
        ),
        *("#EXT-X-DISCONTINUITY", "#EXTINF:2,", "b.ts", "#EXT-X-ENDLIST"),
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
