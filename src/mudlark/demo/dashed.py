"""Films behind DASH manifests, each an exhibit: by number, by time, on demand, in ranges, in Periods, in WebM,
described.

What is served is made of the museum's own media when it is first asked for.
"""

from collections.abc import Callable, Sequence
from functools import cache
from itertools import pairwise

import numpy as np
from msgspec.structs import replace

from mudlark.demo.pages import Exhibit, Origins, page
from mudlark.demo.repacked import fragments, samples_of, section
from mudlark.demo.streamed import MEDIA, SECONDS, SEGMENTS, START, WORDS, paths, welsh
from mudlark.media.matroska import names
from mudlark.media.mp4.boxes import box, full_box
from mudlark.media.samples import Samples

_LATE = 1 << 33  # ticks of 90 kHz: a clock that 32 bits cannot hold
_SCALE = {"video": 90_000, "audio": 48_000}
_AVC, _AAC = "avc1.64001f", "mp4a.40.2"
_LENGTH = SECONDS * SEGMENTS
_ADVERT = 1  # segments of the advert


def _mpd(*periods: str, more: str = "") -> bytes:
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" type="static" mediaPresentationDuration="PT{_LENGTH}S"
  minBufferTime="PT4S" profiles="urn:mpeg:dash:profile:isoff-live:2011">
  {more}{"".join(periods)}
