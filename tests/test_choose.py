"""Choosing: which find is hauled, what a button means, and how numbers are shown."""

import pytest
from msgspec.structs import replace

from mudlark.cli.show import bits, columns, life
from mudlark.errors import NothingFound, UsageError
from mudlark.find.model import Evidence, Find, Kind, Mention, Page, Rank, Role
from mudlark.find.places.button import find_button
from mudlark.find.places.page import read_page
from mudlark.find.select import Choice, Filter
from mudlark.media.sniff import sniff
from mudlark.text import clock, size

URL = "http://m.example/guide/"


def find(name: str, kind: Kind = "video", role: Role = "main", problem: str | None = None) -> Find:
    link = (Evidence("link", "link", None, 8),)
    return Find(
        Mention(url=f"http://m.example/{name}", kind=kind, evidence=link, problem=problem), rank=Rank(role=role)
    )


def page(*finds: Find) -> Page:
    """A page with these finds, numbered."""
    return Page(URL, finds=[replace(one, rank=replace(one.rank, number=n)) for n, one in enumerate(finds, start=1)])


PAGE = page(
    find("ad.mp4", role="advert"),
    find("dead.mp4", problem="the server answers 404"),
    find("film.mp4"),
    find("talk.mp3", "audio"),
    find("plan.pdf", "document"),
    find("shell.png", "image", "other"),
)


def names(choice: Choice, page: Page = PAGE) -> list[str]:
    return [chosen.url.rpartition("/")[2] for chosen in choice.take(page)]


def test_the_best_is_the_first_main_film_that_lives() -> None:
    assert names(Choice()) == ["film.mp4"]


def test_a_page_without_films_gives_its_best_file() -> None:
    assert names(Choice(), Page(URL, finds=[find("shell.png", "image", "other"), find("a.zip", "package")])) == [
        "a.zip"
    ]


def test_a_film_that_cannot_be_had_is_not_replaced_by_a_document() -> None:
    with pytest.raises(NothingFound, match="cannot be used"):
        names(
            Choice(), Page(URL, finds=[find("dead.mp4", problem="the server answers 404"), find("a.pdf", "document")])
        )


def test_number_text_and_all() -> None:
    assert names(Choice(nth=4)) == ["talk.mp3"]
    assert names(Choice(wanted=Filter(match="PLAN"))) == ["plan.pdf"]
    assert names(Choice(all=True)) == ["film.mp4", "talk.mp3", "plan.pdf"]
    assert names(Choice(all=True, wanted=Filter(match=".png"))) == ["shell.png"]
    assert names(Choice(wanted=Filter(kinds=("document",)))) == ["plan.pdf"]


def test_a_number_means_the_same_find_whatever_is_filtered() -> None:
    assert names(Choice(nth=3, wanted=Filter(match=".mp4"))) == ["film.mp4"]
    with pytest.raises(UsageError, match="is none of those that match"):
        names(Choice(nth=4, wanted=Filter(match=".mp4")))


def test_nothing_is_guessed_in_a_list() -> None:
    listing = page(find("one.mp4"), find("two.mp4"))
    listing.is_list = True
    with pytest.raises(UsageError, match="lists 2 that can be hauled") as caught:
        names(Choice(), listing)
    assert "--all" in caught.value.advice and "--nth" in caught.value.advice
    assert names(Choice(all=True), listing) == ["one.mp4", "two.mp4"]


def test_an_advert_alone_is_not_taken_for_the_film() -> None:
    advert = find("spot.mp4", role="advert")
    advert = replace(advert, rank=replace(advert.rank, advert="it stands in the frame of an advert"))
    with pytest.raises(NothingFound, match=r"is an advert, http://m.example/spot.mp4: it stands in") as caught:
        names(Choice(), page(advert))
    assert "--listen" in caught.value.advice and "--nth 1" in caught.value.advice


def test_choices_that_cannot_be_are_said() -> None:
    with pytest.raises(UsageError, match="6 finds to choose from, not 7"):
        names(Choice(nth=7))
    with pytest.raises(NothingFound, match="'lamp'"):
        names(Choice(wanted=Filter(match="lamp")))
    with pytest.raises(NothingFound, match="can be hauled"):
        names(Choice(all=True, wanted=Filter(match="dead")))


