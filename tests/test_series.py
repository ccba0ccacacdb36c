"""Numbered addresses: what belongs together, what is missing, and what an address would be."""

from hypothesis import given
from hypothesis import strategies as st

from mudlark.web.series import find_series


def _numbers(addresses: list[str]) -> list[list[int]]:
    return [[number for number, _ in series.members] for series in find_series(addresses)]


def test_addresses_that_differ_in_one_number_are_a_series_in_rising_order() -> None:
    (series,) = find_series([f"http://a.test/720p/part-{n:03d}.ts" for n in (4, 0, 2, 1)])
    assert [number for number, _ in series.members] == [0, 1, 2, 4]
    assert series.missing == [3]


def test_the_number_that_counts_may_stand_in_a_folder() -> None:
    (series,) = find_series([f"http://a.test/{n}/media.ts" for n in range(8, 12)])
    assert series.at(7) == "http://a.test/7/media.ts"
    assert series.at(12) == "http://a.test/12/media.ts"


def test_renditions_and_widths_are_series_of_their_own() -> None:
    addresses = [f"http://a.test/leaf-{n:02d}.jpg?w={width}" for n in range(1, 5) for width in (300, 900)]
    assert _numbers(addresses) == [[1, 2, 3, 4], [1, 2, 3, 4]]


def test_signatures_that_differ_do_not_part_a_series() -> None:
    assert _numbers([f"http://a.test/s{n}.ts?sig=ab{n}f&e=x" for n in range(3)]) == [[0, 1, 2]]


def test_numbers_that_change_together_make_no_address_of_their_own() -> None:
    (series,) = find_series([f"http://a.test/seg-{n}-{n * 4000 + 17}.m4s" for n in range(4)])
    assert series.at(9) is None


def test_numbers_that_leap_have_no_gaps_to_speak_of() -> None:
    (series,) = find_series([f"http://a.test/{n}.jpg" for n in (5, 90_000_000_000, 700_000_000_000)])
    assert series.missing == []


def test_hosts_kinds_and_few_addresses_are_no_series() -> None:
    assert not find_series(["http://a.test/1.ts", "http://b.test/2.ts", "http://a.test/3.ts"])
    assert not find_series(["http://a.test/1.ts", "http://a.test/2.mp4", "http://a.test/3.ts"])
    assert not find_series([f"http://a.test/{n}{'7' * 20}.ts" for n in range(5)])


@given(st.sets(st.integers(0, 5000), min_size=3, max_size=60), st.integers(0, 5))
def test_every_member_is_where_its_number_says(numbers: set[int], width: int) -> None:
    (series,) = find_series([f"http://a.test/v1/part{n:0{width}d}.ts" for n in numbers])
    assert [number for number, _ in series.members] == sorted(numbers)
    assert not set(series.missing) & numbers
    widths = {len(f"{n:0{width}d}") for n in numbers}
    if len(widths) == 1 or width == 0:
        assert all(series.at(number) == address for number, address in series.members) or width == 0