</MPD>
""".encode()


def _period(*sets: str, more: str = "", attributes: str = "") -> str:
    return f"<Period{attributes}>{more}{''.join(sets)}</Period>\n"


def _offset(kind: str) -> int:
    """The time of the media at which the film begins, in ticks of its own scale."""
    return START * _SCALE[kind] // 90_000


def _pictures(template: str, *heights: int) -> str:
    versions = "".join(
        f"""<Representation id="picture-{height}" bandwidth="{height * 800}" width="{height * 16 // 9}"
    height="{height}"/>"""
        for height in heights
    )
    return f"""<AdaptationSet contentType="video" mimeType="video/mp4" codecs="{_AVC}" frameRate="25">
  {template}{versions}</AdaptationSet>"""


def _sound(template: str, identifier: str = "sound", language: str = "en", more: str = "") -> str:
    return f"""<AdaptationSet contentType="audio" lang="{language}" mimeType="audio/mp4" codecs="{_AAC}">{more}
  {template}<Representation id="{identifier}" bandwidth="48000" audioSamplingRate="48000"/></AdaptationSet>"""


def _by_number(kind: str, extra: str = "") -> str:
    return f"""<SegmentTemplate timescale="{_SCALE[kind]}" duration="{SECONDS * _SCALE[kind]}" startNumber="0"
    presentationTimeOffset="{_offset(kind)}" initialization="$RepresentationID$-init.mp4"
    media="$RepresentationID$-$Number%03d$.m4s"{extra}/>"""


def _tracks(identifier: str) -> tuple[Samples, ...]:
    """The samples of a rendition, an entry a segment."""
    if identifier in ("welsh", "described"):
        return welsh()
    if identifier == "sound":
        return samples_of(paths(360), "audio")
    return samples_of(paths(int(identifier.rpartition("-")[2])), "video")


def _segment(name: str) -> bytes | None:
    """A segment, or an initialization section, by its name."""
    base = name.rpartition(".")[0]
    identifier, _, which = base.rpartition("-")
    parts = _tracks(identifier)
    if which == "init":
        return section(parts[:1])
    return fragments(int(which) + 1, [parts[int(which)]]) if int(which) < len(parts) else None


def _numbered(name: str) -> bytes | None:
    if name == "film.mpd":
        return _mpd(_period(_pictures(_by_number("video"), 180, 360), _sound(_by_number("audio"))))
    return _segment(name)


def _timed(name: str) -> bytes | None:
    """By time, on a clock beyond 32 bits; the sound states each of its durations."""
    if name == "film.mpd":
        return _mpd(_period(_pictures(_timeline("video"), 360), _sound(_timeline("audio"))))
    identifier, _, which = name.rpartition(".")[0].rpartition("-")
    parts = _tracks(identifier)
    if which == "init":
        return section(parts[:1])
    late = _LATE * parts[0].format.timescale // 90_000
    times = [int(part.pts.min()) + late for part in parts]
    if int(which) not in times:
        return None
    part = parts[times.index(int(which))]
    return fragments(1, [replace(part, dts=part.dts + late, pts=part.pts + late)])


def _timeline(kind: str) -> str:
    parts = _tracks("sound" if kind == "audio" else "picture-360")
    scale = _SCALE[kind]
    late = _LATE * scale // 90_000
    times = [int(part.pts.min()) + late for part in parts]
    lasts = [*np.diff(times).tolist(), SECONDS * scale]
    entries = "".join(f'<S t="{time}" d="{last}"/>' for time, last in zip(times, lasts, strict=True))
    if len(set(lasts)) == 1:
        entries = f'<S t="{times[0]}" d="{lasts[0]}" r="-1"/>'
    return f"""<SegmentTemplate timescale="{scale}" presentationTimeOffset="{_offset(kind) + late}"
    initialization="$RepresentationID$-init.mp4" media="$RepresentationID$-$Time$.m4s">
    <SegmentTimeline>{entries}</SegmentTimeline></SegmentTemplate>"""


@cache
def _file(identifier: str) -> tuple[bytes, int, list[int]]:
    """A whole film in one file: its bytes, where its index begins, and the sizes of its fragments."""
    parts = _tracks(identifier)
    bodies = [fragments(number + 1, [part]) for number, part in enumerate(parts)]
    head = section(parts[:1])
    scale = parts[0].format.timescale
    times = [*(int(part.dts[0]) for part in parts), int(parts[-1].dts[-1]) + parts[-1].format.sample_duration]
    rows = b"".join(
        len(body).to_bytes(4, "big") + last.to_bytes(4, "big") + b"\x90\0\0\0"
        for body, last in zip(bodies, np.diff(times).tolist(), strict=True)
    )
    start = times[0].to_bytes(8, "big") + bytes(8) + bytes(2) + len(bodies).to_bytes(2, "big")
    index = full_box("sidx", 1, 0, b"\0\0\0\1", scale.to_bytes(4, "big"), start, rows)
    return head + index + b"".join(bodies), len(head), [len(index), *map(len, bodies)]


def _on_demand(name: str) -> bytes | None:
    """One file for each rendition, in which an index says where the segments are."""
    if name != "film.mpd":
        return _file(name.removesuffix(".mp4"))[0]

    def base(identifier: str, kind: str) -> str:
        _, start, sizes = _file(identifier)
        return f"""<SegmentBase timescale="{_SCALE[kind]}" presentationTimeOffset="{_offset(kind)}"
      indexRange="{start}-{start + sizes[0] - 1}"><Initialization range="0-{start - 1}"/></SegmentBase>"""

    return _mpd(
        _period(
            f"""<AdaptationSet mimeType="video/mp4" codecs="{_AVC}">
  <Representation id="v" bandwidth="300000" width="640" height="360"><BaseURL>picture-360.mp4</BaseURL>
    {base("picture-360", "video")}</Representation></AdaptationSet>
<AdaptationSet mimeType="audio/mp4" codecs="{_AAC}" lang="en">
  <Representation id="a" bandwidth="48000"><BaseURL>sound.mp4</BaseURL>
    {base("sound", "audio")}</Representation></AdaptationSet>"""
        )
    )


def _listed(name: str) -> bytes | None:
    """Lists of ranges of one file."""
    if name != "film.mpd":
        return _file(name.removesuffix(".mp4"))[0]

    def ranges(identifier: str, kind: str) -> str:
        _, start, sizes = _file(identifier)
        ends = np.cumsum([start, *sizes]).tolist()
        urls = "".join(f'<SegmentURL mediaRange="{a}-{b - 1}"/>' for a, b in pairwise(ends[1:]))
        return f"""<SegmentList timescale="{_SCALE[kind]}" duration="{SECONDS * _SCALE[kind]}"
      presentationTimeOffset="{_offset(kind)}"><Initialization range="0-{start - 1}"/>{urls}</SegmentList>"""

    return _mpd(
        _period(
            f"""<AdaptationSet contentType="video"><Representation id="v" mimeType="video/mp4" codecs="{_AVC}"
    bandwidth="200000" width="320" height="180"><BaseURL>picture-180.mp4</BaseURL>{ranges("picture-180", "video")}
  </Representation></AdaptationSet>
