"""The reading room: players that a script feeds with bytes which no address explains."""

from functools import cache

import numpy as np

from mudlark.demo.pages import Exhibit, Origins, page
from mudlark.demo.played import KEY_SYSTEM
from mudlark.demo.repacked import fragments, samples_of, section
from mudlark.demo.streamed import SECONDS, SEGMENTS, paths

_KEY = 0x5A
_ROOM = "/reading-room"
_TYPE = 'video/mp4; codecs="avc1.64001f,mp4a.40.2"'
_HEIGHT = 180

# Feeds a player from any function that gives the bytes of a part: no further than five seconds ahead.
_PLAYER = f"""const TYPE = '{_TYPE}', PARTS = {SEGMENTS}, SECONDS = {SECONDS}, AHEAD = 5, START = BEGINS;

function feed(screen, source, part) {{
  const begin = async () => {{
    const buffer = source.addSourceBuffer(TYPE);
    source.duration = PARTS * SECONDS;
    buffer.timestampOffset = -START;
    const append = (bytes) => new Promise((done) => {{
      buffer.addEventListener("updateend", done, {{once: true}});
      buffer.appendBuffer(bytes);
    }});
    const holds = (second) => {{
      for (let n = 0; n < buffer.buffered.length; n++) {{
        if (buffer.buffered.start(n) <= second + 0.1 && second + 0.1 < buffer.buffered.end(n)) return true;
      }}
      return false;
    }};
    await append(await part(0));
    for (;;) {{
      const now = screen.currentTime;
      let next = Math.floor(now / SECONDS);
      while (next < PARTS && holds(next * SECONDS + 1)) next++;
      if (next < PARTS && next * SECONDS < now + AHEAD) await append(await part(next + 1));
      else if (next >= PARTS && source.readyState === "open" && holds(1)) source.endOfStream();
      else await new Promise((again) => setTimeout(again, 40));
    }}
  }};
  if (source.readyState === "open") begin();
  else source.addEventListener("sourceopen", begin, {{once: true}});
}}
"""
_UNSCRAMBLED = """const part = async (number) => {
  const bytes = new Uint8Array(await (await fetch("/reading-room/parts/" + number)).arrayBuffer());
  return bytes.map((byte) => byte ^ KEY);
};
""".replace("KEY", str(_KEY))
_FEEDER = f"""{_UNSCRAMBLED}
const source = new MediaSource(), screen = {{currentTime: 0}};
onmessage = (told) => {{ screen.currentTime = told.data; }};
feed(screen, source, part);
postMessage(source.handle, [source.handle]);
"""


@cache
def player() -> str:
    """The script of the players. The film keeps its own time, which does not begin at 0."""
    (first, *_) = samples_of(paths(_HEIGHT), "video")
    return _PLAYER.replace("BEGINS", f"{int(first.pts.min()) / first.format.timescale:g}")


def feeder() -> str:
    """The script of the worker that feeds a player."""
    return player() + _FEEDER


@cache
def parts() -> tuple[bytes, ...]:
    """The section that describes the tracks, and the fragments of the film."""
    pictures, sounds = samples_of(paths(_HEIGHT), "video"), samples_of(paths(_HEIGHT), "audio")
    pairs = list(zip(pictures, sounds, strict=True))
    return section(pairs[0]), *(fragments(number + 1, pair) for number, pair in enumerate(pairs))


@cache
def scrambled(number: int) -> bytes:
    """A part as the reading room serves it."""
    return (np.frombuffer(parts()[number], np.uint8) ^ _KEY).tobytes()


def _room(title: str, words: str, script: str) -> str:
    return page(
        title,
        f"""<h1>{title}</h1>
<p>{words}</p>
<video id="screen" controls width="640" height="360"></video>
<script src="{_ROOM}/player.js"></script>
<script>
  const screen = document.getElementById("screen");
{script}
</script>""",
    )


_BEGIN = """  const source = new MediaSource();
  screen.src = URL.createObjectURL(source);
"""


def _scrambled(_: Origins) -> str:
    return _room(
        "Under the Reading Glass",
        "The reading room shows its films in this room only.",
        f"{_UNSCRAMBLED}{_BEGIN}  feed(screen, source, part);",
    )


def _line(_: Origins) -> str:
    return _room(
        "Down the Speaking Tube",
        "What is asked for comes through the wall.",
        f"""{_BEGIN}  const line = new WebSocket("ws://" + location.host + "{_ROOM}/line"), waiting = [];
  line.binaryType = "arraybuffer";
  line.onmessage = (told) => waiting.shift()(told.data);
  const part = (number) => new Promise((came) => {{ waiting.push(came); line.send(number); }});
  line.onopen = () => feed(screen, source, part);""",
    )


def _worker(_: Origins) -> str:
    return _room(
        "Behind the Counter",
        "Somebody else turns the crank.",
        f"""  const feeder = new Worker("{_ROOM}/feeder.js");
  feeder.onmessage = (told) => {{ screen.srcObject = told.data; }};
  setInterval(() => feeder.postMessage(screen.currentTime), 50);""",
    )


def _middle(_: Origins) -> str:
    return _room(
        "Where We Left Off",
        "The projector remembers where it stopped last time.",
        f"""{_UNSCRAMBLED}{_BEGIN}  screen.addEventListener("loadedmetadata", () => {{ screen.currentTime = 14; }});
  feed(screen, source, part);""",
    )


def _keys(_: Origins) -> str:
    return _room(
        "The Locked Case",
        "The case is locked; the key hangs behind the counter.",
        f"""{_UNSCRAMBLED}
  const settings = [{{initDataTypes: ["keyids"], videoCapabilities: [{{contentType: TYPE.replace(/,[^"]*/, "")}}]}}];
  navigator.requestMediaKeySystemAccess("{KEY_SYSTEM}", settings)
    .catch(() => navigator.requestMediaKeySystemAccess("org.w3.clearkey", settings))
    .then((system) => system.createMediaKeys()).then((keys) => screen.setMediaKeys(keys))
    .then(() => {{ {_BEGIN.strip()} feed(screen, source, part); }});""",
    )


FED: tuple[Exhibit, ...] = (
    Exhibit("reading-glass", f"{_ROOM}/glass", "A script puts scrambled pieces right, and feeds a player.", _scrambled),
    Exhibit("speaking-tube", f"{_ROOM}/tube", "A player is fed by messages over a socket.", _line),
    Exhibit("counter", f"{_ROOM}/counter", "The media source lives in a worker.", _worker),
    Exhibit("left-off", f"{_ROOM}/left-off", "A fed player that resumes in the middle.", _middle),
    Exhibit("locked-case", f"{_ROOM}/case", "A fed player with keys: refused.", _keys),
)
