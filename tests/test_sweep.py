"""Whole lists: read as people and machines write them, run without one row stopping another, gone on with."""

import asyncio
import csv
import json
import signal
import subprocess
import zipfile
from collections.abc import Callable
from io import BytesIO
from pathlib import Path
from typing import Literal

import pandas as pd
import pytest
from hypothesis import given
from hypothesis import strategies as st

from mudlark.demo.site import DemoSite
from mudlark.errors import FormatError, Held, MudlarkError, NetworkError, NothingFound, Refused, StorageError
from mudlark.hauling.order import HaulWatch, Item, Order
from mudlark.hauling.title import folder_name
from mudlark.sweeping.gather import following
from mudlark.sweeping.journal import Journal, Result, grouped, key_of
from mudlark.sweeping.rows import Listed, ListRow, once, rows_in
from mudlark.sweeping.run import Chosen, Done, Hosts, Sweep, with_row
from tests.conftest import PROGRAM, Answer, Ran, Trouble, own_environment, wait_until

Run = Callable[..., Ran]
ONE, TWO = "https://museum.example/one", "https://museum.example/two?a=1,2;b"


def rows(body: bytes, base: str = "") -> list[ListRow]:
    listed = rows_in(body, base)
    assert listed
    return listed.rows


@pytest.mark.parametrize(
    "text",
    [
        f'Title,URL,Keeper\nOne,{ONE},Ann\nTwo,"{TWO}",Bob\n',
        f'Keeper;Adresse;Titel\r\nAnn;{ONE};One\r\nBob;"{TWO}";Two\r\n',
        f"Keeper\tlink\tname\nAnn\t{ONE}\tOne\nBob\t{TWO}\tTwo\n",
    ],
    ids=["commas", "semicolons", "tabs"],
)
@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_tables_are_read_as_spreadsheets_write_them(text: str, encoding: str) -> None:
    one, two = rows(text.replace("Ann", "Änn").encode(encoding))
    assert (one.number, one.address, one.title, one.listed) == (1, ONE, "One", {"Keeper": "Änn"})
    assert (two.number, two.address, two.title, two.found) == (2, TWO, "Two", False)


@pytest.mark.parametrize("engine", ["openpyxl", "odf"])
def test_spreadsheets_are_lists(tmp_path: Path, engine: Literal["openpyxl", "odf"]) -> None:
    frame = pd.DataFrame([["RA-001", "One", ONE], ["RA-002", None, TWO]], columns=["Shelfmark", "Title", "URL"])
    path = tmp_path / "list"
    with pd.ExcelWriter(path, engine=engine) as book:
        frame.to_excel(book, index=False)
    one, two = rows(path.read_bytes())
    assert (one.number, one.address, one.title, one.listed) == (1, ONE, "One", {"Shelfmark": "RA-001"})
    assert (two.address, two.title, two.listed) == (TWO, None, {"Shelfmark": "RA-002"})
    for body in (b"PK\x03\x04nothing", path.read_bytes()[:-200]):
        with pytest.raises(FormatError):
            rows_in(body)


def test_items_are_named_by_columns_title_and_date() -> None:
    listed = {"Shelfmark": "RA-001", "Box": "7/a"}
    assert folder_name("shelfmark", "One", "2031-05-17", listed) == "RA-001"
    assert folder_name("{Shelfmark} {title} {date}", "One", "2031-05-17T10:00:00Z", listed) == "RA-001 One 2031-05-17"
    assert "/" not in folder_name("box", "One", "", listed) and folder_name("none", "One", "", listed) == "One"
    assert folder_name(None, "", "", {}) == "Untitled"


