"""Talking to servers: what is sent, what is believed, and how failures are worded."""

import asyncio
import gzip
import os
from collections.abc import Awaitable, Callable
from typing import TypeVar

import pytest

from mudlark.browser.driver import opened
from mudlark.errors import NetworkError, UsageError
from mudlark.find.judge.probe import ask
from mudlark.together import together
from mudlark.web.answer import Content
from mudlark.web.connection import Connection, header_pair
from mudlark.web.passing import Backoff, Passing
from mudlark.web.retry import persist
from mudlark.web.session import Session
from tests.conftest import Answer, Trouble
from tests.pages import named

T = TypeVar("T")
QUICK = Connection(backoff=Backoff(tries=2, first=0.01, longest=0.02))


def with_session(work: Callable[[Session], Awaitable[T]], connection: Connection = QUICK) -> T:
    async def run() -> T:
        async with Session(connection) as session:
            return await work(session)

    return asyncio.run(run())


def look(url: str, *, whole: bool = True) -> Content:
    return with_session(lambda session: session.look(url, lambda _head, _type: whole))


def test_a_signed_address_reaches_the_server_as_it_stands(trouble: Trouble) -> None:
    url = trouble.say("/a%2Fb/film.mp4", Answer(b"x")) + "?sig=a%2Bb%2F==&to=%2Fpath&p=a+b"
    look(url)
    assert trouble.asked == ["/a%2Fb/film.mp4?sig=a%2Bb%2F==&to=%2Fpath&p=a+b"]


def test_a_redirect_to_a_signed_address_is_followed_as_it_stands(trouble: Trouble) -> None:
    trouble.say("/b%2Fc", Answer(b"there"))
    url = trouble.say("/a", Answer(b"", 302, headers={"Location": "/b%2Fc?s=%2B"}))
    found = look(url)
    assert found.body == b"there" and found.url.endswith("/b%2Fc?s=%2B")


def test_header_lines_longer_than_usual_are_taken(trouble: Trouble) -> None:
    found = look(trouble.say("/a", Answer(b"x", headers={"Content-Security-Policy": "a " * 30_000})))
    assert found.body == b"x"


def test_compressed_text_is_unpacked_and_its_wire_length_not_believed(trouble: Trouble) -> None:
    text = b"tide " * 5000
    answer = Answer(gzip.compress(text), type="text/plain; charset=UTF-8", headers={"Content-Encoding": "gzip"})
    found = look(trouble.say("/a", answer))
    assert (found.body, found.length, found.type, found.charset) == (text, len(text), "text/plain", "UTF-8")


def test_a_large_file_is_only_looked_at(trouble: Trouble) -> None:
    found = look(trouble.say("/a", Answer(bytes(3_000_000))), whole=False)
    assert not found.complete and found.length == 3_000_000 and len(found.body) < 1_000_000


def test_a_look_at_a_large_file_keeps_its_name_and_digest(trouble: Trouble) -> None:
    headers = {"Content-Disposition": 'attachment; filename="chart.img"', "Content-MD5": "x", "ETag": '"v"'}
    found = look(trouble.say("/a", Answer(bytes(3_000_000), headers=headers)), whole=False)
    assert (found.filename, found.headers["content-md5"], found.validator) == ("chart.img", "x", '"v"')


def test_a_glance_asks_for_a_part_and_learns_the_whole_length(trouble: Trouble) -> None:
    headers = {"Content-Range": "bytes 0-9/5000", "ETag": '"v1"'}
    found = with_session(lambda session: session.glance(trouble.say("/a", Answer(b"0123456789", 206, headers=headers))))
    assert trouble.headers[0]["Range"] == "bytes=0-65535" and trouble.headers[0]["Cache-Control"] == "no-cache"
    assert (found.length, found.ranges, found.validator) == (5000, True, '"v1"')


def test_a_weak_validator_is_no_validator(trouble: Trouble) -> None:
    url = trouble.say("/a", Answer(b"x", headers={"ETag": 'W/"v1"', "Accept-Ranges": "bytes"}))
    found = with_session(lambda session: session.glance(url))
    assert found.ranges and found.validator is None


