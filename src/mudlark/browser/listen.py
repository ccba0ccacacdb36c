"""Listening to a page: open it in a real browser, refresh, play, press, scroll, wait until nothing new is asked for.

Dismisses nothing and fills in nothing. Every step is bounded in time; a page that hangs, opens dialogs or windows, or
starts downloads is recorded all the same, and what happened is noted.
"""

import asyncio
import time
from collections.abc import Coroutine
from contextlib import suppress
from importlib.resources import files
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import TYPE_CHECKING, Any

import msgspec

from mudlark import __version__
from mudlark.browser.capture import Capture, Tapped, capture_of
from mudlark.browser.driver import BrowserError, apply_guise, give_cookies, opened, send_secrets
from mudlark.browser.har import Entry, OpenedPage, PageTimings, Player, Shown, View, write_har
from mudlark.browser.options import Listening, ListenWatch
from mudlark.browser.playout import PlayOut
from mudlark.browser.tap import Tap, formats_of, readable_in
from mudlark.browser.traffic import Traffic, stamp
from mudlark.errors import MudlarkError, NetworkError, NothingFound, UsageError
from mudlark.together import together
from mudlark.web.address import shown
from mudlark.web.complaint import TRUST, error_for_status
from mudlark.web.connection import Connection
from mudlark.web.cookies import Cookie

if TYPE_CHECKING:
    from playwright.async_api import BrowserContext, Dialog, Frame, Page, ViewportSize

_SHORT = 60.0  # seconds: what lasts no longer is played to its end, fast
_FAST = 16  # times; the browser plays no faster
_ANSWERING = 6.0  # seconds a frame may take to answer
_READING = 1.5  # seconds that anything may take once the time is up
_APPEARING = 8.0  # seconds that a control may take to appear
_MOST_FRAMES = 40
_MOST_WINDOWS = 4
_LARGEST_SOURCE = 5_000_000
_ROOMY: "ViewportSize" = {"width": 1920, "height": 1080}
_PIECES = 8  # of what scripts fetched that are looked into
_PICTURING = 10.0  # seconds that a picture of the page may take
_WIDEST, _TALLEST = 4000, 12_000  # pixels of it
_WORDS = "() => document.body ? document.body.innerText.slice(0, 2000000) : ''"
_SIZE = "() => [document.documentElement.scrollWidth, document.documentElement.scrollHeight].map((n) => Math.max(1, n))"
_STEP_SETTLES = 0.35  # seconds without anything new after one step of scrolling


class Recording(msgspec.Struct):
    """What came of it: the page and all its requests. cookies: of the browser.

    answered: the questions that were answered, with the label chosen. whole: neither the page nor the browser ended
    early. status: what the server answered for the page itself, None if it did not. picture: PNG of the page as it
    stood at the end. text: its words then. tapped: what players were fed in pieces.
    """

    page: OpenedPage
    entries: list[Entry]
    browser: str
    cookies: list[Cookie] = msgspec.field(default_factory=list)
    whole: bool = True
    answered: list[tuple[str, str]] = msgspec.field(default_factory=list)
    status: int | None = None
    picture: bytes | None = None
    text: str | None = None
    tapped: list[Tapped] = msgspec.field(default_factory=list)

    @property
    def error(self) -> NetworkError | None:
        """Why this is no capture of the page: the server answered with an error."""
        if self.status is None or self.status < 400:
            return None
        return error_for_status(self.entries[0].request.url if self.entries else "", self.status)

    def capture(self) -> Capture:
        """The same, as finding needs it."""
        made = capture_of(self.page, self.entries, "listening")
        made.cookies, made.tapped = self.cookies, self.tapped
        return made

    def write(self, path: Path, *, keep_secrets: bool = False, replace: bool = False) -> None:
        """Keep it as HAR, readable by its owner only, and never over another file unless that is to be replaced."""
        maker = ("Mudlark", __version__)
        write_har(path, self.page, self.entries, maker, self.browser, keep_secrets=keep_secrets, replace=replace)


