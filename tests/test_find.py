"""Looking through pages: what counts as evidence, and what ranks first."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.find.further import nothing
from mudlark.find.model import Find, Page
from mudlark.find.places.metadata import seconds
from mudlark.find.places.page import read_page, read_script
from mudlark.find.places.quoted import unescape
from mudlark.find.places.reckoned import reckoned
from mudlark.find.places.script import literals
from tests.pages import answered, put_in_order

URL = "http://museum.example/film/mill?x=1"


def finds(source: str, url: str = URL) -> dict[str, Find]:
    return {find.url: find for find in read_page(source, url).finds}


def ranked(source: str, **durations: float) -> Page:
    """The page, ranked; durations by file name as if the servers had been asked."""
    page = read_page(source, URL)
    page.finds = [
        answered(find, duration=durations.get(find.url.rpartition("/")[2].partition(".")[0])) for find in page.finds
    ]
    return put_in_order(page)


def test_media_elements_sources_and_links_are_found_with_their_line() -> None:
    source = """<body>
<video src="/a.mp4" poster="p.jpg"></video>
<audio><source src="b" type="audio/mpeg"></audio>
<a href="c.MP3?download=1">Listen</a> <a href="page.html">no media</a>
<img src="d.png" alt="A wheel">"""
    found = finds(source)
    kinds = {url.rpartition("/")[2]: find.kind for url, find in found.items()}
    assert kinds == {"a.mp4": "video", "p.jpg": "image", "b": "audio", "c.MP3?download=1": "audio", "d.png": "image"}
    assert found["http://museum.example/a.mp4"].evidence[0].at == "line 2"
    assert found["http://museum.example/film/c.MP3?download=1"].label == "Listen"


def test_addresses_are_resolved_against_the_base_of_the_page() -> None:
    source = '<base href="//media.example/x/"><video src="a.mp4"></video>'
    assert list(finds(source)) == ["http://media.example/x/a.mp4"]


def test_the_same_address_in_several_places_is_one_find_with_all_evidence() -> None:
    source = """<meta property="og:video" content="http://m.example/a.mp4">
