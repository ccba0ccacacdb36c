"""Is this machine ready: browser, extras, disk, clock, proxies and certificates, each with a word on what to do.

Nothing is asked of any network; the browser is started, and ended.
"""

import asyncio
import os
import platform
import re
import shutil
import ssl
import sys
import time
from collections.abc import Iterator
from importlib.metadata import PackageNotFoundError, metadata, requires, version
from pathlib import Path
from typing import Literal
from urllib.parse import urlsplit

import msgspec

from mudlark.errors import MudlarkError
from mudlark.text import size
from mudlark.web.connection import Connection

State = Literal["good", "doubtful", "missing"]

_EARLIEST = 1_767_225_600  # seconds since 1970, in 2026: no clock that is right shows less
_LITTLE = 2_000_000_000  # bytes
_EXTRA = re.compile(r"extra\s*==\s*[\"']([\w-]+)[\"']")
_FOR_USE = {  # what each extra is for
    "archive": "bags and WARC",
    "browser": "listening, peeking and playing",
    "report": "reports",
    "sheets": "spreadsheets as lists",
    "cluster": "sweeps over several machines",
}
_PROXIES = ("http_proxy", "https_proxy", "all_proxy")


class Finding(msgspec.Struct, frozen=True):
    """One thing that was looked at. advice: what to do, empty if nothing."""

    name: str
    state: State
    words: str
    advice: str = ""


def look_around(into: Path, connection: Connection, browser: Path | None) -> Iterator[Finding]:
    """All that there is to see, one after the other. into: where items go."""
    yield Finding("python", "good", f"{platform.python_version()} on {platform.system()} {platform.machine()}")
    yield _browser(connection, browser)
    yield from _extras()
    yield _disk(into)
    yield _clock()
    yield from _proxies(connection)
    yield _certificates(connection)


def _browser(connection: Connection, given: Path | None) -> Finding:
    from mudlark.browser.driver import find_browser, opened

    async def started() -> str:
        async with opened(connection, given) as context:
            page = await context.new_page()
            await page.goto("about:blank")
            return context.browser.version if context.browser else ""

    try:
        path = find_browser(given)
        found = asyncio.run(started())
    except MudlarkError as problem:
        return Finding("browser", "missing", problem.what, problem.advice)
    return Finding("browser", "good", f"{path}, version {found}, starts")


def _extras() -> Iterator[Finding]:
    try:
        listed = requires("mudlark") or []
        extras = metadata("mudlark").get_all("Provides-Extra") or []
    except PackageNotFoundError:
        yield Finding("extras", "doubtful", "Mudlark is not installed as a package", "pip install mudlark")
        return
    for extra in sorted(set(extras) & _FOR_USE.keys()):
        wanted = [re.split(r"[<>=!~;\[ ]", one, maxsplit=1)[0] for one in listed if _extra_of(one) == extra]
        lacking = [name for name in wanted if not _is_there(name)]
        words = f"{extra} ({_FOR_USE[extra]})"
        if lacking:
            yield Finding("extra", "doubtful", f"{words} lacks {', '.join(lacking)}", f"pip install 'mudlark[{extra}]'")
        else:
            yield Finding("extra", "good", f"{words} is there")


def _extra_of(requirement: str) -> str | None:
    found = _EXTRA.search(requirement)
    return found[1] if found else None


def _is_there(name: str) -> bool:
    try:
        version(name)
    except PackageNotFoundError:
        return False
    return True


def _disk(into: Path) -> Finding:
    place = next(one for one in (into.absolute(), *into.absolute().parents) if one.exists())
    try:
        free = shutil.disk_usage(place).free
    except OSError as problem:
        return Finding("disk", "doubtful", f"{place}: {problem.strerror}", "Choose another folder with --into.")
    if not os.access(place, os.W_OK | os.X_OK):
        return Finding("disk", "missing", f"{place} takes no files of yours", "Choose another folder with --into.")
    words = f"{size(free)} are free for {into}"
    return Finding("disk", "good", words) if free > _LITTLE else Finding("disk", "doubtful", words, "Make room.")


def _clock() -> Finding:
    now = time.time()
    words = time.strftime("%Y-%m-%d %H:%M:%S UTC", time.gmtime(now))
    if now < _EARLIEST:
        return Finding("clock", "missing", f"It shows {words}", "Set it: certificates and links go by it.")
    return Finding("clock", "good", f"{words}, {time.strftime('%H:%M %Z', time.localtime(now))} here")


def _proxies(connection: Connection) -> Iterator[Finding]:
    try:
        used = connection.proxies
    except MudlarkError as problem:
        yield Finding("proxy", "missing", problem.what, problem.advice)
        return
    for one in used:
        parts = urlsplit(one)
        yield Finding("proxy", "good", f"{parts.scheme}://{parts.hostname}{f':{parts.port}' if parts.port else ''}")
    named = any(os.environ.get(name) or os.environ.get(name.upper()) for name in _PROXIES)
    if not used and named:
        yield Finding("proxy", "doubtful", "The environment names one, which is not used", "Use it with --proxy env.")
    elif not used:
        yield Finding("proxy", "good", "none")


def _certificates(connection: Connection) -> Finding:
    try:
        context = ssl.create_default_context(cafile=connection.trust)
    except OSError as problem:
        return Finding("certificates", "missing", f"{connection.trust}: {problem}", "Give a PEM file with --trust.")
    count = context.cert_store_stats()["x509_ca"]
    folder = ssl.get_default_verify_paths().capath
    if not count and not (folder and Path(folder).is_dir() and any(Path(folder).iterdir())):
        return Finding("certificates", "missing", "This system trusts no authority", _trust_advice())
    return Finding("certificates", "good", f"{count} authorities are trusted" if count else f"those in {folder}")


def _trust_advice() -> str:
    if sys.platform == "linux":
        return "Install them (Debian, Ubuntu: sudo apt install ca-certificates)."
    return "Install those of your system, or give a PEM file with --trust."
