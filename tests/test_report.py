"""Reports: what they show is what the records say; nothing in them runs or asks; they hold in a real browser."""

import asyncio
import csv
import json
import re
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from typing import Any
from urllib.parse import unquote

import msgspec
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace
from playwright.async_api import async_playwright

from mudlark.archive.choosing import choose
from mudlark.archive.layout import HISTORY, RECORD
from mudlark.archive.ledger import Wanted
from mudlark.archive.record import FileFacts, Note, PlayFacts, Record, SegmentFacts, TrackFacts, read_record, to_json
from mudlark.cli.report import need_libraries
from mudlark.demo.site import DemoSite
from mudlark.demo.streamed import MEDIA
from mudlark.errors import UsageError
from mudlark.report.figures import draw
from mudlark.report.heading import Heading, Period
from mudlark.report.item import read_item
from mudlark.report.page import item_page
from mudlark.report.requests import read_log, tables_of
from mudlark.report.shelf import Shelf, read_shelf
from mudlark.report.spans import joined
from mudlark.report.table import Table, thinned
from mudlark.report.write import place_for, write_report
from mudlark.sweeping.journal import Journal, Result
from mudlark.verify.account import Problem
from mudlark.web.exchange import STOPPED
from tests.conftest import Ran
from tests.judge import CHROMIUM
from tests.test_bag import item

Run = Callable[..., Ran]
BAD = "<script>alert(1)</script>\u202e</title><img src=x onerror=alert(2)>{{ 7*7 }}"


def change(folder: Path, **values: Any) -> Path:
    record = read_record(folder)
    for name, value in values.items():
        setattr(record, name, value)
    (folder / RECORD).write_bytes(to_json(record))
    return folder


def asked(number: int, **values: Any) -> dict[str, Any]:
    """A row of the log of requests: two a second, each half a second long."""
    row = {"at": 1_000_000.0 + number / 2, "sent": 0.0, "ended": 0.5, "lane": 1 + number % 2, "status": 200, "try": 1}
    return {**row, "way": "first", "bytes": 1000, "for": f"v1 {number}", "url": f"u{number}", "problem": None, **values}