<script>play("http:\\/\\/m.example\\/a.mp4")</script><a href="http://m.example/a.mp4#t=3">x</a>"""
    found = finds(source)
    assert list(found) == ["http://m.example/a.mp4"]
    places = {evidence.where for evidence in found["http://m.example/a.mp4"].evidence}
    assert places == {"metadata og:video", "script string", "link"}


def test_entities_in_attributes_and_metadata_are_undone() -> None:
    source = '<meta property="og:video" content="http://m.example/a.mp4?x=1&amp;y=2">'
    assert list(finds(source)) == ["http://m.example/a.mp4?x=1&y=2"]


def test_nested_json_ld_gives_address_duration_and_name() -> None:
    source = """<script type="application/ld+json">{"@graph":[{"@type":"WebPage","video":[{"@type":["VideoObject"],
      "name":"The  Mill","duration":"PT1M5S","contentUrl":"/m.mp4","thumbnailUrl":["/t.jpg"]}]}]}</script>"""
    page = read_page(source, URL)
    assert (page.title, page.duration) == ("The Mill", 65.0)
    assert {find.url.rpartition("/")[2]: find.kind for find in page.finds} == {"m.mp4": "video", "t.jpg": "image"}


@pytest.mark.parametrize(
    ("script", "address"),
    [
        (r'x = {"u":"https:\/\/m.example\/a.m3u8?a=1\u0026b=2"}', "https://m.example/a.m3u8?a=1&b=2"),
        (r"x = 'https://m.example/\x61.m3u8'", "https://m.example/a.m3u8"),
        ("x = `/films/a.m3u8`", "/films/a.m3u8"),
        ('x = "//m.example/a.mpd"', "//m.example/a.mpd"),
        ('x = "https://m.example/a.m3u8?a=1&amp;b=2"', "https://m.example/a.m3u8?a=1&b=2"),
        (r'x = "\u{68}ttps://m.example/a.mp4"', "https://m.example/a.mp4"),
    ],
)
def test_escapes_in_script_strings_are_undone(script: str, address: str) -> None:
    assert [literal.text for literal in literals(script)] == [address]


@pytest.mark.parametrize(
    ("script", "address"),
    [
        ('var at = "/films/", id = "a"; play(at + id + ".mp4")', "/films/a.mp4"),
        ("const id = 'a'; play(`/films/${id}.mp4`, id)", "/films/a.mp4"),
        ("let id = 'a';\nconst where = '/films/' + id + '/b.m3u8';", "/films/a/b.m3u8"),
    ],
)
def test_names_that_mean_one_text_are_put_in(script: str, address: str) -> None:
    assert (address, "put together") in {(literal.text, literal.how) for literal in literals(script)}


CODES = ",".join(str(ord(char)) for char in "/films/a.mp4")


@pytest.mark.parametrize(
    "made",
    [
        '"/films/" + "a" + ".mp4"',
        '("/fi" + "lms/") + ("a" + ".mp4")',
        '"/films".concat("/a", ".mp4")',
        "['', 'films', 'a.mp4'].join('/')",
        '["/fil", "ms/a.", "mp4"].join("")',
        "'4pm.a/smlif/'.split('').reverse().join('')",
        '"/filmsXaYmp4".replace("X", "/").replace(/Y/g, ".")',
        '"xx/films/a.mp4".replace(/^xx/i, "")',
        '"/flms/a.mp4".replaceAll("fl", "fil")',
        f"String.fromCharCode({CODES})",
        f"String.fromCharCode.apply(null, [{CODES}])",
        f"String.fromCharCode(...[{CODES}])",
        f"String.fromCodePoint({','.join(hex(ord(char)) for char in '/films/')}) + 'a.mp4'",
        "atob(atob('TDJacGJHMXpMMkV1YlhBMA=='))",
        "decodeURIComponent('%2Ffilms%2F') + unescape('a%2Emp4')",
        r"'\57films\57a.mp4'",
        r"'\x2ffilms' + `/a.mp4`",
    ],
)
def test_what_a_script_makes_of_its_own_texts_is_found(made: str) -> None:
    script = f"// it's\nvar at = {made};\nplay(at);"
    (literal,) = literals(script)
    assert literal.text == "/films/a.mp4" and script[: literal.position].count("\n") == 1
    assert len(reckoned(script).script) == len(script)


@pytest.mark.parametrize(
    ("script", "texts"),
    [
        ('list(["/a.mp4", "/b.mp4"].join(","))', {"/a.mp4", "/b.mp4"}),
        ('play("/a.mp4".replace("a", name))', {"/a.mp4"}),
        ('play("/films/" + name + "a.mp4")', {"/films/", "a.mp4"}),
        ('play("/a.mp4", "x" + "y".length)', {"/a.mp4"}),
        ('play("/a.mp4" /* "/x/" + "b.mp4" */)', {"/a.mp4"}),
        ('\ue0007\ue001 play("/a" + ".mp4")', {"/a"}),  # what stands for texts inside
    ],
)
def test_what_a_script_does_not_make_of_its_texts_alone_is_left(script: str, texts: set[str]) -> None:
    assert {literal.text for literal in literals(script)} - {".mp4"} == texts


@given(st.lists(st.sampled_from([*"+.,()[]'\"`\\/ a1", '"b"', "join", "atob(", ".replace(", "String.fromCharCode("])))
def test_any_script_keeps_its_length(parts: list[str]) -> None:
    script = "".join(parts)
    assert len(reckoned(script).script) == len(script)


def test_a_script_whose_texts_would_grow_without_end_is_left() -> None:
    grown = f'play("{"a" * 90_000}".replaceAll("a", "{"b" * 90_000}"), ["/a", "/b"].join("{"c" * 90_000}"))'
    assert reckoned(grown).script == grown


def test_players_that_a_script_writes_in_pieces_are_read() -> None:
    written = """<script>document.write("<vi" + "deo src='/a.mp4' poster=\\"/a.jpg\\">" + "</vi" + "deo>")</script>"""
    assert {url.rpartition("/")[2] for url in finds(written)} == {"a.mp4", "a.jpg"}
    assert finds("<script>document.write(unescape('%3Cvideo%20src%3D%22/a.mp4%22%3E'))</script>")


@pytest.mark.parametrize(
    ("address", "kind"),
    [
        ("/download.php?file=talk.mp4", "video"),
        ("/get?id=7&name=talk.mp3", "audio"),
        ("/bitstream/7/talk.mp4/download", "video"),
        ("/files/talk.pdf/at_download/file", "document"),
        ("/films/talk.mp4;jsessionid=A1.node2", "video"),
        ("/films/tide;mill.mp4", "video"),
        ("/thumb.png?file=talk.mp4", "image"),
        ("/watch.php?file=talk.mp4", None),
        ("/talks/talk.html?file=talk.mp4", None),
        ("/list?file=all", None),
    ],
)
def test_files_that_a_program_is_told_to_send_are_found(address: str, kind: str | None) -> None:
    for source in (f"<a href='{address}'>The talk</a>", f"<script>play({{src: '{address}'}})</script>"):
        kinds = {url.removeprefix("http://museum.example"): find.kind for url, find in finds(source).items()}
        assert kinds.get(address) == kind, source
        assert kind or not kinds or set(kinds) == {f"{address.rpartition('/')[0]}/talk.mp4"}  # of the player there


PLAYERS = {
    '{"hls": "/s/1"}': "hls",
    '{"dashManifestUrl": "http://museum.example/s/1"}': "dash",
    '{"type": "dash", "src": "/s/1"}': "dash",
    '{"video": {"src": "/s/1"}}': "video",
    '{"a": {"audio_url": ["/s/1"]}}': "audio",
    '{"video": {"thumbnailUrl": "/s/1", "pageUrl": "/s/1", "poster": "/s/1"}}': None,
    '{"videoUrl": "/s/1.html", "hlsKey": "/s/1", "streamId": "/s/1"}': None,
}


@pytest.mark.parametrize(("data", "kind"), PLAYERS.items())
def test_names_of_values_tell_what_addresses_do_not(data: str, kind: str | None) -> None:
    for source in (f"<script type='application/json'>{data}</script>", f"<div data-player='{data}'></div>"):
        found = finds(source)
        assert [find.kind for find in found.values()] == ([kind] if kind else []), source
        assert all(find.mention.is_guess or '"type"' in data for find in found.values())


@pytest.mark.parametrize(
    "source",
    [
        "<div data-hls='/s/1'></div>",
        "<video data-src='/s/1'></video>",
        "<video><source data-lazy-src='/s/1' type='video/mp4'></video>",
        "<script>play('/s/1.ism/manifest(format=m3u8-aapl)')</script>",
        "<a href='/s/1'>Download the video (25 MB)</a>",
        "<a href='/s/1'>Listen (MP3)</a>",
        "<select><option value='/s/1.mp4'>720p</option></select>",
        "<form action='/s/1.mp4'><button>Get</button></form>",
        "<!--[if IE]><object data='/s/1.wmv'></object><![endif]-->",
        "<svg><a xlink:href='/s/1.mp4'></a></svg>",
        "<base href='/s/'><object data='player.swf?file=1.mp4'></object>",
        "<a href='javascript:open(`/player.html?file=/s/1.mp4`)'>Play</a>",
        "<iframe src='/player.html#http://museum.example/s/1.mp4'></iframe>",
        "<div data-x='{&amp;quot;src&amp;quot;: &amp;quot;/s/1.mp4&amp;quot;}'></div>",
        '<script type="application/ld+json">{"@type": "VideoObject", "contentUrl": ["/s/1"]}</script>',
        '<script type="application/ld+json">{"@type": "AudioObject", "encoding": [{"contentUrl": "/s/1"}]}</script>',
    ],
)
def test_media_is_found_where_ordinary_pages_name_it(source: str) -> None:
    assert [url.partition("/s/1")[0] for url in finds(source)] == ["http://museum.example"]


def test_media_by_other_protocols_is_told_of() -> None:
    page = read_page('<script>play("rtmp:\\/\\/m.example\\/film")</script><a href="mms://m.example/a.wmv">x</a>', URL)
    assert page.unfetched == ["rtmp://m.example/film", "mms://m.example/a.wmv"] and not page.finds
    assert "rtmp://m.example/film" in page.notes[0] and "rtmp://m.example/film" in nothing(page).what


def test_frames_are_read_that_are_shown_once_they_are_seen() -> None:
    page = read_page("<iframe src='about:blank' data-src='/player/7'></iframe>", URL)
    assert [frame.url for frame in page.frames] == ["http://museum.example/player/7"]


@pytest.mark.parametrize(
    "script",
    [
        'var id = "a"; id = next(); play("/films/" + id + ".mp4")',
        'var id = "a"; play("/films/" + id + other + ".mp4")',
        'var id = "a"; function show(id) { play("/films/" + id + ".mp4") }',
        'var id = "a"; const show = (id, n) => play("/films/" + id + ".mp4")',
        'var id = "a"; play("/films/" + film.id + ".mp4")',
        'var id = "a"; play("/films/" + id[0] + ".mp4")',
        "var id = 'a'; play(`/films/${id}/${part}.mp4`)",
    ],
)
def test_names_that_may_mean_something_else_are_not_put_in(script: str) -> None:
    assert not any(literal.text.endswith("a.mp4") for literal in literals(script))


def test_a_number_against_caches_makes_no_second_find() -> None:
    found = finds("<video><source src='/v/a.mp4?_=1'><a href='/v/a.mp4'>a</a></video><a href='/v/b.mp4?x=1&_=17'>b</a>")
    assert [address.rpartition("/")[2] for address in found] == ["a.mp4", "b.mp4?x=1"]


@pytest.mark.parametrize("blank", ["${file.url}", "{{ url }}", "/v/${name}.mp4"])
def test_a_template_that_is_not_filled_in_is_no_find(blank: str) -> None:
    assert finds(f"<video src='{blank}'></video><script>show(`<video src='{blank}'>`)</script>") == {}


def test_a_library_that_is_put_together_of_sources_names_no_films() -> None:
    library = 'import("./index.ts"); const icon = "/i/marker.png"; load("lib.dom.d.ts", "/set.json", "/v/a.m3u8")'
    said = read_script(library, "http://museum.example/app.js", Page(URL))
    assert [find.kind for find in said.finds] == ["hls"] and said.scripts == ["http://museum.example/set.json"]


@pytest.mark.parametrize(
    ("words", "kind"),
    [
        ("Film (MP4, 12 MB)", "video"),
        ("bell.mp3 (1.2 MiB)", "audio"),
        ("Wie MP4 gelesen wird", None),
        ("Plan (PDF, 3 MB)", None),
        ("The old mill, 12 MB", None),
    ],
)
def test_a_link_that_states_format_and_size_is_what_it_says(words: str, kind: str | None) -> None:
    assert [find.kind for find in finds(f'<a href="/dl?id=5">{words}</a>').values()] == ([kind] if kind else [])


def test_a_link_that_runs_a_script_leads_to_what_that_names() -> None:
    for mark in ("'", "%27", "&quot;"):
        page = finds(f'<a href="JavaScript:show({mark}/films/wren%20one.mp4{mark},%20640)">Watch</a>')
        assert [address.rpartition("/")[2] for address in page] == ["wren%20one.mp4"]


def test_text_that_is_no_address_is_left_alone() -> None:
    assert list(literals('x = "Hello there. How are you?"; y = "a/b"; z = "{not} a.b c"')) == []


@pytest.mark.parametrize("address", ["javascript:play('a.mp4')", "data:video/mp4,AA", "file:///a.mp4", "blob:x"])
def test_other_schemes_are_no_finds(address: str) -> None:
    assert finds(f'<video src="{address}"></video>') == {}


def test_an_advert_ranks_behind_the_film_that_follows_it() -> None:
    page = ranked('<video src="/adverts/spot.mp4"></video><a href="/talk.mp4">The talk</a>')
    assert [(find.url.rpartition("/")[2], find.role) for find in page.finds] == [
        ("talk.mp4", "main"),
        ("spot.mp4", "advert"),
    ]


def test_the_stated_duration_decides_between_two_films() -> None:
    source = """<meta property="video:duration" content="1200">
