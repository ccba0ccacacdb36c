"""A real browser plays a file: it starts, seeks show the right place, a fast run reaches the end; and what its decoders
make of the samples is measured.

What the browser has no decoder for is said to be not played, and never counts as passed. In the short form only
stretches of a long film are decoded, from its beginning to its end; in the full one all of it.
"""

import asyncio
import base64
import time
from importlib.resources import files
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import msgspec
import numpy as np
from PIL import Image

from mudlark.browser.driver import opened
from mudlark.media.codecs import codec_of
from mudlark.media.forms import FORMS
from mudlark.media.movie import TrackIndex
from mudlark.media.samples import Format
from mudlark.playing.measure import Measured, measure_pictures, measure_sound
from mudlark.playing.stage import Stage
from mudlark.verify.media import Checked
from mudlark.web.connection import Connection

if TYPE_CHECKING:
    from playwright.async_api import Page

Manner = Literal["some", "full"]
SEEKS = 9
_STRETCHES = 8  # of a long film that are decoded in the short form
_STRETCH = 4.0  # seconds of each, or as long as one picture that can be decoded alone leads
_SHORT = 60.0  # seconds: a film that lasts no longer is decoded whole
_RUN = 20.0  # seconds that the run to the end may take in the short form
_FASTEST = 16
_PART = 24 << 20  # bytes of samples that are sent at once
_SMALL = (64, 36)  # pixels of what is measured
_EVERY = 0.2  # seconds between pictures that are measured
_LARGEST_SOUND = 150_000_000  # bytes of a file of sound that is decoded at once
_SEEKING = 8.0  # seconds
_NEAR = 0.05  # seconds by which the clocks of file and player may differ
_FEW_SILENT = 2  # samples of a stretch of which nothing may come without an error
_PLAIN_OPUS = 2  # channels, up to which a decoder needs to know no more
_ANSWERING = 60.0  # seconds that the browser may take for a question beside what that itself takes
_SLOWEST = 100_000  # bytes a second that decoding takes in at least, on the busiest machine
_STUCK = "the decoder answers no more"  # as the page says it
_DECODERS = {"mp4a.6B": "mp3", "mp4a.69": "mp3", "fLaC": "flac", "Opus": "opus"}
PLAYABLE = frozenset(name for name, form in FORMS.items() if form.player_type)


class Sought(msgspec.Struct, frozen=True):
    """A place that was gone to: the second, and the picture that stands there (JPEG)."""

    second: float
    picture: bytes


class Played(msgspec.Struct):
    """What came of it. unplayed: what the browser has no decoder for, in words. problems: code, words and second of
    what went wrong. started, ended: it did. sought: places that were shown. pictures, sounds: samples decoded; bad:
    samples that were not. shown, dropped: pictures while it ran. full: all was to be decoded; whole: it was.
    seconds: that it took.
    """

    full: bool
    unplayed: list[str] = msgspec.field(default_factory=list)
    problems: list[tuple[str, str, float | None]] = msgspec.field(default_factory=list)
    started: bool = False
    ended: bool = False
    sought: list[Sought] = msgspec.field(default_factory=list)
    pictures: int = 0
    sounds: int = 0
    bad: int = 0
    shown: int = 0
    dropped: int = 0
    measured: Measured = msgspec.field(default_factory=Measured)
    seconds: float = 0.0
    width: int = 0
    whole: bool = True


