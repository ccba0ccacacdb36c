"""A real browser for a while: found, started with an empty profile, and always ended, whatever happens.

Drives an installed Chromium or Chrome through its DevTools protocol. Nothing of what it keeps outlives it.
"""

import asyncio
import json
import logging
import os
import shutil
import signal
import sys
import tempfile
from collections.abc import AsyncIterator, Sequence
from contextlib import AsyncExitStack, asynccontextmanager, suppress
from importlib.resources import files
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

from mudlark.errors import MudlarkError, UsageError
from mudlark.web.connection import Connection
from mudlark.web.cookies import Cookie, read_cookies
from mudlark.web.guise import PLAIN, Guise
from mudlark.web.origin import origin_of
from mudlark.web.redact import gives_access
from mudlark.web.requester import WHO

if TYPE_CHECKING:
    from playwright.async_api import Browser, BrowserContext, Page, Route

    from mudlark.web.reach import Reach

_NAMES = ("chromium", "chromium-browser", "google-chrome", "google-chrome-stable", "chrome")
_PLACES = (
    "/Applications/Google Chrome.app/Contents/MacOS/Google Chrome",
    "/Applications/Chromium.app/Contents/MacOS/Chromium",
    r"C:\Program Files\Google\Chrome\Application\chrome.exe",
)
_FLAGS = (
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
    "--disable-quic",
    "--autoplay-policy=no-user-gesture-required",
    "--disable-site-isolation-trials",
)
_log = logging.getLogger(__name__)
_LONGEST_PLACE = 40
_STARTING = 30.0  # seconds
_CLOSING = 2.0


class BrowserError(MudlarkError):
    """The browser would not start, or ended by itself."""

    code = "browser"


def find_browser(given: Path | None = None) -> Path:
    """The executable to start: the one given, else the first of the usual names."""
    if given:
        if not shutil.which(given):
            raise UsageError(f"{given} is no program that can be started.", "Give the browser itself with --browser.")
        return given
    for name in (*_NAMES, *_PLACES):
        if program := shutil.which(name):
            return Path(program)
    raise UsageError(
        "There is no Chromium or Chrome on this machine.",
        "Install one (Debian, Ubuntu: sudo apt install chromium), or give its path with --browser.",
    )


def require_browser(given: Path | None = None) -> None:
    """Raise before any work is done if there is no browser, or nothing that drives it."""
    find_browser(given)
    if not find_spec("playwright"):
        raise _no_driver()


def _no_driver() -> UsageError:
    return UsageError(
        "Driving a browser needs the extra 'browser', which is not installed.", "pip install 'mudlark[browser]'"
    )


@asynccontextmanager
async def opened(connection: Connection, executable: Path | None = None) -> AsyncIterator["BrowserContext"]:
    """A browser with an empty profile, the connection's cookies, headers, proxy and guise."""
    path = find_browser(executable)
    try:
        from playwright.async_api import Error, async_playwright
    except ImportError as problem:
        raise _no_driver() from problem

    def pass_over(loop: asyncio.AbstractEventLoop, event: dict[str, Any]) -> None:
        """What the driver's own tasks could no longer ask of a browser that is closed is no news to anyone."""
        if not isinstance(event.get("exception"), Error):
            loop.default_exception_handler(event)

    asyncio.get_running_loop().set_exception_handler(pass_over)
    flags = [*_FLAGS, *(["--no-sandbox"] if sys.platform == "linux" and os.geteuid() == 0 else [])]
    if connection.trust:
        flags.append(f"--ignore-certificate-errors-spki-list={_key_digests(connection.trust)}")
    async with AsyncExitStack() as stack:
        place = tempfile.TemporaryDirectory(prefix="mudlark-", dir=_short_place(), ignore_cleanup_errors=True)
        folder = stack.enter_context(place)
        playwright = await stack.enter_async_context(async_playwright())
        try:
            # with a profile of its own, so that it stands in our folder, which goes away whatever happens
            launched = await playwright.chromium.launch_persistent_context(
                Path(folder) / "profile",
                executable_path=path,
                args=flags,
                env={**os.environ, "TMPDIR": folder},
                timeout=_STARTING * 1000,
                handle_sigint=False,
                handle_sigterm=False,
                proxy={"server": connection.any_proxy} if connection.any_proxy else None,
            )
        except Error as problem:
            raise BrowserError(
                f"The browser {path} does not start: {_first_line(problem)}",
                "Start it by hand to see what it says, or give another with --browser.",
            ) from problem
        browser = launched.browser
        if browser is None:
            raise BrowserError("The browser cannot be driven by this version of its driver.", "Update playwright.")
        process = None
        try:
            process = await _process_of(browser)
            yield await _context(browser, connection)
        except Error as problem:
            raise BrowserError(f"The browser failed: {_first_line(problem)}", "Try again, or with --at-most.") from None
        finally:
            await _end(browser, process)