@pytest.mark.parametrize(
    ("status", "words"),
    [(401, "log-in"), (403, "expired"), (404, "still exists"), (410, "gone for good"), (451, "451"), (599, "599")],
)
def test_a_refusal_is_worded_with_what_to_do(trouble: Trouble, status: int, words: str) -> None:
    with pytest.raises(NetworkError) as problem:
        look(trouble.say("/a", Answer(b"no", status)))
    assert words in str(problem.value) and problem.value.status == status and problem.value.exit_status == 5


def test_the_number_of_tries_is_kept_and_said(trouble: Trouble) -> None:
    with pytest.raises(NetworkError, match=r"503 Service Unavailable \(2 tries\)\."):
        look(trouble.say("/a", Answer(b"", 503)))
    assert len(trouble.asked) == 2


def test_what_fails_for_good_is_not_tried_again() -> None:
    calls = 0

    async def attempt() -> None:
        nonlocal calls
        calls += 1
        raise NetworkError("gone")

    with pytest.raises(NetworkError):
        asyncio.run(persist(attempt, Backoff(tries=5, first=0.01)))
    assert calls == 1


def test_retries_are_told_to_who_watches() -> None:
    told: list[str] = []
    answers = iter([Passing("one"), Passing("two"), None])

    async def attempt() -> str:
        if problem := next(answers):
            raise problem
        return "done"

    found = asyncio.run(persist(attempt, Backoff(first=0.001), lambda problem: told.append(problem.what)))
    assert found == "done" and told == ["one", "two"]


def test_an_answer_that_is_no_http_is_said(trouble: Trouble) -> None:
    async def work() -> None:
        server = await asyncio.start_server(lambda _r, w: w.write(b"SSH-2.0-OpenSSH\r\n\r\n"), "127.0.0.1", 0)
        port = server.sockets[0].getsockname()[1]
        async with Session(QUICK) as session:
            await session.look(f"http://127.0.0.1:{port}/")

    with pytest.raises(NetworkError, match="does not answer as a web server does"):
        asyncio.run(work())


@pytest.mark.parametrize("text", ["no colon", ": value", "Na me: x", "A: b\r\nC: d"])
def test_what_is_no_header_is_said(text: str) -> None:
    with pytest.raises(UsageError, match="is not a header"):
        header_pair(text)


def test_a_header_is_read_as_it_is_written() -> None:
    assert header_pair("Referer: http://m.example/a:b") == ("Referer", "http://m.example/a:b")


def test_what_a_caller_raises_while_reading_passes_as_it_is(trouble: Trouble) -> None:
    url = trouble.say("/a", Answer(b"abc"))

    async def work(problem: Exception) -> None:
        async with Session() as session, session.open(url):
            raise problem

    for problem in (ValueError("mine"), OSError("my disk")):
        with pytest.raises(type(problem), match=str(problem)):
            asyncio.run(work(problem))


def test_a_mistake_while_asking_is_not_taken_for_a_server_s(monkeypatch: pytest.MonkeyPatch) -> None:
    async def broken(*_: object) -> None:
        raise TypeError("a cog slipped")

    monkeypatch.setattr("mudlark.find.judge.probe._ask", broken)

    async def work() -> None:
        async with Session() as session:
            await ask(session, [named("http://127.0.0.1:9/a.mp4", "video")])

    with pytest.raises(TypeError, match="a cog slipped"):
        asyncio.run(work())


def test_when_one_of_several_fails_the_others_are_ended_first() -> None:
    ended: list[str] = []

    async def slow() -> None:
        try:
            await asyncio.sleep(30)
        finally:
            ended.append("slow")

    async def failing() -> None:
        await asyncio.sleep(0)
        raise NetworkError("gone")

    with pytest.raises(NetworkError, match="gone"):
        asyncio.run(together([slow(), failing()]))
    assert ended == ["slow"]


@pytest.mark.browser
def test_two_browsers_at_once_leave_the_environment_alone() -> None:
    before = dict(os.environ)

    async def work() -> list[str]:
        async def one() -> str:
            async with opened(Connection()) as context:
                return context.browser.version if context.browser else ""

        return await together([one(), one()])

    assert all(asyncio.run(work())) and dict(os.environ) == before