<AdaptationSet contentType="audio"><Representation id="a" mimeType="audio/mp4" codecs="{_AAC}" bandwidth="48000">
  <BaseURL>sound.mp4</BaseURL>{ranges("sound", "audio")}</Representation></AdaptationSet>"""
        )
    )


def _interval(name: str) -> bytes | None:
    """Two Periods of the film, and one of an advert between them, of another size."""
    if name != "film.mpd":
        return _segment(name)

    def part(height: int, first: int, count: int, asset: str, length: str) -> str:
        def template(kind: str) -> str:
            scale = _SCALE[kind]
            return f"""<SegmentTemplate timescale="{scale}" duration="{SECONDS * scale}" startNumber="{first}"
      presentationTimeOffset="{_offset(kind) + first * SECONDS * scale}" initialization="$RepresentationID$-init.mp4"
      media="$RepresentationID$-$Number%03d$.m4s"/>"""

        identifier = f'<AssetIdentifier schemeIdUri="urn:tidewrack:shelf" value="{asset}"/>'
        sets = _pictures(template("video"), height), _sound(template("audio"))
        return _period(*sets, more=identifier, attributes=length)

    first, advert, last = (f' duration="PT{count * SECONDS}S"' for count in (3, _ADVERT, 3))
    film = _mpd(
        part(180, 0, 3, "mill", first), part(360, 5, _ADVERT, "gift-shop", advert), part(180, 3, 3, "mill", last)
    )
    return film.replace(f"PT{_LENGTH}S".encode(), f"PT{_LENGTH + _ADVERT * SECONDS}S".encode(), 1)


def _described(name: str) -> bytes | None:
    """Sound in two languages and one that describes the pictures; subtitles as TTML, whole and in segments."""
    if name == "film.mpd":
        main = '<Role schemeIdUri="urn:mpeg:dash:role:2011" value="main"/>'
        described = """<Role schemeIdUri="urn:mpeg:dash:role:2011" value="alternate"/>
  <Accessibility schemeIdUri="urn:tva:metadata:cs:AudioPurposeCS:2007" value="1"/><Label>Described</Label>"""
        words = f"""<AdaptationSet contentType="text" lang="cy" mimeType="application/ttml+xml">
  <Representation id="words" bandwidth="1000"><BaseURL>words-cy.ttml</BaseURL></Representation></AdaptationSet>
<AdaptationSet contentType="text" lang="en" mimeType="application/mp4" codecs="stpp.ttml.im1t">
  <SegmentTemplate timescale="1000" duration="{SECONDS * 1000}" startNumber="0" media="words-$Number$.m4s"
    initialization="words-init.mp4"/><Representation id="cues" bandwidth="1000"/></AdaptationSet>"""
        information = """<ProgramInformation><Title>The Mill, Described</Title>
  <Copyright>Tidewrack Museum</Copyright></ProgramInformation>"""
        return _mpd(
            _period(
                _sound(_by_number("audio"), "described", "en", described),
                _pictures(_by_number("video"), 360),
                _sound(_by_number("audio"), "sound", "en", main),
                _sound(_by_number("audio"), "welsh", "cy"),
                words,
            ),
            more=information,
        )
    if name == "words-cy.ttml":
        return _ttml([(4 * n + 1, 4 * n + 3, WORDS[n][1]) for n in range(SEGMENTS)])
    if name == "words-init.mp4":
        return _words_section()
    if name.startswith("words-"):
        number = int(name[6:].partition(".")[0])
        at = number * SECONDS
        return _words_fragment(number, _ttml([(at + 1, at + 3, WORDS[number][0])]))
    return _segment(name)


def _ttml(cues: Sequence[tuple[int, int, str]]) -> bytes:
    lines = "".join(
        f'<p begin="00:00:{begin:02d}.000" end="00:00:{end:02d}.000" region="low"><span style="calm">{words}</span></p>'
        for begin, end, words in cues
    )
    return f"""<?xml version="1.0" encoding="UTF-8"?>
