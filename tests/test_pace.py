"""Policies of fetching, by a clock that is only told: pace, tries, budget, peers, waits; nothing sleeps."""

import asyncio
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.errors import NetworkError
from mudlark.fetch.budget import Budget
from mudlark.fetch.peers import Peers
from mudlark.fetch.tries import Tries
from mudlark.web.complaint import seconds_until
from mudlark.web.lanes import Lanes
from mudlark.web.pace import HostPace
from mudlark.web.passing import Backoff, Passing

NONE = Backoff(tries=3, first=0.0, longest=0.0)


def server(pace: HostPace, rounds: int, serve: Callable[[int], tuple[float, float, int]], now: float = 0.0) -> float:
    """Let so many rounds of requests be served; serve gives the wait, the length and the bytes of each of so many at
    once. The time in the end."""
    for _ in range(rounds):
        lanes = pace.allowed
        wait, seconds, size = serve(lanes)
        for _ in range(lanes):
            pace.served(now, now + wait, now + seconds, size)
        now += seconds
    return now


def test_all_lanes_are_used_from_the_beginning_and_kept_while_all_is_well() -> None:
    pace = HostPace(8)
    assert pace.allowed == 8 and pace.free(0.0)
    server(pace, 50, lambda _lanes: (0.05, 0.1, 100_000))
    assert pace.allowed == 8


def test_a_crowd_that_is_refused_together_halves_the_lanes_once() -> None:
    pace = HostPace(8)
    for late in range(6):
        pace.crowded(sent=0.0, now=0.1 + late / 100)
    assert pace.allowed == 4
    pace.crowded(sent=0.5, now=0.6)
    assert pace.allowed == 2
    for sent in (1.0, 2.0, 3.0):
        pace.crowded(sent=sent, now=sent + 0.1)
    assert pace.allowed == 1


def test_a_server_that_wants_to_be_left_alone_is_and_not_for_ever() -> None:
    pace = HostPace(4)
    pace.crowded(sent=0.0, now=10.0, wait=5.0)
    assert not pace.free(14.9) and pace.free(15.0)
    pace.crowded(sent=16.0, now=16.0, wait=1e9)
    assert not pace.free(300.0) and pace.free(16.0 + 300.0)


def test_lanes_grow_again_while_more_comes_for_it_and_stop_where_nothing_does() -> None:
    pace = HostPace(16)
    pace.crowded(sent=0.0, now=0.0)
    pace.crowded(sent=1.0, now=1.0)
    assert pace.allowed == 4
    most = 0

    def limited(lanes: int) -> tuple[float, float, int]:  # one that never gives more than 600 kB/s
        nonlocal most
        most = max(most, lanes)
        return 0.05, max(1.0, lanes / 6), 100_000

    server(pace, 60, limited, now=2.0)
    assert 6 <= pace.allowed <= 7 and most == 7
    server(pace, 60, lambda _lanes: (0.05, 1.0, 100_000), now=500.0)
    assert pace.allowed == 16


def test_waits_that_grow_while_nothing_more_comes_halve_the_lanes() -> None:
    pace = HostPace(8)
    now = server(pace, 3, lambda _lanes: (0.05, 1.0, 100_000))
    server(pace, 1, lambda _lanes: (4.0, 5.0, 100_000), now)
    assert pace.allowed == 4


@given(st.lists(st.tuples(st.booleans(), st.floats(0, 100), st.floats(0, 10), st.integers(0, 10**9)), max_size=300))
def test_whatever_happens_there_is_a_lane_and_never_more_than_allowed(
    events: list[tuple[bool, float, float, int]],
) -> None:
    pace, now = HostPace(8), 0.0
    for good, seconds, wait, size in events:
        if good:
            pace.served(now, now + min(wait, seconds), now + seconds, size)
        else:
            pace.crowded(now, now + seconds, wait)
        now += seconds
        assert 1 <= pace.allowed <= 8


def test_other_addresses_are_asked_before_any_is_asked_again() -> None:
    tries, asked = Tries(3, 1, NONE), []
    while turn := tries.next():
        asked.append(turn[0])
        tries.failed(turn[0], Passing("busy", status=503))
    assert asked == [1, 0, 2] * 3
    assert "busy (9 tries)" in tries.problem.what and not isinstance(tries.problem, Passing)


@pytest.mark.parametrize(("status", "count"), [(404, 2), (410, 2), (401, 1), (403, 1), (400, 1)])
def test_what_is_gone_is_looked_for_twice_and_what_is_refused_once(status: int, count: int) -> None:
    tries = Tries(1, 0, NONE)
    while turn := tries.next():
        tries.failed(turn[0], NetworkError("no", status=status))
    assert tries.count == count and tries.problem.status == status


def test_an_address_that_is_dead_for_good_leaves_the_others_their_tries() -> None:
    tries, asked = Tries(2, 0, NONE), []
    while turn := tries.next():
        asked.append(turn[0])
        tries.failed(turn[0], NetworkError("no", status=403) if turn[0] == 0 else Passing("busy"))
    assert asked == [0, 1, 1, 1]


