"""Finds from captures, without a browser: what was asked for, by whom, what fed what, and what is protected."""

from pathlib import Path
from typing import Any

from mudlark.find.further import nothing
from mudlark.find.model import Find, Page
from mudlark.find.places.capture import page_in
from mudlark.find.sift import best
from tests.captures import MEDIA, PAGE, captured, document, entry
from tests.pages import answered, put_in_order

_MASTER = f"#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=1,RESOLUTION=640x360\n{MEDIA}/360p.m3u8\n"
_LIST = "#EXTM3U\n" + "".join(f"#EXTINF:4,\npart-{n}.ts\n" for n in range(6)) + "#EXT-X-ENDLIST\n"
_HLS = "application/vnd.apple.mpegurl"


def _page(folder: Path, entries: list[dict[str, Any]], views: list[dict[str, Any]] | None = None) -> Page:
    page = page_in(captured(folder, [document(), *entries], views))
    return put_in_order(page)


def _segments(count: int, **given: Any) -> list[dict[str, Any]]:
    return [entry(f"{MEDIA}/part-{n}.ts", "video/mp2t", resourceType="fetch", **given) for n in range(count)]


def _played(*players: dict[str, Any], url: str = PAGE, **given: Any) -> dict[str, Any]:
    return {"url": url, "players": [{"tag": "video", **player} for player in players], **given}


def _find(page: Page, url: str) -> Find:
    return next(find for find in page.finds if find.url == url)


def test_a_playlist_is_tied_to_the_blob_player_that_it_fed(tmp_path: Path) -> None:
    page = _page(
        tmp_path,
        [
            entry(f"{MEDIA}/master.m3u8?pass=1", _HLS, _MASTER, resourceType="fetch"),
            entry(f"{MEDIA}/360p.m3u8", _HLS, _LIST, resourceType="fetch"),
            *_segments(4),
        ],
        [_played({"src": "blob:http://museum.test/1"})],
    )
    first = best(page)
    assert first.url == f"{MEDIA}/master.m3u8?pass=1"
    assert "fed the blob: player of the page: 4 of its 6 segments were asked for" in [e.where for e in first.evidence]
    assert not [find for find in page.finds if find.role == "segment"]


def test_a_dash_manifest_is_tied_to_the_player_that_it_fed_and_its_sections_are_no_finds(tmp_path: Path) -> None:
    manifest = """<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" mediaPresentationDuration="PT12S"><Period>
<AdaptationSet mimeType="video/mp4"><SegmentTemplate duration="4" initialization="i.mp4" media="$Number$.m4s"/>
<Representation id="v" bandwidth="1"/></AdaptationSet>
<AdaptationSet mimeType="audio/webm"><Representation id="a" bandwidth="1"><BaseURL>sound.webm</BaseURL></Representation>
</AdaptationSet></Period></MPD>"""
    entries = [
        entry(f"{MEDIA}/film.mpd", "text/plain", manifest, resourceType="fetch"),
        entry(f"{MEDIA}/i.mp4", "video/mp4", resourceType="fetch"),
        *(entry(f"{MEDIA}/{number}.m4s", "video/mp4", resourceType="fetch") for number in (1, 2)),
        entry(f"{MEDIA}/sound.webm", "audio/webm", status=206, resourceType="fetch"),
    ]
    page = _page(tmp_path, entries, [_played({"src": "blob:http://museum.test/1", "type": "video"})])
    assert [(find.kind, find.url) for find in page.finds] == [("dash", f"{MEDIA}/film.mpd")]
    assert any(
        "fed the blob: player of the page: 3 of its 4 segments" in evidence.where for evidence in page.finds[0].evidence
    )


def test_without_a_player_a_playlist_still_speaks_by_its_segments(tmp_path: Path) -> None:
    page = _page(tmp_path, [entry(f"{MEDIA}/a.m3u8", _HLS, _LIST), *_segments(2)])
    assert "2 of its 6 segments were asked for" in [evidence.where for evidence in best(page).evidence]


def test_redirects_lead_from_the_first_address_to_the_last(tmp_path: Path) -> None:
    page = _page(
        tmp_path,
        [
            entry("http://museum.test/ring", status=302, location=f"{MEDIA}/go"),
            entry(f"{MEDIA}/go", status=307, location="/stored/7c41"),
            entry(f"{MEDIA}/stored/7c41", "audio/mp4", status=206, came={"Content-Range": "bytes 0-9/70764"}),
        ],
    )
    find = best(page)
    assert (find.url, find.final) == ("http://museum.test/ring", f"{MEDIA}/stored/7c41")
    assert (find.kind, find.bytes) == ("audio", 70764)