def pointed(source: str, wanted: str) -> list[tuple[str, bool]]:
    button = find_button(source, read_page(source, URL), wanted)
    return [(entry.find.url.rpartition("/")[2], entry.own) for entry in button.pointed]


def test_a_button_s_own_addresses_come_from_all_its_attributes() -> None:
    source = """<a class="b" href="#" onclick="go('/get/a.zip')" data-alt="/get/b.zip">Get it</a>
<form action="/build"><button id="x">Build it</button></form>"""
    assert pointed(source, "Get it") == [("a.zip", True), ("b.zip", True)]
    assert pointed(source, "#x") == [("build", True)]


def test_twins_share_a_file_name_whatever_their_version_and_build() -> None:
    source = """<a href="/old/guide-1.9-x86.zip">Guide</a><p>Mirror: <a href="/new/guide-2.4-x64.zip">here</a></p>
<a href="/new/tables-2.4-x64.zip">tables</a>"""
    assert pointed(source, "Guide") == [("guide-1.9-x86.zip", True), ("guide-2.4-x64.zip", False)]


def test_a_button_that_points_to_nothing_says_so() -> None:
    with pytest.raises(NothingFound, match="points to nothing"):
        pointed('<button>Enter</button><a href="/shells.zip">shells</a>', "Enter")


@pytest.mark.parametrize("wanted", ["Missing", "((", "a[", ""])
def test_a_button_that_is_not_there_is_said_with_those_that_are(wanted: str) -> None:
    with pytest.raises(UsageError, match="It has: 'Enter'"):
        pointed("<button>Enter</button>", wanted or "nothing")


@pytest.mark.parametrize(
    ("head", "form"),
    [
        (b"\0" * 0x8001 + b"CD001", "iso"),
        (b"\x1f\x8b\x08\0", "gzip"),
        (b"\0" * 257 + b"ustar", "tar"),
        (b"a.txt".ljust(148, b"\0") + b"001357\0 ".ljust(364, b"\0"), "tar"),  # without a sign: its check sum
        (b"a.txt".ljust(148, b"\0") + b"001356\0 ".ljust(364, b"\0"), "unknown"),
        (b"\0\0\0\x20ftypisom", "mp4"),
        (b"#EXTM3U\n", "hls"),
        (b"\xef\xbb\xbf#EXTM3U", "hls"),
        (b"%PDF-1.4", "pdf"),
        (b"<?xml version='1.0'?><MPD xmlns=", "dash"),
        (b"<!DOCTYPE html><p>", "html"),
        (b"  <html><body>", "html"),
        (b'{"a":1}', "json"),
        (b"\xff\xf1\x50\x80", "adts"),
        (b"\xff\xfb\x90\x00", "mp3"),
        (b"RIFF1234WAVE", "wav"),
        (b"plain words", "text"),
        (b"\0\0\0\x18ftypheic\0\0\0\0mif1heic", "heif"),
        (b"\0\0\0\x1cftypmif1\0\0\0\0mif1avifmiaf", "avif"),
        (b"\0\1\2\3", "unknown"),
        (b"", "unknown"),
        (b"PK\3\4", "zip"),
        (b"GIF89a", "gif"),
    ],
)
def test_formats_are_told_by_their_first_bytes(head: bytes, form: str) -> None:
    assert sniff(head) == form


def test_numbers_are_shown_as_people_read_them() -> None:
    assert [size(n) for n in (None, 0, 999, 1500, 2_000_000, 318_041, 7.2e9)] == [
        "–",
        "0 B",
        "999 B",
        "1.5 kB",
        "2.0 MB",
        "318 kB",
        "7.2 GB",
    ]
    assert [clock(s) for s in (None, 0, 59.6, 3723)] == ["–", "0:00", "1:00", "1:02:03"]
    assert [bits(n) for n in (None, 48_000, 2_500_000)] == ["–", "48 kbit/s", "2.5 Mbit/s"]
    assert [life(s) for s in (-1, 30, 600, 86_400, 400_000)] == [
        "expired",
        "expires in 30 s",
        "expires in 10 minutes",
        "expires in 24 hours",
        "expires in 5 days",
    ]


def test_columns_are_aligned_and_empty_ones_left_out() -> None:
    rows = [("name", "size", "none"), ("a", "12", "–"), ("long", "3", "–")]
    assert list(columns(rows, right=(1,))) == ["name  size", "a       12", "long     3"]