<video src="/one.mp4"></video><video src="/two.mp4"></video>"""
    page = ranked(source, one=900.0, two=1201.0)
    assert page.finds[0].url.endswith("two.mp4")
    assert any("agree with the 1200 s" in reason for reason in page.finds[0].rank.reasons)
    assert any("shorter than the 1200 s" in reason for reason in page.finds[1].rank.reasons)


def test_a_short_film_beside_the_one_of_the_stated_length_is_an_advert() -> None:
    source = """<meta property="video:duration" content="1200">
<video src="/one.mp4"></video><video src="/two.mp4"></video>"""
    assert [find.role for find in ranked(source, one=15.0, two=1200.0).finds] == ["main", "advert"]
    assert [find.role for find in ranked(source, one=15.0, two=90.0).finds] == ["main", "main"]


def test_the_score_is_the_sum_of_its_reasons() -> None:
    for find in ranked('<title>The mill</title><video src="/mill.mp4" poster="/thumb.jpg"></video>').finds:
        assert find.score == sum(points for points, _ in find.rank.why)


@pytest.mark.parametrize(
    ("text", "value"),
    [("PT1H2M3.5S", 3723.5), ("P1DT1S", 86401), ("90", 90), ("1:30", 90), ("soon", None), ("", None), ("-5", None)],
)
def test_durations_as_pages_state_them(text: str, value: float | None) -> None:
    assert seconds(text) == value


def test_control_characters_in_titles_do_not_survive() -> None:
    assert read_page("<title>a\x1b[31mb\u202e c</title>", URL).title == "a [31mb c"


@given(st.text(max_size=200))
def test_any_string_can_be_unescaped(text: str) -> None:
    unescape(text).encode("utf-8", "surrogatepass")


markup = st.lists(
    st.sampled_from(
        ['<video src="', "<script>", "</script>", '"', "'", "\\", "a.mp4", "<base href=//[", "&#", "//x/", "\0"]
    )
    | st.text(max_size=12),
    max_size=25,
)


@given(markup)
def test_any_markup_is_read(parts: list[str]) -> None:
    put_in_order(read_page("".join(parts), URL))


@pytest.mark.parametrize(
    ("markup", "step"),
    [
        ("<script>play()</script>", "--listen"),
        ("<p>Opening hours</p>", "look for the page that has"),
        ("".join(f"<a href=/talk/{number}>Talk {number}</a>" for number in range(5)), "mudlark sweep"),
    ],
)
def test_a_page_without_media_leads_on(markup: str, step: str) -> None:
    page = Page("https://museum.example/", received=f"<!doctype html>{markup}".encode())
    assert step in (nothing(page).advice or "")


@pytest.mark.parametrize(
    ("markup", "address"),
    [
        ('<tide-video src="/a.m3u8"></tide-video>', "https://museum.example/a.m3u8"),
        ("<tide-theme><tide src='/b.mp4'></tide></tide-theme>", "https://museum.example/b.mp4"),
        ('<tide-player data-setup=\'{"file":"/c.m3u8"}\'></tide-player>', "https://museum.example/c.m3u8"),
        ('<iframe srcdoc="&lt;video src=/d.mp4&gt;&lt;/video&gt;"></iframe>', "https://museum.example/d.mp4"),
        (r"""<script>document.write("<video src=\"/e.mp4\"></video>")</script>""", "https://museum.example/e.mp4"),
        ('<textarea>&lt;video src="/f.mp4"&gt;&lt;/video&gt;</textarea>', "https://museum.example/f.mp4"),
        ("<p>Listen at https://live.museum.example/g.m3u8, all day.", "https://live.museum.example/g.m3u8"),
        ('<script>var u = "https://museum.example/" + "h/" + "h.m3u8"</script>', "https://museum.example/h/h.m3u8"),
        ("<script>var u = '/i.m3u8?fresh=' + Math.random()</script>", "https://museum.example/i.m3u8"),
        (
            "<script>var u = 'https://museum.example/i.m3u8?fresh=' + Math.random()</script>",
            "https://museum.example/i.m3u8",
        ),
    ],
)
def test_what_players_of_other_makers_are_given_is_found(markup: str, address: str) -> None:
    page = read_page(f"<!doctype html><title>Tides</title><body>{markup}", "https://museum.example/")
    assert [find.url for find in page.finds] == [address]
