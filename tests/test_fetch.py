"""Fetching: tries again what may pass, resumes from disk, never takes short or wrong bytes for whole ones."""

import asyncio
import hashlib
import random
from concurrent.futures import ThreadPoolExecutor
from contextlib import aclosing
from pathlib import Path
from threading import Event

import msgspec
import pytest
from msgspec.structs import replace

from mudlark.errors import NetworkError, StorageError
from mudlark.fetch.engine import Engine, Job, Layout, Outcome, section_name
from mudlark.fetch.receive import in_thread
from mudlark.fetch.store import Store
from mudlark.hauling.plain import parts
from mudlark.manifest.model import Cipher, Initialization, Segment
from mudlark.web.connection import Connection
from mudlark.web.meter import Meter
from mudlark.web.passing import Backoff
from mudlark.web.resource import Resource, Span, Version
from mudlark.web.session import Session
from tests.conftest import Answer, Trouble

QUICK = Connection(lanes=3, backoff=Backoff(tries=3, first=0.01, longest=0.02), patience=20)


def fetch(folder: Path, segments: list[Segment], connection: Connection = QUICK) -> tuple[list[Outcome], Engine]:
    async def work() -> tuple[list[Outcome], Engine]:
        with Store(folder, "target") as store:
            async with Session(connection) as session:
                engine = Engine(session, store, lambda head: "an error page" if head.startswith(b"<") else None)
                return [
                    outcome
                    async for outcome in engine.run(
                        [Job("v1", number, segment) for number, segment in enumerate(segments)]
                    )
                ], engine

    return asyncio.run(work())


def bodies(outcomes: list[Outcome]) -> list[bytes | None]:
    return [outcome.place.read() if outcome.place else None for outcome in outcomes]


def test_segments_come_in_order_with_their_digests(tmp_path: Path, trouble: Trouble) -> None:
    data = [bytes([n]) * (300_000 * (n % 3) + 10) for n in range(7)]
    segments = [Segment(n, Resource(trouble.say(f"/{n}", Answer(body)))) for n, body in enumerate(data)]
    outcomes, engine = fetch(tmp_path, segments)
    assert bodies(outcomes) == data
    assert [o.row.sha256 for o in outcomes if o.row] == [hashlib.sha256(body).hexdigest() for body in data]
    assert (engine.counts.fetched, engine.counts.retried) == (7, 0)


@pytest.mark.parametrize(
    "first",
    [
        Answer(status=503),
        Answer(status=500),
        Answer(status=429, headers={"Retry-After": "0"}),
        Answer(b"whole", cut=2),
        Answer(b"<html>busy</html>"),
    ],
    ids=["503", "500", "429", "truncated", "error page"],
)
def test_what_may_pass_is_tried_again(tmp_path: Path, trouble: Trouble, first: Answer) -> None:
    outcomes, engine = fetch(tmp_path, [Segment(0, Resource(trouble.say("/a", first, Answer(b"whole"))))])
    assert bodies(outcomes) == [b"whole"]
    assert engine.counts.retried == 1


def test_a_body_that_breaks_off_goes_on_where_it_was(tmp_path: Path, trouble: Trouble) -> None:
    body = bytes(range(256)) * 2_000
    whole = {"ETag": '"one"', "Accept-Ranges": "bytes"}
    rest = {"Content-Range": f"bytes 300000-511999/{len(body)}", "ETag": '"one"'}
    answers = Answer(body, cut=300_000, headers=whole), Answer(body[300_000:], 206, headers=rest)
    segment = Segment(0, Resource(trouble.say("/a", *answers)))
    outcomes, engine = fetch(tmp_path, [segment])
    assert bodies(outcomes) == [body] and engine.counts.retried == 1
    asked = [headers.get("Range") for headers in trouble.headers]
    assert asked == [None, "bytes=300000-511999"] and trouble.headers[1]["If-Range"] == '"one"'
    assert outcomes[0].row and outcomes[0].row.sha256 == hashlib.sha256(body).hexdigest()


