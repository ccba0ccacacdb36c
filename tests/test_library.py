"""Mudlark from a program: four coroutines, each usable in one asyncio.run."""

import asyncio
import subprocess
import sys
from pathlib import Path

import pytest

import mudlark
from mudlark.demo.site import DemoSite
from mudlark.errors import Refused
from mudlark.manifest.wish import Wish

pytestmark = pytest.mark.program


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


def test_nothing_is_loaded_before_it_is_used() -> None:
    code = "import sys, mudlark; assert 'mudlark.library' not in sys.modules and 'aiohttp' not in sys.modules"
    subprocess.run([sys.executable, "-c", code], check=True)
    with pytest.raises(AttributeError):
        _ = mudlark.nothing
