"""All exchanges as WARC, read back by the `warcio` package with their digests checked; and the page that is kept."""

import asyncio
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from PIL import Image
from warcio.archiveiterator import ArchiveIterator

from mudlark.archive.layout import EXCHANGES
from mudlark.archive.warc import Exchanges
from mudlark.demo.site import DemoSite
from mudlark.web.connection import Connection
from mudlark.web.observer import Seen, new_body
from mudlark.web.passing import Backoff
from mudlark.web.session import Session
from tests.conftest import Answer, Ran, Trouble


def seen(url: str, body: bytes = b"tide", kind: str = "video/mp2t", **more: Any) -> Seen:
    place = new_body()
    place.write(body)
    sent = [("Host", "m.example"), ("Authorization", "Bearer tellnobody")]
    came = [("Content-Type", kind), ("Set-Cookie", "sid=tellnobody")]
    return Seen(url, "GET", 1_900_000_000.25, sent, b"", 200, "OK", "HTTP/1.1", came, place, **more)


def records(path: Path) -> list[tuple[str, str, bytes, dict[str, str]]]:
    """Type, address, body, and header fields of all records; their digests are checked."""
    found = []
    with path.open("rb") as file:
        for record in ArchiveIterator(file, check_digests="raise"):
            header = dict(record.rec_headers.headers)
            if record.http_headers:
                header |= dict(record.http_headers.headers)
            found.append((record.rec_type, header.get("WARC-Target-URI", ""), record.content_stream().read(), header))
    return found


def test_exchanges_are_written_with_what_was_sent_and_what_came(tmp_path: Path) -> None:
    path = tmp_path / EXCHANGES
    file = Exchanges(path)
    file.write(seen("http://m.example/a?token=tellnobody&n=1"))
    file.write(seen("http://m.example/b", cut="disconnect"))
    file.write(seen("http://m.example/c", b'{"token": "tellnobody"}', "application/json"))
    file.close()
    kinds = [(kind, url, body) for kind, url, body, _ in records(path)]
    first = kinds[1][1]
    assert first.startswith("http://m.example/a?token=hidden-") and first.endswith("&n=1")
    assert [kind for kind, _, _ in kinds] == [
        "warcinfo",
        *("response", "request"),
        *("revisit", "request"),
        *("response", "request"),
    ]
    assert kinds[1][2] == b"tide" and b"hidden-" in kinds[5][2]
    response, again = records(path)[1][3], records(path)[3][3]
    assert response["WARC-Date"] == "2030-03-17T17:46:40.250000Z" and response["Content-Type"] == "video/mp2t"
    assert again["WARC-Refers-To-Target-URI"] == first and again["WARC-Truncated"] == "disconnect"
    import gzip

    assert b"tellnobody" not in gzip.decompress(path.read_bytes())


def test_the_head_that_is_kept_fits_the_body(tmp_path: Path) -> None:
    file = Exchanges(tmp_path / EXCHANGES)
    packed = seen("http://m.example/a", b"unpacked, and longer")
    packed.came += [("Content-Length", "9"), ("Content-Encoding", "gzip")]
    fitting = seen("http://m.example/b", b"as it came")
    fitting.came += [("content-length", "10")]
    file.write(packed)
    file.write(fitting)
    file.close()
    first, second = (header for kind, _, _, header in records(tmp_path / EXCHANGES) if kind == "response")
    assert (first["X-Received-Content-Length"], first["Content-Length"]) == ("9", "20")
    assert first["X-Received-Content-Encoding"] == "gzip" and "Content-Encoding" not in first
    assert second["content-length"] == "10" and not any(name.startswith("X-Received") for name in second)


def test_heads_of_any_letters_are_kept(tmp_path: Path) -> None:
    file = Exchanges(tmp_path / EXCHANGES)
    odd = seen("http://m.example/a")
    odd.reason = "Gefällt"
    odd.came += [("Link", "</Fähre>; rel=next"), ("X-Fähre", "ja")]
    file.write(odd)
    file.close()
    (header,) = (header for kind, _, _, header in records(tmp_path / EXCHANGES) if kind == "response")
    assert header["Link"] == "</Fähre>; rel=next" and header["X-Fähre"] == "ja"


def test_secrets_stay_where_that_is_asked_for(tmp_path: Path) -> None:
    file = Exchanges(tmp_path / EXCHANGES, keep_secrets=True)
    file.write(seen("http://m.example/a?token=kept"))
    file.close()
    assert records(tmp_path / EXCHANGES)[2][3]["Authorization"] == "Bearer tellnobody"


