"""Work that a second process does a part of: all of it is done, whatever becomes of that process."""

import os
import signal
import subprocess
import sys
import threading
from collections.abc import Callable, Sequence
from pathlib import Path

import pytest

from mudlark.beside import in_parts

HERE = os.getpid()


def squares(numbers: Sequence[int]) -> list[int]:
    return [number * number for number in numbers]


def only_here(end: Callable[[], object]) -> Callable[[Sequence[int]], list[int]]:
    """Work during which a second process ends."""

    def work(numbers: Sequence[int]) -> list[int]:
        if os.getpid() != HERE:
            end()
        return squares(numbers)

    return work


@pytest.mark.parametrize(
    "work",
    [
        squares,
        only_here(lambda: os.kill(os.getpid(), signal.SIGKILL)),
        only_here(lambda: os._exit(1)),
        only_here(lambda: [][1]),
    ],
    ids=["lives", "is killed", "ends", "fails"],
)
@pytest.mark.parametrize("count", [0, 1, 2, 255, 1000])
def test_all_parts_are_done_in_order(
    monkeypatch: pytest.MonkeyPatch, work: Callable[[Sequence[int]], list[int]], count: int
) -> None:
    monkeypatch.setattr(threading, "active_count", lambda: 1)
    first = list[str]()
    parts = in_parts(work, range(count), meanwhile=lambda: first.append("done"))
    assert [one for part in parts for one in part] == squares(range(count)) and first == ["done"]


def test_more_than_a_pipe_holds_comes_whole(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(threading, "active_count", lambda: 1)
    sizes = [len(part) for part in in_parts(lambda some: bytes(1_000_000 + len(some)), range(300))]
    assert sizes == [1_000_003] * 100


@pytest.mark.parametrize("what", ["fork", "pipe"])
def test_where_there_is_no_second_process_all_is_done_here(monkeypatch: pytest.MonkeyPatch, what: str) -> None:
    def refused() -> int:
        raise BlockingIOError

    monkeypatch.setattr(threading, "active_count", lambda: 1)
    before = len(list(Path("/proc/self/fd").iterdir()))
    with monkeypatch.context() as patched:
        patched.setattr(os, what, refused)
        first = list[str]()
        parts = in_parts(squares, range(9), meanwhile=lambda: first.append("done"))
        assert [one for part in parts for one in part] == squares(range(9)) and first == ["done"]
    assert len(list(Path("/proc/self/fd").iterdir())) == before
    monkeypatch.delattr(os, "fork")
    assert sum(map(len, in_parts(squares, range(9)))) == 9


def test_a_second_process_ends_with_the_first() -> None:
    """It has more to tell than a pipe holds."""
    begun = "import os, time; from mudlark.beside import in_parts; first = os.getpid()"
    work = "lambda some: b'x' * 1_000_000 if os.getpid() != first else os.kill(first, 9)"
    ran = subprocess.run(
        [sys.executable, "-c", f"{begun}\nin_parts({work}, range(100))"], stdout=subprocess.PIPE, timeout=60
    )  # which waits until nobody holds its output any more
    assert ran.returncode == -signal.SIGKILL
