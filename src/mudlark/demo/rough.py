"""A gallery where everything goes wrong that can go wrong on the way: the tide mill, served badly on purpose.

Each exhibit is one kind of trouble. What was served is counted by visit (the token in the links), so that each visit
meets the same.
"""

import asyncio
import re
import secrets
from collections import Counter
from collections.abc import Awaitable, Callable
from contextlib import suppress
from pathlib import Path

import msgspec
from aiohttp import web

from mudlark.demo.pages import Exhibit, Origins, page

_SEGMENTS, _SECONDS = 6, 4
_LOST = 2  # the segment that is gone
_KEY_LASTS = 3  # segments that a link which expires is good for
_CROWD = 2  # requests at once that the crowded server takes
_PACE = 100_000  # bytes a second of the slow one
_STALL = 60.0  # seconds
_FILE = 6_000_000  # bytes of what changes while it is fetched

Answer = web.StreamResponse


def _page(kind: str, hard: str, at: Origins) -> str:
    """The page of one kind of trouble; each writing of it hands out a token of its own."""
    title = f"The Mill in Heavy Weather: {kind.title()}"
    name = "film.img" if kind == "changing" else "index.m3u8"
    address = f"{at.media}/rough/{kind}/{name}?token={secrets.token_hex(8)}"
    seen = f'<a href="{address}">The file</a>' if kind == "changing" else f'<video controls src="{address}"></video>'
    return page(title, f"<h1>{title}</h1>\n<p>{hard}</p>\n{seen}", f'<meta property="og:title" content="{title}">\n')


def _exhibit(kind: str, hard: str) -> Exhibit:
    return Exhibit(f"rough-{kind}", f"/rough/{kind}", hard, lambda at: _page(kind, hard, at))


ROUGH = (
    _exhibit("errors", "Every other segment fails twice, with 500 and 503, before it comes."),
    _exhibit("cut", "Every segment breaks off in the middle at first."),
    _exhibit("resets", "Connections are torn down half-way."),
    _exhibit("stalls", "Some segments fall silent half-way, and never go on."),
    _exhibit("crowded", "More than two requests at once are refused, with 429 and Retry-After."),
    _exhibit("pages", "A web page comes where a segment should be, with status 200."),
    _exhibit("expiring", "Links die after three segments; the playlist hands out new ones."),
    _exhibit("lapsing", "Links die after three segments, the playlist's own too; the page hands out new ones."),
    _exhibit("whole", "Byte ranges are listed, and ignored."),
    _exhibit("changing", "The file changes while it is fetched."),
    _exhibit("slow", "Every answer waits, and trickles."),
)
GONE = _exhibit("gone", "One segment is never there, and every other fails at first: the film has a gap.")
WEATHER = (*ROUGH, GONE)


class _Visit(msgspec.Struct):
    """What was asked for on one visit."""

    asked: Counter[str] = msgspec.field(default_factory=Counter)
    served: int = 0
    inside: int = 0
    key: int = 0