<tt xmlns="http://www.w3.org/ns/ttml" xmlns:tts="http://www.w3.org/ns/ttml#styling" xml:lang="en">
<head><styling><style xml:id="calm" tts:fontStyle="italic"/></styling>
<layout><region xml:id="low" tts:origin="10% 80%" tts:extent="80% 15%" tts:displayAlign="after"/></layout></head>
<body><div>{lines}</div></body></tt>
""".encode()


def _words_section() -> bytes:
    names = b"http://www.w3.org/ns/ttml\0\0\0"
    entry = box("stpp", bytes(6), b"\0\1", names)
    tables = [full_box(kind, 0, 0, bytes(4)) for kind in ("stts", "stsc", "stco")]
    sample_table = box("stbl", full_box("stsd", 0, 0, b"\0\0\0\1", entry), *tables, full_box("stsz", 0, 0, bytes(8)))
    source = box("dinf", full_box("dref", 0, 0, b"\0\0\0\1", full_box("url ", 0, 1)))
    media = box(
        "mdia",
        full_box("mdhd", 0, 0, bytes(8), (1000).to_bytes(4, "big"), bytes(4), b"\x55\xc4\0\0"),
        full_box("hdlr", 0, 0, bytes(4), b"subt", bytes(13)),
        box("minf", full_box("sthd", 0, 0), source, sample_table),
    )
    head = full_box("tkhd", 0, 7, bytes(8), b"\0\0\0\1", bytes(68))
    movie = full_box("mvhd", 0, 0, bytes(8), (1000).to_bytes(4, "big"), bytes(84))
    extends = box("mvex", full_box("trex", 0, 0, b"\0\0\0\1", b"\0\0\0\1", bytes(12)))
    return box("ftyp", b"iso6", bytes(4), b"iso6") + box("moov", movie, box("trak", head, media), extends)


def _words_fragment(number: int, document: bytes) -> bytes:
    time = (number * SECONDS * 1000).to_bytes(8, "big")
    head = full_box("tfhd", 0, 0x20000, b"\0\0\0\1")
    row = (SECONDS * 1000).to_bytes(4, "big") + len(document).to_bytes(4, "big")

    def moof(place: int) -> bytes:
        run = full_box("trun", 0, 0x301, b"\0\0\0\1", place.to_bytes(4, "big"), row)
        traf = box("traf", head, full_box("tfdt", 1, 0, time), run)
        return box("moof", full_box("mfhd", 0, 0, (number + 1).to_bytes(4, "big")), traf)

    return moof(len(moof(0)) + 8) + box("mdat", document)


def _copies(name: str) -> bytes | None:
    """Two base addresses, of which nothing answers at the first."""
    if name == "film.mpd":
        bases = "<BaseURL>/gone/</BaseURL><BaseURL>./</BaseURL>"
        return _mpd(_period(_pictures(_by_number("video"), 180), _sound(_by_number("audio"))), more=bases)
    return _segment(name)


def _ferry(name: str) -> bytes | None:
    """VP9 and Opus in WebM, in which cues say where the clusters are."""
    if name != "film.mpd":
        path = MEDIA / ("ferry.webm" if name == "picture.webm" else "ferry-sound.webm")
        return path.read_bytes()

    def base(name: str) -> str:
        data = _ferry(name) or b""
        begin = data.rindex(names.CUES.to_bytes(4, "big"))
        first = data.index(names.CLUSTER.to_bytes(4, "big"))
        return f"""<SegmentBase indexRange="{begin}-{len(data) - 1}"><Initialization range="0-{first - 1}"/>
    </SegmentBase>"""

    return _mpd(
        _period(
            f"""<AdaptationSet mimeType="video/webm" codecs="vp9"><Representation id="1" bandwidth="160000" width="640"
    height="360" frameRate="25"><BaseURL>picture.webm</BaseURL>{base("picture.webm")}</Representation></AdaptationSet>