def test_being_one_too_many_costs_no_try() -> None:
    tries = Tries(1, 0, NONE)
    for _ in range(20):
        assert tries.next() is not None
        assert tries.failed(0, Passing("many", status=429), free=True)
    for _ in range(3):
        tries.next()
        tries.failed(0, Passing("many", status=429))
    assert tries.next() is None


def test_a_wait_is_anywhere_up_to_its_ceiling_and_after_what_the_server_asks() -> None:
    tries = Tries(1, 0, Backoff(tries=9, first=1.0, longest=4.0))
    assert tries.next() == (0, 0.0)
    tries.failed(0, Passing("busy", retry_after=7.0))
    turn = tries.next()
    assert turn and 7.0 <= turn[1] <= 8.0


def test_retry_after_is_seconds_or_a_date_by_the_server_s_own_clock() -> None:
    there = datetime(1931, 6, 14, 12, 0, 0, tzinfo=UTC)
    later = format_datetime(there + timedelta(seconds=90), usegmt=True)
    assert seconds_until("90") == 90.0
    assert seconds_until(later, format_datetime(there, usegmt=True)) == 90.0
    assert seconds_until(later) == 0.0  # by our clock it has passed
    assert seconds_until("soon") is None and seconds_until("") is None and seconds_until("-5") is None


def test_a_dead_server_ends_a_run_in_minutes_with_an_account() -> None:
    budget = Budget()
    for _ in range(40):
        budget.succeeded()
    with pytest.raises(NetworkError, match=r"40 pieces came.*× no answer.*no host") as told:
        for second in range(0, 1000, 10):
            budget.failed(NetworkError("There is no host"), float(second))
    assert "goes on from here" in told.value.advice


def test_faults_that_come_and_go_end_nothing_but_endless_ones_do() -> None:
    budget = Budget()
    for turn in range(10_000):
        if turn % 3 == 0:
            budget.failed(Passing("busy", status=503), float(turn))
        budget.succeeded()
    with pytest.raises(NetworkError):
        for turn in range(30_000):
            budget.failed(Passing("busy", status=503), turn / 1000)
    hopeful = Budget(hopeful=True)
    for turn in range(5_000):
        hopeful.failed(Passing("busy"), float(turn))
        hopeful.gave_up(NetworkError("gone"))


def test_four_pieces_in_a_row_that_cannot_be_had_are_too_many() -> None:
    budget = Budget()
    for _ in range(3):
        budget.gave_up(NetworkError("refused", status=403))
    budget.succeeded()
    for _ in range(3):
        budget.gave_up(NetworkError("refused", status=403))
    with pytest.raises(NetworkError, match="refused"):
        budget.gave_up(NetworkError("refused", status=403))


def test_only_what_is_much_slower_than_its_peers_is_slow() -> None:
    peers = Peers()
    assert peers.long is None and not peers.slow(1e9, 0)
    for _ in range(10):
        peers.took(0.5, 1_000_000)
    assert peers.long == 2.0
    assert peers.slow(2.5, 100_000)
    assert not peers.slow(1.5, 0)  # not yet
    assert not peers.slow(4.0, 8_000_000)  # it is only larger


def test_requests_to_one_host_keep_their_gap_and_their_order(monkeypatch: pytest.MonkeyPatch) -> None:
    now = 100.0
    real = asyncio.sleep

    async def sleep(seconds: float) -> None:
        nonlocal now
        now += seconds
        await real(0)

    monkeypatch.setattr("mudlark.web.lanes.time.monotonic", lambda: now)
    monkeypatch.setattr("mudlark.web.lanes.asyncio.sleep", sleep)
    sent: list[tuple[int, float]] = []

    async def ask(lanes: Lanes, number: int) -> None:
        async with lanes.take("media.museum.example"):
            sent.append((number, now))
            await real(0)

    async def work() -> None:
        lanes = Lanes(3, gap=2.0)
        await asyncio.gather(*(ask(lanes, number) for number in range(6)))
        await lanes.turn("media.museum.example")

    asyncio.run(work())
    assert sent == [(number, 100.0 + 2.0 * number) for number in range(6)] and now == 112.0


def test_no_more_than_the_lanes_are_in_flight_over_all_hosts() -> None:
    inside, most = 0, 0

    async def ask(lanes: Lanes, host: str) -> None:
        nonlocal inside, most
        async with lanes.take(host) as number:
            inside += 1
            most = max(most, inside)
            assert 1 <= number <= 3
            await asyncio.sleep(0)
            inside -= 1

    async def work() -> None:
        lanes = Lanes(3)
        await asyncio.gather(*(ask(lanes, f"{number % 4}.museum.example") for number in range(40)))

    asyncio.run(work())
    assert most == 3
