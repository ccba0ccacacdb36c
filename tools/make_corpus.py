"""The small files that the fuzzer begins with, in tests/corpus: cut from the demo's media, or written here by hand."""

import gzip
import io
import json
import lzma
import sqlite3
import tarfile
import tempfile
import zipfile
from pathlib import Path

from PIL import Image

from fuzz import CORPUS
from mudlark.demo.streamed import MEDIA
from mudlark.fetch.store import Store

_HLS = """#EXTM3U
#EXT-X-VERSION:9
#EXT-X-TARGETDURATION:4
#EXT-X-DEFINE:NAME="a",VALUE="b"
#EXT-X-MEDIA-SEQUENCE:7
#EXT-X-KEY:METHOD=AES-128,URI="k",IV=0x01
#EXT-X-MAP:URI="i.mp4",BYTERANGE="100@0"
#EXT-X-PROGRAM-DATE-TIME:2031-05-17T10:00:00.000Z
#EXT-X-DATERANGE:ID="1",START-DATE="2031-05-17T10:00:00Z",DURATION=4.0
#EXTINF:4.0,one
#EXT-X-BYTERANGE:1000@0
{$a}.ts
#EXT-X-DISCONTINUITY
#EXT-X-GAP
#EXTINF:4.0,
c.ts
#EXT-X-ENDLIST
"""
_MASTER = """#EXTM3U
#EXT-X-MEDIA:TYPE=AUDIO,GROUP-ID="s",NAME="Cymraeg",LANGUAGE="cy",DEFAULT=YES,URI="cy.m3u8"
#EXT-X-MEDIA:TYPE=SUBTITLES,GROUP-ID="t",NAME="English",LANGUAGE="en",URI="en.m3u8"
#EXT-X-STREAM-INF:BANDWIDTH=900000,CODECS="avc1.64001f,mp4a.40.2",RESOLUTION=1280x720,AUDIO="s",SUBTITLES="t"
720.m3u8
#EXT-X-I-FRAME-STREAM-INF:BANDWIDTH=9000,URI="i.m3u8"
#EXT-X-SESSION-KEY:METHOD=SAMPLE-AES,KEYFORMAT="com.apple.streamingkeydelivery",URI="skd://x"
"""
_MPD = """<MPD xmlns="urn:mpeg:dash:schema:mpd:2011" type="{type}" publishTime="2031-05-17T10:00:00Z"
 availabilityStartTime="1970-01-01T00:00:00Z" minimumUpdatePeriod="PT2S" mediaPresentationDuration="PT24S">
<Period id="1" start="PT0S"><AdaptationSet contentType="video" mimeType="video/mp4">
<SegmentTemplate timescale="1000" media="v-$Time$.m4s" initialization="i.mp4"><SegmentTimeline>
<S t="0" d="4000" r="4"/><S d="2000"/></SegmentTimeline></SegmentTemplate>
<Representation id="v" bandwidth="900000" codecs="avc1.64001f" width="1280" height="720"/></AdaptationSet>
<AdaptationSet contentType="audio" mimeType="audio/mp4" lang="cy"><Representation id="a" bandwidth="64000">
<BaseURL>a.mp4</BaseURL><SegmentBase indexRange="700-900"><Initialization range="0-699"/></SegmentBase>
</Representation></AdaptationSet></Period></MPD>"""
_PATCH = """<Patch xmlns="urn:mpeg:dash:schema:mpd-patch:2020" originalPublishTime="2031-05-17T10:00:00Z">
<replace sel="/MPD/@publishTime">2031-05-17T10:00:04Z</replace>
<add sel="/MPD/Period[@id='1']/AdaptationSet[1]/SegmentTemplate/SegmentTimeline"><S d="4000"/></add>
<remove sel="/MPD/Period[1]/AdaptationSet[2]"/></Patch>"""
_TTML = """<tt xmlns="http://www.w3.org/ns/ttml" xmlns:tts="http://www.w3.org/ns/ttml#styling" xml:lang="cy">
<head><styling><style xml:id="s" tts:color="yellow" style="t"/><style xml:id="t" tts:fontStyle="italic"/></styling>
<layout><region xml:id="r" tts:origin="10% 80%" tts:extent="80% 10%"/></layout></head>
<body region="r"><div><p style="s" begin="00:00:01.000" end="2s">Llanw<br/>a <span begin="0.2s">thrai</span></p></div>
</body></tt>"""
_FEED = """<rss version="2.0"><channel><title>Talks</title><item><title>One</title><link>http://a.example/1</link>
<enclosure url="http://a.example/1.mp3" type="audio/mpeg" length="9"/></item></channel></rss>"""
_ROBOTS = "User-agent: *\nDisallow: /private\nAllow: /private/open\nDisallow: /*.zip$\n"
_FOLIO = {
    "@context": "http://iiif.io/api/presentation/3/context.json",
    "id": "https://museum.example/m",
    "type": "Manifest",
    "label": {"en": ["Logbook"]},
    "items": [
        {
            "id": "c1",
            "type": "Canvas",
            "height": 90,
            "width": 60,
            "items": [
                {
                    "type": "AnnotationPage",
                    "items": [
                        {
                            "type": "Annotation",
                            "motivation": "painting",
                            "body": {"id": "https://museum.example/1.jpg", "type": "Image", "service": [{"id": "x"}]},
                        }
                    ],
                }
            ],
        }
    ],
}
_SERVICE = {
    "@context": "http://iiif.io/api/image/3/context.json",
    "id": "https://museum.example/i",
    "profile": "level1",
    "width": 6000,
    "height": 4000,
    "tiles": [{"width": 512, "scaleFactors": [1, 2, 4]}],
    "sizes": [{"width": 600, "height": 400}],
}
_PYRAMID = '<Image xmlns="http://schemas.microsoft.com/deepzoom/2008" TileSize="254" Overlap="1" Format="jpg">\
<Size Width="1000" Height="700"/></Image>'
_HAR = {
    "log": {
        "version": "1.2",
        "creator": {"name": "x", "version": "1"},
        "pages": [{"id": "p", "startedDateTime": "2031-05-17T10:00:00Z", "title": "http://a.example/"}],
        "entries": [
            {
                "pageref": "p",
                "startedDateTime": "2031-05-17T10:00:00Z",
                "time": 9,
                "request": {"method": "GET", "url": "http://a.example/", "headers": [{"name": "A", "value": "b"}]},
                "response": {
                    "status": 200,
                    "headers": [{"name": "Content-Type", "value": "text/html"}],
                    "content": {"size": 9, "mimeType": "text/html", "text": "<video src=a.mp4>"},
                },
            }
        ],
    }
}