class Rough:
    """folder: of the segments."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._visits: dict[tuple[str, str], _Visit] = {}
        self._kinds: dict[str, Callable[[_Visit, str, web.Request], Awaitable[Answer]]] = {
            "errors": self._errors,
            "cut": self._cut,
            "resets": self._resets,
            "stalls": self._stalls,
            "crowded": self._crowded,
            "pages": self._pages,
            "expiring": self._expiring,
            "lapsing": self._lapsing,
            "whole": self._whole,
            "changing": self._changing,
            "slow": self._slow,
            "gone": self._gone,
        }

    async def answer(self, request: web.Request) -> Answer:
        """What stands under a name."""
        kind, name = request.match_info["kind"], request.match_info["name"]
        if kind not in self._kinds:
            raise web.HTTPNotFound
        visit = self._visits.setdefault((kind, request.query.get("token", "")), _Visit())
        visit.asked[name] += 1
        if name == "index.m3u8":
            return self._playlist(kind, visit, request)
        return await self._kinds[kind](visit, name, request)

    def _playlist(self, kind: str, visit: _Visit, request: web.Request) -> Answer:
        token = request.query.get("token", "")
        if kind == "lapsing" and visit.served >= _KEY_LASTS:
            raise web.HTTPForbidden
        visit.key += kind == "expiring"
        visit.served *= kind != "expiring"
        lines = ["#EXTM3U", "#EXT-X-VERSION:4", f"#EXT-X-TARGETDURATION:{_SECONDS}"]
        at = 0
        for number in range(_SEGMENTS):
            size = len(self._body(f"part-{number}.ts"))
            lines.append(f"#EXTINF:{_SECONDS}.000,")
            lines += [f"#EXT-X-BYTERANGE:{size}@{at}"] if kind == "whole" else []
            name = "all.ts" if kind == "whole" else f"part-{number}.ts"
            lines.append(f"{name}?token={token}{f'&key={visit.key}' if kind == 'expiring' else ''}")
            at += size
        text = "\n".join([*lines, "#EXT-X-ENDLIST", ""])
        return web.Response(text=text, content_type="application/vnd.apple.mpegurl")

    def _body(self, name: str) -> bytes:
        if name == "all.ts":
            return b"".join(self._body(f"part-{number}.ts") for number in range(_SEGMENTS))
        match = re.fullmatch(r"part-(\d)\.ts", name)
        path = self._folder / f"part-{int(match[1]):03d}.ts" if match else None
        if path is None or not path.exists():
            raise web.HTTPNotFound
        return path.read_bytes()

    def _good(self, name: str) -> Answer:
        return web.Response(body=self._body(name), content_type="video/mp2t")

    async def _errors(self, visit: _Visit, name: str, _: web.Request) -> Answer:
        tries = visit.asked[name]
        if _number(name) % 2 and tries <= 2:
            return web.Response(status=500 if tries == 1 else 503, headers={"Retry-After": "0"})
        return self._good(name)

    async def _cut(self, visit: _Visit, name: str, request: web.Request) -> Answer:
        body = self._body(name)
        headers = {"ETag": f'"{name}"', "Accept-Ranges": "bytes", "Content-Type": "video/mp2t"}
        asked = re.fullmatch(r"bytes=(\d{1,12})-(\d{1,12})", request.headers.get("Range", ""))
        if asked:
            first, last = int(asked[1]), min(int(asked[2]), len(body) - 1)
            headers["Content-Range"] = f"bytes {first}-{last}/{len(body)}"
            return web.Response(status=206, body=body[first : last + 1], headers=headers)
        if visit.asked[name] == 1:
            return await _half(body, headers, request)
        return web.Response(body=body, headers=headers)

    async def _resets(self, visit: _Visit, name: str, request: web.Request) -> Answer:
        if _number(name) % 2 and visit.asked[name] == 1:
            return await _half(self._body(name), {}, request)
        return self._good(name)

    async def _stalls(self, visit: _Visit, name: str, request: web.Request) -> Answer:
        if _number(name) in (2, 4) and visit.asked[name] == 1:
            return await _half(self._body(name), {}, request, silent=_STALL)
        return self._good(name)

    async def _crowded(self, visit: _Visit, name: str, _: web.Request) -> Answer:
        if visit.inside >= _CROWD:
            return web.Response(status=429, headers={"Retry-After": "1"})
        visit.inside += 1
        try:
            await asyncio.sleep(0.2)
            return self._good(name)
        finally:
            visit.inside -= 1

    async def _pages(self, visit: _Visit, name: str, _: web.Request) -> Answer:
        if _number(name) % 2 and visit.asked[name] == 1:
            return web.Response(text=page("Busy", "<p>The museum is very busy.</p>"), content_type="text/html")
        return self._good(name)

    async def _expiring(self, visit: _Visit, name: str, request: web.Request) -> Answer:
        if request.query.get("key") != str(visit.key) or visit.served >= _KEY_LASTS:
            raise web.HTTPForbidden
        visit.served += 1
        return self._good(name)

    async def _lapsing(self, visit: _Visit, name: str, _: web.Request) -> Answer:
        if visit.served >= _KEY_LASTS:
            raise web.HTTPForbidden
        visit.served += 1
        return self._good(name)

    async def _whole(self, _: _Visit, name: str, __: web.Request) -> Answer:
        return self._good(name)

    async def _changing(self, visit: _Visit, name: str, request: web.Request) -> Answer:
        edition = 1 if visit.asked[name] <= 3 else 2
        body, tag = bytes([edition]) * _FILE, f'"edition-{edition}"'
        headers = {"ETag": tag, "Accept-Ranges": "bytes", "Content-Type": "application/octet-stream"}
        asked = re.fullmatch(r"bytes=(\d{1,12})-(\d{1,12})", request.headers.get("Range", ""))
        if asked is None or request.headers.get("If-Range", tag) != tag:
            return web.Response(body=body, headers=headers)
        first, last = int(asked[1]), min(int(asked[2]), len(body) - 1)
        headers["Content-Range"] = f"bytes {first}-{last}/{len(body)}"
        return web.Response(status=206, body=body[first : last + 1], headers=headers)

    async def _gone(self, visit: _Visit, name: str, request: web.Request) -> Answer:
        if _number(name) == _LOST:
            raise web.HTTPNotFound
        return await self._errors(visit, name, request)

    async def _slow(self, _: _Visit, name: str, request: web.Request) -> Answer:
        body = self._body(name)
        await asyncio.sleep(0.15)
        response = web.StreamResponse(headers={"Content-Type": "video/mp2t", "Content-Length": str(len(body))})
        await response.prepare(request)
        for at in range(0, len(body), _PACE // 10):
            await response.write(body[at : at + _PACE // 10])
            await asyncio.sleep(0.1)
        return response


def _number(name: str) -> int:
    match = re.search(r"\d", name)
    return int(match[0]) if match else 0


async def _half(body: bytes, headers: dict[str, str], request: web.Request, *, silent: float = 0.0) -> Answer:
    """Half of a body, of which all was promised; then silence, or no connection any more."""
    response = web.StreamResponse(headers={**headers, "Content-Length": str(len(body))})
    await response.prepare(request)
    with suppress(ConnectionError):
        await response.write(body[: len(body) // 2])
        await asyncio.sleep(silent or 0.05)
    if request.transport:
        request.transport.abort()
    return response
