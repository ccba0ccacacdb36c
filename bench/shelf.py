"""Finding one item among many by what it is known by: the first time, unchanged, and after a new one has come, against
listing the same folder."""

import argparse
import os
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from ledger import item

_SETTLES = 1.2  # seconds after which a folder counts as unchanged


def milliseconds(work: Callable[[], object], times: int = 5) -> float:
    """Of the quickest of several runs."""
    took = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        took.append(time.perf_counter() - begun)
    return 1000 * min(took)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--items", type=int, default=20_000)
    given = parser.parse_args()
    with tempfile.TemporaryDirectory(prefix="mudlark-bench-") as name:
        os.environ["XDG_CACHE_HOME"] = f"{name}/cache"
        from mudlark.archive.identity import identity_of
        from mudlark.archive.record import read_record
        from mudlark.archive.shelf import find_earlier

        folder = Path(name) / "shelf"
        for number in range(given.items):
            item(folder / f"Film {number}", number)
        wanted = identity_of(read_record(folder / "Film 777"))
        time.sleep(_SETTLES)
        listing = milliseconds(lambda: list(os.scandir(folder)))
        first = milliseconds(lambda: find_earlier(folder, wanted), times=1)
        again = milliseconds(lambda: find_earlier(folder, wanted))
        item(folder / "Film of today", given.items)
        after = milliseconds(lambda: find_earlier(folder, wanted))
        print(f"{given.items:,} items; listing the folder: {listing:.1f} ms")
        print(
            f"first {first:.0f} ms ({first / listing:.0f}); unchanged {again:.1f} ms ({again / listing:.2f});", end=" "
        )
        print(f"after a new one {after:.1f} ms ({after / listing:.1f})")


if __name__ == "__main__":
    main()
