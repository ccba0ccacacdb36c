"""The demo museum as servers on loopback: the site, the media host and the adverts, each on a free port.

Runs in a thread of its own, so that commands can be tried on it from the same program.
"""

import asyncio
import threading
from functools import partial
from importlib.resources import files
from io import BytesIO
from pathlib import Path
from types import TracebackType
from typing import Self

from aiohttp import web

from mudlark.demo.exhibits import EXHIBITS, Exhibit, Origins, entrance, page
from mudlark.demo.pictures import picture

RENDITIONS = (
    # height, peak and average bits a second, codecs
    (180, 210_000, 160_000, "avc1.64000d,mp4a.40.2"),
    (360, 420_000, 290_000, "avc1.64001e,mp4a.40.2"),
    (720, 900_000, 610_000, "avc1.64001f,mp4a.40.2"),
)
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


class DemoSite:
    """Use as `with DemoSite() as site`; `site.origins` has the addresses. port: of the site, the
    others take the two after it; 0 for any free ones."""

    def __init__(self, port: int = 0) -> None:
        self._port = port
        self._loop = asyncio.new_event_loop()
        self._ready = threading.Event()
        self._thread = threading.Thread(target=self._run, name="demo-site", daemon=True)
        self._problem: OSError | None = None
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
        return self.origins.site + next(exhibit.path for exhibit in EXHIBITS if exhibit.name == name)

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
        application.router.add_get("/", partial(_text, "text/html", entrance()))
        for exhibit in EXHIBITS:
            application.router.add_get(exhibit.path, partial(self._exhibit, exhibit))
        application.router.add_get("/pictures/{name}.png", _still)
        visit = page("Visit", "<h1>Visit</h1><p>Open from tide to tide.</p>")
        application.router.add_get("/visit", partial(_text, "text/html", visit))
        return application

    async def _exhibit(self, exhibit: Exhibit, request: web.Request) -> web.Response:
        return await _text("text/html", exhibit.source(self.origins), request)

    def _media(self) -> web.Application:
        application = web.Application()
        folder = media_folder()
        application.router.add_get("/streams/tide-mill/master.m3u8", partial(_text, _PLAYLIST, master_playlist()))
        for height, *_ in RENDITIONS:
            base = f"/streams/tide-mill/{height}p"
            application.router.add_get(f"{base}/index.m3u8", partial(_text, _PLAYLIST, media_playlist()))
            application.router.add_static(base, folder / "tide-mill" / f"{height}p")
        for name in ("foghorn-demonstration.mp4", "harbour-talk.mp4"):
            application.router.add_get(f"/films/{name}", partial(_file, folder / name))
        return application

    def _adverts(self) -> web.Application:
        application = web.Application()
        application.router.add_get("/spots/gift-shop.mp4", partial(_file, media_folder() / "gift-shop.mp4"))
        return application


async def _text(kind: str, source: str, _: web.Request) -> web.Response:
    return web.Response(text=source, content_type=kind, headers={"Access-Control-Allow-Origin": "*"})


async def _file(path: Path, _: web.Request) -> web.FileResponse:
    return web.FileResponse(path)


async def _still(request: web.Request) -> web.Response:
    """A picture of the museum, drawn when it is asked for."""
    name = request.match_info["name"]
    image = picture(40, 640, 360, name.replace("-", " ").title())
    data = BytesIO()
    image.save(data, "PNG")
    return web.Response(body=data.getvalue(), content_type="image/png")
