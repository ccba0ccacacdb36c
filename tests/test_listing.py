"""Index pages: their entries, and the file that lists them."""

import csv
from pathlib import Path

import pytest

from mudlark.archive.listing import COLUMNS, cell, write_listing
from mudlark.errors import StorageError
from mudlark.find.model import ListEntry
from mudlark.find.places.listing import entries_in, read_listing
from tests.captures import PAGE, captured, document, entry

_URL = "http://museum.test/talks"


def _card(number: int, inside: str = "") -> str:
    return f"""<article class="card n{number}"><a href="/talks/{number}"><img src="c{number}.png"></a>
<h3><a href="/talks/{number}">Talk {number}</a></h3><p>Short.</p><p>A longer text on reel {number}.</p>
<span>{number}:05:10</span> <time datetime="1967-03-0{number}">long ago</time>{inside}</article>"""


_MENU = "<nav>" + "".join(f'<li><a href="/{word}">{word}</a></li>' for word in "abcdefghij") + "</nav>"


def test_every_entry_has_what_the_list_says_of_it() -> None:
    cards = "".join(_card(n) for n in range(1, 6))
    entries = entries_in(f"<body>{_MENU}<main>{cards}</main></body>", _URL)
    assert len(entries) == 5
    assert entries[1] == ListEntry(
        "Talk 2",
        "http://museum.test/talks/2",
        "A longer text on reel 2.",
        None,
        "http://museum.test/c2.png",
        2 * 3600 + 310.0,
        "1967-03-02",
    )


def test_media_in_an_entry_is_noted() -> None:
    cards = "".join(_card(n, f'<div data-clip="/clips/{n}.mp4"></div>') for n in range(1, 6))
    assert entries_in(cards, _URL)[0].media == "http://museum.test/clips/1.mp4"


def test_a_menu_or_a_text_with_links_is_no_list() -> None:
    text = "<p>" + "".join(f'word <a href="/{n}">link {n}</a> word ' for n in range(9)) + "</p>"
    assert entries_in(f"<body>{_MENU}{text}</body>", _URL) == []


def test_an_answer_in_json_adds_the_media_of_an_entry(tmp_path: Path) -> None:
    cards = "".join(_card(n) for n in range(1, 6))
    talks = [{"name": f"Talk {n}", "file": f"http://media.test/{n}.mp4"} for n in (1, 3)]
    body = __import__("json").dumps({"talks": talks})
    answer = entry("http://museum.test/api", "application/json", body)
    entries = read_listing(captured(tmp_path, [document(f"<main>{cards}</main>"), answer]))
    assert [bool(one.media) for one in entries] == [True, False, True, False, False]
    assert entries[0].url.startswith(PAGE.rpartition("/")[0])


@pytest.mark.parametrize("text", ["=1+1", "+1", "-1", "@x", "\tx"])
def test_no_cell_begins_a_formula(text: str) -> None:
    assert cell(text) == f"'{text}".replace("\t", " ")


def test_a_list_is_written_once_an_entry_and_reads_back(tmp_path: Path) -> None:
    entries = [ListEntry('A "quoted", talk', "http://a.test/1", duration=20.5), ListEntry("=B", "http://a.test/2")]
    assert write_listing(tmp_path / "list.csv", [*entries, entries[0]]) == 2
    with (tmp_path / "list.csv").open(encoding="utf-8", newline="") as file:
        rows = list(csv.DictReader(file))
    assert tuple(rows[0]) == COLUMNS
    assert [(row["title"], row["duration"]) for row in rows] == [('A "quoted", talk', "20.5"), ("'=B", "")]


def test_a_list_that_cannot_be_written_is_said(tmp_path: Path) -> None:
    with pytest.raises(StorageError):
        write_listing(tmp_path / "no" / "list.csv", [ListEntry("A", "http://a.test/1")])
