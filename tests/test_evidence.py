"""Where a page can name media: every place the reader must know, and what ties finds together."""

import base64
import json
from urllib.parse import quote

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.errors import MudlarkError
from mudlark.find.judge.expiry import expires_at
from mudlark.find.model import Evidence, Page
from mudlark.find.places.feed import read_xml
from mudlark.find.places.hidden import addresses
from mudlark.find.places.page import read_page, srcset
from mudlark.find.select import Filter, ordered
from mudlark.find.sift import decode, page_of
from mudlark.web.address import pasted
from mudlark.web.answer import Content
from tests.pages import answered, named, put_in_order

URL = "http://museum.example/hall/page.html"
FILM = "http://media.example/film.mp4"
HIDDEN = base64.b64encode(FILM.encode()).decode()


def places(source: str) -> dict[str, list[str]]:
    """Finds by address, each with its places."""
    return {find.url: [evidence.where for evidence in find.evidence] for find in read_page(source, URL).finds}


@pytest.mark.parametrize(
    ("source", "place"),
    [
        (f'<embed src="{FILM}">', "embed element"),
        (f'<object data="{FILM}" type="video/mp4"></object>', "object element"),
        (f'<object><param name="movie" value="{FILM}"></object>', "param movie of an object element"),
        (f'<object><param name="vars" value="file={quote(FILM)}&a=1"></object>', "parameter file"),
        (f'<iframe src="/player?file={quote(FILM, safe="")}"></iframe>', "iframe element (parameter file)"),
        (f'<iframe src="/player?f={HIDDEN}"></iframe>', "iframe element (parameter f)"),
        (f'<a download href="{FILM}">Take it</a>', "download link"),
        (f'<map><area href="{FILM}"></map>', "link"),
        (f'<a href="/share?u={quote(FILM, safe="")}">Share</a>', "link (parameter u)"),
        (f'<button formaction="{FILM}">Go</button>', "formaction of button element"),
        (f"<div onclick=\"play('{FILM}')\"></div>", "attribute onclick of div element"),
        (f'<div data-film="{FILM}"></div>', "attribute data-film of div element"),
        (f"<div data-x='{json.dumps({'a': [{'src': FILM}]})}'></div>", "(JSON a[0].src)"),
        (f'<div data-x="{quote(json.dumps({"src": FILM}), safe="")}"></div>', "(percent-encoded, JSON src)"),
        (f'<div data-x="{HIDDEN}"></div>', "(base64)"),
        (f"<noscript><video src='{FILM}'></video></noscript>", "video element"),
        (f"<template><video src='{FILM}'></video></template>", "video element in a template"),
        (f"<!-- old: <video src='{FILM}'> -->", "video element in a comment"),
        (f"<!-- moved to {FILM} last week -->", "comment"),
        (f'<link rel="preload" as="video" href="{FILM}">', "link element, preload"),
        (f'<script type="application/json">{json.dumps({"list": [{"file": FILM}]})}</script>', "list[0].file"),
        (f'<script>var u = atob("{HIDDEN}");</script>', "script string (base64)"),
        (f'<script>var u = decodeURIComponent("{quote(FILM, safe="")}");</script>', "(percent-encoded)"),
        (f'<div itemscope><link itemprop="contentUrl" href="{FILM}"></div>', "itemprop contenturl of link element"),
        (f'<div vocab="https://schema.org/"><a property="contentUrl" href="{FILM}">x</a></div>', "property contenturl"),
    ],
)
def test_every_place_that_can_name_media_is_read(source: str, place: str) -> None:
    found = places(f"<body>{source}</body>")
    assert FILM in found
    assert any(place in where for where in found[FILM]), found[FILM]


def test_style_sheets_and_style_attributes_name_pictures() -> None:
    found = places("<style>p{background:url('/a.png')}</style><p style=\"background:url(/b.jpg)\"></p>")
    assert {url.rpartition("/")[2] for url in found} == {"a.png", "b.jpg"}


