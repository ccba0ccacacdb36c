"""The museum's cameras: broadcasts that never end, made of the tide mill's film over and over, by the clock alone.

The same in HLS and in DASH (by number, and by timeline). One ends after half a minute, one drops out and comes back
with its numbers begun anew.
"""

import asyncio
import time
from collections.abc import Callable
from contextlib import suppress
from datetime import UTC, datetime
from functools import cache

import msgspec
from aiohttp import web
from msgspec.structs import replace

from mudlark.demo.pages import Exhibit, Origins, page
from mudlark.demo.repacked import fragments, samples_of, section
from mudlark.demo.streamed import MEDIA, SECONDS, SEGMENTS, START, paths
from mudlark.media.samples import Samples

WINDOW = 30  # segments that are listed: two minutes
_HEIGHT = 180
_LASTING = 30  # seconds of the camera that ends
_AWAY = (12, 20)  # seconds between which the fickle one is gone
_EVERY = 8_000  # bytes of sound between two titles: a second
_AHEAD = 16_000  # bytes that come at once
_TITLES = ("One Long", "Two Short", "Fog over Skerrow Bay")
_SCALE = {"video": 90_000, "audio": 48_000}
_TYPES = {"m3u8": "application/vnd.apple.mpegurl", "mpd": "application/dash+xml", "m4s": "video/iso.segment"}