async def play(path: Path, checked: Checked, manner: Manner = "some", browser: Path | None = None) -> Played:
    """Play a file. checked: what verification found in it. Raises UsageError where there is no browser."""
    begun = time.monotonic()
    played = Played(full=manner == "full")
    if checked.form not in PLAYABLE:
        played.unplayed.append(f"a file of {checked.form}")
        return played
    stage = Stage(path)
    async with stage.served() as address, opened(Connection(), browser) as context:
        from playwright.async_api import Error  # there is a browser, so it is there

        page = await context.new_page()
        await page.goto(address)
        script = (files("mudlark.playing") / "play.js").read_text(encoding="utf-8")

        async def ask(task: str, limit: float = _ANSWERING, **given: Any) -> Any:
            try:
                return await asyncio.wait_for(page.evaluate(f"(both) => ({script})(both)", [task, given]), limit)
            except TimeoutError:
                raise _NoAnswer(f"The browser does not answer any more ({task}, after {limit:.0f} s)") from None
            except Error as problem:  # its page has ended, as pages do that a file brings down
                raise _NoAnswer(f"The browser does not get through it ({str(problem).splitlines()[0]})") from None

        work = _Play(page, ask, stage, checked, played)
        try:
            await work.run()
        except _NoAnswer as problem:  # it is ended with all that it still does
            played.whole = False
            played.problems.append(("no-answer", str(problem), None))
    played.seconds = round(time.monotonic() - begun, 1)
    return played


class _NoAnswer(Exception):
    """A question to the browser took longer than any answer may."""