def test_tracks_of_a_film_are_subtitles_with_their_label() -> None:
    page = read_page('<video src="/a.mp4"><track src="/a.vtt" srclang="cy" label="Cymraeg"></video>', URL)
    assert [(find.kind, find.label) for find in page.finds if find.url.endswith("vtt")] == [("subtitle", "Cymraeg")]


def test_frames_oembed_and_password_fields_are_noted() -> None:
    described = '<link rel="alternate" type="application/json+oembed" href="/o">'
    page = read_page(f'<iframe src="/f"></iframe>{described}<input type="password">', URL)
    assert [frame.url for frame in page.frames] == ["http://museum.example/f"]
    assert page.oembed == "http://museum.example/o" and page.wants_login


def test_a_srcset_gives_its_largest_and_ties_the_others_to_it() -> None:
    assert srcset("a.jpg 320w, b.jpg 1280w,https://x/c.jpg 2x") == [
        ("a.jpg", 320),
        ("b.jpg", 1280),
        ("https://x/c.jpg", 2),
    ]
    page = read_page('<img src="/s.jpg" srcset="/s.jpg 320w, /b.jpg 1280w">', URL)
    put_in_order(page)
    assert [(find.url[-5:], find.role) for find in page.finds] == [("b.jpg", "main"), ("s.jpg", "thumbnail")]
    assert page.finds[0].rank.versions == ("http://museum.example/s.jpg",)


def test_a_thumbnail_that_links_to_its_full_picture_is_its_smaller_version() -> None:
    page = read_page('<a href="/full/c.jpg"><img src="/t/1.jpg"></a>', URL)
    put_in_order(page)
    assert [(find.url[-6:], find.role) for find in page.finds] == [("/c.jpg", "main"), ("/1.jpg", "thumbnail")]


def test_names_that_differ_only_in_a_size_are_one_picture() -> None:
    page = Page(URL)
    page.finds = [
        named(f"http://m.example/x/quay{size}.jpg", "image", evidence=(Evidence("link", "link", None, 8),))
        for size in ("-150x150", "-1024x768", "-thumb")
    ]
    put_in_order(page)
    assert {find.url[19:]: bool(find.rank.larger) for find in page.finds} == {
        "quay-150x150.jpg": True,
        "quay-1024x768.jpg": False,
        "quay-thumb.jpg": True,
    }


def test_numbered_segments_become_one_line() -> None:
    script = ",".join(f'"/v/seg-{number}.ts?k={number}"' for number in range(40))
    page = read_page(f'<script>s=[{script}]; import "/lib/app.ts"</script>', URL)
    put_in_order(page)
    assert [(find.role, find.count) for find in page.finds] == [("segment", 40)]


def test_a_variant_that_its_master_lists_is_a_rendition() -> None:
    page = read_page('<a href="/m.m3u8">m</a><a href="/low.m3u8">l</a>', URL)
    page.finds[0] = answered(page.finds[0], renditions=("http://museum.example/low.m3u8",))
    put_in_order(page)
    assert [(find.url[-7:], find.role) for find in page.finds] == [("/m.m3u8", "main"), ("ow.m3u8", "rendition")]


NOW = 1_700_000_000.0


def _token(claims: dict[str, int]) -> str:
    def part(data: object) -> str:
        return base64.urlsafe_b64encode(json.dumps(data).encode()).decode().rstrip("=")

    return f"{part({'alg': 'HS256'})}.{part(claims)}.c2ln"


@pytest.mark.parametrize(
    ("query", "seconds"),
    [
        ("Expires=1700003600&Signature=x", 3600),
        ("e=1700000060", 60),
        ("expires=1700003600000", 3600),
        ("X-Sig-Date=20231114T221320Z&X-Sig-Expires=300", 300),
        ("se=2023-11-14T23:13:20Z&sig=x", 3600),
        ("token=st=1699999000~exp=1700000900~acl=/*~hmac=ab", 900),
        (f"jwt={_token({'exp': 1_700_007_200})}", 7200),
        ("Policy=" + base64.b64encode(b'{"Condition":{"T":{"x:EpochTime":1700000500}}}').decode(), 500),
        ("id=1234567890123456789&expires=soon", None),
        ("e=5", None),
    ],
)
def test_an_address_that_carries_its_expiry_tells_it(query: str, seconds: float | None) -> None:
    found = expires_at(f"http://m.example/a.mp4?{query}", NOW)
    assert found == (None if seconds is None else NOW + seconds)