@pytest.mark.parametrize("lost", [0, 1, 40, 10_000])
def test_a_file_that_broke_off_is_gone_on_with_after_its_last_whole_record(tmp_path: Path, lost: int) -> None:
    path, other = tmp_path / EXCHANGES, tmp_path / "second name"
    file = Exchanges(path)
    for name in "ab":
        file.write(seen(f"http://m.example/{name}", name.encode()))
    file.close()
    before = path.read_bytes()[: -lost or None]
    path.write_bytes(before)
    other.hardlink_to(path)
    file = Exchanges(path)
    file.write(seen("http://m.example/a", b"a"))
    file.close()
    there = [(kind, body) for kind, _, body, _ in records(path)]
    assert there[-2:] == [("revisit", b""), ("request", b"")] if lost < 10_000 else there[-2][1] == b"a"
    assert other.read_bytes() == before


def test_what_a_session_asks_and_is_answered_is_told_whole(tmp_path: Path, trouble: Trouble) -> None:
    trouble.say("/old", Answer(b"", 302, headers={"Location": "/new"}))
    trouble.say("/new", Answer(b"tide" * 5))
    trouble.say("/gone", Answer(b"No such thing", 410, "text/plain"))
    trouble.say("/cut", Answer(b"tide" * 5, cut=7))

    async def ask() -> None:
        file = Exchanges(tmp_path / EXCHANGES)
        async with Session(Connection(backoff=Backoff(tries=1))) as plain:
            session = plain.observed(file)
            for path in ("/old", "/gone", "/cut"):
                try:
                    await session.look(trouble.url + path, lambda _head, _type: True)
                except Exception as problem:
                    assert path != "/old", problem
            await session.send(trouble.url + "/new", [("q", "a b")])
        file.close()

    asyncio.run(ask())
    told = [
        (kind, url.removeprefix(trouble.url), body, head.get("WARC-Truncated"))
        for kind, url, body, head in records(tmp_path / EXCHANGES)
        if kind != "request"
    ]
    assert told[1:5] == [
        ("response", "/old", b"", "unspecified"),
        ("response", "/new", b"tide" * 5, None),
        ("response", "/gone", b"No such thing", None),
        ("response", "/cut", b"tidetid", "disconnect"),
    ]
    assert records(tmp_path / EXCHANGES)[-1][2] == b"q=a+b"


@pytest.mark.program
def test_a_haul_keeps_its_exchanges_and_the_page(tmp_path: Path, mudlark: Callable[..., Ran], site: DemoSite) -> None:
    ran = mudlark(
        "haul", site.origins.site + "/film/tide-mill", "--warc", "--into", "a", "--header", "X-Auth-Token: tellnobody"
    )
    assert ran.status == 0, ran.err
    (folder,) = (tmp_path / "a").iterdir()
    assert b"<html" in (folder / "page/page.html").read_bytes()
    facts = json.loads((folder / "record.json").read_text())
    roles = {file["path"]: file["role"] for file in facts["files"]}
    assert roles[EXCHANGES] == "exchanges" and roles["page/page.html"] == "page"
    there = records(folder / EXCHANGES)
    bodies = {url: len(body) for kind, url, body, _ in there if kind == "response"}
    for segment in facts["segment_list"]:
        assert bodies[segment["url"]] == segment["bytes"] or segment["byte_range"], segment
    assert all(manifest["url"] in bodies for manifest in facts["source"]["manifests"])
    assert all("tellnobody" not in str(head) for _, _, _, head in there)
    again = mudlark("haul", site.origins.site + "/film/tide-mill", "--warc", "--into", "a", "--json").json["items"][0]
    assert again["state"] == "unchanged"
    plain = mudlark("haul", site.origins.site + "/film/tide-mill", "--no-page", "--into", "a", "--json").json["items"][
        0
    ]
    assert plain["state"] == "new" and not (tmp_path / plain["folder"] / "page").exists()


@pytest.mark.program
@pytest.mark.browser
def test_a_page_that_was_listened_to_is_kept_as_it_stood(
    tmp_path: Path, mudlark: Callable[..., Ran], site: DemoSite
) -> None:
    ran = mudlark(
        "haul", site.origins.site + "/film/nets", "--listen", "--warc", "--settle", "0.5", "--into", "a", "--json"
    )
    folder = tmp_path / ran.json["items"][0]["folder"]
    assert "Mending Nets" in (folder / "page/page.txt").read_text()
    with Image.open(folder / "page/page.png") as picture:
        assert picture.size[0] >= 1000 and len(picture.convert("L").tobytes().strip(b"\xff")) > 1000
    kinds = [kind for kind, url, _, _ in records(folder / EXCHANGES) if url == site.origins.site + "/film/nets"]
    assert kinds.count("response") >= 1 and "revisit" in kinds