<AdaptationSet mimeType="audio/webm" codecs="opus" lang="en"><Representation id="2" bandwidth="60000">
    <BaseURL>sound.webm</BaseURL>{base("sound.webm")}</Representation></AdaptationSet>"""
        )
    )


def _locked(name: str) -> bytes | None:
    """A key system guards all of it."""
    if name == "film.mpd":
        guard = """<ContentProtection schemeIdUri="urn:mpeg:dash:mp4protection:2011" value="cenc"/>
  <ContentProtection schemeIdUri="urn:uuid:EDEF8BA9-79D6-4ACE-A3C8-27DCD51D21ED"/>"""
        pictures = _pictures(guard + _by_number("video"), 180)
        return _mpd(_period(pictures, _sound(_by_number("audio"), more=guard)))
    return _segment(name)


SHELVES: dict[str, Callable[[str], bytes | None]] = {
    "numbered": _numbered,
    "timed": _timed,
    "on-demand": _on_demand,
    "listed": _listed,
    "interval": _interval,
    "described": _described,
    "copies": _copies,
    "ferry": _ferry,
    "locked": _locked,
}


@cache
def content(shelf: str, name: str) -> bytes | None:
    """What stands under a name on a shelf; None if nothing does."""
    try:
        return SHELVES[shelf](name)
    except ValueError:  # a name that is no segment's
        return None


def _exhibit(name: str, path: str, hard: str, title: str, text: str) -> Exhibit:
    def source(at: Origins) -> str:
        return page(
            title,
            f"""<h1>{title}</h1>
<p>{text}</p>
<video controls width="640" height="360"></video>
<script>
  const gallery = {{"film": {{"manifest": "{at.media}/shelves/{name}/film.mpd", "autoplay": false}}}};
</script>""",
            f'<meta property="og:title" content="{title}">\n',
        )

    return Exhibit(name, path, hard, source)


DASHED: tuple[Exhibit, ...] = (
    _exhibit("numbered", "/film/ropewalk", "A DASH manifest with segments by number.", "The Ropewalk", "A mile a day."),
    _exhibit(
        "timed",
        "/film/tide-tables",
        "Segments by time, on a clock that 32 bits cannot hold.",
        "The Tide Tables",
        "Printed every winter.",
    ),
    _exhibit(
        "on-demand",
        "/film/bell-buoy",
        "One file a rendition, with an index inside.",
        "The Bell Buoy",
        "Heard before it was seen.",
    ),
    _exhibit("listed", "/film/net-loft", "Lists of byte ranges.", "The Net Loft", "Mended on Mondays."),
    _exhibit(
        "interval",
        "/film/interval",
        "Two Periods, and an advert between them.",
        "The Mill, with an Interval",
        "Tea was served.",
    ),
    _exhibit(
        "described",
        "/film/described",
        "Sound described for the blind beside the main one, subtitles as TTML.",
        "The Mill, Described",
        "For those who cannot see it.",
    ),
    _exhibit(
        "copies",
        "/film/two-sheds",
        "Several base addresses, of which the first is dead.",
        "The Two Sheds",
        "One has burnt down.",
    ),
    _exhibit("ferry", "/film/ferry", "VP9 and Opus in WebM, found by cues.", "The Ferry", "Twice a day."),
    _exhibit("locked", "/film/locked-room", "A DASH manifest that is protected.", "The Locked Room", "For members."),
)