@pytest.mark.parametrize("tag", ['"two"', 'W/"one"', ""])
def test_what_broke_off_is_not_joined_with_something_else(tmp_path: Path, trouble: Trouble, tag: str) -> None:
    old, new = b"o" * 400_000, b"n" * 400_000
    first = Answer(old, cut=300_000, headers={"ETag": tag or '"one"', "Accept-Ranges": "bytes"} if tag != "" else {})
    outcomes, _ = fetch(
        tmp_path, [Segment(0, Resource(trouble.say("/a", first, Answer(new, headers={"ETag": '"two"'}))))]
    )
    assert bodies(outcomes) == [new]
    assert not list((tmp_path / ".mudlark").glob("*/segments/*.part"))


def test_the_beginning_of_a_part_outlives_its_run(tmp_path: Path, trouble: Trouble) -> None:
    """Whoever comes back asks for the rest alone; unless what is there is not what was written."""
    body = random.Random(1).randbytes(4_000_000)

    def answer(first: int, cut: int | None = None) -> Answer:
        return Answer(body[first:], 206, cut=cut, headers={"Content-Range": f"bytes {first}-3999999/4000000", **tag})

    tag = {"ETag": '"one"'}
    address = trouble.say("/film", answer(0, 2_500_000))
    segment = Segment(0, Resource(address, Span(0, len(body)), Version('"one"', None, len(body))))

    async def run(tries: int) -> bytes:
        with Store(tmp_path, "target") as store:
            async with Session(Connection(lanes=1, backoff=Backoff(tries=tries, first=0.01, longest=0.01))) as session:
                engine = Engine(session, store, lambda _head: None, layout=Layout.WHOLE)
                jobs = parts("file", segment, store.rows("file"), lambda: len(body))
                return b"".join([one.place.read() async for one in engine.run(jobs) if one.place])

    def asked_from() -> int:
        return int(trouble.headers[-1]["Range"].removeprefix("bytes=").removesuffix("-3999999"))

    assert asyncio.run(run(1)) == b""
    with Store(tmp_path, "target") as store:
        (row,) = store.rows("file")
    assert 1_000_000 < row.bytes <= 2_500_000
    trouble.say("/film", answer(row.bytes, 1_200_000))
    assert asyncio.run(run(1)) == body[: row.bytes] and asked_from() == row.bytes
    with Store(tmp_path, "target") as store:
        again = store.rows("file")[-1]
    first, rest = row.bytes, again.number + again.bytes
    assert first < rest <= first + 1_200_000
    with (store.folder / "segments" / row.file).open("r+b") as file:
        file.write(b"something else")
    mended = Answer(body[:first], 206, headers={"Content-Range": f"bytes 0-{first - 1}/4000000", **tag})
    trouble.say("/film", mended, answer(rest))
    assert asyncio.run(run(1)) == body and asked_from() == rest


def test_a_server_that_falls_silent_is_asked_again(tmp_path: Path, trouble: Trouble) -> None:
    segment = Segment(0, Resource(trouble.say("/a", Answer(b"late", hold=300), Answer(b"whole"))))
    outcomes, engine = fetch(tmp_path, [segment], replace(QUICK, patience=1.5))
    assert bodies(outcomes) == [b"whole"]
    assert engine.counts.retried >= 1


def test_a_segment_that_is_gone_does_not_stop_the_others(tmp_path: Path, trouble: Trouble) -> None:
    segments = [Segment(n, Resource(trouble.say(f"/{n}", Answer(b"x", 404 if n == 1 else 200)))) for n in range(4)]
    outcomes, engine = fetch(tmp_path, segments)
    assert bodies(outcomes) == [b"x", None, b"x", b"x"]
    assert "404" in (outcomes[1].problem or "") and engine.counts.missing == 1
    assert trouble.asked.count("/1") == 2  # it may be back on a second look


def test_a_server_that_is_gone_ends_the_haul(tmp_path: Path, trouble: Trouble) -> None:
    segments = [Segment(n, Resource(trouble.say(f"/{n}", Answer(status=503)))) for n in range(40)]
    with pytest.raises(NetworkError, match="3 tries"):
        fetch(tmp_path, segments)
    assert len(set(trouble.asked)) < 15


