"""Mudlark from a program: coroutines, each usable in one asyncio.run."""

import asyncio
import os
import re
import shutil
import subprocess
import sys
from contextlib import suppress
from pathlib import Path
from types import ModuleType

import pytest

import mudlark
from mudlark.demo.site import DemoSite
from mudlark.errors import Refused
from mudlark.fetch.store import WORKING
from mudlark.manifest.wish import Wish
from mudlark.notebook import watched

pytestmark = pytest.mark.program
OPEN = Path("/proc/self/fd")


def opened() -> list[str]:
    """The files that this process has open."""
    paths = list[str]()
    for number in list(OPEN.iterdir()):
        with suppress(OSError):  # that of the folder itself
            paths.append(str(number.readlink()))
    return paths


def test_look_list_fetch_and_verify(site: DemoSite, tmp_path: Path) -> None:
    page = asyncio.run(mudlark.sift(site.origins.site + "/film/two-tongues"))
    assert page.finds[0].kind == "hls"
    offered = asyncio.run(mudlark.tracks(page.finds[0].url))
    assert [one.language for one in offered.renditions if one.type == "audio"] == ["en", "cy"]
    wish = Wish(languages=("cy",), subtitles=("none",))
    item = asyncio.run(mudlark.haul(page.finds[0].url, tmp_path, wish=wish, title="Mill", container="mkv"))
    assert item.verdict == "sound" and item.folder and (item.folder / "Mill.mkv").is_file()
    (checked,) = asyncio.run(mudlark.assay(tmp_path))
    assert checked.verdict == "sound"
    with pytest.raises(Refused):
        asyncio.run(mudlark.haul(f"{site.origins.media}/shelves/sealed/index.m3u8", tmp_path))


def test_a_find_is_hauled_with_its_page_and_others_are_chosen(site: DemoSite, tmp_path: Path) -> None:
    page = asyncio.run(mudlark.sift(site.address("tide-mill")))
    (planned,) = asyncio.run(mudlark.haul(page, tmp_path, find=page.finds[0], plan=True))
    assert planned.folder.name == "The Tide Mill at Work" and not list(tmp_path.iterdir())
    item = asyncio.run(mudlark.haul(page, tmp_path, find=page.finds[0], wish=Wish(within=(None, 180))))
    assert item.folder == planned.folder and item.record.source.page and item.record.title == page.title
    assert item.verdict == "sound" and item.record.source.find and item.record.source.find.url == page.finds[0].url
    again = asyncio.run(mudlark.haul(page, tmp_path, nth=page.finds[0].number, wish=Wish(within=(None, 180))))
    assert again.state == "unchanged"
    with pytest.raises(mudlark.MudlarkError, match="chosen"):
        asyncio.run(mudlark.haul(page, tmp_path, find=page.finds[0], nth=1))
    film = f"{site.origins.media}/films/slipway.mp4"
    assert asyncio.run(mudlark.haul(film, tmp_path, expect="0" * 64)).verdict in ("flawed", "broken")
    assert "<caption>The Tide Mill at Work</caption>" in item._repr_html_()


@pytest.mark.skipif(not OPEN.exists(), reason="open files are only told here")
def test_nothing_of_a_store_is_open_when_it_is_removed(
    site: DemoSite, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    removed: list[list[str]] = []

    def remove(folder: Path, **_: object) -> None:
        if folder.parent.name == WORKING:
            removed.append([path for path in opened() if path.startswith(f"{folder}{os.sep}")])

    monkeypatch.setattr(shutil, "rmtree", remove)
    asyncio.run(mudlark.haul(f"{site.origins.media}/films/slipway.mp4", tmp_path))
    assert removed and not any(removed), removed


def test_what_is_shown_in_a_notebook_is_escaped_and_progress_changes_in_place(monkeypatch: pytest.MonkeyPatch) -> None:
    page = mudlark.Page("https://museum.example/?<b>", "<script>alert(1)</script>")
    assert "<script>" not in page._repr_html_() and "&lt;script&gt;" in page._repr_html_()
    shown: list[str] = []

    class Handle:
        def update(self, html: str) -> None:
            shown.append(html)

    def display(html: str, *, display_id: bool) -> Handle:
        shown.append(html)
        return Handle()

    monkeypatch.setitem(sys.modules, "ipykernel", ModuleType("ipykernel"))
    notebook = ModuleType("IPython.display")
    monkeypatch.setattr(notebook, "display", display, raising=False)
    monkeypatch.setattr(notebook, "HTML", str, raising=False)
    monkeypatch.setitem(sys.modules, "IPython", ModuleType("IPython"))
    monkeypatch.setitem(sys.modules, "IPython.display", notebook)
    with watched(None) as watch:
        assert watch
        watch.on_step("Fetching")
        watch.on_bytes(2_000_000)
    assert "Fetching" in shown[0] and "2.0 MB" in shown[-1] and "done" in shown[-1]
    with watched(mudlark.HaulWatch()) as own:
        assert own
        own.on_step("x")
    assert len(shown) == 2


def test_the_programs_in_the_documentation_run(site: DemoSite, tmp_path: Path) -> None:
    text = (Path(__file__).parent.parent / "docs/library.md").read_text()
    programs = re.findall(r"```python\n(.*?)```", text, re.S)
    assert len(programs) == 4
    for program in programs:
        code = program.replace("https://museum.example", site.origins.site)
        ran = subprocess.run([sys.executable, "-c", code], cwd=tmp_path, capture_output=True, text=True, check=False)
        assert ran.returncode == 0 and ran.stdout, ran.stderr


def test_every_name_of_the_package_is_there() -> None:
    assert all(getattr(mudlark, name) for name in mudlark.__all__)


def test_nothing_is_loaded_before_it_is_used() -> None:
    code = "import sys, mudlark; assert 'mudlark.library' not in sys.modules and 'aiohttp' not in sys.modules"
    subprocess.run([sys.executable, "-c", code], check=True)
    with pytest.raises(AttributeError):
        _ = mudlark.nothing