def test_feeds_give_entries_with_titles_sizes_and_durations() -> None:
    body = b"""<?xml version="1.0"?><!DOCTYPE rss [<!ENTITY x SYSTEM "file:///etc/hostname">]>
<rss version="2.0" xmlns:media="http://search.yahoo.com/mrss/"><channel><title>Talks &x;</title>
<item><title>The Wall</title><enclosure url="/a.mp3" length="1234" type="audio/mpeg"/></item>
<item><title>The Mill</title><media:content url="http://m.example/b" medium="video" duration="90"/></item>
</channel></rss>"""
    page = read_xml(body, URL)
    assert page and page.title == "Talks"
    assert [(find.label, find.kind, find.bytes, find.duration) for find in page.finds] == [
        ("The Wall", "audio", 1234, None),
        ("The Mill", "video", None, 90.0),
    ]


def test_a_list_of_tracks_is_read() -> None:
    body = b"""<playlist xmlns="http://xspf.org/ns/0/"><title>Bells</title><location>http://m.example/list</location>
<trackList><track><location> /one.mp3 </location><title>One</title><duration>61500</duration></track>
<track><location>two.ogg</location></track></trackList></playlist>"""
    page = read_xml(body, URL)
    assert page and page.title == "Bells"
    found = [(find.url.rpartition("/")[2], find.kind, find.label, find.duration) for find in page.finds]
    assert found == [("one.mp3", "audio", "One", 61.5), ("two.ogg", "audio", None, None)]
    assert read_page('<a href="/bells.xspf">Bells</a>', URL).feeds == ["http://museum.example/bells.xspf"]


@pytest.mark.parametrize(
    ("body", "kind"),
    [
        (b"<playlist><item><title>Mill</title><file> /a.mp4 </file></item></playlist>", "video"),
        (b"<config><!-- x --><hlsUrl>/a.mp4/s</hlsUrl><image>/p.png</image></config>", "hls"),
        (b"<smil><body><video src='/a.mp4'/></body></smil>", "video"),
        (b"<f MIMETYPE='audio/mpeg' xmlns:l='urn:l' l:href='/a.mp4/s'/>", "audio"),
        (b"<urlset><url><loc>http://museum.example/page</loc></url></urlset>", None),
    ],
)
def test_any_xml_names_films_in_elements_and_attributes(body: bytes, kind: str | None) -> None:
    page = read_xml(body, URL)
    assert [find.kind for find in page.finds] == [kind] if page else kind is None


def test_a_video_site_map_is_read() -> None:
    body = b"""<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"
 xmlns:video="http://www.google.com/schemas/sitemap-video/1.1"><url><loc>http://m.example/p</loc><video:video>
<video:title>Mill</video:title><video:content_loc>http://m.example/x</video:content_loc><video:duration>24</video:duration>
</video:video></url></urlset>"""
    page = read_xml(body, URL)
    assert page and [(find.url, find.kind, find.duration) for find in page.finds] == [
        ("http://m.example/x", "video", 24)
    ]


@pytest.mark.parametrize(
    ("text", "address"),
    [
        ("GET http://m.example/a.mp4?x=1&y=2 HTTP/1.1", "http://m.example/a.mp4?x=1&y=2"),
        ('"http://m.example/a.mp4",', "http://m.example/a.mp4"),
        ("curl 'http://m.example/a' -H 'x: y'", "http://m.example/a"),
        (r"http:\/\/m.example\/a.mp4", "http://m.example/a.mp4"),
        ("(http://m.example/a_(1).mp4)", "http://m.example/a_(1).mp4"),
        ("[quay](http://m.example/a.pdf).", "http://m.example/a.pdf"),
        ("\x1b[31mhttp://m.example/a\x1b[0m", "http://m.example/a"),
    ],
)
def test_junk_around_a_pasted_address_is_cleaned_and_said(text: str, address: str) -> None:
    found, rest = pasted(text)
    assert found == address and rest is not None and "\x1b" not in rest


