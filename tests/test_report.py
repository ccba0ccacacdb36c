"""Reports: what they show is what the records say; nothing in them runs or asks; they hold in a real browser."""

import asyncio
import csv
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from playwright.async_api import async_playwright

from mudlark.archive.layout import RECORD
from mudlark.archive.record import PlayFacts, SegmentFacts, read_record, to_json
from mudlark.cli.report import need_libraries
from mudlark.demo.site import DemoSite
from mudlark.errors import UsageError
from mudlark.report.data import read_item, thinned
from mudlark.report.page import folder_pages, item_page, write_report
from mudlark.verify.verdict import Problem
from tests.conftest import Ran
from tests.judge import CHROMIUM
from tests.test_bag import item

Run = Callable[..., Ran]
BAD = "<script>alert(1)</script>\u202e</title><img src=x onerror=alert(2)>{{ 7*7 }}"


def change(folder: Path, **values: Any) -> None:
    record = read_record(folder)
    for name, value in values.items():
        setattr(record, name, value)
    (folder / RECORD).write_bytes(to_json(record))


def test_what_a_record_says_is_never_markup(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy")
    change(folder, title=BAD, problems=[Problem("x", BAD)], verdict="flawed", segment_list=[])
    page = item_page(read_item(folder))
    assert "<script>alert" not in page and "<img src=x" not in page and "\u202e" not in page and "{{ 7*7 }}" in page
    assert "default-src 'none'" in page and "script-src 'sha256-" in page
    index, pages = folder_pages(tmp_path, "shelf")
    assert "<script>alert" not in index and list(pages) == ["shelf/0001.html"]


def test_what_is_not_there_is_said(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy")
    page = item_page(read_item(folder))
    assert "has no log of its requests" in page and "mudlark assay --play" in page and "<svg" not in page


def test_figures_hold_the_data_of_the_record(tmp_path: Path) -> None:
    folder = item(tmp_path / "Buoy")
    rows = [
        {
            "at": 100.0 + n,
            "sent": 0.5,
            "ended": 0.9,
            "lane": 1 + n % 2,
            "status": 200 if n else 503,
            "try": 1 + n % 3,
            "bytes": 1000,
            "for": f"v {n // 2}",
            "url": f"u{n // 2 if n != 7 else 99}",
            "problem": None if n else "busy",
        }
        for n in range(20)
    ]
    (folder / "requests.jsonl").write_text("".join(json.dumps(row) + "\n" for row in rows) + "no line\n")
    played = PlayFacts("", True, True, True, loudness=[(0.0, -20.0), (1.0, -70.0)], silent=[(1.0, 2.0)])
    change(
        folder,
        played=played,
        segment_list=[SegmentFacts("v", 0, "u", 4.0), SegmentFacts("v", 1, "u", 4.0, problem="gone", stretch=1)],
    )
    data = read_item(folder)
    assert [row[:3] for row in data.requests.rows[:2]] == [(0.0, 0.4, 1), (1.0, 1.4, 2)]
    assert sum(row[1] for row in data.throughput.rows) > 0 and max(row[2] for row in data.throughput.rows) == 1
    assert (4.0, 4.0, "discontinuity") in data.spans
    assert (1.0, 2.0, "silent") in data.spans and (4.0, 8.0, "missing") in data.spans
    write_report(folder, tmp_path / "r.html", data=tmp_path / "d", png=tmp_path / "p")
    with (tmp_path / "d/requests.csv").open(newline="") as file:
        assert len(list(csv.reader(file))) == 21
    assert (tmp_path / "p/loudness.png").read_bytes()[:4] == b"\x89PNG"
    page = (tmp_path / "r.html").read_text()
    assert page.count("<svg") == 3 and "failed" in page and "tried again" in page and "from another address" in page
    assert [row[8] for row in data.requests.rows].count(True) == 1
    write_report(tmp_path, tmp_path / "all.html", data=tmp_path / "d", png=tmp_path / "p")
    assert (tmp_path / "d/verdicts.csv").read_text().split() == ["name,items", "sound,1"]
    assert (tmp_path / "p/hosts.png").read_bytes()[:4] == b"\x89PNG"


def test_many_pieces_and_many_items_are_quick_and_small(tmp_path: Path) -> None:
    folder = item(tmp_path / "many/Long")
    line = '{"at":%d,"sent":0,"ended":1,"lane":%d,"status":200,"try":1,"bytes":9,"for":"v","url":"u","problem":null}\n'
    (folder / "requests.jsonl").write_text("".join(line % (n, n % 8) for n in range(10_000)))
    change(folder, segment_list=[SegmentFacts("v", n, f"https://museum.example/{n}.ts", 4.0) for n in range(10_000)])
    assert len(item_page(read_item(folder))) < 2_000_000
    for number in range(60):
        item(tmp_path / f"many/Buoy {number}")
    index, pages = folder_pages(tmp_path / "many", "shelf")
    assert len(pages) == 61 and len(index) < 2_000_000
    assert thinned([(n,) for n in range(1000)], 10)[0] == (0,) and len(thinned([(1,)], 5)) == 1


def test_without_its_libraries_a_report_is_refused_with_what_to_install(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("mudlark.cli.report.find_spec", lambda _name: None)
    with pytest.raises(UsageError) as raised:
        need_libraries()
    assert "mudlark[report]" in raised.value.advice


async def _seen(pages: list[Path]) -> dict[str, Any]:
    """What a browser makes of pages: errors, requests, and whether anything is wider than the page."""
    told: dict[str, Any] = {"errors": [], "asked": [], "wide": [], "rows": None, "pdf": 0}
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
            told["pdf"] += len(await page.pdf())
            if await page.locator("#filter").count():
                await page.get_by_role("button", name="title").click()
                await page.fill("#filter", "Foghorn")
                told["rows"] = await page.locator("tbody tr:visible").count()
                told["sorted"] = await page.locator("th[aria-sort=ascending]").inner_text()
        await browser.close()
    return told


@pytest.mark.program
@pytest.mark.browser
def test_reports_of_the_museum_hold_in_a_browser(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    hauled = mudlark("haul", site.address("rough-errors"), "--report", "--into", "a", "--json")
    folder = tmp_path / hauled.json["items"][0]["folder"]
    swept = mudlark("sweep", site.address("film-list"), "--report", "--into", "a")
    assert swept.status == 1, swept.err
    pages = [tmp_path / "a" / f"{folder.name}.html", tmp_path / "a/report.html"]
    text = pages[0].read_text()
    assert "tried again" in text and "failed" in text and text.count("<svg") >= 3
    index = pages[1].read_text()
    assert "2 × answered 404 Not Found." in index and len(list((tmp_path / "a/report").iterdir())) == 4
    told = asyncio.run(_seen(pages))
    assert told["errors"] == [] and all(url.startswith(("file:", "data:")) for url in told["asked"])
    assert all(over <= 0 for over in told["wide"]) and told["pdf"] > 5000
    assert told["rows"] == 1 and told["sorted"] == "title"
    assert mudlark("report", "a", "--into", "a/report.html").status == 2
    again = mudlark("report", "a", "--into", "b.html", "--json")
    assert again.json["pages"] == 5
    (tmp_path / "nothing").mkdir()
    assert mudlark("report", "nothing", "--into", "c.html").status == 2