class _Play:
    """One file on one page."""

    def __init__(self, page: "Page", ask: Any, stage: Stage, checked: Checked, played: Played) -> None:
        self.page, self.ask, self.stage, self.checked, self.played = page, ask, stage, checked, played
        self.movie = checked.movie

    async def run(self) -> None:
        opened = await self.ask("open", types=[self._type()])
        error = opened["error"]
        if opened["ready"] < 1:
            if error and error["code"] == 4 and not self._should_play(opened["possible"][0]):
                self.played.unplayed.append(self._what())
            else:
                words = error["words"] if error else "nothing came of it in time"
                self.played.problems.append(("not-played", f"The browser cannot play it: {words}", None))
        else:
            self.played.width = opened["width"]
            await self._through(opened["duration"] or self._length())
        if self.movie:
            for track in self.movie.tracks:
                if len(track.sizes) and track.format.type in ("video", "audio"):
                    await self._decode(track)
        elif opened["ready"] >= 1 and self.stage.path.stat().st_size <= _LARGEST_SOUND:
            await self._decode_file()

    def _length(self) -> float:
        """Seconds, where the file itself states none."""
        return (self.movie.end if self.movie else None) or self.checked.length or 0.0

    def _type(self) -> str:
        if self.movie is None:
            return FORMS[self.checked.form].player_type
        video = any(track.format.type == "video" for track in self.movie.tracks)
        kind = "webm" if self.checked.form == "matroska" else "mp4"
        codecs = ",".join(track.format.codec for track in self.movie.tracks if track.format.type != "text")
        return f'{"video" if video else "audio"}/{kind}; codecs="{codecs}"'

    def _should_play(self, possible: str) -> bool:
        """True if the browser said that it can play such a file."""
        return possible == "probably" and self.checked.form != "matroska"

    def _what(self) -> str:
        if self.movie is None:
            return f"{self.checked.form.upper()}"
        names = " and ".join(dict.fromkeys(_named(track.format.codec) for track in self.movie.tracks))
        return f"{names} in {'Matroska' if self.checked.form == 'matroska' else 'MP4'}"

    async def _through(self, length: float) -> None:
        """Start, seek, and run to the end."""
        played = self.played
        first = await self._run(0.0, min(0.4, length), 1, 8.0)
        played.started = first["at"] > 0 or first["ended"]
        if not played.started:
            played.problems.append(("not-played", f"It does not start: {_words(first)}", 0.0))
            return
        frame, before = self._frame(), len(played.problems)
        for number in range(SEEKS):
            if not await self._seek(length * (number + 0.5) / SEEKS, frame):
                break
        if self.checked.form == "flac" and len(played.problems) > before:
            del played.problems[before:]  # a browser finds no places in short ones, and plays them
            await self.ask("open", types=[self._type()])
        quick = length / _FASTEST <= _RUN or played.full
        begin = 0.0 if quick else max(0.0, length - _RUN * _FASTEST / 2)
        seconds = max(_RUN, 2 * length / _FASTEST if played.full else 0.0) + 10
        last = await self._run(begin, length + 60, _FASTEST, seconds)
        played.shown, played.dropped = last["shown"], last["dropped"]
        played.ended = last["ended"]
        if last["error"]:
            words = f"The browser stops at {last['at']:.1f} s: {last['error']['words']}"
            played.problems.append(("undecodable", words, last["at"]))
        elif not last["ended"]:
            words = f"The run to the end stops at {last['at']:.1f} of {length:.1f} s"
            played.problems.append(("no-end", words, last["at"]))

    async def _run(self, begin: float, until: float, rate: float, seconds: float) -> dict[str, Any]:
        limit = 2 * seconds + _ANSWERING
        ran: dict[str, Any] = await self.ask("run", limit, **{"from": begin}, until=until, rate=rate, seconds=seconds)
        return ran

    async def _seek(self, second: float, frame: float) -> bool:
        """Go to a place; False if the player has stopped, and there is no use in trying others."""
        frame = max(frame, self._still(second))
        found = await self.ask("seek", to=second, frame=frame, seconds=_SEEKING)
        video = self.played.width > 0
        at = found["shown"] if video else found["at"]
        if found["error"]:
            words = f"Going to {second:.1f} s fails: {found['error']['words']}"
            self.played.problems.append(("undecodable", words, second))
        elif not found["sought"] or at is None or not -frame <= second - at <= frame:
            where = "nothing" if at is None else f"{at:.2f} s"
            self.played.problems.append(("wrong-place", f"Going to {second:.2f} s shows {where}", second))
        if found["picture"]:
            self.played.sought.append(Sought(second, base64.b64decode(found["picture"])))
        return found["sought"] and not found["error"]

    def _video(self) -> TrackIndex | None:
        tracks = self.movie.tracks if self.movie else []
        return next((track for track in tracks if track.format.type == "video" and len(track.sizes)), None)

    def _frame(self) -> float:
        """Seconds by which a picture may stand before the time that was asked for."""
        if (video := self._video()) is None:
            return 0.5
        return float(video.durations.max()) / video.format.timescale * 1.5 + _NEAR

    def _still(self, second: float) -> float:
        """Seconds since the last of all pictures, which stands until the end; 0 before it."""
        if (video := self._video()) is None:
            return 0.0
        last = float(video.pts.max() - video.pts.min()) / video.format.timescale + video.presented()[0]
        return second - last + _NEAR if second > last else 0.0

    async def _decode(self, track: TrackIndex) -> None:
        """Have samples decoded, and measure what comes of them."""
        form = track.format
        given = decoder_of(form)
        if not await self.ask("canDecode", **given):
            self.played.unplayed.append(_named(form.codec))
            return
        pictures, greys, sounds = [], [], []
        parts = stretches(track, full=self.played.full)
        self.played.whole &= sum(last - first for first, last in parts) == len(track.sizes)
        for first, last in parts:
            task = "pictures" if form.type == "video" else "sounds"
            address = self.stage.part(track, first, last)
            came = await self.ask(
                task,
                _time_for(int(track.sizes[first:last].sum())),
                **given,
                address=address,
                small=_SMALL,
                every=_EVERY,
            )
            silent = last - first - came["decoded"]  # one may hold nothing to show: the end of a sequence, a filler
            self.played.bad += silent if came["errors"] or silent > _FEW_SILENT else 0
            for second, words in came["errors"]:
                at = second or 0.0
                text = f"The {'picture' if task == 'pictures' else 'sound'} cannot be decoded at {at:.1f} s: {words}"
                self.played.problems.append(("undecodable", text, at))
            if any(words == _STUCK for _, words in came["errors"]):
                raise _NoAnswer(f"The browser does not answer any more ({task})")
            if task == "pictures":
                self.played.pictures += came["decoded"]
                data = np.frombuffer(base64.b64decode(came["greys"]), np.uint8)
                pictures.append(np.array(came["times"], np.float64))
                greys.append(data.reshape(-1, _SMALL[1], _SMALL[0]))
            else:
                self.played.sounds += came["decoded"]
                sounds.append(np.array(came["frames"], np.float64).reshape(-1, 5))
        if pictures:
            usual = float(np.median(track.durations)) / form.timescale if len(track.durations) else _EVERY
            measure_pictures(np.concatenate(pictures), np.concatenate(greys), max(_EVERY, usual), self.played.measured)
        if sounds and not self.played.measured.heard:
            measure_sound(np.concatenate(sounds), self.played.measured)

    async def _decode_file(self) -> None:
        came = await self.ask("wave", _time_for(self.stage.path.stat().st_size // 4))
        if came.get("error"):
            self.played.problems.append(("undecodable", f"The sound cannot be decoded: {came['error']}", None))
            return
        self.played.sounds = len(came["frames"])
        measure_sound(np.array(came["frames"], np.float64).reshape(-1, 5), self.played.measured)


def _time_for(size: int) -> float:
    """Seconds that so many bytes may take to decode."""
    return _ANSWERING + size / _SLOWEST


def decoder_of(form: Format) -> dict[str, Any]:
    """What the browser's decoder must know of a track before its first sample."""
    description = form.config if form.codec[:4] in ("avc1", "avc3", "hvc1", "hev1", "mp4a", "vorb") else b""
    if form.type == "video":
        codec = "vp8" if form.codec == "vp08" else form.codec
        config: dict[str, Any] = {"codec": codec, "codedWidth": form.width, "codedHeight": form.height}
    else:
        codec = _DECODERS.get(form.codec, form.codec)
        config = {"codec": codec, "sampleRate": form.sample_rate or form.timescale}
        config["numberOfChannels"] = max(1, form.channels)
        if codec == "flac":
            description = b"fLaC" + form.config[4:] if form.config[:4] != b"fLaC" else form.config
        if codec == "opus" and form.channels > _PLAIN_OPUS and (row := codec_of(codec)):
            description = row.private.write(form)  # which channel is which, as Ogg has it (RFC 7845 §5.1)
        if codec == "mp3":
            description = b""
    return {"type": form.type, "config": config, "description": base64.b64encode(description).decode() or None}


def _named(codec: str) -> str:
    known = codec_of(codec)
    return known.words if known else codec


def _words(ran: dict[str, Any]) -> str:
    return ran["error"]["words"] if ran["error"] else "no picture and no sound comes"


def stretches(track: TrackIndex, *, full: bool) -> list[tuple[int, int]]:
    """Which samples are decoded, first and one behind the last: each stretch begins where decoding may start."""
    count = len(track.sizes)
    times = track.dts / track.format.timescale
    length = float(times[-1] - times[0]) if count else 0.0
    if full or length <= _SHORT:
        found = [(0, count)]
    else:
        alone = np.flatnonzero(track.sync)
        alone = alone if len(alone) else np.zeros(1, np.int64)
        found = []
        for number in range(_STRETCHES):
            begin = times[0] + (length - _STRETCH) * number / (_STRETCHES - 1)
            first = int(alone[max(0, int(np.searchsorted(times[alone], begin, "right")) - 1)])
            last = count if number == _STRETCHES - 1 else int(np.searchsorted(times, begin + _STRETCH))
            first = max(first, found[-1][1] if found else 0)
            if last > first:
                found.append((first, last))
    return [part for first, last in found for part in _cut(track, first, last)]


def _cut(track: TrackIndex, first: int, last: int) -> list[tuple[int, int]]:
    """A stretch in parts of so many bytes, each of which begins where decoding may start."""
    alone = np.flatnonzero(track.sync[first:last])
    before = np.append(0, np.cumsum(track.sizes[first:last]))[alone]
    parts, begin, sent = [], first, 0
    while (following := int(np.searchsorted(before, sent + _PART, "right"))) < len(alone):
        end = first + int(alone[following])
        parts.append((begin, end))
        begin, sent = end, int(before[following])
    return [*parts, (begin, last)]


def pictures_of(played: Played) -> list[tuple[float, Image.Image]]:
    """The pictures that were sought, with their seconds."""
    return [(one.second, Image.open(BytesIO(one.picture)).convert("RGB")) for one in played.sought]