def test_many_requests_of_one_file_are_one_find(tmp_path: Path) -> None:
    parts = [
        entry(
            f"{MEDIA}/a.mp4", "video/mp4", status=206, resourceType="media", came={"content-range": f"bytes {n}-9/500"}
        )
        for n in range(5)
    ]
    page = _page(tmp_path, parts)
    assert [(find.url, find.bytes) for find in page.finds] == [(f"{MEDIA}/a.mp4", 500)]


def test_a_request_by_a_player_outranks_a_larger_file_that_is_only_linked(tmp_path: Path) -> None:
    linked = document(f'<title>t</title><a href="{MEDIA}/other.mp4">other</a>')
    played = entry(f"{MEDIA}/film.mp4", "video/mp4", status=206, resourceType="media")
    page = page_in(captured(tmp_path, [linked, played]))
    put_in_order(page)
    assert best(page).url == f"{MEDIA}/film.mp4"


def test_media_in_a_json_answer_is_found_though_nobody_asked_for_it(tmp_path: Path) -> None:
    answer = entry("http://museum.test/api/7", "application/json", f'{{"show": {{"file": "{MEDIA}/a.mp4"}}}}')
    find = best(_page(tmp_path, [answer]))
    assert find.url == f"{MEDIA}/a.mp4"
    assert find.evidence[0].where == "JSON answer of /api/7, show.file"


def test_what_a_server_may_insist_on_is_kept_with_the_find_and_cookies_are_not(tmp_path: Path) -> None:
    sent = {"Referer": PAGE, "Origin": "http://museum.test", "Cookie": "a=b", "User-Agent": "Some/1", "Accept": "*/*"}
    find = best(_page(tmp_path, [entry(f"{MEDIA}/a.mp4", "video/mp4", sent=sent)]))
    assert find.mention.sent == {"referer": PAGE, "origin": "http://museum.test", "user-agent": "Some/1"}


def test_an_advert_that_plays_first_in_another_hosts_frame_is_told_apart(tmp_path: Path) -> None:
    spot = entry("http://shop.test/spot.mp4", "video/mp4", frame="http://shop.test/before", resourceType="media")
    film = entry(f"{MEDIA}/film.mp4", "video/mp4", frame=PAGE, resourceType="media")
    page = page_in(captured(tmp_path, [document(), spot, film]))
    seconds = {"http://shop.test/spot.mp4": 5.0, f"{MEDIA}/film.mp4": 20.0}
    page.finds = [answered(find, duration=seconds.get(find.url)) for find in page.finds]
    put_in_order(page)
    assert [(find.role, find.url) for find in page.finds] == [
        ("main", f"{MEDIA}/film.mp4"),
        ("advert", "http://shop.test/spot.mp4"),
    ]


def test_segments_without_a_playlist_are_one_series_with_its_gaps(tmp_path: Path) -> None:
    entries = [entry(f"{MEDIA}/v/{n}.bin", "video/mp2t", resourceType="xhr") for n in (3, 4, 6)]
    page = _page(tmp_path, entries)
    (find,) = page.finds
    assert (find.role, find.members, find.mention.missing) == (
        "segment",
        tuple(f"{MEDIA}/v/{n}.bin" for n in (3, 4, 6)),
        (5,),
    )
    put_in_order(page)
    assert len(page.finds) == 1


def test_a_licence_request_names_the_key_system_and_guards_what_its_frame_played(tmp_path: Path) -> None:
    entries = [
        entry(f"{MEDIA}/licences/7", "application/octet-stream", method="POST", status=403, frame=PAGE),
        entry(f"{MEDIA}/film.mp4", "video/mp4", frame=PAGE, resourceType="media"),
        entry("http://other.test/free.mp4", "video/mp4", frame="http://other.test/", resourceType="media"),
    ]
    page = _page(tmp_path, entries, [_played({"src": f"{MEDIA}/film.mp4"}, systems=["com.widevine.alpha"])])
    assert page.key_systems == ["Widevine"]
    assert _find(page, f"{MEDIA}/film.mp4").protected
    assert not _find(page, "http://other.test/free.mp4").protected


