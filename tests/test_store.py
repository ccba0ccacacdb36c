"""The store: nothing is claimed that is not there, whatever stops it, and whoever else comes."""

import os
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from mudlark.errors import StorageError
from mudlark.fetch.incoming import SMALL, Incoming
from mudlark.fetch.store import Fetched, Store
from mudlark.fetch.unfinished import unfinished


def arrived(store: Store, number: int, data: bytes, *, at: int | None = None) -> Fetched:
    path = store.path("file", 0) if at is not None else store.path("v1", number)
    incoming = Incoming(path, at=at)
    half = len(data) // 2
    incoming.write([data[:half]])
    return Fetched(
        "v1", number, f"part {number}", "http://museum.example/", 1, incoming.end([data[half:]]), path, incoming
    )


def test_small_bodies_share_a_file_and_large_ones_do_not(tmp_path: Path) -> None:
    bodies = [b"a" * 10, b"", b"c" * (SMALL + 1), b"d" * SMALL, b"e"]
    with Store(tmp_path, "key") as store:
        rows = store.keep([arrived(store, number, body) for number, body in enumerate(bodies)])
        assert [store.place(row).read() for row in rows] == bodies
        assert len(list((store.folder / "segments").iterdir())) == 2
        assert all(store.usable("v1", number, f"part {number}") for number in range(5))
        assert store.usable("v1", 0, "another part") is None
    with Store(tmp_path, "key") as store:
        assert [store.place(row).read() for row in store.rows()] == bodies
        more = store.keep([arrived(store, 5, b"later")])
        assert store.place(more[0]).read() == b"later" and store.place(store.rows()[0]).read() == bodies[0]


def test_parts_of_one_file_stand_at_their_offsets(tmp_path: Path) -> None:
    with Store(tmp_path, "key") as store:
        for at in (300, 0, 100):
            store.keep([arrived(store, at, bytes([at % 251]) * 100, at=at)])
        whole = store.path("file", 0).read_bytes()
        assert whole == bytes(100) + bytes([100]) * 100 + bytes(100) + bytes([300 % 251]) * 100
        assert store.usable("v1", 300, "part 300") and not store.usable("v1", 200, "part 200")


@settings(max_examples=40)
@given(
    st.lists(st.lists(st.integers(0, SMALL * 2), min_size=1, max_size=4), min_size=1, max_size=5),
    st.integers(0, 12),
    st.booleans(),
)
def test_after_a_power_cut_every_row_has_its_bytes(
    tmp_path_factory: pytest.TempPathFactory, groups: list[list[int]], stop: int, whole: bool
) -> None:
    """What was not flushed is dropped. The power goes after so many flushes."""
    folder = tmp_path_factory.mktemp("power")
    flushed: dict[int, int] = {}
    calls = 0
    real = os.fsync

    def fsync(handle: int) -> None:
        nonlocal calls
        calls += 1
        if calls > stop:
            raise KeyboardInterrupt
        status = os.fstat(handle)
        flushed[status.st_ino] = status.st_size

    number = at = 0
    store = Store(folder, "key")
    store.__enter__()
    os.fsync = fsync  # type: ignore[assignment]
    try:
        for group in groups:
            fetched = []
            for size in group:
                body = bytes([number % 251]) * size
                fetched.append(arrived(store, number, body, at=at if whole else None))
                at, number = at + size, number + 1
            store.keep(fetched)
    except KeyboardInterrupt:
        pass
    finally:
        os.fsync = real
    assert store._database
    store._database.close()
    for path in (store.folder / "segments").iterdir():
        os.truncate(path, min(path.stat().st_size, flushed.get(path.stat().st_ino, 0)))
    with Store(folder, "key") as again:
        for row in again.rows():
            assert again.usable(row.track, row.number, row.source), row
        assert [row.bytes for row in again.rows()] == [size for group in groups for size in group][: len(again.rows())]


def test_whoever_comes_second_is_told_who_is_at_work(tmp_path: Path) -> None:
    with Store(tmp_path, "key", "http://museum.example/mill"):
        with pytest.raises(StorageError, match=f"process {os.getpid()} on .*, since 20"), Store(tmp_path, "key"):
            pass
        assert [one.running for one in unfinished(tmp_path)] == [True]
    assert unfinished(tmp_path) == [] and list(tmp_path.iterdir()) == []


def test_what_is_unfinished_is_told(tmp_path: Path) -> None:
    with Store(tmp_path, "key", "http://museum.example/mill") as store:
        store.keep([arrived(store, 0, b"abc"), arrived(store, 1, b"de")])
    (one,) = unfinished(tmp_path)
    assert (one.target, one.segments, one.bytes, one.running) == ("http://museum.example/mill", 2, 5, False)
    (tmp_path / ".mudlark" / "other").mkdir()
    (tmp_path / ".mudlark" / "other" / "state.sqlite").write_bytes(b"no database")
    assert len(unfinished(tmp_path)) == 1


def test_a_disk_that_is_nearly_full_stops_before_the_last_byte(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    with Store(tmp_path, "key") as store:
        store.keep([arrived(store, 0, b"abc")])
        usage = type("Usage", (), {"free": 5_000_000})
        monkeypatch.setattr("mudlark.fetch.store.shutil.disk_usage", lambda _path: usage)
        with pytest.raises(StorageError, match="nearly full: 5 MB"):
            store.keep([arrived(store, 1, b"def")])
        assert [row.number for row in store.rows()] == [0]
