"""Streams as the rest of the web has them, each an exhibit: keys, languages, fragments, ranges, splices, packed sound.

What is served is made of the museum's own media when it is first asked for.
"""

from collections.abc import Callable, Sequence
from functools import cache
from importlib.resources import files
from pathlib import Path

import numpy as np

from mudlark.demo.pages import Exhibit, Origins, page
from mudlark.demo.repacked import encrypted, fragments, packed, samples_of, section
from mudlark.media.samples import Samples
from mudlark.media.sound.adts import ADTS, audio_format
from mudlark.media.sound.framed import frames

MEDIA = Path(str(files("mudlark.demo") / "media"))
SEGMENTS, SECONDS = 6, 4
START = 126_000 + 2 * 3_600  # ticks of 90 kHz at which the tide mill's first picture is shown
_DELAY = 1_600  # samples by which the encoder of the sound lags
_CODECS = "avc1.64001f,mp4a.40.2"
KEYS = tuple(bytes([0x5A, number]) + b"tidewrack-key!" for number in range(3))
_EVERY = 2  # segments under one key
WORDS = (
    ("The sluice opens.", "Mae'r llifddor yn agor."),
    ("The wheel turns.", "Mae'r olwyn yn troi."),
    ("Grain goes in.", "Mae'r grawn yn mynd i mewn."),
    ("Flour comes out.", "Daw blawd allan."),
    ("The tide falls.", "Mae'r llanw'n disgyn."),
    ("The mill rests.", "Mae'r felin yn gorffwys."),
)


def paths(height: int) -> tuple[Path, ...]:
    return tuple(MEDIA / "tide-mill" / f"{height}p" / f"part-{number:03d}.ts" for number in range(SEGMENTS))


def _list(names: Sequence[str], *head: str, before: Callable[[int], list[str]] = lambda _: []) -> bytes:
    """A media playlist of segments of four seconds."""
    lines = ["#EXTM3U", "#EXT-X-VERSION:7", f"#EXT-X-TARGETDURATION:{SECONDS}", *head]
    for number, name in enumerate(names):
        lines += [*before(number), f"#EXTINF:{SECONDS:.3f},", name]
    return ("\n".join([*lines, "#EXT-X-ENDLIST"]) + "\n").encode()


def _names(extension: str, count: int = SEGMENTS) -> list[str]:
    return [f"part-{number}.{extension}" for number in range(count)]


def _number(name: str) -> int:
    return int(name.partition("-")[2].partition(".")[0])


@cache
def welsh() -> tuple[Samples, ...]:
    """The second language's sound, cut where the film's segments are."""
    stream = np.frombuffer((MEDIA / "tide-mill" / "cy.aac").read_bytes(), np.uint8)
    layout = frames(stream, ADTS)
    format = audio_format(stream[layout.positions[0] :][:7].tobytes())
    # two frames of the encoder's own lag are left out
    positions, sizes = layout.positions[2:] + 7, layout.lengths[2:] - 7
    times = START * 48_000 // 90_000 - _DELAY + np.arange(2, len(positions) + 2) * format.sample_duration
    parts = []
    ends = START * 48_000 // 90_000 + np.arange(1, SEGMENTS + 1) * SECONDS * 48_000
    for first, last in zip([0, *np.searchsorted(times, ends[:-1])], np.searchsorted(times, ends), strict=True):
        pieces = [
            stream[at : at + size].data for at, size in zip(positions[first:last], sizes[first:last], strict=True)
        ]
        sync = np.ones(last - first, np.bool_)
        own = times[first:last]
        parts.append(Samples(2, format, sizes[first:last], own, own, sync, [memoryview(b"".join(pieces))]))
    return tuple(parts)


