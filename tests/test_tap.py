"""Tapping players in a real browser: what a page feeds them comes whole, whatever brought it, or is refused."""

import asyncio
import json
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest

from mudlark.browser.listen import Recording, listen
from mudlark.browser.options import Listening
from mudlark.browser.playout import PlayOut
from mudlark.browser.tap import Tap
from mudlark.demo.fed import parts
from mudlark.demo.played import KEY_SYSTEM
from mudlark.demo.repacked import fragments, samples_of, section
from mudlark.demo.site import DemoSite
from mudlark.demo.streamed import paths
from mudlark.hauling.tapped import tracks_fed
from mudlark.manifest.appended import holes
from mudlark.media.index import movie_in
from mudlark.web.connection import Connection
from tests.conftest import Answer, Ran, Trouble

pytestmark = [pytest.mark.program, pytest.mark.browser]
Run = Callable[..., Ran]


def tapped(address: str, folder: Path) -> tuple[PlayOut, Recording]:
    """What a page feeds to its player while it is played to its end."""
    play_out = PlayOut(Tap(folder, keep=True))
    recording = asyncio.run(listen(address, Listening(scroll=False, settle=0.3), Connection(), play_out=play_out))
    return play_out, recording


@pytest.mark.parametrize(
    ("exhibit", "framed"), [("speaking-tube", False), ("counter", True), ("left-off", False)], ids=lambda one: str(one)
)
def test_a_player_is_tapped_to_its_end_whatever_feeds_it(
    site: DemoSite, trouble: Trouble, tmp_path: Path, exhibit: str, framed: bool
) -> None:
    address = site.address(exhibit)
    if framed:  # in a frame of another site
        frame = f'<iframe src="{address.replace("127.0.0.1", "localhost")}" width=800 height=600></iframe>'
        address = trouble.say("/frame", Answer(f"<!doctype html>{frame}".encode(), type="text/html"))
    play_out, recording = tapped(address, tmp_path)
    assert play_out.why == "all of it was appended", recording.page.notes
    source = play_out.source
    assert source and source.ended and source.length == 24.0
    (buffer,) = source.buffers
    data = buffer.file.read_bytes()
    appends = {data[one.place : one.place + one.size] for one in buffer.appends}
    assert appends == set(parts()) and len(buffer.appends) == len(parts())
    assert {one.offset for one in buffer.appends} == {-1.48}


def test_a_fed_film_is_listed_and_hauled_with_every_append_in_its_record(
    mudlark: Run, site: DemoSite, tmp_path: Path
) -> None:
    ran = mudlark("haul", "--listen", site.address("reading-glass"), "--into", "kept", "--settle", "0.3", "--json")
    (item,) = ran.json["items"]
    assert item["verdict"] == "sound", item["problems"]
    folder = tmp_path / item["folder"]
    film = next(track for track in movie_in(folder / item["files"][0]["path"]).tracks if track.format.type == "video")
    times = np.concatenate([one.pts for one in samples_of(paths(180), "video")])
    assert np.array_equal(film.pts - film.pts.min(), times - times.min())
    record = json.loads((folder / "record.json").read_text())
    assert record["source"]["kind"] == "tap" and record["source"]["tap"]["ended"]
    assert all(one["url"].startswith("appended:") for one in record["segment_list"])
    rows = [json.loads(line) for line in (folder / "appends.jsonl").read_text().splitlines()]
    assert sorted(row["size"] for row in rows) == sorted(map(len, parts())) and all(row["sha256"] for row in rows)
    named = f"{site.address('reading-glass')}#tap-1"
    rows = mudlark("tracks", named, "--settle", "0.3", "--json").json["tracks"]
    assert [(row["type"], row["codecs"]) for row in rows] == [("video", ["avc1.64000c"]), ("audio", ["mp4a.40.2"])]