class Cameras(msgspec.Struct):
    """now: the time of day in seconds. begun: when each camera was first looked at."""

    now: Callable[[], float] = time.time
    begun: dict[str, float] = msgspec.field(default_factory=dict)

    def answer(self, camera: str, name: str) -> tuple[bytes, str] | None:
        """What stands under a name, and its type; None if nothing does."""
        since = self.now() - self.begun.setdefault(camera, self.now())
        base, _, extension = name.rpartition(".")
        if camera == "fickle" and _AWAY[0] <= since < _AWAY[1]:
            return None
        kind = _TYPES.get(extension, "video/mp4")
        if extension == "m3u8":
            return self._playlist(camera, since), kind
        if extension == "mpd":
            return self._manifest(base), kind
        identifier, _, which = base.rpartition("-")
        if which == "init":
            return section(_tracks(identifier, 0)), kind
        if not which.isdigit() or len(which) > 15:
            return None
        number = int(which)
        return fragments(number + 1, _tracks(identifier, number)), kind

    def _last(self, camera: str, since: float) -> int:
        """The number of the last segment that is whole."""
        if camera == "ending":
            return int(min(since + 12, _LASTING) // SECONDS) - 1
        if camera == "fickle":
            return int(((since + 8) if since < _AWAY[0] else (since - _AWAY[1] + 4)) // SECONDS) - 1
        return int(self.now() // SECONDS) - 1

    def _playlist(self, camera: str, since: float) -> bytes:
        last = self._last(camera, since)
        first = max(0, last - WINDOW + 1)
        lines = ["#EXTM3U", "#EXT-X-VERSION:7", f"#EXT-X-TARGETDURATION:{SECONDS}", f"#EXT-X-MEDIA-SEQUENCE:{first}"]
        again = camera == "fickle" and since >= _AWAY[1]
        lines.append(f'#EXT-X-MAP:URI="{"again" if again else "both"}-init.mp4"')
        begin = float(first * SECONDS)
        if camera == "ending":
            begin += self.begun[camera] - 12
        elif camera == "fickle":
            begin += self.begun[camera] + (_AWAY[1] - 4 if again else -8)
        for number in range(first, last + 1):
            stated = datetime.fromtimestamp(begin + (number - first) * SECONDS, UTC).isoformat(timespec="milliseconds")
            lines += [f"#EXT-X-PROGRAM-DATE-TIME:{stated}", f"#EXTINF:{SECONDS:.3f},"]
            lines.append(f"{'again' if again else 'both'}-{number}.m4s")
        if camera == "ending" and since + 12 >= _LASTING:
            lines.append("#EXT-X-ENDLIST")
        return ("\n".join(lines) + "\n").encode()

    def _manifest(self, base: str) -> bytes:
        last = int(self.now() // SECONDS) - 1
        sets = []
        for kind, codecs in (("video", "avc1.64000c"), ("audio", "mp4a.40.2")):
            scale = _SCALE[kind]
            head = f'timescale="{scale}" presentationTimeOffset="{START * scale // 90_000}"'
            if base == "timeline":
                first = last - WINDOW + 1
                entry = f'<S t="{first * SECONDS * scale}" d="{SECONDS * scale}" r="{WINDOW - 1}"/>'
                head = f'timescale="{scale}" presentationTimeOffset="0" startNumber="{first}"'
                template = f"""<SegmentTemplate {head} initialization="{kind}-init.mp4" media="{kind}-$Number$.m4s">
      <SegmentTimeline>{entry}</SegmentTimeline></SegmentTemplate>"""
            else:
                template = f"""<SegmentTemplate {head} duration="{SECONDS * scale}" startNumber="0"
      initialization="{kind}-init.mp4" media="{kind}-$Number$.m4s"/>"""
            size = f' width="320" height="{_HEIGHT}"' if kind == "video" else ""
            sets.append(
                f"""<AdaptationSet contentType="{kind}" mimeType="{kind}/mp4" codecs="{codecs}">{template}
    <Representation id="{kind}" bandwidth="100000"{size}/></AdaptationSet>"""
            )
        stated = datetime.fromtimestamp(self.now(), UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
        return f"""<?xml version="1.0"?>
<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" type="dynamic" availabilityStartTime="1970-01-01T00:00:00Z"
  timeShiftBufferDepth="PT{WINDOW * SECONDS}S" minimumUpdatePeriod="PT{SECONDS}S" publishTime="{stated}"
  maxSegmentDuration="PT{SECONDS}S" minBufferTime="PT4S" profiles="urn:mpeg:dash:profile:isoff-live:2011">
  <Period id="1" start="PT0S">{"".join(sets)}</Period>
  <UTCTiming schemeIdUri="urn:mpeg:dash:utc:direct:2014" value="{stated}"/>
</MPD>
""".encode()


def _tracks(identifier: str, number: int) -> list[Samples]:
    """The samples of segment `number` of a broadcast that began in 1970."""
    kinds = ("video", "audio") if identifier in ("both", "again") else (identifier,)
    return [_later(kind, number) for kind in kinds if kind in _SCALE]


@cache
def _loop(kind: str) -> tuple[Samples, ...]:
    return samples_of(paths(_HEIGHT), kind)


def _later(kind: str, number: int) -> Samples:
    """A segment of the film, as it comes round for the so-manieth time."""
    turn, index = divmod(number, SEGMENTS)
    part = _loop(kind)[index]
    ticks = turn * SEGMENTS * SECONDS * part.format.timescale
    return replace(part, dts=part.dts + ticks, pts=part.pts + ticks)


async def radio(request: web.Request) -> web.StreamResponse:
    """The foghorn, day and night: MPEG layer 3 as fast as it is heard, with titles among it for those who ask. What was
    sent last comes at once, cut out of its frames wherever that is."""
    sound = (MEDIA / "fog-signals.mp3").read_bytes()
    wanted = request.headers.get("Icy-MetaData") == "1"
    headers = {"Content-Type": "audio/mpeg", "icy-name": "Foghorn Radio", "icy-br": "64"}
    response = web.StreamResponse(headers=headers | ({"icy-metaint": str(_EVERY)} if wanted else {}))
    await response.prepare(request)
    sent, asked = 0, time.time()
    begin = int(asked * _EVERY) - _AHEAD
    with suppress(ConnectionError):
        while True:
            place = (begin + sent) % len(sound)
            piece = (sound + sound)[place : place + _EVERY]
            sent += len(piece)
            title = f"StreamTitle='{_TITLES[sent // _EVERY // 2 % len(_TITLES)]}';".encode()
            block = bytes([-(-len(title) // 16)]) + title.ljust(-(-len(title) // 16) * 16, b"\0")
            await response.write(piece + (block if wanted else b""))
            if sent > _AHEAD:
                await asyncio.sleep(asked + (sent - _AHEAD) / _EVERY - time.time())
    return response


def _exhibit(name: str, path: str, hard: str, title: str, text: str, address: str) -> Exhibit:
    def source(at: Origins) -> str:
        return page(
            title,
            f"""<h1>{title}</h1>
<p>{text}</p>
<video controls width="320" height="180" data-stream="{at.media}/live/{address}"></video>""",
            f'<meta property="og:title" content="{title}">\n',
        )

    return Exhibit(name, path, hard, source)


def _radio_page(at: Origins) -> str:
    return page(
        "Foghorn Radio",
        f"""<h1>Foghorn Radio</h1>
<p>Day and night, one long, two short.</p>
<audio controls src="{at.media}/radio/foghorn"></audio>""",
        '<meta property="og:title" content="Foghorn Radio">\n',
    )


LIVE: tuple[Exhibit, ...] = (
    _exhibit("harbour", "/live/harbour", "A camera, live in HLS.", "The Harbour, Now", "Rain.", "harbour/now.m3u8"),
    _exhibit("quay", "/live/quay", "A camera, live in DASH, by number.", "The Quay, Now", "Nets.", "quay/number.mpd"),
    _exhibit(
        "jetty",
        "/live/jetty",
        "A camera, live in DASH, by timeline.",
        "The Jetty, Now",
        "The ferry.",
        "jetty/timeline.mpd",
    ),
    Exhibit("radio", "/live/foghorn", "Radio: sound without an end, with titles among it.", _radio_page),
    _exhibit(
        "ending",
        "/live/last-tide",
        "A broadcast that ends after half a minute.",
        "The Last Tide",
        "Short.",
        "ending/now.m3u8",
    ),
    _exhibit(
        "fickle",
        "/live/lamp",
        "A camera that drops out and comes back with its numbers begun anew.",
        "The Lamp, Now",
        "When the wind allows.",
        "fickle/now.m3u8",
    ),
)