def test_encrypted_media_is_protected_and_keys_in_clear_are_not(tmp_path: Path) -> None:
    film = entry(f"{MEDIA}/film.mp4", "video/mp4", frame=PAGE, resourceType="media")
    guarded = _page(tmp_path, [film], [_played({"src": "x", "keyed": True}, systems=["org.example.keys"])])
    clear = _page(tmp_path, [film], [_played({"src": "x", "keyed": True}, systems=["org.w3.clearkey"])])
    assert guarded.finds[0].protected
    assert "org.example.keys" in (guarded.finds[0].problem or "")
    assert not clear.finds[0].protected
    assert not clear.key_systems


def test_asking_whether_a_key_system_is_there_protects_nothing_by_itself(tmp_path: Path) -> None:
    film = entry(f"{MEDIA}/film.mp4", "video/mp4", frame=PAGE, resourceType="media")
    page = _page(tmp_path, [film], [_played({"src": "x"}, systems=["com.widevine.alpha"])])
    assert page.key_systems == ["Widevine"]
    assert best(page).url == f"{MEDIA}/film.mp4"


def test_a_playlist_with_a_key_system_is_marked(tmp_path: Path) -> None:
    body = (
        '#EXTM3U\n#EXT-X-KEY:METHOD=SAMPLE-AES,URI="x",KEYFORMAT="com.apple.streamingkeydelivery"\n#EXTINF:4,\na.ts\n'
    )
    page = _page(tmp_path, [entry(f"{MEDIA}/a.m3u8", _HLS, body)])
    assert page.finds[0].protected
    assert "FairPlay" in (page.finds[0].problem or "")


def test_what_the_browser_was_refused_says_so(tmp_path: Path) -> None:
    page = _page(tmp_path, [entry(f"{MEDIA}/a.mp4", "video/mp4", status=403, resourceType="media")])
    assert page.finds[0].problem == "the server answered 403 to the browser"


def test_what_was_asked_for_in_vain_is_said_once_an_address(tmp_path: Path) -> None:
    part = f"{MEDIA}/part-"
    vain = [entry(f"{part}{n % 12}.ts", "text/html", status=404, resourceType="fetch") for n in range(24)]
    vain += [entry(f"{PAGE}/api", status=403, resourceType="xhr"), entry(f"{PAGE}/a.css", status=404)]
    vain += [entry(f"{PAGE}/a.png", "text/html", status=404, resourceType="image")]
    page = _page(tmp_path, vain)
    assert page.failed == ["12 segments answered 404", "1 request by scripts answered 403"]
    problem = nothing(page)
    assert "12 segments answered 404, 1 request by scripts answered 403." in problem.what
    assert "--press" in (problem.advice or "")


def test_the_source_as_it_stood_at_the_end_is_read_too(tmp_path: Path) -> None:
    views = [{"url": PAGE, "title": "A Film", "source": f'<video src="{MEDIA}/later.mp4"></video>'}]
    page = _page(tmp_path, [], views)
    assert [(find.url, find.evidence[0].where) for find in page.finds] == [(f"{MEDIA}/later.mp4", "video element")]


def test_style_sheets_scripts_and_beacons_are_no_finds(tmp_path: Path) -> None:
    entries = [
        entry("http://museum.test/a.css", "text/css", resourceType="stylesheet"),
        entry("http://museum.test/a.js", "text/javascript", resourceType="script"),
        entry("http://museum.test/count.gif", "image/gif", resourceType="ping"),
        entry("http://museum.test/api", "application/json", "{}", resourceType="fetch"),
        entry("data:image/png;base64,AAAA", "image/png"),
        entry(f"{MEDIA}/upload.mp4", "video/mp4", method="POST"),
    ]
    assert not _page(tmp_path, entries).finds


def test_addresses_that_are_none_are_passed_over_and_counted(tmp_path: Path) -> None:
    hostile = [
        entry("http://[::1", "video/mp4"),
        entry("http://a.test:99999/x.mp4", "video/mp4"),
        entry("javascript:alert(1)", "video/mp4"),
        entry(f"http://a.test/{'a' * 200_000}.mp4", "video/mp4"),
    ]
    circle = [entry("http://a.test/1", status=302, location="/2"), entry("http://a.test/2", status=302, location="/1")]
    nowhere = entry("http://a.test/3", status=302, location="http://[bad")
    film = entry(f"{MEDIA}/a.mp4", "video/mp4", sent={"Referer": "x\r\nInjected: 1", "Origin": "http://a.test"})
    page = _page(tmp_path, [*hostile, *circle, nowhere, film], [{"url": "nonsense"}])
    assert [(find.url, find.mention.sent) for find in page.finds] == [(f"{MEDIA}/a.mp4", {"origin": "http://a.test"})]
    assert page.notes == ["4 requests have no address of the web, and were passed over."]
