"""The independent judge of what plays: a real Chromium, fed over loopback with byte ranges.

It seeks to given times and reads the frame counter back out of the pictures, and plays the film through, at four times
its speed, to hear when the beeps come. One browser serves all tests of a process.
"""

import asyncio
import atexit
import base64
import http.server
import io
import os
import re
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from typing import Any

from PIL import Image
from playwright.async_api import Browser, Playwright, async_playwright

from mudlark.demo.pictures import read_counter
from tests.conftest import serving

CHROMIUM = "/usr/bin/chromium"
_FLAGS = ["--disable-background-networking", "--disable-component-update", "--disable-sync", "--no-first-run"]
_FLAGS += ["--autoplay-policy=no-user-gesture-required"]
_LONGEST = 140  # seconds
_FRAME = 0.05  # seconds: a picture shown for a time began no longer before it (they come at 25 a second)

# The picture that is drawn is the one that has arrived for this very seek, however long that takes: on a busy machine
# the browser may say that it has sought while it still shows an earlier one. It does not tell of every picture, either,
# so it is asked once more for one that it has not told of.
_SEEK = """async ([time, frame]) => {
  const video = document.querySelector('video');
  await new Promise(done => { video.onseeked = done; video.currentTime = time; });
  const arrived = () => window.shown <= time + 0.001 && time - window.shown < frame;
  const again = setInterval(() => { video.currentTime = time; }, 10000);
  while (!arrived()) await new Promise(done => setTimeout(done, 10));
  clearInterval(again);
  const canvas = document.createElement('canvas');
  canvas.width = video.videoWidth; canvas.height = video.videoHeight;
  canvas.getContext('2d').drawImage(video, 0, 0);
  return canvas.toDataURL('image/png').split(',')[1];
}"""

# A beep is where it gets loud after fifty quiet thousandths of a second. It is noticed where the sound is rendered, by
# the sound's own clock, however busy the page is; the film's time belongs to it by pairs of both clocks read at once.
_EAR = """
registerProcessor('ear', class extends AudioWorkletProcessor {
  quiet = 0;
  process([[wave]]) {
    let first = -1;
    for (let at = 0; wave && first < 0 && at < wave.length; at++) if (Math.abs(wave[at]) > 0.2) first = at;
    if (first < 0) this.quiet += 128;
    else {
      if (this.quiet > sampleRate / 20) this.port.postMessage((currentFrame + first) / sampleRate);
      this.quiet = 0;
    }
    return true;
  }
});
"""
# It is played at four times its speed, and where the two clocks did not run evenly, as on a busy machine, up to twice
# more at its own: what is heard between two looks at the clocks is only as exact as these are.
_LISTEN = """async ear => {
  const video = document.querySelector('video');
  const audio = new AudioContext();
  await audio.audioWorklet.addModule(URL.createObjectURL(new Blob([ear], {type: 'text/javascript'})));
  const listener = new AudioWorkletNode(audio, 'ear', {numberOfOutputs: 0});
  audio.createMediaElementSource(video).connect(listener);
  const listen = async rate => {
    const beeps = [], clocks = [];
    listener.port.onmessage = message => beeps.push(message.data);
    video.currentTime = 0;
    [video.preservesPitch, video.playbackRate] = [rate === 1, rate];
    const look = () => clocks.push([audio.currentTime, video.currentTime]);
    const timer = setInterval(look, 20);
    await video.play();
    await new Promise((done, fail) => { video.onended = done; video.onerror = () => fail(video.error.message); });
    look();
    clearInterval(timer);
    await new Promise(done => setTimeout(done, 100));
    const steps = clocks.slice(2, -1).map(([sound, time], at) => [sound - clocks[at + 1][0], time - clocks[at + 1][1]]);
    const uneven = Math.max(...steps.filter(([, time]) => time).map(([sound, time]) => Math.abs(time - rate * sound)));
    const heard = beeps.map(beep => {
      const after = clocks.findIndex(([sound]) => sound >= beep);
      if (after < 1) return clocks.at(after)[1];
      const [[from, begin], [to, end]] = [clocks[after - 1], clocks[after]];
      return begin + (end - begin) * (beep - from) / (to - from);
    });
    const apart = (time, turn) => turn === 0 || time - heard[turn - 1] > 0.5;  // a beep that falters is one beep
    return {uneven, heard: heard.filter(apart).map(time => Math.max(0, time)), ended: video.currentTime};
  };
  let best = null;
  for (const rate of [4, 1, 1]) {
    const played = await listen(rate);
    if (best === null || played.uneven < best.uneven) best = played;
    if (best.uneven < 0.15) break;
  }
  return best;
}"""

