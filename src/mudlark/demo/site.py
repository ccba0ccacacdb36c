"""The demo museum as servers on loopback: the site, the media host and the adverts, each on a free port.

Runs in a thread of its own, so that commands can be tried on it from the same program.
"""

import asyncio
import re
import secrets
import tempfile
import threading
import time
import zipfile
from collections.abc import Awaitable, Callable
from contextlib import suppress
from functools import cache, lru_cache, partial
from importlib.resources import files
from io import BytesIO
from pathlib import Path
from types import TracebackType
from typing import Any, Self

import msgspec
import numpy as np
from aiohttp import WSMsgType, web

from mudlark.assemble.film import Part, Voice, assemble
from mudlark.assemble.output import progressive
from mudlark.demo import dashed, streamed, tiled
from mudlark.demo.asked import HELPER, PLAIN_GUIDES, POCKET, STEPS, chooser_page, guide_for, signature
from mudlark.demo.exhibits import EXHIBITS, entrance
from mudlark.demo.fed import feeder, parts, player, scrambled
from mudlark.demo.hidden import BUILDS, MEMBERS_COOKIE, frame_inner, frame_outer, log_in
from mudlark.demo.live import Cameras, radio
from mudlark.demo.pages import Exhibit, Origins, page
from mudlark.demo.pictures import leaf, picture
from mudlark.demo.played import (
    LEAVES,
    TALKS,
    advert_frame,
    frame_screen,
    frame_stage,
    show_data,
    talk_page,
    talks_data,
)
from mudlark.demo.rough import WEATHER, Rough
from mudlark.demo.taken import GATES, LANGUAGES, frame_breakwater, words
from mudlark.fetch.place import Place

RENDITIONS = (
    # height, peak and average bits a second, codecs
    (180, 210_000, 160_000, "avc1.64000d,mp4a.40.2"),
    (360, 420_000, 290_000, "avc1.64001e,mp4a.40.2"),
    (720, 900_000, 610_000, "avc1.64001f,mp4a.40.2"),
)
_FILMS = {
    # several exhibits show the same film under names of their own
    "foghorn-demonstration": "foghorn-demonstration",
    "harbour-talk": "harbour-talk",
    "lightship-letters": "harbour-talk",
    "quay-walk": "harbour-talk",
    "members-evening": "harbour-talk",
    "shell-collecting": "foghorn-demonstration",
    "lamp-lighting": "foghorn-demonstration",
    "rope-making": "foghorn-demonstration",
    "net-mending": "foghorn-demonstration",
    "gulls-at-dusk": "foghorn-demonstration",
    "last-ferry": "harbour-talk",
    "harbour-gates": "harbour-talk",
    "sealed-reel": "foghorn-demonstration",
    "regatta-1931": "harbour-talk",
    "regatta-1932": "foghorn-demonstration",
    "reel-of-gulls": "foghorn-demonstration",
    "reel-of-ropes": "foghorn-demonstration",
    "reel-of-nets": "foghorn-demonstration",
    "lamp-room": "harbour-talk",
    "slipway": "harbour-talk",
    "breakwater": "harbour-talk",
    "wall-talk": "harbour-talk",
} | {f"talk-{number:02d}": "harbour-talk" for number in range(1, TALKS + 1)}
_SIZES = {"thumbs": (160, 90), "full": (1280, 720)}
DISK_IMAGE = 60_000_000  # bytes, made as they are asked for
_SEGMENT = 4
_SEGMENTS = 6
_PLAYLIST = "application/vnd.apple.mpegurl"


def media_folder() -> Path:
    """Where the demo's media are."""
    return Path(str(files("mudlark.demo") / "media"))


def master_playlist() -> str:
    """The three renditions of the tide mill."""
    lines = ["#EXTM3U", "#EXT-X-VERSION:3"]
    for height, peak, average, codecs in RENDITIONS:
        lines.append(
            f"#EXT-X-STREAM-INF:BANDWIDTH={peak},AVERAGE-BANDWIDTH={average},"
            f'RESOLUTION={height * 16 // 9}x{height},FRAME-RATE=25.000,CODECS="{codecs}"'
        )
        lines.append(f"{height}p/index.m3u8")
    return "\n".join(lines) + "\n"


