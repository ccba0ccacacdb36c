"""Recordings that a browser makes of a page (MediaRecorder): a canvas that counts and an oscillator, also paused.

    python tools/make_recordings.py tests/recorded

They are media of another maker for the tests: Chromium's own writers of WebM and MP4. They are made anew only on
purpose, as each browser writes them in its own way, and no two recordings are the same bytes.
"""

import asyncio
import base64
import sys
from pathlib import Path

from playwright.async_api import async_playwright

from mudlark.browser.driver import find_browser

# name: type for MediaRecorder, milliseconds between its blobs (0: one at the end), whether it pauses, tracks
_WANTED = {
    "vp8-opus.webm": ("video/webm;codecs=vp8,opus", 0, False, "both"),
    "vp9-opus-slices.webm": ("video/webm;codecs=vp9,opus", 300, False, "both"),
    "vp9-paused.webm": ("video/webm;codecs=vp9,opus", 0, True, "both"),
    "av1.webm": ("video/webm;codecs=av01,opus", 0, False, "both"),
    "opus.webm": ("audio/webm;codecs=opus", 0, False, "sound"),
    "h264-silent.webm": ("video/x-matroska;codecs=avc1", 0, False, "picture"),
    "vp9-opus.mp4": ("video/mp4;codecs=vp9,opus", 0, False, "both"),
    "h264-aac.mp4": ("video/mp4;codecs=avc1.42E01E,mp4a.40.2", 0, False, "both"),
    "h264-opus-slices.mp4": ("video/mp4;codecs=avc1.42E01E,opus", 300, False, "both"),
    "av1-paused.mp4": ("video/mp4;codecs=av01.0.00M.08,opus", 0, True, "both"),
    "opus.mp4": ("audio/mp4;codecs=opus", 0, False, "sound"),
}
_RECORD = """async ([type, slice, pauses, which]) => {
  if (!MediaRecorder.isTypeSupported(type)) return null;
  const canvas = document.createElement("canvas");
  canvas.width = 160; canvas.height = 90;
  const paint = canvas.getContext("2d");
  let count = 0;
  const draw = () => {
    paint.fillStyle = `hsl(${count * 7 % 360}, 60%, 40%)`; paint.fillRect(0, 0, 160, 90);
    paint.fillStyle = "white"; paint.font = "48px sans-serif"; paint.fillText(String(count++), 20, 60);
  };
  draw();
  const ticking = setInterval(draw, 40);
  const audio = new AudioContext(), tone = audio.createOscillator(), out = audio.createMediaStreamDestination();
  tone.frequency.value = 440; tone.connect(out); tone.start();
  const tracks = [];
  if (which !== "sound") tracks.push(...canvas.captureStream(25).getTracks());
  if (which !== "picture") tracks.push(...out.stream.getTracks());
  const recorder = new MediaRecorder(new MediaStream(tracks), {mimeType: type, videoBitsPerSecond: 150000,
    audioBitsPerSecond: 32000});
  const parts = [];
  recorder.ondataavailable = (event) => parts.push(event.data);
  const stopped = new Promise((done) => { recorder.onstop = done; });
  const wait = (ms) => new Promise((done) => setTimeout(done, ms));
  if (slice) recorder.start(slice); else recorder.start();
  await wait(900);
  if (pauses) { recorder.pause(); await wait(700); recorder.resume(); }
  await wait(1100);
  recorder.stop();
  await stopped;
  clearInterval(ticking);
  const bytes = new Uint8Array(await new Blob(parts).arrayBuffer());
  let text = "";
  for (let at = 0; at < bytes.length; at += 8192) text += String.fromCharCode(...bytes.subarray(at, at + 8192));
  return btoa(text);
}"""


async def main(folder: Path) -> None:
    async with async_playwright() as driver:
        flags = ["--no-sandbox", "--autoplay-policy=no-user-gesture-required"]
        browser = await driver.chromium.launch(executable_path=find_browser(), args=flags)
        page = await browser.new_page()
        await page.goto("about:blank")
        origin = f"Recorded by MediaRecorder of Chromium {browser.version} with tools/make_recordings.py:\n\n"
        for name, wanted in _WANTED.items():
            recorded = await page.evaluate(_RECORD, list(wanted))
            if recorded is None:
                print(f"{name}: {wanted[0]} is not recorded by this browser")
                continue
            (folder / name).write_bytes(base64.b64decode(recorded))
            print(f"{name}: {(folder / name).stat().st_size:,} bytes")
            origin += f"- `{name}`: `{wanted[0]}`{', paused for 0.7 s' if wanted[2] else ''}\n"
        await browser.close()
    (folder / "README.md").write_text(origin, encoding="utf-8")


if __name__ == "__main__":
    asyncio.run(main(Path(sys.argv[1])))