def test_a_second_run_asks_only_for_what_is_missing(tmp_path: Path, trouble: Trouble) -> None:
    segments = [
        Segment(n, Resource(trouble.say(f"/{n}", Answer(bytes([n]) * 50, 404 if n == 2 else 200)))) for n in range(4)
    ]
    fetch(tmp_path, segments)
    trouble.asked.clear()
    trouble.say("/2", Answer(b"late"))
    outcomes, engine = fetch(tmp_path, [Segment(s.sequence, Resource(s.resource.url + "?token=new")) for s in segments])
    assert sorted(trouble.asked) == ["/0?token=new", "/2?token=new"]  # one of them proves that the others are the same
    assert bodies(outcomes)[2] == b"late" and engine.counts.reused == 2


def test_segments_that_differ_in_a_token_are_others_unless_their_bytes_say_otherwise(
    tmp_path: Path, trouble: Trouble
) -> None:
    segments = [Segment(n, Resource(trouble.say(f"/{n}", Answer(bytes([n]) * 50)))) for n in range(3)]
    fetch(tmp_path, segments)
    others = [trouble.say(f"/{n}", Answer(bytes([n + 10]) * 50)) + "?session=2" for n in range(3)]
    outcomes, engine = fetch(tmp_path, [Segment(n, Resource(url)) for n, url in enumerate(others)])
    assert bodies(outcomes) == [bytes([n + 10]) * 50 for n in range(3)] and engine.counts.reused == 0


def test_bytes_that_changed_on_disk_are_fetched_again(tmp_path: Path, trouble: Trouble) -> None:
    segments = [
        Segment(0, Resource(trouble.say("/0", Answer(b"right")))),
        Segment(1, Resource(trouble.say("/1", Answer(b"", 404)))),
    ]
    outcomes, _ = fetch(tmp_path, segments)
    assert outcomes[0].place
    outcomes[0].place.path.write_bytes(b"wrong")
    assert bodies(fetch(tmp_path, segments)[0])[0] == b"right"


def test_a_part_of_a_file_is_asked_for_by_range(tmp_path: Path, trouble: Trouble) -> None:
    url = trouble.say("/all", Answer(b"cde", 206, headers={"Content-Range": "bytes 2-4/9"}))
    outcomes, _ = fetch(tmp_path, [Segment(0, Resource(url, Span(2, 3)))])
    assert bodies(outcomes) == [b"cde"] and trouble.headers[0]["Range"] == "bytes=2-4"


def test_where_ranges_are_ignored_the_resource_is_fetched_once_and_cut(tmp_path: Path, trouble: Trouble) -> None:
    body = bytes(range(200)) * 3_000
    url = trouble.say("/all", Answer(body, 200))
    segments = [Segment(n, Resource(url, Span(n * 60_000, 60_000))) for n in range(10)]
    outcomes, engine = fetch(tmp_path, segments)
    assert bodies(outcomes) == [body[n * 60_000 : (n + 1) * 60_000] for n in range(10)]
    assert trouble.asked == ["/all"] and engine.counts.retried == 0


def test_a_range_beyond_the_end_of_what_came_whole_is_missing(tmp_path: Path, trouble: Trouble) -> None:
    url = trouble.say("/all", Answer(b"abcdef", 200))
    segments = [Segment(0, Resource(url, Span(0, 3))), Segment(1, Resource(url, Span(3, 9)))]
    outcomes, _ = fetch(tmp_path, segments)
    assert bodies(outcomes) == [b"abc", None] and "wants some up to 12" in (outcomes[1].problem or "")


def test_what_is_gone_is_no_sign_of_a_hopeless_server(tmp_path: Path, trouble: Trouble) -> None:
    answers = [*(Answer(b"", 404) for _ in range(3)), Answer(b"", 403), Answer(b"late")]
    segments = [Segment(n, Resource(trouble.say(f"/{n}", answer))) for n, answer in enumerate(answers)]
    outcomes, engine = fetch(tmp_path, segments, Connection(lanes=1, backoff=QUICK.backoff))
    assert bodies(outcomes) == [None, None, None, None, b"late"] and engine.counts.missing == 4