def media_playlist() -> str:
    """The segments of one rendition."""
    lines = ["#EXTM3U", "#EXT-X-VERSION:3", f"#EXT-X-TARGETDURATION:{_SEGMENT}", "#EXT-X-PLAYLIST-TYPE:VOD"]
    for number in range(_SEGMENTS):
        lines += [f"#EXTINF:{_SEGMENT:.3f},", f"part-{number:03d}.ts"]
    return "\n".join([*lines, "#EXT-X-ENDLIST"]) + "\n"


class _Visit(msgspec.Struct):
    """How far someone has come in the chooser."""

    step: int = 0
    token: str = ""
    chosen: dict[str, str] = msgspec.field(default_factory=dict)


class DemoSite:
    """Use as `with DemoSite() as site`; `site.origins` has the addresses. port: of the site, the
    others take the two after it; 0 for any free ones."""

    def __init__(self, port: int = 0) -> None:
        self._port = port
        self._loop = asyncio.new_event_loop()
        self._ready = threading.Event()
        self._thread = threading.Thread(target=self._run, name="demo-site", daemon=True)
        self._problem: OSError | None = None
        self._passes: set[str] = set()
        self._visits: dict[str, _Visit] = {}
        self._days = 0
        self._cameras = Cameras()
        self._rough = Rough(media_folder() / "tide-mill" / "180p")
        self.origins = Origins("", "", "")

    def __enter__(self) -> Self:
        self._thread.start()
        self._ready.wait()
        if self._problem:
            raise self._problem
        return self

    def __exit__(
        self, kind: type[BaseException] | None, problem: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(5)

    def address(self, name: str) -> str:
        """The page of an exhibit."""
        return self.origins.site + next(exhibit.path for exhibit in (*EXHIBITS, *WEATHER) if exhibit.name == name)

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        try:
            runners = self._loop.run_until_complete(self._start())
        except OSError as problem:
            self._problem = problem
            return
        finally:
            self._ready.set()
        self._loop.run_forever()
        for runner in runners:
            self._loop.run_until_complete(runner.cleanup())
        self._loop.close()

    async def _start(self) -> list[web.AppRunner]:
        applications = [self._site(), self._media(), self._adverts()]
        for application in applications:
            application.middlewares.append(_no_nonsense)
        runners = [web.AppRunner(application, access_log=None) for application in applications]
        addresses = []
        ports = range(self._port, self._port + 3) if self._port else (0, 0, 0)
        for runner, port in zip(runners, ports, strict=True):
            await runner.setup()
            server = web.TCPSite(runner, "127.0.0.1", port)
            await server.start()
            addresses.append(f"http://127.0.0.1:{runner.addresses[0][1]}")
        self.origins = Origins(*addresses)
        return runners

    def _site(self) -> web.Application:
        application = web.Application()
        get = application.router.add_get
        get("/", partial(_text, "text/html", entrance()))
        for exhibit in (*EXHIBITS, *WEATHER):
            if exhibit.name not in ("members", "guide", "chooser"):
                get(exhibit.path, partial(self._written, exhibit.source))
        members = next(exhibit for exhibit in EXHIBITS if exhibit.name == "members")
        get(members.path, partial(self._for_members, members))
        guide = next(exhibit for exhibit in EXHIBITS if exhibit.name == "guide")
        get(guide.path, self._guide)
        chooser = next(exhibit for exhibit in EXHIBITS if exhibit.name == "chooser")
        get(chooser.path, self._choose)
        application.router.add_post(chooser.path, self._choose)
        get("/frames/quay-outer", partial(self._written, frame_outer))
        get("/frames/quay-inner", partial(self._written, frame_inner))
        get("/frames/breakwater", partial(self._written, frame_breakwater))
        get("/forecast/turn", self._turn)
        get("/words/harbour-wall.{code}.vtt", _words)
        get("/frames/stage", partial(self._written, frame_stage))
        get("/frames/screen", partial(self._written, frame_screen))
        get("/api/shows/ferry.json", self._show)
        get("/api/talks", self._talks)
        get("/talks/{number:[0-9]+}", self._talk)
        get("/logbook/{size:scans|small}/leaf-{number:[0-9]+}.jpg", _leaf)
        application.router.add_post("/api/pass", self._pass)
        get("/ring/first", self._ring)
        get("/go/{step}", self._onwards)
        get("/pictures/{name:.+}.png", _still)
        get("/reading-room/player.js", partial(_made, "text/javascript", player))
        get("/reading-room/feeder.js", partial(_made, "text/javascript", feeder))
        get("/reading-room/parts/{number:[0-9]+}", _scrambled)
        get("/reading-room/line", _speaking_tube)
        get("/visit", partial(_text, "text/html", page("Visit", "<h1>Visit</h1><p>Open from tide to tide.</p>")))
        get("/player", partial(_text, "text/html", "<!doctype html><title>Player</title><p>A player.</p>"))
        return application

    async def _written(self, source: Callable[[Origins], str], request: web.Request) -> web.Response:
        text = source(self.origins)
        kind = "application/rss+xml" if text.startswith("<?xml") else "text/html"
        kind = "text/csv" if request.path.endswith(".csv") else kind
        return await _text(kind, text, request)

    async def _for_members(self, exhibit: Exhibit, request: web.Request) -> web.Response:
        name, value = MEMBERS_COOKIE
        return await self._written(exhibit.source if request.cookies.get(name) == value else log_in, request)

    async def _onwards(self, request: web.Request) -> web.Response:
        """Three redirects, the last to the media host."""
        step = int(request.match_info["step"])
        target = f"/go/{step + 1}" if step < 3 else f"{self.origins.media}/films/gulls-at-dusk.mp4"
        raise web.HTTPFound(target)

    async def _guide(self, request: web.Request) -> web.Response:
        response = await _text("text/html", guide_for(self.origins, request.headers.get("User-Agent", "")), request)
        response.headers.update({"Vary": "User-Agent", "Accept-CH": "Sec-CH-UA-Platform-Version"})
        return response

    async def _choose(self, request: web.Request) -> web.Response:
        """The chooser: a session by cookie, a token that is good for one step, answers kept on this side."""
        name = request.cookies.get("visit", "")
        visit = self._visits.setdefault(name if name in self._visits else secrets.token_hex(8), _Visit())
        if request.method == "POST":
            given = await request.post()
            key, _, options = STEPS[min(visit.step, len(STEPS) - 1)]
            if given.get("token") != visit.token or given.get("step") != str(visit.step) or name not in self._visits:
                raise web.HTTPForbidden(text="This form is stale; begin anew.")
            if str(given.get(key, "")) in options:
                visit.chosen[key] = str(given[key])
                visit.step += 1
        else:
            visit.step, visit.chosen = 0, {}
        visit.token = secrets.token_hex(8)
        response = await _text("text/html", chooser_page(self.origins, visit.step, visit.token, visit.chosen), request)
        key_of = next(key for key, value in self._visits.items() if value is visit)
        response.set_cookie("visit", key_of, path="/field-guide")
        return response

    async def _turn(self, _: web.Request) -> web.Response:
        """Another film takes the place of the forecast."""
        self.turn_forecast()
        raise web.HTTPFound("/film/forecast")

    def turn_forecast(self) -> None:
        """Change the film of the forecast, as if a day had passed."""
        self._days += 1

    async def _forecast(self, request: web.Request) -> web.StreamResponse:
        name = ("foghorn-demonstration", "harbour-talk")[self._days % 2]
        return await _file(media_folder() / f"{name}.mp4", request)

    async def _hulk(self, request: web.Request) -> web.StreamResponse:
        """To those only who come from the museum's own pages."""
        if not request.headers.get("Referer", "").startswith(f"{self.origins.site}/"):
            raise web.HTTPForbidden
        return await _file(media_folder() / "foghorn-demonstration.mp4", request)

    async def _show(self, _: web.Request) -> web.Response:
        return web.Response(text=show_data(self.origins), content_type="application/json")

    async def _talks(self, request: web.Request) -> web.Response:
        first = int(request.query.get("from", "0"))
        return web.Response(text=talks_data(self.origins, first), content_type="application/json")

    async def _talk(self, request: web.Request) -> web.Response:
        number = int(request.match_info["number"])
        if not 1 <= number <= TALKS:
            raise web.HTTPNotFound
        return await _text("text/html", talk_page(self.origins, number), request)

    async def _ring(self, _: web.Request) -> web.Response:
        raise web.HTTPFound(f"{self.origins.media}/ring/second")

    async def _pass(self, _: web.Request) -> web.Response:
        """A word that opens the stream once."""
        word = secrets.token_hex(8)
        self._passes.add(word)
        return web.json_response({"word": word})

    async def _night_shift(self, request: web.Request) -> web.Response:
        """The stream of the night shift, to those with a word that was not used before, on the museum's own page."""
        word = request.query.get("pass", "")
        if word not in self._passes or not request.headers.get("Referer", "").startswith(self.origins.site):
            raise web.HTTPForbidden
        self._passes.discard(word)
        return await _text(_PLAYLIST, master_playlist(), request)

    async def _camera(self, request: web.Request) -> web.Response:
        """What a camera shows now."""
        answer = await asyncio.to_thread(self._cameras.answer, request.match_info["camera"], request.match_info["name"])
        if answer is None:
            raise web.HTTPServiceUnavailable
        body, kind = answer
        return web.Response(body=body, headers={"Content-Type": kind, "Cache-Control": "no-store"})

    def _media(self) -> web.Application:
        application = web.Application()
        application.on_response_prepare.append(_for_all)
        get = application.router.add_get
        folder = media_folder()
        get("/streams/tide-mill/master.m3u8", partial(_text, _PLAYLIST, master_playlist()))
        get("/streams/night-shift/master.m3u8", self._night_shift)
        for name in ("tide-mill", "night-shift"):
            for height, *_ in RENDITIONS:
                base = f"/streams/{name}/{height}p"
                get(f"{base}/index.m3u8", partial(_text, _PLAYLIST, media_playlist()))
                application.router.add_static(base, folder / "tide-mill" / f"{height}p")
        get("/shelves/{shelf}/{name}", _shelf)
        get("/live/{camera}/{name}", self._camera)
        get("/rough/{kind}/{name}", self._rough.answer)
        get("/radio/foghorn", radio)
        get("/keys/{number:[0-2]}", _stream_key)
        get("/ring/second", _ring_on)
        get("/stored/bell-7c41", partial(_file, folder / "fog-bell.m4a", "audio/mp4"))
        get("/sounds/fog-bell.m4a", partial(_file, folder / "fog-bell.m4a", "audio/mp4"))
        get("/sounds/fog-signals.mp3", partial(_file, folder / "fog-signals.mp3", "audio/mpeg"))
        application.router.add_post("/licences/{name}", _licence)
        for name, file in _FILMS.items():
            get(f"/films/{name}.mp4", partial(_file, folder / f"{file}.mp4"))
        get("/films/forecast.mp4", self._forecast)
        get("/guarded/hulk.mp4", self._hulk)
        tiled.add_routes(get, lambda: self.origins)
        for size, height in GATES.items():
            get(f"/gates/lock-gates-{size}.mp4", partial(_gates, height))
        get("/stored/8842", partial(_file, folder / "gift-shop.mp4"))
        for name in (*BUILDS, "tide-tables-2.4.zip"):
            get(f"/packages/{name}", partial(_package, name))
        for name in (HELPER, "guide-helper.exe", POCKET, *PLAIN_GUIDES):
            get(f"/packages/{name}", partial(_package, name))
        get("/guides/{name}", _guide_package)
        get("/fetch", _map)
        get("/images/gallery-computer.img", _disk_image)
        return application

    def _adverts(self) -> web.Application:
        application = web.Application()
        application.router.add_get("/spots/gift-shop.mp4", partial(_file, media_folder() / "gift-shop.mp4"))
        application.router.add_get("/before", partial(self._written, advert_frame))
        return application


@web.middleware
async def _no_nonsense(request: web.Request, handler: Callable[[web.Request], Awaitable[web.StreamResponse]]) -> Any:
    """Addresses that no page of the museum has are answered as such."""
    try:
        return await handler(request)
    except (ValueError, OverflowError) as problem:
        raise web.HTTPBadRequest(text="There is no such thing here.") from problem


async def _for_all(_: web.Request, response: web.StreamResponse) -> None:
    """Scripts of other origins may read what the media host gives (Fetch, CORS protocol)."""
    response.headers["Access-Control-Allow-Origin"] = "*"


async def _text(kind: str, source: str, _: web.Request) -> web.Response:
    return web.Response(text=source, content_type=kind)


async def _made(kind: str, source: Callable[[], str], _: web.Request) -> web.Response:
    return web.Response(text=await asyncio.to_thread(source), content_type=kind)


async def _file(path: Path, *given: Any) -> web.FileResponse:
    """given: the media type, if it is not that of the name, and the request."""
    kind = given[0] if len(given) > 1 else None
    return web.FileResponse(path, headers={"Content-Type": kind} if kind else None)


async def _ring_on(_: web.Request) -> web.Response:
    raise web.HTTPFound("/stored/bell-7c41")


async def _licence(_: web.Request) -> web.Response:
    """What a licence server says to those it does not know."""
    return web.Response(status=403, body=b"\0", content_type="application/octet-stream")


async def _scrambled(request: web.Request) -> web.Response:
    number = int(request.match_info["number"])
    if number >= len(parts()):
        raise web.HTTPNotFound
    return web.Response(body=await asyncio.to_thread(scrambled, number), content_type="application/octet-stream")


async def _speaking_tube(request: web.Request) -> web.WebSocketResponse:
    """Gives the part that is asked for by its number."""
    line = web.WebSocketResponse()
    await line.prepare(request)
    async for told in line:
        if told.type is WSMsgType.TEXT and told.data.isdigit() and int(told.data) < len(parts()):
            await line.send_bytes(parts()[int(told.data)])
    return line


async def _words(request: web.Request) -> web.Response:
    code = request.match_info["code"]
    if code not in LANGUAGES:
        raise web.HTTPNotFound
    return web.Response(text=words(code), content_type="text/vtt")


async def _gates(height: int, _: web.Request) -> web.Response:
    return web.Response(body=await asyncio.to_thread(_as_mp4, height), content_type="video/mp4")


@cache
def _as_mp4(height: int) -> bytes:
    """The tide mill in one of its sizes, as a plain file."""
    folder = media_folder() / "tide-mill" / f"{height}p"
    places = [Place.of(folder / f"part-{n:03d}.ts") for n in range(_SEGMENTS)]
    parts = [Part(0, n, float(_SEGMENT * n), float(_SEGMENT), place) for n, place in enumerate(places)]
    with tempfile.TemporaryDirectory(prefix="mudlark-demo-") as made:
        assemble(parts, [Voice()], Path(made) / "film.mp4", float(_SEGMENT * _SEGMENTS), progressive)
        return (Path(made) / "film.mp4").read_bytes()


async def _shelf(request: web.Request) -> web.Response:
    """A playlist or segment of a stream, or a range of it (RFC 9110 §14)."""
    name = request.match_info["name"]
    shelf = request.match_info["shelf"]
    source = dashed.content if shelf in dashed.SHELVES else streamed.content
    body = await asyncio.to_thread(source, shelf, name)
    if body is None:
        raise web.HTTPNotFound
    kind = streamed.TYPES.get(name.rpartition(".")[2], "application/octet-stream")
    headers = {"Content-Type": kind, "Accept-Ranges": "bytes"}
    asked = re.fullmatch(r"bytes=(\d{1,12})-(\d{0,12})", request.headers.get("Range", ""))
    if asked is None:
        return web.Response(body=body, headers=headers)
    first, last = int(asked[1]), min(int(asked[2] or len(body)), len(body) - 1)
    if first > last:
        raise web.HTTPRequestRangeNotSatisfiable
    headers["Content-Range"] = f"bytes {first}-{last}/{len(body)}"
    return web.Response(status=206, body=body[first : last + 1], headers=headers)


async def _stream_key(request: web.Request) -> web.Response:
    """A key of the keyed stream, for anyone who asks."""
    return web.Response(body=streamed.KEYS[int(request.match_info["number"])], content_type="application/octet-stream")


async def _leaf(request: web.Request) -> web.Response:
    """A leaf of the logbook, small or as scanned."""
    number = int(request.match_info["number"])
    if number not in LEAVES:
        raise web.HTTPNotFound
    width, height = (900, 1200) if request.match_info["size"] == "scans" else (90, 120)
    data = BytesIO()
    leaf(number, width, height).save(data, "JPEG", quality=80)
    return web.Response(body=data.getvalue(), content_type="image/jpeg")


async def _still(request: web.Request) -> web.Response:
    return web.Response(body=_drawn(request.match_info["name"]), content_type="image/png")


@lru_cache(1_000)
def _drawn(name: str) -> bytes:
    """A picture of the museum, drawn when it is first asked for."""
    stated = re.search(r"(\d+)x(\d+)$", name)
    width, height = (int(stated[1]), int(stated[2])) if stated else _SIZES.get(name.partition("/")[0], (640, 360))
    image = picture(40, min(width, 1280), min(height, 720), name.rpartition("/")[2].replace("-", " ").title())
    data = BytesIO()
    image.save(data, "PNG")
    return data.getvalue()


async def _package(name: str, _: web.Request) -> web.Response:
    """A ZIP file that says what it is."""
    data = BytesIO()
    with zipfile.ZipFile(data, "w", zipfile.ZIP_DEFLATED) as archive:
        for part in ("guide.html", "tides.csv", "README.txt"):
            archive.writestr(zipfile.ZipInfo(f"field-guide/{part}"), f"{name}: {part}\n" * 400)
    return web.Response(body=data.getvalue(), content_type="application/zip")


async def _guide_package(request: web.Request) -> web.StreamResponse:
    """A package of the chooser, as long as its link lives."""
    name, until = request.match_info["name"], request.query.get("expires", "0")
    if request.query.get("sign") != signature(name, int(until)) or int(until) < time.time():
        raise web.HTTPForbidden(text="This link has expired.")
    return await _package(name, request)


async def _map(_: web.Request) -> web.Response:
    """A picture that the server names, in the extended notation of RFC 8187."""
    data = BytesIO()
    picture(7, 640, 360, "The Keeper's Map").save(data, "PNG")
    name = "filename=\"map.png\"; filename*=UTF-8''K%C3%A6rvik%20%E2%80%93%20the%20keeper%E2%80%99s%20map.png"
    return web.Response(
        body=data.getvalue(),
        content_type="application/octet-stream",
        headers={"Content-Disposition": f"attachment; {name}"},
    )


def disk_bytes(start: int, count: int) -> bytes:
    """Any part of the disk image: words that depend on their place."""
    first = start // 8
    words = np.arange(first, (start + count) // 8 + 1, dtype="<u8") * np.uint64(0x9E3779B97F4A7C15)
    return words.tobytes()[start - first * 8 :][:count]


async def _disk_image(request: web.Request) -> web.StreamResponse:
    """Ranges as RFC 9110 §14 has them, with a strong validator."""
    tag = '"gallery-1"'
    asked = re.fullmatch(r"bytes=(\d+)-(\d*)", request.headers.get("Range", ""))
    first, last, status = 0, DISK_IMAGE - 1, 200
    if asked and request.headers.get("If-Range", tag) == tag:
        first, status = int(asked[1]), 206
        last = min(int(asked[2] or last), last)
    headers = {"ETag": tag, "Accept-Ranges": "bytes", "Content-Type": "application/octet-stream"}
    headers["Content-Length"] = str(last - first + 1)
    if status == 206:
        headers["Content-Range"] = f"bytes {first}-{last}/{DISK_IMAGE}"
    response = web.StreamResponse(status=status, headers=headers)
    await response.prepare(request)
    with suppress(ConnectionError):  # who asks only for the head goes away early
        for at in range(first, last + 1, 1 << 18):
            await response.write(disk_bytes(at, min(1 << 18, last + 1 - at)))
    return response