def _short_place() -> str | None:
    """Where the profile goes: the usual folder for temporary files, unless its path is too long for the socket that the
    browser makes in it (sun_path has 104 bytes or a few more)."""
    usual = tempfile.gettempdir()
    if len(os.fsencode(usual)) <= _LONGEST_PLACE or not os.access("/tmp", os.W_OK):
        return usual
    return "/tmp"


async def _context(browser: "Browser", connection: Connection) -> "BrowserContext":
    guise = connection.guise
    plain = guise == PLAIN
    agent = guise.user_agent
    if plain:
        session = await browser.new_browser_cdp_session()
        version: str = (await session.send("Browser.getVersion"))["userAgent"]
        agent = version.replace("Headless", "")  # what the same browser says when it has a window
    context = await browser.new_context(
        viewport={"width": guise.viewport[0], "height": guise.viewport[1]},
        device_scale_factor=guise.scale,
        has_touch=guise.touch > 0,
        is_mobile=guise.mobile,
        locale=guise.language.partition(",")[0] or "en",
        user_agent=agent,
        accept_downloads=False,
        extra_http_headers={name: value for name, value in connection.headers if not gives_access(name)},
    )
    if connection.reach:
        await _bound(context, connection.reach)
    await context.add_init_script(path=str(files("mudlark.browser") / "keys.js"))
    if connection.cookie_file:
        await _give(context, read_cookies(connection.cookie_file))
    return context


async def _bound(context: "BrowserContext", reach: "Reach") -> None:
    """Have the browser ask only what a Reach lets it."""
    from mudlark.web.bounded import judge

    async def decide(route: "Route") -> None:
        try:
            await judge(reach, route.request.url)
        except MudlarkError:
            await route.abort("blockedbyclient")
        else:
            await route.continue_()

    await context.route(lambda address: address.startswith("http"), decide)


async def apply_guise(page: "Page", guise: Guise) -> None:
    """Have the scripts of a page see the guise whole: platform, client hints, fingers."""
    if guise == PLAIN:
        return
    session = await page.context.new_cdp_session(page)
    languages = ",".join(part.partition(";")[0].strip() for part in guise.language.split(","))
    given: dict[str, Any] = {"userAgent": guise.user_agent, "acceptLanguage": languages or "en"}
    own_platform = f"{{get: () => {json.dumps(guise.platform)}}}"
    await page.add_init_script(f"Object.defineProperty(Navigator.prototype, 'platform', {own_platform})")
    if hints := guise.hints:
        given["userAgentMetadata"] = {
            "brands": [{"brand": name, "version": version} for name, version in hints.brands],
            "fullVersionList": [{"brand": name, "version": f"{version}.0.0.0"} for name, version in hints.brands],
            "platform": hints.platform,
            "platformVersion": hints.platform_version,
            "architecture": hints.architecture,
            "bitness": hints.bitness,
            "model": hints.model,
            "mobile": guise.mobile,
        }
    else:
        await page.add_init_script("delete Navigator.prototype.userAgentData")
    await session.send("Emulation.setUserAgentOverride", given)
    if guise.touch:
        await session.send("Emulation.setTouchEmulationEnabled", {"enabled": True, "maxTouchPoints": guise.touch})


async def give_cookies(context: "BrowserContext", connection: Connection, address: str) -> None:
    """Cookies that the user gave as a header go to the host of the page, as the browser's own."""
    if cookies := _cookies_of(connection, address):
        await _give(context, cookies)


def _cookies_of(connection: Connection, address: str) -> list[Cookie]:
    """The cookies that the user gave as a header."""
    fields = [value for name, value in connection.headers if name.lower() == "cookie"]
    pairs = [pair.partition("=") for field in fields for pair in field.split(";") if "=" in pair]
    return [Cookie(name.strip(), value.strip(), urlsplit(address).hostname or "") for name, _, value in pairs]