async def listen(
    address: str,
    options: Listening,
    connection: Connection,
    watch: ListenWatch | None = None,
    play_out: PlayOut | None = None,
) -> Recording:
    """Open the page at an address and record what it asks for, and what it appends to its players. play_out: a player
    that is to be played to its end."""
    traffic = Traffic()
    with TemporaryDirectory(prefix="mudlark-") as folder:
        tap = play_out.tap if play_out else Tap(Path(folder), keep=False)
        async with opened(connection, options.browser) as context:
            name = f"Chromium/{context.browser.version}" if context.browser else "Chromium/"
            await give_cookies(context, connection, address)
            traffic.attach(context)
            await tap.attach(context)
            visit = _Visit(address, options, context, traffic, watch or ListenWatch(), connection, tap, play_out)
            try:
                return await visit.run(name)
            finally:
                tap.close()


class _Visit:
    """One page from opening to the end."""

    def __init__(
        self,
        address: str,
        options: Listening,
        context: "BrowserContext",
        traffic: Traffic,
        watch: ListenWatch,
        connection: Connection,
        tap: Tap,
        play_out: PlayOut | None,
    ) -> None:
        self.address = address
        self.options = options
        self.context = context
        self.traffic = traffic
        self.watch = watch
        self.connection = connection
        self.tap = tap
        self.play_out = play_out
        self.notes: list[str] = []
        self.ends = time.monotonic() + options.at_most
        self.windows = 0
        self.gone: str | None = None
        self.script = (files("mudlark.browser") / "inside.js").read_text(encoding="utf-8")
        self.views_by_url: dict[str, View] = {}
        self.mute: set[Frame] = set()
        self.answered: list[tuple[str, str]] = []
        self.status: int | None = None
        self.tasks: set[asyncio.Task[None]] = set()
        self.looking_for: str | None = None
        self.unpressed = list(options.press)

    @property
    def left(self) -> float:
        return self.ends - time.monotonic()

    def note(self, text: str) -> None:
        if text not in self.notes and len(self.notes) < 50:
            self.notes.append(text)

    async def run(self, browser: str) -> Recording:
        begun = time.time()
        page = await self.context.new_page()
        self._guard(page)
        if self.play_out and not self.connection.guise.mobile:  # players go by the room that they have
            await page.set_viewport_size(_ROOMY)
        self.context.on("page", lambda other: self._aside(self._window(other)))
        await self._follow(page)
        try:
            async with asyncio.timeout(max(0.1, self.left)):  # a promise, whatever a page does
                await self._open(page)
                await self._work()
            if self.play_out:
                await self._play_out(self.play_out)
        except MudlarkError:
            raise
        except TimeoutError:
            if self.looking_for:
                raise await self._not_there(self.looking_for) from None
            if self.unpressed:
                what = f"{self.options.at_most:g} s were over before {self.unpressed[0]!r} could be pressed on"
                raise NothingFound(f"{what} {shown(self.address)}.", "Give it more time with --at-most.") from None
        except Exception as problem:  # a browser that ends is no reason to lose what was recorded
            if not self.gone and not page.is_closed():
                raise
            self._lost(f"The page ended early: {problem}.")
        if self.gone:
            self.note(f"{self.gone} What it asked for later is missing.")
        elif self.left <= 0:
            self.note(f"The page was not quiet after {self.options.at_most:g} s; what it asked for later is missing.")
        self.watch.on_step("Reading", self.traffic.count)
        views = await self._views(page)
        tapped = await self._tapped() if not self.play_out else []
        entries = await self.traffic.entries(_READING)
        if self.traffic.count > len(entries):
            self.note(f"Of {self.traffic.count:,} requests only the first {len(entries):,} are recorded.")
        cookies = await self._cookies()
        picture, text = await self._picture(page) if self.options.picture else (None, None)
        title = views[0].title if views else ""
        opened = OpenedPage(stamp(begun), "page_1", title or self.address, PageTimings(), views, self.notes)
        return Recording(
            opened, entries, browser, cookies, self.gone is None, self.answered, self.status, picture, text, tapped
        )

    def _guard(self, page: "Page") -> None:
        """Nothing that a page does may hold up the visit."""
        page.on("dialog", lambda dialog: self._aside(self._dialog(dialog)))
        page.on("download", lambda it: self._download(it.url))
        page.on("crash", lambda _: self._lost("The page crashed in the browser."))
        if self.context.browser:
            self.context.browser.on("disconnected", lambda _: self._lost("The browser ended by itself."))

    def _aside(self, work: Coroutine[Any, Any, None]) -> None:
        """Do something while the visit goes on; that the browser no longer listens is no news."""

        async def quietly() -> None:
            with suppress(Exception):
                await work

        task = asyncio.create_task(quietly())
        self.tasks.add(task)
        task.add_done_callback(self.tasks.discard)

    def _download(self, url: str) -> None:
        self.note(f"The page started a download: {shown(url)}")
        self.traffic.forget(url)

    def _lost(self, why: str) -> None:
        self.gone = self.gone or why

    async def _dialog(self, dialog: "Dialog") -> None:
        if dialog.type == "beforeunload":
            await dialog.accept()
            return
        self.note(f"The page opened a dialog: {dialog.message[:200]}")
        with suppress(Exception):
            await dialog.dismiss()

    async def _window(self, page: "Page") -> None:
        """A window that the page opens is recorded too; too many are closed."""
        self.windows += 1
        self.note("The page opened another window.")
        if self.windows > _MOST_WINDOWS:
            with suppress(Exception):
                await page.close()
            return
        self._guard(page)
        with suppress(Exception):
            await self._follow(page)

    async def _follow(self, page: "Page") -> None:
        await apply_guise(page, self.connection.guise)
        await send_secrets(page, self.connection, self.address)
        await self.traffic.follow(page)
        await self.tap.follow(page)

    async def _open(self, page: "Page") -> None:
        """Open the page, and once more: some show their media only to those who have been there."""
        from playwright.async_api import Error

        self.watch.on_step("Opening", self.traffic.count)
        try:
            opened = await page.goto(self.address, wait_until="commit", timeout=max(0.5, self.left - 0.3) * 1000)
            self.status = opened.status if opened else None
        except Error as problem:
            if self.traffic.count and any("download" in note for note in self.notes):
                return
            raise _cannot_open(self.address, str(problem)) from problem
        await self._quiet(min(1.0, self.options.settle), most=15.0)
        await self._see()
        self.watch.on_step("Refreshing", self.traffic.count)
        self.tap.forget()
        with suppress(Error):
            again = await page.reload(wait_until="commit", timeout=min(15.0, max(1.0, self.left)) * 1000)
            self.status = again.status if again and self.status and again.status < self.status else self.status
        await self._quiet(min(1.0, self.options.settle), most=15.0)

    async def _work(self) -> None:
        for name, value in self.options.choose:
            self.watch.on_step(f"Choosing {name}", self.traffic.count)
            await self._choose(name, value)
            await self._quiet(min(0.6, self.options.settle), most=10.0)
        if self.options.choose and await self._send():
            await self._quiet(min(1.0, self.options.settle), most=15.0)
        self.watch.on_step("Playing", self.traffic.count)
        covered = await self._layer()
        pressed = False
        if not self.options.press and not await self._play():
            pressed = await self._press_play()
        for wanted in self.options.press:
            self.watch.on_step(f"Pressing {wanted}", self.traffic.count)
            await self._press(wanted)
            await self._quiet(min(1.0, self.options.settle), most=15.0)
            await self._see()
        if covered and self.options.press and not await self._layer() and not await self._play():
            pressed = await self._press_play()  # what was pressed only took the layer away
        if self.play_out:
            return
        if self.options.scroll:
            await self._scroll()
            if not await self._play() and not pressed and not self.options.press:
                await self._press_play()  # what begins only where it is in view
        await self._play()
        if layer := await self._layer():
            self.note(_words_for(layer))
        await self._see()
        self.watch.on_step("Waiting", self.traffic.count)
        await self._quiet(self.options.settle, most=self.left)
        if await self._play():  # what came only now
            await self._quiet(self.options.settle, most=self.left)

    async def _play_out(self, play_out: PlayOut) -> None:
        """Play what is tapped to its end, however long that takes."""
        self.watch.on_step("Playing to the end", self.traffic.count)
        self.ends = float("inf")

        async def ask(task: str, given: Any) -> list[Any]:
            return await together(self._ask(frame, task, given) for frame in self._frames())

        await play_out.run(ask)
        self.ends = time.monotonic() + self.options.at_most

    async def _tapped(self) -> list[Tapped]:
        """What players were fed, and whether scripts fetched media meanwhile."""
        self.tap.close()
        systems = tuple(self.tap.systems or ())
        filled = sorted((one for one in self.tap.sources.values() if one.size), key=lambda one: -one.size)
        if not filled:
            return [Tapped(1, self.address, (), 0, 0, systems=systems)] if systems else []
        bodies = await self.traffic.fetched(_PIECES)
        readable = await asyncio.to_thread(readable_in, bodies, [one for source in filled for one in source.buffers])
        return [
            Tapped(
                number,
                source.frame,
                tuple(buffer.type for buffer in source.buffers if buffer.appends),
                sum(len(buffer.appends) for buffer in source.buffers),
                source.size,
                None if source.endless else source.length,
                systems,
                tuple(readable),
                tuple(await asyncio.to_thread(formats_of, source)),
            )
            for number, source in enumerate(filled, start=1)
        ]

    async def _quiet(self, quiet: float, most: float) -> None:
        """Wait until nothing new was asked for so long, and nothing short is playing."""
        ends = time.monotonic() + min(most, max(0.0, self.left))
        while time.monotonic() < ends and not self.gone:
            if self.traffic.quiet_for() >= quiet and not await self._any("playing"):
                return
            await asyncio.sleep(min(0.1, max(0.02, quiet / 5)))

    async def _play(self) -> bool:
        """Start all players; true if there are any."""
        return await self._any("play")

    async def _press_play(self) -> bool:
        """Press what most likely starts the media, where no player stands ready; true if there is such a thing."""
        for frame in self._frames():
            handle = await self._handle(frame, "control")
            if handle is not None:
                self.watch.on_step("Pressing play", self.traffic.count)
                await self._click(handle)
                await self._quiet(min(1.0, self.options.settle), most=10.0)
                return True
        return False

    async def _layer(self) -> dict[str, Any] | None:
        """What lies over the page and takes every press, if anything does: its words, and those on its buttons."""
        layers = [await self._ask(other.main_frame, "layer") for other in self.context.pages]
        return next((layer for layer in layers if layer), None)

    async def _press(self, wanted: str) -> None:
        """Press a control by its text or selector, in whichever frame it appears."""
        self.looking_for = wanted
        ends = time.monotonic() + min(_APPEARING, max(0.5, self.left - _READING))
        while True:
            for frame in self._frames():
                if (handle := await self._handle(frame, "find", wanted)) is not None:
                    self.looking_for = None
                    self.unpressed.pop(0)
                    await self._click(handle)
                    return
            if time.monotonic() > ends or self.gone:
                break
            await asyncio.sleep(0.25)
        raise await self._not_there(wanted)

    async def _not_there(self, wanted: str) -> NothingFound:
        """Words for a control that is not on the page, with those that are."""
        others = [text for frame in self._frames() for text in await self._ask(frame, "controls") or []]
        there = f"It has: {', '.join(repr(text) for text in others[:8])}." if others else "It has no buttons at all."
        return NothingFound(f"There is nothing to press on {shown(self.address)} that is called {wanted!r}.", there)

    async def _choose(self, name: str, value: str) -> None:
        """Choose an option in whichever frame asks for it; where none does yet, the form before it is sent first."""
        begun = time.monotonic()
        sent = False
        while time.monotonic() - begun < min(_APPEARING, max(1.0, self.left)) and not self.gone:
            for frame in self._frames():
                if await self._handle(frame, "choice", name) is not None:
                    await self._take(frame, name, value)
                    return
            if not sent and time.monotonic() - begun > 1.0:
                sent = await self._send()
            await asyncio.sleep(0.25)
        asked = [text for frame in self._frames() for text in await self._ask(frame, "asked") or []]
        there = f"It asks: {', '.join(asked[:8])}." if asked else "It asks nothing now."
        raise UsageError(f"{shown(self.address)} does not ask for {name!r}.", there)

    async def _take(self, frame: "Frame", name: str, value: str) -> None:
        """Select by label or value, in whatever case; what there is instead is said."""
        offered: list[list[str]] = await self._ask(frame, "options", name) or []
        wanted = value.lower()
        whole = [option for option in offered if wanted in (option[0].lower(), option[1].lower())]
        fitting = whole or [option for option in offered if wanted in option[0].lower()]
        if len(fitting) != 1:
            labels = ", ".join(repr(option[0]) for option in (fitting or offered)[:12])
            what = f"{value!r} may be any of several" if fitting else f"{name!r} has no option {value!r}"
            raise UsageError(f"{what} on {shown(self.address)}.", f"There are: {labels}.")
        label, sent = fitting[0]
        self.answered.append((name, label))
        handle = await self._handle(frame, "option", [name, sent])
        if handle and await handle.evaluate("(e) => e.tagName === 'SELECT'"):
            await handle.select_option(value=sent)
        elif handle:
            await self._click(handle)

    async def _send(self) -> bool:
        """Press what sends the form that was answered."""
        for frame in self._frames():
            if (handle := await self._handle(frame, "sender")) is not None:
                await self._click(handle)
                return True
        return False

    async def _click(self, handle: Any) -> None:
        """As a user would; what is covered is told to have been pressed."""
        try:
            await handle.click(timeout=3000)
        except Exception:
            with suppress(Exception):
                await handle.dispatch_event("click", timeout=2000)

    async def _scroll(self) -> None:
        """Down step by step, until the end is reached and nothing new comes."""
        for step in range(1, self.options.most_scrolls + 1):
            if self.left <= 0 or self.gone:
                return
            self.watch.on_step(f"Scrolling, step {step}", self.traffic.count)
            moved = await self._any("scroll")
            await self._quiet(_STEP_SETTLES, most=5.0)
            if not moved:
                await self._quiet(self.options.settle, most=10.0)
                if not await self._any("scroll"):
                    return
        self.note(f"Stopped after {self.options.most_scrolls} steps of scrolling; there may be more below.")

    def _frames(self) -> "list[Frame]":
        return [frame for other in self.context.pages for frame in other.frames][:_MOST_FRAMES]

    async def _in_time(self, frame: "Frame", answer: Coroutine[Any, Any, Any]) -> Any:
        """What a frame answers; None if it is gone. One that does not answer in time is not asked again."""
        if frame in self.mute:
            answer.close()
            return None
        try:
            return await asyncio.wait_for(answer, min(_ANSWERING, max(1.0, self.left / 2)))
        except TimeoutError:
            self.mute.add(frame)
            self.note(f"{shown(frame.url)} does not answer the browser any more; its scripts keep it busy.")
        except Exception:  # it was closed, or its own scripts broke what is asked of it
            return None
        return None

    async def _ask(self, frame: "Frame", task: str, given: Any = None) -> Any:
        """What a task of the script in inside.js gives."""
        source = f"([task, given]) => ({self.script})(task, given)"
        return await self._in_time(frame, frame.evaluate(source, [task, given]))

    async def _handle(self, frame: "Frame", task: str, given: Any = None) -> Any:
        """The element that such a task gives."""
        source = f"([task, given]) => ({self.script})(task, given)"
        handle = await self._in_time(frame, frame.evaluate_handle(source, [task, given]))
        return handle.as_element() if handle else None

    async def _any(self, task: str) -> bool:
        """Do something in all frames; true if it is true in any."""
        given = {"short": _SHORT, "rate": _FAST}
        return any(await together(self._ask(frame, task, given) for frame in self._frames()))

    async def _see(self) -> None:
        """Keep players and key systems as they stand: a later state may have lost them."""
        tasks = [asyncio.create_task(self._view(frame)) for frame in self._frames()]
        if not tasks:
            return
        try:
            await asyncio.wait(tasks, timeout=min(_ANSWERING, max(_READING, self.left)))
        finally:
            for task in tasks:
                task.cancel()
            answers = await asyncio.gather(*tasks, return_exceptions=True)
        for view in answers:
            if not isinstance(view, View):
                continue
            earlier = self.views_by_url.get(view.url)
            if earlier:
                known = {player.src for player in view.players}
                view.players += [player for player in earlier.players if player.src and player.src not in known]
                view.pictures = _also_gone(earlier.pictures, view.pictures)
                view.systems += [system for system in earlier.systems if system not in view.systems]
                view.encrypted = view.encrypted or earlier.encrypted
            self.views_by_url[view.url] = view

    async def _views(self, page: "Page") -> list[View]:
        """The frames as they stand at the end, the page itself first."""
        await self._see()
        main = page.url
        return sorted(self.views_by_url.values(), key=lambda view: view.url != main)

    async def _view(self, frame: "Frame") -> View | None:
        if not frame.url.startswith(("http:", "https:")):
            return None
        view = View(frame.url)
        view.title = await self._in_time(frame, frame.title()) or ""
        source = await self._in_time(frame, frame.content())
        view.source = source if source and len(source) <= _LARGEST_SOURCE else None
        keys = await self._ask(frame, "keys") or {}
        with suppress(msgspec.ValidationError):
            view.players = msgspec.convert(await self._ask(frame, "players") or [], list[Player], strict=False)
            view.pictures = msgspec.convert(await self._ask(frame, "pictures") or [], list[Shown], strict=False)
            view.systems = msgspec.convert(keys.get("systems", []), list[str])
            view.encrypted = bool(keys.get("encrypted"))
        return view

    async def _picture(self, page: "Page") -> tuple[bytes | None, str | None]:
        """The page as it stands, whole up to a bound, and its words."""
        text = await self._in_time(page.main_frame, page.evaluate(_WORDS))
        try:
            size = await asyncio.wait_for(page.evaluate(_SIZE), _READING)
            clip: Any = {"x": 0, "y": 0, "width": min(size[0], _WIDEST), "height": min(size[1], _TALLEST)}
            seconds = min(_PICTURING, max(_READING, self.left))
            return await page.screenshot(full_page=True, clip=clip, timeout=seconds * 1000, animations="allow"), text
        except Exception:  # a page that is busy or gone has no picture; what it asked for is recorded all the same
            self.note("There is no picture of the page, as it was busy or gone at the end.")
            return None, text

    async def _cookies(self) -> list[Cookie]:
        with suppress(Exception):
            kept = await asyncio.wait_for(self.context.cookies(), _READING)
            return [Cookie(c["name"], c["value"], c["domain"], c["path"], c["secure"]) for c in kept]
        return []