def logged(folder: Path, rows: list[dict[str, Any]]) -> Path:
    (folder / "requests.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows))
    return folder


def shelf_of(folder: Path) -> Shelf:
    return read_shelf([folder], choose([folder], Wanted()), Heading(), "pages", lambda _address, _item: None)


def table(tables: list[Table], name: str) -> Table:
    return next(one for one in tables if one.name == name)


def test_what_a_record_says_is_never_markup(tmp_path: Path) -> None:
    folder = change(item(tmp_path / "in/Buoy"), title=BAD, problems=[Problem(BAD, BAD, at=1.0)], verdict="flawed")
    change(folder, operator={"user": BAD}, segment_list=[SegmentFacts(BAD, 0, BAD, 4.0, problem=BAD)])
    write_report([tmp_path / "in"], tmp_path / "all.html")
    for page in ((tmp_path / "all.html").read_text(), (tmp_path / "all/0001.html").read_text()):
        assert "<script>alert" not in page and "<img src=x" not in page and "\u202e" not in page
        assert (
            "{{ 7*7 }}" in page
            and "default-src 'none'" in page
            and "script-src 'sha256-" in page
            and "unsafe" not in page
        )


def test_a_report_says_first_what_is_wrong_and_what_to_do(tmp_path: Path) -> None:
    change(item(tmp_path / "in/Buoy"), verdict="unproven", title="A very long title " * 9)
    torn = change(item(tmp_path / "in/Bell"), verdict="flawed", problems=[Problem("gap", "The sound is missing")])
    change(torn, source=msgspec.structs.replace(read_record(torn).source, listed={"shelfmark": "RA-005", "box": "17"}))
    heading = Heading("Summer", "Tidewrack Museum", Period.of("2000"))
    with pytest.raises(UsageError, match="None of 2 items"):
        write_report([tmp_path / "in"], tmp_path / "a.html", heading=heading)
    year = read_record(torn).finished[:4]
    heading = replace(heading, period=Period.of(year))
    write_report([tmp_path / "in"], tmp_path / "a.html", heading=heading, data=tmp_path / "d")
    index = (tmp_path / "a.html").read_text()
    places = [index.index(words) for words in ("What is wrong, and what to do", "At a glance", "All items")]
    assert places == sorted(places) and f"Tidewrack Museum · {year}" in index and '<h1 dir="auto">Summer' in index
    assert "Nothing proves that they are whole" in index and "Nothing speaks against it" in index
    assert "RA-005" in index and "box" in index and 'class="cut" title="A very long' in index
    assert "shelfmark" in (tmp_path / "d/items.csv").read_text().splitlines()[0]
    page = (tmp_path / "a/0001.html").read_text()
    assert page.index("What is wrong") < page.index("What to do") < page.index("What it is") and "RA-005" in page
    links = [unquote(link) for link in re.findall(r'<dt>File</dt><dd><a href="([^"]*)"', page)]
    media = [file.path for file in read_record(torn).files if file.role == "media"]
    assert [(tmp_path / "a" / link).resolve() for link in links] == [torn / path for path in media] and media
    only = write_report([tmp_path / "in", torn], tmp_path / "b.html", wanted=Wanted(text="RA-005"))
    assert only == 2 and "Of 2 items that are there" in (tmp_path / "b.html").read_text()


@pytest.mark.parametrize(
    ("text", "first", "last", "words"),
    [
        ("2031", "2031-01-01", "2031-12-31", "2031"),
        ("2031-Q1", "2031-01-01", "2031-03-31", "January to March 2031"),
        ("2032-02", "2032-02-01", "2032-02-29", "February 2032"),
        ("2031-07-01..2031-08-15", "2031-07-01", "2031-08-15", "1 July 2031 to 15 August 2031"),
    ],
)
def test_periods_are_read_as_people_write_them(text: str, first: str, last: str, words: str) -> None:
    period = Period.of(text)
    assert (period.first, period.last, period.words) == (first, last, words)


@pytest.mark.parametrize("text", ["", "2031-Q5", "2031-13", "summer", "2031-08-15..2031-07-01", "0000"])
def test_what_is_no_period_is_refused(text: str) -> None:
    with pytest.raises(UsageError):
        Period.of(text)


def test_what_is_not_there_is_said(tmp_path: Path) -> None:
    page = item_page(read_item(item(tmp_path / "Buoy")))
    assert "has no log of its requests" in page and "Loudness" not in page and "<svg" not in page
    page = item_page(read_item(change(tmp_path / "Buoy", tracks=[TrackFacts("video", "avc1.64001f")])))
    assert "assay --play" in page and "whose samples are known" in page and "<svg" not in page


def test_requests_are_told_by_what_became_of_them(tmp_path: Path) -> None:
    rows = [asked(number) for number in range(20)]
    rows[3] |= {"status": 503, "problem": "busy"}
    rows[4] |= {"try": 2, "way": "elsewhere", "url": "v3", "for": "v1 3"}
    rows[5] |= {"way": "renewed"}
    rows[6] |= {"way": "raced", "try": 2}
    rows[7] |= {"problem": STOPPED, "ended": 1.5}
    folder = logged(item(tmp_path / "Buoy"), [*rows, {"at": 1e300, "ended": 1}, {"at": "soon"}])
    requests, throughput = tables_of(read_log(folder))
    assert [row[1:4] for row in requests.rows[:3]] == [(0.0, 0.5, 1), (0.5, 1.0, 2), (1.0, 1.5, 1)]
    assert requests.rows[0][0] == "1970-01-12T13:46:40.000Z" and requests.marked == {3, 4, 5, 6}
    for words in (
        "20 requests in 10.0 s, in 2 lanes",
        "failed: 1",
        "ended from here: 1",
        "tries after a failed one: 2",
        "to another address than the first: 1",
    ):
        assert words in requests.words
    assert sum(row[1] for row in throughput.rows) * 10 / len(throughput.rows) == pytest.approx(0.02)
    assert {row[2] for row in throughput.rows if row[1]} == {1, 2} and "20.0 kB in 10.0 s" in throughput.words
    assert {row[2] for row in throughput.rows if 4 < row[0] < 4.9} == {2} and "up to 2 lanes" in throughput.words
    svg = (draw(read_item(folder), requests) or b"").decode()
    for words in ("failed", "tried again", "from another address", "under a renewed link", "asked for twice", "lane 2"):
        assert words in svg


def test_a_pause_of_days_is_left_out_and_said(tmp_path: Path) -> None:
    rows = [asked(0), asked(1), asked(0, at=1_000_000.0 + 200_000, **{"for": "v1 2"})]
    requests, _ = tables_of(read_log(logged(item(tmp_path / "Buoy"), rows)))
    assert requests.rows[2][1] == pytest.approx(3.0) and "Pauses are left out: from 13:46:41" in requests.words
    assert requests.rows[2][0].startswith("1970-01-14T21:20")


def test_stretches_of_one_name_are_one_and_named(tmp_path: Path) -> None:
    played = PlayFacts("", True, True, True, loudness=[(0.0, -20.0), (1.0, -70.0)], silent=[(1.0, 2.0)], black=[(3, 4)])
    pieces = [
        SegmentFacts("v1", 0, "u", 4.0),
        SegmentFacts("a1", 0, "u", 4.0),
        SegmentFacts("v1", 1, "u", 4.0, problem="gone", stretch=1),
        SegmentFacts("a1", 1, "u", 4.0, problem="gone", stretch=1),
        SegmentFacts("v1", 2, "u", 4.0, problem="gone", stretch=1),
    ]
    folder = change(item(tmp_path / "Buoy"), played=played, segment_list=pieces, problems=[Problem("gap", "x", at=4.0)])
    change(folder, tracks=[TrackFacts("audio", "mp4a.40.2")])
    data = read_item(folder)
    spans = {(span.begin, span.end, span.name) for span in data.spans}
    assert spans == {
        (4.0, 12.0, "missing"),
        (4.0, 4.0, "discontinuity"),
        (1.0, 2.0, "silent"),
        (3.0, 4.0, "black"),
        (4.0, 4.0, "gap"),
    }
    loudness = table(data.figures, "loudness")
    svg = (draw(data, loudness) or b"").decode()
    assert all(name in svg for name in ("missing", "black", "silent", "discontinuity", "gap"))
    assert "Silent at 0:01–0:02" in loudness.words and loudness.rows == [(0.0, -20.0), (1.0, -70.0)]
    assert joined([(5, 6), (0, 1), (1.005, 2)]) == [(0, 2), (5, 6)]
    assert [row[2] for row in data.pieces.rows] == [0.0, 0.0, 4.0, 4.0, 8.0] and data.pieces.marked == {2, 3, 4}


def media(folder: Path, source: Path) -> Path:
    """An item whose file is that one."""
    (folder / source.name).write_bytes(source.read_bytes())
    files = [FileFacts(source.name, "media", source.stat().st_size, "0" * 64)]
    return change(item_at(folder), files=files, tracks=[TrackFacts("video", "avc1.64001f")])


def item_at(folder: Path) -> Path:
    made = item(folder / "made")
    (made / RECORD).rename(folder / RECORD)
    return folder


@pytest.mark.parametrize(
    ("name", "tracks", "length"),
    [
        ("foghorn-demonstration.mp4", ["video 1", "audio 2"], 12),
        ("ferry.webm", ["video 1"], 24),
        ("tide-mill/180p/part-000.ts", ["video", "audio"], 4),
        ("fog-signals.mp3", ["audio 1"], 12),
    ],
)
def test_bit_rates_add_up_to_the_file(tmp_path: Path, name: str, tracks: list[str], length: int) -> None:
    data = read_item(media(tmp_path, MEDIA / name))
    rates, keys = table(data.figures, "rates"), table(data.figures, "keys")
    named = list(dict.fromkeys(row[0] for row in rates.rows))
    assert [one.startswith(start) for one, start in zip(named, tracks, strict=True)] == [True] * len(tracks)
    seconds = [row[1] for row in rates.rows if row[0] == named[0]]
    width = seconds[1] - seconds[0]
    carried = sum(row[2] for row in rates.rows) * 1000 / 8 * width
    assert carried == pytest.approx((MEDIA / name).stat().st_size, rel=0.17)
    assert seconds[-1] + width == pytest.approx(length, abs=0.7)
    assert bool(keys.words) and (tracks[0] != "audio 1" or not keys.rows)


def test_of_a_file_of_another_kind_the_pieces_tell_the_bit_rate(tmp_path: Path) -> None:
    pieces = [SegmentFacts("a1", number, "u", 4.0, bytes=1000 * number) for number in range(3)]
    folder = change(item(tmp_path / "Buoy"), segment_list=pieces, tracks=[TrackFacts("audio", "opus")])
    data = read_item(folder)
    rates = table(data.figures, "rates")
    assert "keys" not in [one.name for one in data.figures]
    assert rates.rows == [("a1", 0.0, 0.0), ("a1", 4.0, 2.0), ("a1", 8.0, 4.0)] and "sizes of the pieces" in rates.words


@pytest.mark.parametrize("stated", [True, False])
def test_how_late_a_recording_was_needs_no_stated_times(tmp_path: Path, stated: bool) -> None:
    pieces = []
    for number, late in enumerate((2, 3, None, 12)):
        moment = f"2031-05-17T10:00:{4 * number:02d}Z" if stated else None
        fetched = f"2031-05-17T10:00:{4 * number + 4 + late:02d}Z" if late else None
        problem = None if late else "gone"
        pieces.append(SegmentFacts("v1", number, "u", 4.0, fetched=fetched, moment=moment, problem=problem))
    notes = [Note("recording-ended", "It ended")]
    data = read_item(change(item(tmp_path / "Buoy"), segment_list=pieces, notes=notes))
    behind = table(data.figures, "behind")
    soonest = 0.0 if stated else 2.0
    assert [row[2] for row in behind.rows] == [2 - soonest, 3 - soonest, None, 12 - soonest]
    assert behind.rows[2][1] == ("2031-05-17T10:00:08.000Z" if stated else "2031-05-17T10:00:10.000Z")
    assert "Missing: 10:00:" in behind.words and b"missing" in (draw(data, behind) or b"")
    assert "recorded while it was broadcast" in data.summary
    assert "behind" not in [one.name for one in read_item(change(data.folder, notes=[])).figures]


def test_a_folder_groups_what_is_wrong_with_what_to_do(tmp_path: Path) -> None:
    for number in range(30):
        folder = item(tmp_path / f"Buoy {number}", f"{number // 2}".encode(), "flawed" if number < 22 else "sound")
        problems = [Problem("loss", f"x {number}"), Problem("boxes", "y", grave=True)] if number < 22 else []
        change(folder, problems=problems, finished=f"20{10 + number % 10}-05-17T10:00:00Z")
    (tmp_path / "Buoy 29" / HISTORY).write_text(
        '{"event":"fixity check","when":"2031-01-01T00:00:00Z","verdict":"broken","problems":["fixity"]}\n'
    )
    (tmp_path / "torn").mkdir()
    (tmp_path / "torn" / RECORD).write_text("{")
    journal = Journal(tmp_path)
    for number, code in enumerate(("network", "network", "nothing-found")):
        reason = f"http://m.example/{number} answered 404 Not Found." if code == "network" else "Nothing was found."
        journal.add(Result(f"k{number}", f"http://m.example/{number}", "failed", reason=reason, code=code))
    shelf = shelf_of(tmp_path)
    wrong = {reason.title: (reason.count, len(reason.who), reason.more) for reason in shelf.reasons()}
    assert wrong["Files are damaged inside"] == (22, 20, 2) and wrong["Files are not as they were"][0] == 1
    assert wrong["Records or files cannot be read"] == (1, 1, 0) and len(wrong) == 3
    assert [(one.title, one.count) for one in shelf.failed()] == [
        ("answered 404 Not Found.", 2),
        ("Nothing was found.", 1),
    ]
    assert "sift --listen" in shelf.failed()[1].todo
    figures = shelf.figures()
    assert dict(table(figures, "verdicts").rows) == {"sound": 7, "flawed": 22, "broken": 2}
    over = table(figures, "time")
    assert over.columns[0] == "year" and [row[0] for row in over.rows][:2] == ["2010", "2011"]
    assert table(figures, "checks").rows == [("2031-01-01", 0, 0, 0, 1)]
    assert len(shelf.items().rows) == 31 and len(shelf.doubles) == 15


def test_reports_write_over_nothing_and_leave_what_is_not_theirs(tmp_path: Path) -> None:
    for name in ("Buoy", "Bell"):
        item(tmp_path / "shelf" / name, name.encode())
    write_report([tmp_path / "shelf"], tmp_path / "shelf.html", data=tmp_path / "d", png=tmp_path / "p")
    assert sorted(path.name for path in tmp_path.iterdir()) == ["d", "p", "shelf", "shelf-pages", "shelf.html"]
    assert 'href="shelf-pages/0002.html"' in (tmp_path / "shelf.html").read_text()
    assert 'href="../shelf.html"' in (tmp_path / "shelf-pages/0001.html").read_text()
    with (tmp_path / "d/items.csv").open(newline="") as file:
        assert [row["title"] for row in csv.DictReader(file)] == ["Buoy", "Buoy"]
    assert (tmp_path / "p/hosts.png").read_bytes()[:4] == b"\x89PNG"
    with pytest.raises(UsageError):
        write_report([tmp_path / "shelf"], tmp_path / "shelf.html")
    with pytest.raises(UsageError):
        write_report([tmp_path / "shelf"], tmp_path / "new.html", data=tmp_path / "d")
    with pytest.raises(UsageError):
        write_report([tmp_path / "shelf"], tmp_path / "new.html", png=tmp_path / "p")
    (tmp_path / "shelf/Buoy" / RECORD).unlink()
    assert write_report([tmp_path / "shelf"], tmp_path / "shelf.html", replace=True) == 2
    assert [path.name for path in (tmp_path / "shelf-pages").iterdir()] == ["0001.html"]
    assert write_report([tmp_path / "shelf"], tmp_path / "new/plain") == 2
    assert sorted(path.name for path in (tmp_path / "new").iterdir()) == ["plain", "plain-pages"]
    (tmp_path / "report.html").write_text("mine")
    (tmp_path / "d/items.csv").write_text("mine")
    for into, data in (("report.html", None), ("shelf.html", tmp_path / "d")):
        with pytest.raises(UsageError, match="no part of a report"):
            write_report([tmp_path / "shelf"], tmp_path / into, data=data, replace=True)
    assert (tmp_path / "report.html").read_text() == (tmp_path / "d/items.csv").read_text() == "mine"
    assert place_for(tmp_path / "report.html") == tmp_path / "report (2).html"
    assert place_for(tmp_path / "shelf.html") == tmp_path / "shelf.html"


def test_many_pieces_and_many_items_stay_small_and_lose_no_failure(tmp_path: Path) -> None:
    rows = [asked(number, lane=number % 8, status=404 if number == 7_777 else 200) for number in range(10_000)]
    folder = logged(item(tmp_path / "many/Long"), rows)
    change(folder, segment_list=[SegmentFacts("v", n, f"https://museum.example/{n}.ts", 4.0) for n in range(10_000)])
    page = item_page(read_item(folder))
    assert len(page) < 1_000_000 and "u7777" in page and "failed" in page
    for number in range(60):
        item(tmp_path / f"many/Buoy {number}")
    assert write_report([tmp_path / "many"], tmp_path / "index.html") == 62
    assert (tmp_path / "index.html").stat().st_size < 500_000
    assert "Figures are in the report of this item" in (tmp_path / "index/0002.html").read_text()
    assert thinned([(n,) for n in range(1000)], 10)[0] == (0,) and len(thinned([(1,)], 5)) == 1


def test_without_its_libraries_a_report_is_refused_with_what_to_install(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("mudlark.cli.report.find_spec", lambda _name: None)
    with pytest.raises(UsageError) as raised:
        need_libraries()
    assert "mudlark[report]" in raised.value.advice


numbers = st.one_of(st.floats(-1e12, 1e12), st.integers(-5, 10**12).map(float))  # others are no record's
words = st.text(max_size=20)


@settings(max_examples=6, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    at=st.lists(numbers, min_size=3, max_size=3),
    said=words,
    moment=st.one_of(words, st.datetimes().map(str)),
    sizes=st.integers(0, 1 << 62),
)
def test_no_value_of_a_record_or_log_breaks_a_report(
    tmp_path: Path, at: list[float], said: str, moment: str, sizes: int
) -> None:
    folder = tmp_path / "Odd"
    if not folder.exists():
        item(folder)
    pieces = [
        SegmentFacts(said, 0, said, at[0], bytes=sizes, fetched=moment, moment=moment),
        SegmentFacts("v1", 1, said, at[1], problem=said, moment="2031-05-17T10:00:00Z"),
    ]
    played = PlayFacts(moment, True, True, True, loudness=[(at[0], at[1])], black=[(at[1], at[2])])
    change(
        folder,
        title=said,
        segment_list=pieces,
        played=played,
        problems=[Problem(said, said, at=at[2])],
        notes=[Note("recording-ended", said)],
        tracks=[TrackFacts("video", said)],
        started=moment,
        finished=moment,
    )
    logged(folder, [asked(1, at=at[0], ended=at[1], bytes=sizes, url=said), asked(2)])
    assert "<svg" in item_page(read_item(folder))


async def _seen(pages: list[Path]) -> dict[str, Any]:
    """What a browser makes of pages: errors, requests, and whether anything is wider than the page."""
    told: dict[str, Any] = {"errors": [], "asked": [], "wide": [], "rows": None, "pdf": 0, "headings": []}
    async with async_playwright() as playwright:
        browser = await playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox"])
        for scheme, width in (("light", 1280), ("dark", 380)):
            context = await browser.new_context(color_scheme=scheme, viewport={"width": width, "height": 800})  # type: ignore[arg-type]
            page = await context.new_page()
            page.on("console", lambda message: told["errors"].append(message.text))
            page.on("pageerror", lambda problem: told["errors"].append(str(problem)))
            page.on("request", lambda asked: told["asked"].append(asked.url))
            for path in pages:
                await page.goto(path.as_uri())
                told["wide"].append(await page.evaluate("document.documentElement.scrollWidth - innerWidth"))
                levels = "[...document.querySelectorAll('h1,h2,h3,h4')].map((one) => +one.tagName[1])"
                told["headings"].append(await page.evaluate(levels))
                ids = "[...document.querySelectorAll('[id]')].map((one) => one.id)"
                names = await page.evaluate(ids)
                told["errors"] += [name for name in set(names) if names.count(name) > 1]
            told["pdf"] += len(await page.pdf())
            if await page.locator("#filter").count():
                await page.get_by_role("button", name="title").press("Enter")
                await page.fill("#filter", "Foghorn")
                told["rows"] = await page.locator("table[data-sortable] tbody tr:visible").count()
                told["sorted"] = await page.locator("th[aria-sort=ascending]").inner_text()
        await browser.close()
    return told


@pytest.mark.program
@pytest.mark.browser
def test_reports_of_the_museum_hold_in_a_browser(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    hauled = mudlark("haul", site.address("rough-errors"), "--report", "--into", "a", "--json")
    folder = tmp_path / hauled.json["items"][0]["folder"]
    swept = mudlark("sweep", site.address("film-list"), "--only", "1-2,5", "--report", "--into", "a")
    assert swept.status == 1, swept.err
    pages = [tmp_path / "a" / f"{folder.name}.html", tmp_path / "a/report.html"]
    text = pages[0].read_text()
    assert "tried again" in text and "failed" in text and text.count("<svg") == 4
    record: Record = read_record(folder)
    when = dict(re.findall(r"<b>([A-Z][a-z ]+)</b> <time class=\"faint\"><span class=\"date\">([^<]*)", text))
    assert set(when) >= {"Asked for", "Page", "Manifest", "Pieces", "File"} and record.files[0].sha256 in text
    assert when["Page"] <= when["Manifest"] <= when["File"]
    index = pages[1].read_text()
    assert "answered 404 Not Found." in index and "2 addresses" in index and "sweep LIST --again-failed" in index
    below = sorted((tmp_path / "a/report").iterdir())
    assert len(below) == 2 and "<svg" in below[0].read_text()
    told = asyncio.run(_seen([*pages, below[0]]))
    assert told["errors"] == [] and all(url.startswith(("file:", "data:")) for url in told["asked"])
    assert all(over <= 0 for over in told["wide"]) and told["pdf"] > 5000
    for levels in told["headings"]:
        assert levels[0] == 1 and levels.count(1) == 1
        assert all(after - before <= 1 for before, after in pairwise(levels))
    assert mudlark("report", "a", "--into", "a/report.html").status == 2
    alone = mudlark("report", folder, "--into", "c.html", "--data", "e", "--png", "e")
    assert alone.status == 0
    with (tmp_path / "e/requests.csv").open(newline="") as file:
        rows = list(csv.DictReader(file))
    log = [json.loads(line) for line in (folder / "requests.jsonl").read_text().splitlines()]
    assert len(rows) == len(log) and sum(int(row["bytes"]) for row in rows) == sum(row["bytes"] for row in log)
    with (tmp_path / "e/pieces.csv").open(newline="") as file:
        assert [row["SHA-256"] for row in csv.DictReader(file)] == [one.sha256 for one in record.segment_list]
    (tmp_path / "nothing").mkdir()
    assert mudlark("report", "nothing", "--into", "f.html").status == 2