def _picture(form: str) -> bytes:
    out = io.BytesIO()
    Image.effect_noise((24, 16), 60).convert("RGB").save(out, form)
    return out.getvalue()


def _zip(**files: str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, body in files.items():
            archive.writestr(f"bag/{name.replace('_', '.')}", body)
    return out.getvalue()


def _tar() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        entry = tarfile.TarInfo("a.txt")
        entry.size = 3
        archive.addfile(entry, io.BytesIO(b"ebb"))
    return out.getvalue()[:2048]


def _state() -> bytes:
    with tempfile.TemporaryDirectory() as folder:
        store = Store(Path(folder), "key", "http://a.example/")
        with store:
            store.retain()
        copy = Path(folder) / "copy.sqlite"
        with sqlite3.connect(store.folder / "state.sqlite") as database, sqlite3.connect(copy) as other:
            database.backup(other)
        return copy.read_bytes()


def files() -> dict[str, dict[str, bytes]]:
    """By reader and name."""

    def part(name: str, size: int) -> bytes:
        return (MEDIA / name).read_bytes()[:size]

    wave = b"RIFF" + (36 + 64).to_bytes(4, "little") + b"WAVEfmt " + bytes([16, 0, 0, 0, 1, 0, 1, 0, 0x44, 0xAC, 0, 0])
    wave += bytes([0x88, 0x58, 1, 0, 2, 0, 16, 0]) + b"data" + bytes([64, 0, 0, 0]) + bytes(range(64))
    aiff = b"FORM" + (4 + 26 + 24).to_bytes(4, "big") + b"AIFFCOMM" + bytes([0, 0, 0, 18, 0, 1, 0, 0, 0, 8, 0, 16])
    aiff += (
        bytes([0x40, 0x0E, 0xAC, 0x44, 0, 0, 0, 0, 0, 0]) + b"SSND" + bytes([0, 0, 0, 24]) + bytes(8) + bytes(range(16))
    )
    flac = b"fLaC\x80\0\0\x22" + bytes([16, 0, 16, 0, 0, 0, 0, 0, 0, 0, 0x0A, 0xC4, 0x42, 0xF0, 0, 0, 0, 0]) + bytes(16)
    ogg = b"OggS\0\2" + bytes(8) + bytes([1, 0, 0, 0]) + bytes(8) + b"\1\x13OpusHead\1\2\x38\1\x80\xbb\0\0\0\0\0"
    return {
        "media": {
            "mp4-sound": part("fog-bell.m4a", 30_000),
            "mp4-film": part("gift-shop.mp4", 30_000),
            "matroska-film": part("still.webm", 20_000),
            "ts-film": part("tide-mill/180p/part-000.ts", 188 * 60),
            "segments-ts": part("tide-mill/180p/part-001.ts", 188 * 90),
            "mp3": part("fog-signals.mp3", 6_000),
            "adts": part("tide-mill/cy.aac", 4_000) if (MEDIA / "tide-mill/cy.aac").is_file() else b"\xff\xf1\x50\x80",
            "ac3": b"\x0b\x77" + bytes(6) + b"\x0b\x77",
            "flac": flac,
            "ogg": ogg,
            "wav": wave,
            "aiff": aiff,
        },
        "picture": {
            **{f"{form.lower()}": _picture(form) for form in ("PNG", "JPEG", "GIF", "WEBP", "AVIF", "TIFF")},
            "svg": b'<svg xmlns="http://www.w3.org/2000/svg"><g><path d="M0 0"/></g></svg>',
            "pdf": _picture("PDF"),
            "folio": json.dumps(_FOLIO).encode(),
            "pyramid": _PYRAMID.encode(),
            "service": json.dumps(_SERVICE).encode(),
        },
        "text": {
            "webvtt": b"WEBVTT\n\nNOTE x\n\n1\n00:00:01.000 --> 00:00:02.000 line:80%\nLlanw\n\nSTYLE\n::cue {}\n",
            "srt": b"1\n00:00:01,000 --> 00:00:02,000\nLlanw\n\n2\n00:00:03,000 --> 00:00:04,000\nTrai\n",
            "ttml": _TTML.encode(),
            "json": json.dumps(_SERVICE).encode(),
            "zip": _zip(a_txt="ebb"),
            "gzip": gzip.compress(b"ebb and flood", mtime=0),
            "xz": lzma.compress(b"ebb and flood"),
            "tar": _tar(),
            "iso": b"\1CD001",
            "exe": b"MZ" + bytes(58) + bytes([64, 0, 0, 0]) + b"PE\0\0",
            "deb": b"!<arch>\ndebian-binary   0           0     0     100644  4         `\n2.0\n",
        },
        "manifest": {
            "hls-media": _HLS.encode(),
            "hls-master": _MASTER.encode(),
            "dash-static": _MPD.replace("{type}", "static").encode(),
            "dash-dynamic": _MPD.replace("{type}", "dynamic").encode(),
            "patch": _MPD.replace("{type}", "dynamic").encode() + b"\0" + _PATCH.encode(),
        },
        "record": {
            "history": b'{"event":"fixity check","when":"2031-05-17T10:00:00Z","verdict":"sound"}\n',
            "requests": b'{"at":1.0,"ended":2.0,"url":"http://a.example/","status":200,"try":1,"bytes":9}\n',
            "bag": _zip(bagit_txt="BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n", data="x"),
            "state": _state(),
        },
        "list": {
            "list-csv": b"title,url\nOne,http://a.example/1\n",
            "list-text": b"http://a.example/1\n# a comment\nhttp://a.example/2\n",
            "list-map": b'<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><url><loc>http://a.example/1</loc></url></urlset>',
            "robots": _ROBOTS.encode(),
            "feed": _FEED.encode(),
        },
        "har": {"har": json.dumps(_HAR).encode()},
        "warc": {
            "warc": gzip.compress(b"WARC/1.1\r\nWARC-Type: warcinfo\r\nContent-Length: 0\r\n\r\n\r\n\r\n", mtime=0)
        },
    }


def main() -> None:
    for reader, named in files().items():
        kept = {"record": ("record-",)}.get(reader, ())
        folder = CORPUS / reader
        folder.mkdir(parents=True, exist_ok=True)
        for path in folder.iterdir():
            if not path.name.startswith(tuple(kept) or ("\0",)):
                path.unlink()
        for name, body in named.items():
            (folder / name).write_bytes(body)
    print(f"{sum(path.stat().st_size for path in CORPUS.rglob('*') if path.is_file()):,} bytes in {CORPUS.name}")


if __name__ == "__main__":
    main()