def _also_gone(before: list[Shown], now: list[Shown]) -> list[Shown]:
    """The pictures that were seen, in the order in which they came; those no longer there stand nowhere."""
    there = {picture.src: picture for picture in now}
    ordered = []
    for picture in before:
        nowhere = msgspec.structs.replace(picture, top=0.0, left=0.0, width=0.0, height=0.0)
        ordered.append(there.pop(picture.src, nowhere))
    return [*ordered, *there.values()]


def _words_for(layer: dict[str, Any]) -> str:
    """What to say of a layer that takes the press."""
    buttons = ", ".join(f"'{text}'" for text in layer["buttons"][:6])
    words = f" (“{layer['words'][:100]}”)" if layer["words"] else ""
    if not buttons:
        return f"A layer lies over the page{words} and takes the press; it has no buttons."
    return (
        f"A layer lies over the page{words} and takes the press. Its buttons: {buttons}. Press one with --press TEXT."
    )


def _cannot_open(address: str, message: str) -> Exception:
    """Words for what the browser says of an address that it cannot open."""
    first = message.splitlines()[0] if message else ""
    if "Timeout" in first:
        return NetworkError(
            f"{shown(address)} did not answer in time.", "Wait longer with --at-most SECONDS.", url=address
        )
    if "net::" in first:
        reason = first.rpartition("net::")[2].split()[0].removeprefix("ERR_").replace("_", " ").lower()
        trust = TRUST if reason.startswith("cert") else ""
        return NetworkError(f"{shown(address)} cannot be opened: {reason}.", trust or "Check the address.", url=address)
    return BrowserError(f"The browser cannot open {shown(address)}: {first[:200]}", "Try again.")