async def send_secrets(page: "Page", connection: Connection, address: str) -> None:
    """What the user gave as secret headers goes to the origin of the page, and to no other, and nothing that the user
    gave over a redirect to another: looked at for every request and every redirect, as a header that was once added
    would go along. Cookies are the browser's own by then, and know no ports, so they are taken out of what goes to
    another port of the host.
    """
    given = {name.lower() for name, _ in connection.headers if name.lower() not in WHO}
    if not given:
        return
    secret = {name: value for name, value in connection.headers if gives_access(name) and name.lower() != "cookie"}
    cookies = {cookie.name: cookie.value for cookie in _cookies_of(connection, address)}
    session = await page.context.new_cdp_session(page)
    names = {name.lower() for name in secret}
    home = origin_of(address)
    running: set[asyncio.Task[None]] = set()

    async def cookies_without_given(url: str) -> str:
        held = (await session.send("Network.getCookies", {"urls": [url]}))["cookies"]
        return "; ".join(f"{c['name']}={c['value']}" for c in held if cookies.get(c["name"]) != c["value"])

    async def go_on(event: dict[str, Any]) -> None:
        target = event["request"]["url"]
        led = "redirectedRequestId" in event and origin_of(target) != home
        hidden = given if led else names
        own = {name: value for name, value in event["request"]["headers"].items() if name.lower() not in hidden}
        with suppress(Exception):  # the page may be gone by now
            if origin_of(target) == home:
                own |= secret
            elif cookies and origin_of(target).host == home.host:
                own["Cookie"] = await cookies_without_given(target)
            fields = [{"name": name, "value": value} for name, value in own.items()]
            await session.send("Fetch.continueRequest", {"requestId": event["requestId"], "headers": fields})

    def paused(event: dict[str, Any]) -> None:
        task = asyncio.create_task(go_on(event))
        running.add(task)
        task.add_done_callback(running.discard)

    session.on("Fetch.requestPaused", paused)
    await session.send("Fetch.enable", {"patterns": [{"urlPattern": "http*", "requestStage": "Request"}]})


async def _give(context: "BrowserContext", cookies: Sequence[Cookie]) -> None:
    """Have the browser hold cookies. It takes none at all of several if it cannot take one, so then one by one."""
    from playwright.async_api import Error

    try:
        await context.add_cookies([_as_given(cookie) for cookie in cookies])
    except Error:
        for cookie in cookies:
            try:
                await context.add_cookies([_as_given(cookie)])
            except Error:
                _log.warning("the browser does not take the cookie %r of %s", cookie.name, cookie.domain)


def _as_given(cookie: Cookie) -> Any:
    given: dict[str, Any] = {
        "name": cookie.name,
        "value": cookie.value,
        "domain": cookie.domain,
        "path": cookie.path,
        "secure": cookie.secure,
    }
    if cookie.expires:
        given["expires"] = cookie.expires
    return given


def _key_digests(certificates: str) -> str:
    """SHA-256 of the public keys in a PEM file, as the browser takes them."""
    import base64
    import hashlib

    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
    from cryptography.x509 import load_pem_x509_certificates

    try:
        loaded = load_pem_x509_certificates(Path(certificates).read_bytes())
    except (OSError, ValueError) as problem:
        raise UsageError(f"Cannot read the certificates in {certificates}: {problem}.") from problem
    keys = [one.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo) for one in loaded]
    return ",".join(base64.b64encode(hashlib.sha256(key).digest()).decode() for key in keys)


async def _process_of(browser: "Browser") -> int | None:
    """The browser's process, so that it can be ended even if it no longer listens."""
    session = await browser.new_browser_cdp_session()
    info = await session.send("SystemInfo.getProcessInfo")
    return next((process["id"] for process in info["processInfo"] if process["type"] == "browser"), None)


async def _end(browser: "Browser", process: int | None) -> None:
    """Ask it to close; if it does not, end its process. Its profile goes with it."""
    try:
        await asyncio.wait_for(asyncio.shield(browser.close()), _CLOSING)
    except Exception:
        if process is not None:
            with suppress(OSError):
                os.kill(process, signal.SIGKILL)
        with suppress(Exception):
            await asyncio.wait_for(browser.close(), _CLOSING)


def _first_line(problem: Exception) -> str:
    """What the driver says, without the log that it adds."""
    text = str(problem).strip()
    return text.splitlines()[0][:300] if text else type(problem).__name__