_LOAD = """() => new Promise((done, fail) => {
  const video = document.createElement('video');
  video.src = 'film'; video.preload = 'auto'; video.muted = false;
  const note = (_, facts) => { window.shown = facts.mediaTime; video.requestVideoFrameCallback(note); };
  video.requestVideoFrameCallback(note);
  video.onerror = () => fail(video.error.message);
  video.oncanplaythrough = () => done({duration: video.duration, width: video.videoWidth, height: video.videoHeight});
  document.body.append(video);
})"""


@dataclass
class Seen:
    """What the browser made of a file. counters: frame number read at each asked time. heard: seconds of beeps."""

    duration: float
    width: int
    height: int
    counters: list[int | None]
    heard: list[float]
    ended: float


class _Thread:
    """A browser in an event loop of its own, so that tests may have theirs."""

    def __init__(self) -> None:
        self.loop = asyncio.new_event_loop()
        threading.Thread(target=self.loop.run_forever, name="judge", daemon=True).start()
        self.playwright, self.browser = self.run(self._start())
        atexit.register(self._stop)

    def run(self, work: Any) -> Any:
        running = asyncio.run_coroutine_threadsafe(work, self.loop)
        try:
            return running.result(_LONGEST)
        except TimeoutError:
            running.cancel()
            raise

    async def _start(self) -> tuple[Playwright, Browser]:
        playwright = await async_playwright().start()
        flags = [*_FLAGS, *(["--no-sandbox"] if os.geteuid() == 0 else [])]
        return playwright, await playwright.chromium.launch(executable_path=CHROMIUM, args=flags)

    def _stop(self) -> None:
        with suppress(Exception):
            self.run(self.browser.close())
            self.run(self.playwright.stop())


@cache
def _judge() -> _Thread:
    return _Thread()


def watch(path: Path, times: list[float], *, listen: bool = True) -> Seen:
    """Play `path` in Chromium; raises if it reports a media error."""
    judge, seen = _judge(), list[Seen]()
    with _served(path) as address:
        with suppress(TimeoutError):  # a browser that stalls once is no judgement
            seen.append(judge.run(_watch(judge.browser, address, times, listen)))
        return seen[0] if seen else judge.run(_watch(judge.browser, address, times, listen))


async def _watch(browser: Browser, address: str, times: list[float], listen: bool) -> Seen:
    page = await browser.new_page()
    try:
        await page.goto(address)
        facts = await page.evaluate(_LOAD)
        counters = []
        for time in times:
            picture = base64.b64decode(await page.evaluate(_SEEK, [time, _FRAME]))
            counters.append(read_counter(Image.open(io.BytesIO(picture))))
        played: dict[str, Any] = await page.evaluate(_LISTEN, _EAR) if listen else {"heard": [], "ended": 0.0}
    finally:
        await page.close()
    return Seen(facts["duration"], facts["width"], facts["height"], counters, played["heard"], played["ended"])


@contextmanager
def _served(path: Path) -> Iterator[str]:
    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            if self.path != "/film":
                self._answer(200, b"<!doctype html><title>judge</title><body>", "text/html")
                return
            size = path.stat().st_size
            asked = re.fullmatch(r"bytes=(\d+)-(\d*)", self.headers.get("Range", ""))
            first = int(asked[1]) if asked else 0
            last = min(int(asked[2]) if asked and asked[2] else size - 1, size - 1)
            with path.open("rb") as file:
                file.seek(first)
                body = file.read(last - first + 1)
            self._answer(206 if asked else 200, body, "video/mp4", f"bytes {first}-{last}/{size}")

        def _answer(self, status: int, body: bytes, kind: str, span: str = "") -> None:
            self.send_response(status)
            self.send_header("Content-Type", kind)
            self.send_header("Content-Length", str(len(body)))
            self.send_header("Accept-Ranges", "bytes")
            if status == 206:
                self.send_header("Content-Range", span)
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, *_: object) -> None:
            pass

        def handle(self) -> None:
            with suppress(BrokenPipeError, ConnectionResetError):
                super().handle()

    with serving(Handler) as server:
        yield f"{server}/"