@pytest.mark.program
def test_the_columns_of_a_list_name_items_and_stay_with_them(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    media = site.origins.media
    table = f"shelfmark,box,url\nRA-005,7,{media}/films/foghorn-demonstration.mp4\nRA-006,8,{media}/films/none.mp4\n"
    (tmp_path / "list.csv").write_text(table)
    assert mudlark("sweep", "list.csv", "--into", "kept", "--name-from", "keeper").status == 2
    mudlark("sweep", "list.csv", "--into", "kept", "--name-from", "shelfmark", "--patience", "1", "--tries", "1")
    assert (tmp_path / "kept/RA-005/record.json").exists()
    swept = pd.read_csv(tmp_path / "kept/sweep.csv", dtype=str).set_index("shelfmark")
    assert swept["path"]["RA-005"] == "RA-005" and swept["box"]["RA-006"] == "8"
    assert mudlark("ledger", "kept", "--text", "ra-005", "--csv", "all.csv").status == 0
    assert list(pd.read_csv(tmp_path / "all.csv", dtype=str)["box"]) == ["7"]


@pytest.mark.parametrize(
    "body",
    [
        f"Regional archive, films\n\nshelfmark;title;Adresse\nRA-1;Bell;{ONE}\nRA-2;Wren;{ONE}\n".encode(),
        f"Regional archive, films\nshelfmark,title,address\nRA-1,Bell,{ONE}\nRA-2,Wren,{ONE}\n".encode(),
        f"sep=;\nshelfmark;title;address\nRA-1;Bell;{ONE}\nRA-2;Wren;{ONE}\n".encode("utf-16"),
        f"shelfmark,title,address\rRA-1,Bell,{ONE}\rRA-2,Wren,{ONE}\r".encode(),
        f"\xef\xbb\xbfshelfmark|title|address\r\nRA-1|Bell|{ONE}\r\nRA-2|Wren|{ONE}\r\n".encode("latin-1"),
    ],
    ids=["caption", "caption of two cells", "stated", "carriage returns", "bars"],
)
def test_tables_are_read_as_programs_of_an_office_leave_them(body: bytes) -> None:
    listed = rows_in(body)
    assert listed and [(row.number, row.title, row.address, row.listed) for row in listed.rows] == [
        (1, "Bell", ONE, {"shelfmark": "RA-1"}),
        (2, "Wren", ONE, {"shelfmark": "RA-2"}),
    ]


def test_a_text_names_addresses_as_people_paste_them() -> None:
    listed = rows_in(f"<{ONE}>\n# later\n- [The bell, old]({ONE})\n".encode())
    assert listed and [row.address for row in listed.rows] == [ONE, ONE]


def test_a_table_without_names_has_its_addresses_found_by_what_they_are() -> None:
    listed = rows(f"1,{ONE},note\n2,{ONE}/b,\n".encode())
    assert [row.address for row in listed] == [ONE, f"{ONE}/b"]
    assert listed[0].listed == {"column 1": "1", "column 3": "note"}


def test_columns_say_which_renditions_are_wanted() -> None:
    (row,) = rows(f'address,within,languages,Within box\n{ONE},720,"cy,en",7\n'.encode())
    assert row.wishes == {"within": "720", "languages": "cy,en"} and row.listed == {"Within box": "7"}


def test_the_table_of_an_index_page_is_a_list() -> None:
    table = f'title,page,media,cover\nOne,{ONE},{ONE}.mp4,{ONE}.png\nTwo,,"{TWO}",\n'
    assert [(row.title, row.address) for row in rows(table.encode())] == [("One", ONE), ("Two", TWO)]


def test_a_text_of_addresses_has_comments_and_blank_lines() -> None:
    text = f"# the best\n\n{ONE}\n   {TWO}  \n#{ONE}/no\nno address\n"
    assert [row.address for row in rows(text.encode())] == [ONE, TWO, "no address"]


def test_feeds_and_site_maps_are_lists() -> None:
    feed = f"""<?xml version="1.0"?><rss><channel><title>Talks</title><link>{ONE}/all</link>
      <item><title>One</title><link>{ONE}</link><enclosure url="/one.mp3"/><pubDate>today</pubDate></item>
      <item><title>Two</title><link>{TWO.replace("&", "&amp;")}</link></item></channel></rss>"""
    one, two = rows(feed.encode(), "https://museum.example/feed")
    assert (one.address, one.title, one.listed) == ("https://museum.example/one.mp3", "One", {"pubDate": "today"})
    assert two.address == TWO and two.found
    site_map = f"<urlset xmlns='http://www.sitemaps.org/schemas/sitemap/0.9'><url><loc>{ONE}</loc></url></urlset>"
    assert [row.address for row in rows(site_map.encode())] == [ONE]
    index = f"<sitemapindex><sitemap><loc>{ONE}.xml</loc></sitemap></sitemapindex>"
    assert rows_in(index.encode()) == Listed([], [f"{ONE}.xml"])
    assert rows_in(b"\n<!DOCTYPE html><title>x</title>") is None
    noted = (
        f"<rss><channel><!-- a --><item><!-- b --><title>Bell</title><?c d?><link>{ONE}</link></item></channel></rss>"
    )
    assert [(row.address, row.title) for row in rows(noted.encode())] == [(ONE, "Bell")]
    assert rows_in(b"<:") is not None


@given(st.binary(max_size=300) | st.text(max_size=300).map(str.encode))
def test_any_bytes_are_a_list_or_an_error_of_ours(body: bytes) -> None:
    for lead in (b"", b"<rss>", b"address,title\n", b"https://museum.example/\n"):
        try:
            rows_in(lead + body)
        except MudlarkError as problem:
            assert problem.advice or problem.what


def test_doubled_addresses_are_taken_once() -> None:
    left, doubled = once([ListRow(1, ONE), ListRow(2, TWO), ListRow(3, f"{ONE}#t=3"), ListRow(4, ""), ListRow(5, "")])
    assert [row.number for row in left] == [1, 2, 4, 5] and doubled == 1
    left, _ = once(ListRow(n, f"{ONE}{query}") for n, query in enumerate(("?token=a", "?token=b", "?id=1&token=a")))
    assert [row.alone for row in left] == [False, False, True]


def test_the_next_page_is_found_and_none_beyond_its_host() -> None:
    base = "https://museum.example/talks?page=1"
    for markup in (
        '<a rel="next" href="?page=2">2</a>',
        '<a href="?page=2">Next page ›</a>',
        '<a href="?page=2">»</a>',
    ):
        assert following(f"<p>{markup}", base) == ["https://museum.example/talks?page=2"]
    assert following('<a rel="next" href="?page=1#top">', base) == []
    assert following('<a rel="next" href="https://elsewhere.example/">', base) == []
    assert following('<a href="/nextcloud">Nextcloud</a>', base) == []


def test_rows_are_chosen_by_number_text_and_what_came_of_them(tmp_path: Path) -> None:
    listed = [ListRow(n, f"https://museum.example/{n}", f"Film {n}") for n in range(1, 11)]
    journal = Journal(tmp_path)

    def numbers(only: str | None = None, most: int | None = None, *, failed: bool = False) -> list[int]:
        return [row.number for row in Chosen(only, most, failed).of(listed, journal)]

    assert numbers("2,4-6") == [2, 4, 5, 6] and numbers("film 7") == [7] and numbers(most=3) == [1, 2, 3]
    (tmp_path / "Film 1").mkdir()
    (tmp_path / "Film 1" / "record.json").write_text("{}")
    for number, verdict, path in ((1, "sound", "Film 1"), (2, "sound", "Film 2"), (3, "failed", "")):
        address = f"https://museum.example/{number}"
        journal.add(Result(key_of(address), address, verdict, path=path))  # type: ignore[arg-type]
    again = Journal(tmp_path)
    assert again.results == journal.results and key_of("https://museum.example/1?token=new") not in again.results
    assert numbers() == [2, 3, 4, 5, 6, 7, 8, 9, 10]
    listed = [ListRow(n, f"https://museum.example/{n}#part") for n in range(1, 4)]
    assert numbers() == [2, 3] and numbers(failed=True) == [2, 3]
    listed = [ListRow(n, f"https://museum.example/{n}?token=lantern") for n in range(1, 4)]
    journal.add(Result(key_of(listed[0].address), listed[0].address, "sound", path="Film 1"))
    assert numbers() == [2, 3] and "lantern" not in (tmp_path / ".mudlark/sweep.jsonl").read_text()


def test_a_host_is_gone_after_some_rows_without_an_answer() -> None:
    hosts = Hosts()
    for problem in (NetworkError("x"), NetworkError("x", status=503), NetworkError("x", status=404), Refused("x")):
        hosts.failed("a", problem)
    assert not hosts.gone("a")
    for _ in range(3):
        hosts.failed("a", NetworkError("no connection"))
    assert hosts.gone("a") and not hosts.gone("b")
    hosts.answered("a")
    assert not hosts.gone("a")


def test_the_table_of_results_has_no_formulas_and_leaves_others_alone(tmp_path: Path) -> None:
    (tmp_path / "sweep.csv").write_text("mine")
    journal = Journal(tmp_path)
    journal.add(Result("k", "https://museum.example/?token=hush", "failed", title="=1+1", reason="@x"))
    path = journal.write_table([])
    assert path.name == "sweep (2).csv" and (tmp_path / "sweep.csv").read_text() == "mine"
    assert journal.write_table([]) == path
    (row,) = csv.DictReader(path.open(encoding="utf-8-sig", newline=""))
    assert row["title"] == "'=1+1" and row["reason"] == "'@x" and "hush" not in row["address"]


def test_the_head_of_a_table_of_one_column_is_no_row() -> None:
    for head in ("address", "URL", '"link"'):
        listed = rows_in(f"{head}\n{ONE}\nhttps://museum.example/three\n".encode())
        assert listed and [(row.number, row.address) for row in listed.rows] == [
            (1, ONE),
            (2, "https://museum.example/three"),
        ]


def test_what_another_list_brought_comes_last_and_a_status_is_no_detail(tmp_path: Path) -> None:
    journal = Journal(tmp_path)
    for name in ("elsewhere", "seventh", "second"):
        journal.add(Result(key_of(f"{ONE}/{name}"), f"{ONE}/{name}", "failed"))
    rows = [ListRow(7, f"{ONE}/seventh"), ListRow(2, f"{ONE}/second")]  # others of the list were doubled
    table = list(csv.DictReader(journal.write_table(rows).open(encoding="utf-8-sig", newline="")))
    assert [row["row"] for row in table] == ["2", "7", ""]
    reasons = [f"https://m.example/{n} answered {status} to it after {n} tries." for n, status in ((1, 404), (2, 403))]
    assert len(grouped([*reasons, reasons[0].replace("1 tries", "3 tries")])) == 2


def test_no_row_ends_the_others_and_what_another_holds_is_tried_at_the_end(tmp_path: Path) -> None:
    order, asked = Order(target="", into=tmp_path), list[str]()

    async def hauler(one: Order, _watch: HaulWatch) -> list[Item]:
        asked.append(one.target.rpartition("/")[2])
        if one.target.endswith("1"):
            raise ZeroDivisionError("nobody foresaw it")
        if one.target.endswith("2") and asked.count("2") == 1:
            raise Held("another process works on it")
        if one.target.endswith("3"):
            raise StorageError("its state cannot be read")
        raise NothingFound("nothing here")

    async def work() -> list[Done]:
        sweep = Sweep(hauler, Journal(tmp_path), lambda row: with_row(order, row), tmp_path)
        rows = [ListRow(n, f"http://127.0.0.1/{n}") for n in range(1, 5)]
        return [done async for done in sweep.run(rows)]

    done = asyncio.run(work())
    codes = {one.row.number: one.result.code for one in done}
    assert codes == {1: "internal", 2: "nothing-found", 3: "storage", 4: "nothing-found"} and asked[-1] == "2"
    gone = tmp_path / "gone"
    gone.write_text("a file, which takes none")

    async def ended() -> list[Done]:
        sweep = Sweep(hauler, Journal(tmp_path), lambda row: with_row(order, row), gone)
        return [done async for done in sweep.run([ListRow(3, "http://127.0.0.1/3")])]

    with pytest.raises(StorageError):  # the folder itself takes nothing more
        asyncio.run(ended())


@pytest.mark.program
def test_rules_that_cannot_be_reached_let_nothing_be_read(mudlark: Run, trouble: Trouble) -> None:
    feed = f"<rss><channel><item><link>{trouble.url}/1.mp4</link></item></channel></rss>".encode()
    url = trouble.say("/feed.xml", Answer(feed, type="application/rss+xml"))
    trouble.say("/robots.txt", Answer(b"", 503))
    ran = mudlark("sweep", url, "--tries", "1", "--into", "kept", "--json")
    assert ran.status == 4 and "does not say whether programs may read" in ran.err and "/feed.xml" not in trouble.asked


@pytest.mark.program
def test_a_list_with_dead_and_doubled_rows(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    ran = mudlark("sweep", f"{site.origins.site}/lists/films.csv", "--into", "kept", "--json")
    summary = ran.json["summary"]
    assert ran.status == 1 and (summary["rows"], summary["doubled"], summary["tried"]) == (5, 1, 5)
    assert summary["verdicts"] == {"sound": 3, "failed": 2}
    assert sorted(item["row"] for item in ran.json["items"]) == [1, 2, 3, 5, 6]  # as the list has them
    bell = next(item for item in ran.json["items"] if item["row"] == 1)
    record = json.loads((tmp_path / bell["folder"] / "record.json").read_text())
    assert record["title"] == "Harbour Wall" and record["source"]["listed"]["Box"] == "17"
    table = list(csv.DictReader((tmp_path / "kept" / "sweep.csv").open(encoding="utf-8-sig", newline="")))
    failed = [row for row in table if row["verdict"] == "failed"]
    assert len(failed) == 2 and all(row["reason"] for row in failed)
    again = mudlark("sweep", f"{site.origins.site}/lists/films.csv", "--into", "kept")
    assert "2 failed, 3 done before" in again.out and "2 × answered 404 Not Found." in again.out
    assert "404" in again.out and "table  kept/sweep.csv" in again.out


@pytest.mark.program
def test_a_year_of_nights_says_no_more_than_what_is_new_or_wrong(
    mudlark: Run, trouble: Trouble, tmp_path: Path
) -> None:
    def answer(letter: str, tag: str) -> Answer:
        packed = BytesIO()
        with zipfile.ZipFile(packed, "w") as archive:
            archive.writestr(f"{tag}.txt", letter * 900)
        return Answer(packed.getvalue(), type="application/zip", headers={"ETag": f'"{tag}"'})

    rows = ["shelfmark,address"]
    rows += [f"RA-{n},{trouble.say(f'/{n}.zip', answer(str(n), 'a'))}" for n in range(3)]
    rows += [f"RA-{n},{trouble.url}/dead-{n}.zip" for n in (3, 4)]
    (tmp_path / "list.csv").write_text("\n".join(rows) + "\n")
    night = ("sweep", "list.csv", "--into", "kept", "--quiet", "--tries", "1", "--give-up", "3")
    first = mudlark(*night)
    assert first.status == 1 and first.out.count("sound") == 3 and first.out.count("failed") == 2
    assert "2 × answered 404" in first.out and not first.err
    second, third = mudlark(*night), mudlark(*night)
    assert "sound" not in second.out and second.out.count("failed") == 2 and "set aside" not in second.out
    assert "2 rows set aside after 3 runs: 4–5" in third.out
    (tmp_path / "list.csv").write_text("\n".join([*rows, f"RA-9,{trouble.say('/9.zip', answer('9', 'a'))}"]) + "\n")
    asked = len(trouble.asked)
    fourth, fifth = mudlark(*night), mudlark(*night)
    assert fourth.out.count("\n") == 1 and "RA" not in fourth.err and fifth.status == 0
    assert not fifth.out and not fifth.err and not any("dead" in path for path in trouble.asked[asked:])
    table = list(csv.DictReader((tmp_path / "kept/sweep.csv").open(encoding="utf-8-sig", newline="")))
    assert [row["row"] for row in table] == ["1", "2", "3", "4", "5", "6"]
    assert table[3]["advice"] and table[3]["date"] and table[3]["shelfmark"] == "RA-3"
    trouble.say("/0.zip", answer("0", "b"))
    trouble.answers.pop("/1.zip")
    again = mudlark(*night, "--refresh")
    assert again.out.endswith("Of 4 items, 1 has changed, 1 is gone.\n") and again.out.count("unchanged") == 0
    table = list(csv.DictReader((tmp_path / "kept/sweep.csv").open(encoding="utf-8-sig", newline="")))
    assert [row["verdict"] for row in table[:3]] == ["sound"] * 3  # what is gone there is here
    assert mudlark(*night, "--only", "RA-4").out.count("failed") == 1


@pytest.mark.program
def test_a_plan_names_the_rows_that_must_fail(mudlark: Run, tmp_path: Path) -> None:
    rows = "address,within\nhttps://museum.example/a,\ngopher://museum.example/b,\nhttps://museum.example/c,tall\n,\n"
    (tmp_path / "list.csv").write_text(rows)
    plan = mudlark("sweep", "list.csv", "--plan")
    assert plan.status == 2 and "must fail: 2–3" in plan.err and plan.out.count("!") == 2


@pytest.mark.program
def test_a_feed_an_input_and_a_plan(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    feed = mudlark("sweep", f"{site.origins.site}/talks.xml", "--into", "feed", "--json")
    assert feed.status == 0 and feed.json["summary"]["verdicts"] == {"sound": 2}
    titles = {item["title"] for item in feed.json["items"]}
    assert titles == {"A Talk on the Harbour Wall", "Lighting the Lamp"}
    (tmp_path / "few.txt").write_text(f"{site.address('foghorn')}\n{site.address('tide-mill')}\n")
    plan = mudlark("sweep", "few.txt", "--plan", "--only", "2")
    assert plan.out.split() == ["2", site.address("tide-mill")] and not (tmp_path / "mudlark").exists()
    assert mudlark("sweep", "none.csv").status == 2
    (tmp_path / "empty.csv").write_text("# nothing\n")
    assert mudlark("sweep", "empty.csv").status == 3


@pytest.mark.program
def test_a_sweep_that_was_killed_goes_on(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    films = [trouble.say(f"/{n}.bin", Answer(b"\x7fELF" + bytes([n]) * 5_000)) for n in range(6)]
    trouble.say("/4.bin", Answer(b"", hold=300))
    (tmp_path / "list.txt").write_text("\n".join(films))
    command = [str(PROGRAM), "sweep", "list.txt", "--into", "kept", "--at-once", "1", "--json"]
    with subprocess.Popen(command, cwd=tmp_path, env=own_environment(tmp_path), stdout=subprocess.DEVNULL) as process:
        wait_until(lambda: "/4.bin" in trouble.asked)
        process.send_signal(signal.SIGKILL)
    trouble.say("/4.bin", Answer(b"\x7fELF" + bytes(5_000)))
    trouble.asked.clear()
    summary = mudlark("sweep", "list.txt", "--into", "kept", "--json").json["summary"]
    assert (summary["already"], summary["tried"]) == (4, 2)
    assert {path for path in trouble.asked if path.endswith(".bin")} == {"/4.bin", "/5.bin"}


@pytest.mark.program
def test_a_server_that_is_gone_is_left_and_tried_at_the_end(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    dead = [f"http://127.0.0.1:9/{n}.bin" for n in range(8)]
    live = [trouble.say(f"/{n}.bin", Answer(b"\x7fELF" + bytes([n]) * 5_000)) for n in range(4)]
    (tmp_path / "list.txt").write_text("\n".join(dead + live))
    ran = mudlark("sweep", "list.txt", "--into", "kept", "--at-once", "1", "--tries", "1", "--json")
    summary = ran.json["summary"]
    assert summary["verdicts"] == {"failed": 8, "unproven": 4}
    assert [reason["rows"] for reason in summary["reasons"]] == [4, 4]  # asked; left, as there was no answer


@pytest.mark.program
def test_robots_are_kept_to_for_what_no_person_named(mudlark: Run, trouble: Trouble, tmp_path: Path) -> None:
    for n in range(3):
        trouble.say(f"/open/{n}.bin", Answer(b"\x7fELF" + bytes([n]) * 5_000))
    links = "".join(f"<item><title>{n}</title><enclosure url='/open/{n}.bin'/></item>" for n in range(2))
    feed = f"<rss><channel>{links}<item><title>2</title><enclosure url='/shut/2.bin'/></item></channel></rss>"
    url = trouble.say("/open/feed.xml", Answer(feed.encode(), type="application/rss+xml"))
    trouble.say("/shut/feed.xml", Answer(feed.encode(), type="application/rss+xml"))
    trouble.say("/robots.txt", Answer(b"User-agent: *\nDisallow: /shut/\n", type="text/plain"))
    ran = mudlark("sweep", url, "--into", "kept", "--json")
    assert ran.json["summary"]["tried"] == 2 and "/shut/2.bin" not in trouble.asked and "robots.txt" in ran.err
    refused = mudlark("sweep", trouble.url + "/shut/feed.xml", "--into", "kept")
    assert refused.status == 4 and "--ignore-robots" in refused.err
    trouble.say("/shut/2.bin", Answer(b"\x7fELF" + bytes(5_000)))
    anyway = mudlark("sweep", trouble.url + "/shut/feed.xml", "--into", "kept", "--ignore-robots", "--json")
    assert anyway.json["summary"]["tried"] == 1
    (tmp_path / "named.txt").write_text(trouble.url + "/shut/2.bin\n")
    assert mudlark("sweep", "named.txt", "--into", "own", "--json").json["summary"]["tried"] == 1


@pytest.mark.browser
@pytest.mark.program
@pytest.mark.parametrize("most", [6, pytest.param(40, marks=pytest.mark.soak)])
def test_forty_talks_are_swept(mudlark: Run, site: DemoSite, tmp_path: Path, most: int) -> None:
    ran = mudlark("sweep", f"{site.origins.site}/talks", "--into", "talks", "--at-once", "4", "--most", most, "--json")
    summary = ran.json["summary"]
    assert ran.status == 0 and (summary["rows"], summary["verdicts"]) == (40, {"sound": most})
    assert len({item["folder"] for item in ran.json["items"]}) == most
