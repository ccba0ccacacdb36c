"""Damage of every kind, dealt by chance to good files of every kind: none of what it leaves is called sound.

What a decoder alone could see (one bit inside of coded data without check sums, two parts of them that changed places)
is no fault of the account, and docs/verification.md says so; even there, what describes a film or a picture must be the
same.
"""

from collections import Counter
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from mudlark.verify.account import Account, Verdict
from mudlark.verify.media import check_file
from tests.mutations import essence, good_files, mutants

# what may be done inside of coded data, or of members that can be anything, without a word from anyone but a decoder
_UNSEEN = {
    "film.mp4": "flip swap",
    "sound.m4a": "flip swap",
    "film.webm": "flip swap",
    "sound.webm": "flip swap",
    "sound.mp3": "flip swap repeat",  # more zeros behind its end
    "sound.flac": "flip",  # in its padding
    "picture.gif": "flip swap repeat",
    "picture.webp": "flip swap repeat",
    "picture.avif": "flip swap repeat",
    "picture.jpg": "flip swap drop hole",
    "progressive.jpg": "flip swap drop hole",
    "pages.pdf": "flip swap repeat cut",  # the line end behind its end
    "archive.tar": "flip swap drop hole repeat",
}
_OPEN = {"film.ts", "sound.ac3"}
_SELDOM = 0.06  # share of other damage that a decoder of pictures gets through without a warning


def verdict_of(path: Path, data: bytes) -> Verdict:
    path.write_bytes(data)
    account = Account()
    check_file(path, None, account)
    return account.verdict


def _differ_by_a_time(told: Any, told_now: Any) -> bool:
    """True if in one track the time of one sample is another, by less than the samples beside it: no one else states
    it."""
    apart = [(track, now) for track, now in zip(told, told_now, strict=True) if track != now]
    if len(apart) != 1 or apart[0][0][1:] != apart[0][1][1:]:
        return False
    (shown, _), (shown_now, _) = apart[0][0][0], apart[0][1][0]
    steps = np.diff(shown, append=shown[-1])
    moved = np.subtract(shown_now, shown)
    return len(set(moved.tolist())) <= 3 and bool(abs(np.median(moved) - moved).max() <= 4 * abs(steps).max())


def look_at_mutants(path: Path, seed: int, count: int) -> None:
    whole = good_files()[path.name]
    assert verdict_of(path, whole) == ("unproven" if path.name in _OPEN else "sound")
    told, coded = essence(path)
    dealt: Counter[str] = Counter()
    passed: Counter[str] = Counter()
    for mutation, data in mutants(path.name, seed, count):
        dealt[mutation] += 1
        if verdict_of(path, data) != "sound":
            continue
        told_now, coded_now = essence(path)
        if path.name != "archive.tar" and not (mutation == "flip" and _differ_by_a_time(told, told_now)):
            assert told_now == told, (path.name, mutation)
        if coded_now != coded:
            passed[mutation] += 1
    assert set(passed) <= set(_UNSEEN.get(path.name, "").split()), (path.name, passed)
    if path.suffix == ".jpg":
        assert all(passed[one] <= 1 + _SELDOM * dealt[one] for one in ("swap", "drop", "hole")), passed


@pytest.mark.parametrize("name", good_files())
def test_what_is_left_of_a_damaged_file_is_not_called_sound(tmp_path: Path, name: str) -> None:
    look_at_mutants(tmp_path / name, seed=1, count=90)


@pytest.mark.soak
@pytest.mark.parametrize("name", good_files())
def test_thousands_of_damaged_files_are_not_called_sound(tmp_path: Path, name: str) -> None:
    look_at_mutants(tmp_path / name, seed=2, count=6_000)