def test_the_store_s_rows_suffice_to_rebuild_the_film(tmp_path: Path, trouble: Trouble) -> None:
    key = trouble.say("/key", Answer(b"k" * 16))
    init = trouble.say("/init", Answer(b"section"))
    wanted = [
        Segment(
            sequence=7 + n,
            resource=Resource(trouble.say(f"/{n}", Answer(bytes([n]) * 100))),
            begin=4.0 * n,
            duration=4.0,
            stretch=n // 2,
            init=Initialization(Resource(init)),
            cipher=Cipher(Resource(key), n.to_bytes(16, "big")),
        )
        for n in range(4)
    ]
    outcomes, _ = fetch(tmp_path, wanted)
    with Store(tmp_path, "target") as store:
        rows = {row.number: row for row in store.rows() if row.track == "v1"}
        known = [msgspec.json.decode(rows[number].plan, type=Segment) for number in range(4)]
        assert known == wanted
        assert known[0].init and known[0].cipher
        for resource, data in ((known[0].init.resource, b"section"), (known[0].cipher.key, b"k" * 16)):
            row = store.row(section_name(resource), 0)
            assert row and store.place(row).read() == data
        assert [outcome.init and outcome.init.read() for outcome in outcomes] == [b"section"] * 4
        store.discard()
    assert [outcome.key for outcome in outcomes] == [b"k" * 16] * 4
    assert trouble.asked.count("/key") == trouble.asked.count("/init") == 1


def test_a_body_without_end_is_given_up(tmp_path: Path, trouble: Trouble) -> None:
    url = trouble.say("/0", Answer(b"x" * 3_000_000))

    async def work() -> Outcome:
        with Store(tmp_path, "target") as store:
            async with Session(QUICK) as session:
                engine = Engine(session, store, lambda _head: None, largest=1_000_000)
                async with aclosing(engine.run([Job("v1", 0, Segment(0, Resource(url)))])) as outcomes:
                    return await anext(outcomes)

    outcome = asyncio.run(work())
    assert outcome.place is None and "larger than any segment" in (outcome.problem or "")
    assert trouble.asked == ["/0"]


def test_one_program_at_a_time_works_on_a_store(tmp_path: Path) -> None:
    with Store(tmp_path, "target"), pytest.raises(StorageError, match="Another Mudlark"), Store(tmp_path, "target"):
        pass


def test_a_store_without_segments_leaves_nothing_behind(tmp_path: Path) -> None:
    with Store(tmp_path, "target"):
        pass
    assert list(tmp_path.iterdir()) == []


def test_waits_grow_and_respect_what_the_server_asks() -> None:
    patience = Backoff(first=1.0, longest=8.0)
    for failures, ceiling in ((1, 1), (2, 2), (3, 4), (9, 8)):
        waits = [patience.wait(failures, None) for _ in range(300)]
        assert 0 <= min(waits) < ceiling * 0.1 and ceiling * 0.9 < max(waits) <= ceiling
    assert 20.0 <= patience.wait(1, 20.0) <= 21.0
    assert 80.0 <= patience.wait(1, 86_400.0) <= 81.0


def test_the_rate_holds_for_all_lanes_together(monkeypatch: pytest.MonkeyPatch) -> None:
    waits: list[float] = []

    async def sleep(seconds: float) -> None:
        waits.append(round(seconds, 3))

    async def work() -> None:
        meter = Meter(1e6)
        now = meter._free_at
        monkeypatch.setattr("mudlark.web.meter.time.monotonic", lambda: now)
        monkeypatch.setattr("mudlark.web.meter.asyncio.sleep", sleep)
        for _ in range(4):
            await meter.spend(50_000)
        monkeypatch.undo()

    asyncio.run(work())
    assert waits == [0.05, 0.1, 0.15, 0.2]


def test_a_cancelled_write_is_over_before_anything_else_happens() -> None:
    done: list[str] = []

    def write(begun: Event, go_on: Event) -> None:
        begun.set()
        go_on.wait(10)
        done.append("written")

    async def work(pool: ThreadPoolExecutor) -> None:
        begun, go_on = Event(), Event()
        task = asyncio.create_task(in_thread(pool, write, begun, go_on))
        await asyncio.to_thread(begun.wait, 10)
        task.cancel()
        await asyncio.sleep(0)
        assert not task.done()
        go_on.set()
        with pytest.raises(asyncio.CancelledError):
            await task
        done.append("abandoned")

    with ThreadPoolExecutor(1) as pool:
        asyncio.run(work(pool))
    assert done == ["written", "abandoned"]