def test_a_clean_address_is_left_alone() -> None:
    for text in ("http://m.example/a?b=c,d", "http://m.example/a_(1)", "m.example"):
        assert pasted(text) == (text, None)
    assert pasted(" http://m.example/v/the old mill.mp4 ") == ("http://m.example/v/the old mill.mp4", None)
    assert pasted("http://m.example/a.mp4 the old mill.mp4")[0] == "http://m.example/a.mp4"


def _answer(body: bytes, type_: str = "text/html", charset: str | None = None) -> Content:
    return Content(URL, 200, type_, charset, len(body), body, True)


@pytest.mark.parametrize(
    ("body", "charset"),
    [
        ("<title>Käse</title>".encode(), None),
        ("<title>Käse</title>".encode("cp1252"), "iso-8859-1"),
        ("<title>Käse</title>".encode("utf-16"), "utf-8"),
        ('<meta charset="windows-1252"><title>Käse</title>'.encode("cp1252"), None),
        ("<title>Käse</title>".encode("latin-1"), None),
        (b"\xef\xbb\xbf<title>K\xc3\xa4se</title>", None),
        ("<title>Käse</title>".encode(), "no-such-charset"),
    ],
)
def test_pages_are_read_in_their_character_set(body: bytes, charset: str | None) -> None:
    assert "Käse" in decode(_answer(body, charset=charset))


def test_link_headers_are_evidence() -> None:
    look = _answer(b"<html><title>x</title></html>")
    headers = {"link": '<//m.example/a>; rel="preload"; as=video, </style.css>; rel=stylesheet'}
    found = page_of(Content(look.url, 200, look.type, None, look.length, look.body, True, headers=headers))
    assert [(find.url, find.kind) for find in found.finds] == [("http://m.example/a", "video")]


def test_filters_and_orders() -> None:
    finds = [named("http://a.example/1.mp4", "video", bytes=5), named("http://b.example/2.jpg", "image", bytes=9)]
    assert [Filter(kinds=("image",)).passes(find) for find in finds] == [False, True]
    assert [Filter(host="A.EX").passes(find) for find in finds] == [True, False]
    assert [Filter(larger_than=6).passes(find) for find in finds] == [False, True]
    assert [Filter(match="1.MP4").passes(find) for find in finds] == [True, False]
    assert [find.bytes for find in ordered(finds, "size")] == [9, 5]
    assert [find.kind for find in ordered(finds, "type")] == ["image", "video"]


@given(st.text(max_size=300))
def test_any_text_can_hide_an_address(text: str) -> None:
    for address, _ in addresses(text):
        assert isinstance(address, str)


@given(st.text(alphabet=st.characters(codec="utf-8"), max_size=200))
def test_any_address_may_carry_an_expiry(text: str) -> None:
    expires_at("http://m.example/?" + text, NOW)


@given(st.binary(max_size=300))
def test_any_bytes_are_a_feed_or_none(body: bytes) -> None:
    try:
        read_xml(b"<?xml version='1.0'?>" + body, URL)
    except MudlarkError:
        return


def test_a_hundred_thousand_candidates_are_bounded_and_counted() -> None:
    page = read_page("".join(f'<img src="/p/{number}.png">' for number in range(100_000)), URL)
    assert len(page.finds) == 5_000 and page.left_out == 95_000


def test_deep_markup_and_json_do_not_end_the_reader() -> None:
    deep = "[" * 5000 + "]" * 5000
    page = read_page("<div>" * 3000 + f"<script type='application/json'>{deep}</script><video src=/a.mp4>", URL)
    assert [find.url for find in page.finds] == ["http://museum.example/a.mp4"]
