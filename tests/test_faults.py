"""Answers that break the rules of HTTP, byte by byte: none of them ends in a wrong file, a hang or a leak."""

import asyncio
import gzip
import socket
import time
from pathlib import Path

import pytest
from msgspec.structs import replace

from mudlark.fetch.engine import Engine, Job, Outcome
from mudlark.fetch.store import Store
from mudlark.manifest.model import Segment
from mudlark.web.connection import Connection
from mudlark.web.passing import Backoff
from mudlark.web.resource import Resource, Span, Version
from mudlark.web.session import Session
from tests.conftest import Answer, Trouble
from tests.raw import Raw, head

QUICK = Connection(lanes=2, backoff=Backoff(tries=2, first=0.0, longest=0.0), patience=10)
GOOD = b"HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\nfilm"


def fetch(folder: Path, resources: list[Resource], connection: Connection = QUICK) -> list[Outcome]:
    async def work() -> list[Outcome]:
        with Store(folder, "target") as store:
            async with Session(connection) as session:
                session.at_home(resources[0].url)
                engine = Engine(session, store, lambda head: None if head.startswith(b"film") else "no film")
                jobs = [Job("v1", number, Segment(number, resource)) for number, resource in enumerate(resources)]
                return [outcome async for outcome in engine.run(jobs)]

    return asyncio.run(work())


def bodies(outcomes: list[Outcome]) -> list[bytes | None]:
    return [outcome.place.read() if outcome.place else None for outcome in outcomes]


@pytest.mark.parametrize(
    "word",
    [
        head("Content-Length: 9") + b"film",
        head("Transfer-Encoding: chunked") + b"9\r\nfilm",
        head("Content-Length: 4", status="204 No Content") + b"film",
        head("Content-Length: 4", status="304 Not Modified") + b"film",
        head("Content-Length: no") + b"film",
        head(f"X-Long: {'x' * 600_000}", "Content-Length: 4") + b"film",
        b"film and no header at all",
        b"",
        head("Content-Encoding: gzip", "Content-Length: 12") + gzip.compress(b"film" * 100)[:12],
    ],
    ids=["short", "cut chunk", "204", "304", "no length", "huge header", "no header", "nothing", "cut gzip"],
)
def test_what_breaks_the_rules_is_asked_for_again(tmp_path: Path, raw: Raw, word: bytes) -> None:
    raw.script = [word, GOOD]
    assert bodies(fetch(tmp_path, [Resource(raw.url)])) == [b"film"]
    assert len(raw.asked) == 2
    raw.script = [word]
    (outcome,) = fetch(tmp_path / "never", [Resource(raw.url)])
    assert outcome.place is None and outcome.problem and len(raw.asked) >= 4


@pytest.mark.parametrize(
    "word",
    [
        head("Content-Range: bytes 7-10/99", "Content-Length: 4", status="206 Partial Content") + b"else",
        head("Content-Range: bytes 2-5/99", "Content-Length: 7", status="206 Partial Content") + b"film...",
        head("Content-Range: bytes 2-5/99", "Content-Encoding: gzip", status="206 Partial Content")
        + gzip.compress(b"film"),
    ],
    ids=["another part", "more than asked", "compressed"],
)
def test_a_part_that_is_not_the_one_asked_for_is_not_taken(tmp_path: Path, raw: Raw, word: bytes) -> None:
    right = head("Content-Range: bytes 2-5/99", "Content-Length: 4", status="206 Partial Content") + b"film"
    raw.script = [word, right]
    resources = [Resource(raw.url, Span(2, 4), Version('"tag"'))]
    assert bodies(fetch(tmp_path, resources)) == [b"film"] and len(raw.asked) == 2


def test_more_bytes_than_announced_do_not_spoil_what_comes_next(tmp_path: Path, raw: Raw) -> None:
    raw.script = [head("Content-Length: 4") + b"film" + GOOD * 3, GOOD]
    outcomes = fetch(tmp_path, [Resource(f"{raw.url}/{number}") for number in range(4)])
    assert bodies(outcomes) == [b"film"] * 4


def test_a_body_that_only_drips_is_given_up(tmp_path: Path, raw: Raw) -> None:
    def drip(client: socket.socket) -> None:
        client.sendall(head("Content-Length: 1000000") + b"film")
        while True:
            client.sendall(b".")
            time.sleep(0.05)

    raw.script = [drip, GOOD]
    assert bodies(fetch(tmp_path, [Resource(raw.url)], replace(QUICK, patience=0.4))) == [b"film"]


@pytest.mark.parametrize("target", ["file:///etc/hostname", "ftp://127.0.0.1/film", "data:,film", "//[::bad/film"])
def test_a_segment_that_is_sent_to_another_scheme_is_refused(tmp_path: Path, raw: Raw, target: str) -> None:
    raw.script = [head(f"Location: {target}", "Content-Length: 0", status="302 Found")]
    (outcome,) = fetch(tmp_path, [Resource(raw.url)])
    assert outcome.place is None and "cannot be requested" in (outcome.problem or "") and len(raw.asked) == 1


def test_what_is_secret_stays_with_its_host_when_another_address_is_asked(tmp_path: Path, trouble: Trouble) -> None:
    other = Trouble()
    try:
        first = trouble.say("/film", Answer(b"", 500))
        spare = other.say("/film", Answer(b"film"))
        connection = replace(QUICK, headers=(("Authorization", "hush"), ("X-Kind", "open")))
        assert bodies(fetch(tmp_path, [Resource(first, others=(spare,))], connection)) == [b"film"]
        assert trouble.headers[0]["Authorization"] == "hush"
        assert "Authorization" not in other.headers[0] and other.headers[0]["X-Kind"] == "open"
    finally:
        other.close()


def test_an_address_that_serves_stays_preferred(tmp_path: Path, trouble: Trouble) -> None:
    resources = [
        Resource(trouble.say(f"/dead/{n}", Answer(b"", 503)), others=(trouble.say(f"/live/{n}", Answer(b"film")),))
        for n in range(20)
    ]
    assert bodies(fetch(tmp_path, resources, replace(QUICK, lanes=1))) == [b"film"] * 20
    first = {path.rpartition("/")[2]: path for path in reversed(trouble.asked)}  # one that is slow is asked twice
    assert [number for number, path in first.items() if path.startswith("/dead")] == ["0"]


def test_what_is_much_slower_than_its_peers_is_asked_for_twice(tmp_path: Path, trouble: Trouble) -> None:
    resources = [Resource(trouble.say(f"/{n}", Answer(b"film"))) for n in range(12)]
    trouble.say("/11", Answer(b"film and late", hold=300), Answer(b"film"))
    outcomes = fetch(tmp_path, resources, replace(QUICK, patience=100))
    assert bodies(outcomes) == [b"film"] * 12 and trouble.asked.count("/11") == 2
