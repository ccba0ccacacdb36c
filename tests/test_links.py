"""Any page of links is a list: those of one shape, or those that are meant."""

from collections.abc import Callable
from pathlib import Path

import pandas as pd
import pytest

from mudlark.find.places.links import links_in
from tests.conftest import Answer, Ran, Trouble

BASE = "http://museum.example/talks"
MENU = "<nav>" + "".join(f'<a href="/about/{n}">About {n}</a>' for n in range(9)) + "</nav>"
ITEMS = "".join(f'<li><a href="/film/talk-{n}#top">Talk number {n}</a></li>' for n in range(5))
ROWS = "".join(f'<tr><td>RA-{n:03d}</td><td>The Talk</td><td><a href="t{n}.html">go</a></td></tr>' for n in range(4))


def test_the_largest_group_of_one_shape_is_the_list_and_menus_are_none() -> None:
    found = links_in(f"{MENU}<ul>{ITEMS}</ul><p><a href=/one>One</a> <a href=/style.css>x</a></p>", BASE)
    assert found.shape == "/film/*" and [entry.title for entry in found.entries][:2] == [
        "Talk number 0",
        "Talk number 1",
    ]
    assert found.entries[0].url == "http://museum.example/film/talk-0"
    table = links_in(f"<table>{ROWS}</table>", BASE)
    assert [entry.title for entry in table.entries][:1] == ["RA-000 The Talk"] and len(table.entries) == 4
    assert links_in("<a href=/a/b>Alone</a><a href=/c/d>Another</a>", BASE).entries == []


@pytest.mark.parametrize(
    ("row", "title"),
    [
        ("<li>The Mill {n} <a href='/dl/{n}'>Download (MP4)</a></li>", "The Mill 1"),
        ("<li><a href='/dl/{n}'>MP4</a> The Mill {n} <a href='/x'>WebM</a></li>", "The Mill 1 WebM"),
        ("<li><a href='/dl/{n}'>Film {n}</a> (720p)</li>", "Film 1"),
        ("<li><a href='/dl/{n}'>Watch now</a></li>", "Watch now"),
    ],
)
def test_a_link_that_says_only_what_form_it_has_is_titled_by_its_row(row: str, title: str) -> None:
    page = "".join(row.format(n=n) for n in range(4))
    assert links_in(f"<ul>{page}</ul>", BASE).entries[1].title == title


def test_a_folder_as_a_web_server_shows_it_lists_its_files() -> None:
    orders = "".join(f'<a href="?C={column};O=A">{column}</a>' for column in "NMSD")
    inside = (
        '<a href="/films/">Parent Directory</a><a href="old/">old/</a><a href="bell.mp4">b</a><a href="a%20b.ogg">a</a>'
    )
    found = links_in(f"<h1>Index of /films/year</h1><pre>{orders}{inside}</pre>", "http://museum.example/films/year/")
    assert [entry.url.rpartition("/")[2] for entry in found.entries] == ["bell.mp4", "a%20b.ogg"]


@pytest.mark.parametrize(("pattern", "count"), [("*/film/*", 5), ("number 3", 1), ("ABOUT", 9), ("*/nothing/*", 0)])
def test_a_pattern_means_addresses_or_words(pattern: str, count: int) -> None:
    assert len(links_in(f"{MENU}<ul>{ITEMS}</ul>", BASE, pattern).entries) == count


@pytest.mark.program
@pytest.mark.browser
def test_cards_that_come_as_one_scrolls_are_a_list(
    mudlark: Callable[..., Ran], trouble: Trouble, tmp_path: Path
) -> None:
    cards = trouble.say(
        "/cards",
        Answer(
            b"""<!doctype html><title>Cards</title><link rel="icon" href="data:,"><div id="all"></div><script>
let count = 0;
const more = () => { for (let n = 0; n < 8 && count < 40; n++, count++) {
  const card = document.createElement("div");
  card.style.height = "200px"; card.innerHTML = `<a href="/card/${count}">Card ${count}</a>`;
  document.getElementById("all").append(card);
} };
more();
addEventListener("scroll", () => { if (innerHeight + scrollY > document.body.scrollHeight - 300) more(); });
</script>""",
            type="text/html",
        ),
    )
    ran = mudlark("sweep", cards, "--plan", "--settle", "0.3")
    assert ran.status == 0 and "http" in ran.out and "40 rows" in ran.err and "like /card/*" in ran.err
    page = trouble.say("/plain", Answer(f"<title>Plain</title><ul>{ITEMS}</ul>".encode(), type="text/html"))
    assert mudlark("sift", page, "--csv", "list.csv").status == 0
    assert list(pd.read_csv(tmp_path / "list.csv")["title"])[:2] == ["Talk number 0", "Talk number 1"]
