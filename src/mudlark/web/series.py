"""Numbered addresses: which belong together, in what order, and which numbers between them are missing."""

import re
from collections import defaultdict
from collections.abc import Iterable
from urllib.parse import parse_qsl, urlsplit

import msgspec

_NUMBER = re.compile(r"[0-9]+")
FEWEST = 3
_SPARSE = 20  # numbers for each that is there, beyond which they do not count up
_LONGEST = 15  # digits; longer ones are times or random, and no counter


class Series(msgspec.Struct, frozen=True):
    """Addresses that differ in one number. members: (number, address), rising. place: which number of the path counts.

    place is None if other numbers change along, so that an address cannot be made up.
    """

    members: tuple[tuple[int, str], ...]
    place: int | None

    @property
    def missing(self) -> list[int]:
        """Numbers between the first and the last that are not there; none where they leap, as dates and keys do."""
        there = {number for number, _ in self.members}
        if self.members[-1][0] - self.members[0][0] > _SPARSE * len(there):
            return []
        return [number for number in range(self.members[0][0], self.members[-1][0]) if number not in there]

    def at(self, number: int) -> str | None:
        """The address that a number would have, written as wide as the others are."""
        if self.place is None:
            return None
        first, last = self.members[0], self.members[-1]
        start, path, rest = _parts(first[1])
        spots = list(_NUMBER.finditer(path))
        if self.place >= len(spots):
            return None
        spot = spots[self.place]
        own = list(_NUMBER.finditer(_parts(last[1])[1]))[self.place]
        padded = len(spot[0]) == len(own[0]) and (spot[0].startswith("0") or first[0] >= 10 ** (len(spot[0]) - 1))
        width = len(spot[0]) if padded else 0
        return f"{start}{path[: spot.start()]}{number:0{width}d}{path[spot.end() :]}{rest}"


def find_series(addresses: Iterable[str], fewest: int = FEWEST) -> list[Series]:
    """The series among these addresses, each of at least so many members; one address is in one series at most."""
    alike: dict[tuple[str, str], dict[str, list[int]]] = defaultdict(dict)
    for address in addresses:
        start, path, rest = _parts(address)
        counted = f"{path}?{_query(rest)}"
        numbers = _NUMBER.findall(counted)
        if numbers and all(len(number) <= _LONGEST for number in numbers):
            alike[start, _NUMBER.sub("#", counted)].setdefault(address, [int(number) for number in numbers])
    places = []
    for (_, form), group in alike.items():
        if len(group) >= fewest:
            places += _split(group, form.partition("?")[0].count("#"), fewest)
    return places


def _split(group: dict[str, list[int]], in_path: int, fewest: int) -> list[Series]:
    columns = list(zip(*group.values(), strict=True))
    varying = [place for place, values in enumerate(columns) if len(set(values)) > 1]
    if not varying:
        return []
    counter = max(varying, key=lambda place: (len(set(columns[place])), -_spread(columns[place])))
    parted: dict[tuple[int, ...], list[tuple[int, str]]] = defaultdict(list)
    for address, numbers in group.items():
        fixed = tuple(numbers[place] for place in varying if place != counter)
        parted[fixed].append((numbers[counter], address))
    place = counter if counter < in_path else None
    if max(len(part) for part in parted.values()) < fewest:  # the numbers change together
        parted, place = {(): [(numbers[counter], address) for address, numbers in group.items()]}, None
    return [
        Series(tuple(sorted(dict(reversed(part)).items())), place) for part in parted.values() if len(part) >= fewest
    ]


def _spread(values: tuple[int, ...]) -> int:
    return max(values) - min(values)


def _parts(address: str) -> tuple[str, str, str]:
    """Scheme and host; path; the rest."""
    parts = urlsplit(address)
    start = f"{parts.scheme}://{parts.netloc}"
    path = parts.path
    return start, path, address.partition("#")[0][len(start) + len(path) :]


def _query(rest: str) -> str:
    """What of a query tells kinds of address apart: its names, and values that are numbers."""
    pairs = parse_qsl(rest.lstrip("?"), keep_blank_values=True)
    return "&".join(f"{name}={value if value.isascii() and value.isdigit() else ''}" for name, value in pairs)