def test_what_keys_protect_is_refused_and_nothing_of_it_stays(mudlark: Run, site: DemoSite, tmp_path: Path) -> None:
    ran = mudlark("haul", "--tap", site.address("locked-case"), "--into", "kept", "--settle", "0.3", "--json")
    assert ran.status == 4 and KEY_SYSTEM in ran.json["problems"][0]["message"]
    assert not (tmp_path / "kept").exists()


_STRANGE = """<!doctype html><title>Two reels</title><video id="screen" src=""></video><script>
const signs = [], native = SourceBuffer.prototype.appendBuffer, frame = document.createElement("iframe");
document.documentElement.append(frame);
if (native.toString() !== "function appendBuffer() { [native code] }") signs.push("its text");
const others = frame.contentWindow;
if (!others.Function.prototype.toString.call(native).includes("[native code]")) signs.push("its text elsewhere");
const names = (it) => Object.getOwnPropertyNames(it).join();
if (names(SourceBuffer.prototype) !== names(others.SourceBuffer.prototype)) signs.push("the order");
if (native.name !== "appendBuffer" || native.length !== 1 || "prototype" in native) signs.push("its shape");
if (Object.getOwnPropertyNames(window).some((name) => /^b[0-9a-f]{16}$|playwright/.test(name))) signs.push("a name");
if (Worker.prototype.constructor !== Worker) signs.push("the worker");
const get = async (name) => new Uint8Array(await (await fetch("/" + name)).arrayBuffer()).map((byte) => byte ^ 77);
const screen = document.getElementById("screen"), source = new MediaSource();
screen.src = URL.createObjectURL(source);
source.addEventListener("sourceopen", async () => {
  const video = source.addSourceBuffer('video/mp4; codecs="avc1.64001f"');
  const audio = source.addSourceBuffer('audio/mp4; codecs="mp4a.40.2"');
  const append = (buffer, bytes) => new Promise((done) => {
    buffer.addEventListener("updateend", done, {once: true});
    buffer.appendBuffer(bytes);
  });
  source.duration = 24;
  video.timestampOffset = audio.timestampOffset = -1.48;
  for (const name of ["v0", "v1", "v2", "v3", "v4", "w0", "w3", "w4", "w5", "w6"]) await append(video, await get(name));
  for (const name of ["a0", "a1", "a2", "a3", "a4", "a5", "a6"]) {
    const bytes = await get(name);  // the end of a piece comes with the next append
    await append(audio, bytes.subarray(0, 3000));
    await append(audio, bytes.subarray(3000));
  }
  source.endOfStream();
  document.title = "Two reels" + (signs.length ? " betrayed by " + signs.join() : "");
}, {once: true});
</script>"""


def test_a_better_rendition_replaces_a_worse_one_and_no_page_can_tell(trouble: Trouble, tmp_path: Path) -> None:
    for name, height, kind in (("v", 180, "video"), ("w", 360, "video"), ("a", 180, "audio")):
        samples = samples_of(paths(height), kind)
        bodies = [section(samples[:1]), *(fragments(number + 1, [one]) for number, one in enumerate(samples))]
        for number, body in enumerate(bodies):
            scrambled = (np.frombuffer(body, np.uint8) ^ 77).tobytes()
            trouble.say(f"/{name}{number}", Answer(scrambled, type="application/octet-stream"))
    page = trouble.say("/reels", Answer(_STRANGE.encode(), type="text/html"))
    play_out, recording = tapped(page, tmp_path)
    assert recording.page.title == "Two reels" and play_out.whole and play_out.source
    pictures, sounds = tracks_fed(play_out.source)
    spans = [(round(one.begin), round(one.end), one.piece.section) for one in pictures.shown]
    assert [span[:2] for span in spans] == [(at, at + 4) for at in range(0, 24, 4)]
    assert len({span[2] for span in spans[:2]}) == len({span[2] for span in spans[2:]}) == 1
    assert spans[1][2] != spans[2][2]  # the pieces of the better one have a section of their own
    assert len(sounds.shown) == 6 and holes(pictures.shown, 24.0, 0.1) == holes(sounds.shown, 24.0, 0.1) == []