def _keyed(name: str) -> bytes | None:
    if name == "index.m3u8":
        return _list(
            _names("ts"),
            before=lambda n: [] if n % _EVERY else [f'#EXT-X-KEY:METHOD=AES-128,URI="/keys/{n // _EVERY}"'],
        )
    number = _number(name)
    key = KEYS[number // _EVERY]
    return encrypted(paths(180)[number].read_bytes(), key, number.to_bytes(16, "big"))


def _languages(name: str) -> bytes | None:
    if name == "master.m3u8":
        return f"""#EXTM3U
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="voices",NAME="English",LANGUAGE="en",DEFAULT=YES,AUTOSELECT=YES,URI="en.m3u8"
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="voices",NAME="Cymraeg",LANGUAGE="cy",AUTOSELECT=YES,URI="cy.m3u8"
#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID="words",NAME="English",LANGUAGE="en",AUTOSELECT=YES,URI="words-en.m3u8"
#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID="words",NAME="Cymraeg",LANGUAGE="cy",AUTOSELECT=YES,URI="words-cy.m3u8"
#EXT-X-STREAM-INF:BANDWIDTH=400000,RESOLUTION=640x360,CODECS="{_CODECS}",AUDIO="voices",SUBTITLES="words"
film.m3u8
""".encode()
    base, _, extension = name.rpartition(".")
    if extension == "m3u8":
        if base.startswith("words-"):
            return _list([f"{base}-{number}.vtt" for number in range(SEGMENTS)])
        return _list([f"{base}-{number}.m4s" for number in range(SEGMENTS)], f'#EXT-X-MAP:URI="{base}-init.mp4"')
    kind, _, which = base.rpartition("-")
    if extension == "vtt":
        return _subtitles(int(which), kind == "words-cy")
    parts = {"film": lambda: samples_of(paths(360), "video"), "en": lambda: samples_of(paths(360), "audio")}
    samples = parts.get(kind, welsh)()
    return section([samples[0]]) if which == "init" else fragments(int(which) + 1, [samples[int(which)]])


def _subtitles(number: int, welsh: bool) -> bytes:
    """A segment of subtitles: a line of its own, and one that goes on into the next."""
    begin = number * SECONDS
    words = WORDS[number][welsh]
    own = f"00:00:{begin + 1:02d}.000 --> 00:00:{begin + 3:02d}.000 line:85%\n{words}"
    cues = [own]
    for first in (number - 1, number):
        if 0 <= first < SEGMENTS - 1:
            at = (first + 1) * SECONDS
            cues.append(f"00:00:{at - 1:02d}.500 --> 00:00:{at:02d}.500\n({first + 1})")
    head = f"WEBVTT\nX-TIMESTAMP-MAP=MPEGTS:{START},LOCAL:00:00:00.000"
    return ("\n\n".join([head, *cues]) + "\n").encode()


def _fragments(name: str) -> bytes | None:
    if name == "master.m3u8":
        return f"""#EXTM3U
#EXT-X-VERSION:7
#EXT-X-INDEPENDENT-SEGMENTS
#EXT-X-STREAM-INF:BANDWIDTH=400000,RESOLUTION=640x360,CODECS="{_CODECS}",AUDIO="sound"
film.m3u8
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="sound",NAME="Sound",DEFAULT=YES,URI="sound.m3u8"
""".encode()
    return _languages(name.replace("sound", "en"))


def _ranges(name: str) -> bytes | None:
    parts = [path.read_bytes() for path in paths(180)]
    if name != "index.m3u8":
        return b"".join(parts)
    places = np.cumsum([0, *map(len, parts)]).tolist()
    return _list(
        ["all.ts"] * SEGMENTS,
        before=lambda n: [f"#EXT-X-BYTERANGE:{len(parts[n])}" + (f"@{places[n]}" if n % 2 == 0 else "")],
    )


def _splices(name: str) -> bytes | None:
    """Two parts of the tide mill with the advert of another size between them."""
    names = ["part-0.ts", "part-1.ts", "advert-0.ts", "part-2.ts", "part-3.ts"]
    if name == "index.m3u8":
        return _list(names, before=lambda n: ["#EXT-X-DISCONTINUITY"] if n in (2, 3) else [])
    return paths(360 if name.startswith("advert") else 180)[_number(name)].read_bytes()


def _packed(name: str) -> bytes | None:
    if name == "master.m3u8":
        return f"""#EXTM3U
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="sound",NAME="Sound",LANGUAGE="en",DEFAULT=YES,URI="sound.m3u8"
#EXT-X-STREAM-INF:BANDWIDTH=300000,RESOLUTION=640x360,CODECS="{_CODECS}",AUDIO="sound"
film.m3u8
""".encode()
    if name == "sound.m3u8":
        return _list(_names("aac"))
    if name.endswith(".aac"):
        return packed(samples_of(paths(360), "audio")[_number(name)])
    return _languages(name)


def _signals(name: str) -> bytes | None:
    """Sound alone, as MPEG layer 3: three segments without a time stated."""
    if name == "index.m3u8":
        return _list(_names("mp3", 3))
    data = (MEDIA / "fog-signals.mp3").read_bytes()
    size = 192  # bytes of a frame: 64 kbit/s at 48 kHz
    count = len(data) // size
    first, last = count * _number(name) // 3, count * (_number(name) + 1) // 3
    return data[first * size : last * size]


def _defined(name: str) -> bytes | None:
    if name == "master.m3u8":
        return b"""#EXTM3U
#EXT-X-VERSION:8
#EXT-X-DEFINE:NAME="shelf",VALUE="mill"
#EXT-X-DEFINE:QUERYPARAM="visit"
#EXT-X-STREAM-INF:BANDWIDTH=200000,RESOLUTION=320x180
{$shelf}.m3u8?visit={$visit}
"""
    if name == "mill.m3u8":
        return _list(
            [f"{{$shelf}}-{number}.ts?visit={{$own}}" for number in range(SEGMENTS)],
            '#EXT-X-DEFINE:IMPORT="shelf"',
            '#EXT-X-DEFINE:NAME="own",VALUE="seven"',
        )
    return paths(180)[_number(name)].read_bytes()


def _hevc(name: str) -> bytes | None:
    if name == "index.m3u8":
        return _list(_names("ts", 3))
    return (MEDIA / f"slipway-{_number(name)}.ts").read_bytes()


def _sealed(name: str) -> bytes | None:
    if name == "index.m3u8":
        key = '#EXT-X-KEY:METHOD=SAMPLE-AES,URI="skd://seal-1",KEYFORMAT="com.apple.streamingkeydelivery"'
        return _list(_names("ts"), key)
    return paths(180)[_number(name)].read_bytes()


def _torn(name: str) -> bytes | None:
    """One segment is said to be missing, and another is."""
    if name == "index.m3u8":
        return _list(_names("ts"), before=lambda n: ["#EXT-X-GAP"] if n == 1 else [])
    return None if _number(name) in (1, 3) else paths(180)[_number(name)].read_bytes()


_SHELVES: dict[str, Callable[[str], bytes | None]] = {
    "keyed": _keyed,
    "languages": _languages,
    "fragments": _fragments,
    "ranges": _ranges,
    "splices": _splices,
    "packed": _packed,
    "signals": _signals,
    "defined": _defined,
    "hevc": _hevc,
    "sealed": _sealed,
    "torn": _torn,
}
TYPES = {
    "m3u8": "application/vnd.apple.mpegurl",
    "ts": "video/mp2t",
    "m4s": "video/iso.segment",
    "mp4": "video/mp4",
    "aac": "audio/aac",
    "mp3": "audio/mpeg",
    "vtt": "text/vtt",
    "mpd": "application/dash+xml",
    "ttml": "application/ttml+xml",
    "webm": "video/webm",
}


@cache
def content(shelf: str, name: str) -> bytes | None:
    """What stands under a name on a shelf; None if nothing does."""
    return _SHELVES[shelf](name) if shelf in _SHELVES else None


def _exhibit(name: str, path: str, hard: str, title: str, text: str, stream: str) -> Exhibit:
    def source(at: Origins) -> str:
        return page(
            title,
            f"""<h1>{title}</h1>
<p>{text}</p>
<video controls width="640" height="360" data-stream="{at.media}/shelves/{stream}"></video>
<script>
  const film = document.querySelector("video");
  film.src = film.dataset.stream;
</script>""",
            f'<meta property="og:title" content="{title}">\n',
        )

    return Exhibit(name, path, hard, source)


STREAMED: tuple[Exhibit, ...] = (
    _exhibit(
        "keyed",
        "/talk/lamp-oil",
        "A stream under keys that change every second segment.",
        "A Talk on Lamp Oil",
        "Colza, whale and paraffin.",
        "keyed/index.m3u8",
    ),
    _exhibit(
        "languages",
        "/film/two-tongues",
        "Sound and subtitles in two languages, in groups of their own.",
        "The Mill in Two Tongues",
        "Spoken in English and in Welsh.",
        "languages/master.m3u8",
    ),
    _exhibit(
        "fragments",
        "/film/sluice",
        "Fragmented MP4, picture and sound apart.",
        "The Sluice",
        "How the water was let in.",
        "fragments/master.m3u8",
    ),
    _exhibit(
        "ranges",
        "/film/one-reel",
        "All segments are ranges of one file.",
        "One Reel",
        "Filmed without a cut.",
        "ranges/index.m3u8",
    ),
    _exhibit(
        "splices",
        "/film/interrupted",
        "An advert of another size in the middle, behind discontinuities.",
        "The Mill, Interrupted",
        "As it was shown in the evening.",
        "splices/index.m3u8",
    ),
    _exhibit(
        "packed",
        "/film/dumb-show",
        "Sound packed as nothing but AAC frames, timed by ID3 tags.",
        "The Dumb Show",
        "The sound came later.",
        "packed/master.m3u8",
    ),
    _exhibit(
        "signals",
        "/sound/fog-signals",
        "A stream of sound alone, as MPEG layer 3.",
        "Fog Signals",
        "One long, two short.",
        "signals/index.m3u8",
    ),
    _exhibit(
        "defined",
        "/film/by-name",
        "Addresses made of variables, one of them from the query.",
        "By Name Only",
        "Every shelf has its word.",
        "defined/master.m3u8?visit=seven",
    ),
    _exhibit(
        "hevc",
        "/film/lifeboat",
        "HEVC, which not every browser plays.",
        "The Lifeboat",
        "Launching the lifeboat.",
        "hevc/index.m3u8",
    ),
    _exhibit(
        "sealed",
        "/film/sealed-room",
        "A stream that a key system protects: named, and refused.",
        "The Sealed Room",
        "For members of the trust.",
        "sealed/index.m3u8",
    ),
    _exhibit(
        "torn",
        "/film/torn",
        "One segment is said to be missing, another is.",
        "A Torn Reel",
        "What the damp has left.",
        "torn/index.m3u8",
    ),
)
