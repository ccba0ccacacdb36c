"""HTTP Live Streaming playlists: text in, tracks and segments out.

Follows RFC 8216 §4. Sans-I/O. Tags go to handlers by a table; tags that are not known are ignored, as §6.3.1 asks.
Raises ManifestError (with the line) on what cannot be a playlist, and Refused on protected media.
"""

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

from mudlark.errors import ManifestError, Refused
from mudlark.manifest.model import ByteRange, Segment, Track
from mudlark.text import printable, whole_number
from mudlark.web.address import resolve

_ATTRIBUTE = re.compile(r'\s*([A-Z0-9-]+)\s*=\s*("[^"\r\n]*"|[^,]*)\s*(?:,|$)')
_MEDIA_TYPES: dict[str, Literal["audio", "subtitles", "video"]] = {
    **{"AUDIO": "audio", "SUBTITLES": "subtitles", "VIDEO": "video"},
}
KEY_SYSTEMS = {
    "com.apple.streamingkeydelivery": "FairPlay Streaming",
    "urn:uuid:edef8ba9-79d6-4ace-a3c8-27dcd51d21ed": "Widevine",
    "urn:uuid:9a04f079-9840-4286-ab92-e65be0885f95": "PlayReady",
    "com.microsoft.playready": "PlayReady",
    "com.widevine.alpha": "Widevine",
    "com.apple.fps": "FairPlay Streaming",
}


@dataclass(slots=True)
class Playlist:
    """A playlist as read: a master lists `tracks`, a media playlist `segments`.

    within: sound that is inside the variants (EXT-X-MEDIA without an address), by its group.
    ended: whether the playlist says that nothing more will come. Durations in seconds.
    """

    url: str
    tracks: list[Track] = field(default_factory=list)
    within: list[Track] = field(default_factory=list)
    segments: list[Segment] = field(default_factory=list)
    ended: bool = False
    has_map: bool = False
    encryption: str | None = None

    @property
    def master(self) -> bool:
        """True for a master playlist."""
        return bool(self.tracks)


def attributes(text: str) -> dict[str, str]:
    """An attribute list (§4.2), quotes removed."""
    return {name: value.strip().strip('"') for name, value in _ATTRIBUTE.findall(text)}


def parse(body: bytes, url: str) -> Playlist:
    """Read a playlist that came from `url`; its addresses are made absolute."""
    text = body.decode("utf-8-sig", "replace")
    lines = text.splitlines()
    if not lines or not lines[0].strip().startswith("#EXTM3U"):
        if "<html" in text[:4096].lower() or "<!doctype" in text[:4096].lower():
            raise ManifestError(
                f"{url} sends a web page where a playlist was expected.",
                advice="The link may have expired or need a log-in; open it in a browser to see.",
            )
        raise ManifestError(f"{url} is not a playlist: it does not begin with #EXTM3U.")
    return _Reader(url).read(lines)


class _Reader:
    def __init__(self, url: str) -> None:
        self.list = Playlist(url)
        self.variant: dict[str, str] | None = None
        self.duration: float | None = None
        self.range: tuple[int, int | None] | None = None
        self.discontinuity = False
        self.last: tuple[str, int] | None = None
        self.line = 0

    def read(self, lines: list[str]) -> Playlist:
        for self.line, raw in enumerate(lines, start=1):
            line = printable(raw)
            if not line:
                continue
            if line.startswith("#EXT"):
                name, _, value = line.partition(":")
                handler = _TAGS.get(name)
                if handler:
                    handler(self, value)
            elif not line.startswith("#"):
                self.address(line)
        for track in self.list.tracks:
            inside = [sound for sound in self.list.within if sound.group == track.audio_group]
            if track.audio_group and inside:
                track.sound_within, track.language = True, inside[0].language
                track.sound_default = any(sound.default for sound in inside)
        if self.list.tracks and self.list.segments:
            raise ManifestError(f"{self.list.url} mixes the tags of a master and of a media playlist.")
        return self.list

    def absolute(self, reference: str) -> str:
        found = resolve(self.list.url, reference)
        if found is None:
            raise ManifestError(f"Line {self.line} of {self.list.url} is not a web address: {reference[:80]!r}.")
        return found

    def whole(self, text: str) -> int:
        try:
            return int(text)
        except ValueError:
            raise ManifestError(f"Line {self.line} of {self.list.url} has {text[:40]!r} for a number.") from None

    def decimal(self, text: str) -> float:
        try:
            value = float(text)
        except ValueError:
            value = -1.0
        if not 0 <= value < 1e9:
            raise ManifestError(f"Line {self.line} of {self.list.url} has {text[:40]!r} for a duration.")
        return value

    def address(self, line: str) -> None:
        """A line without a tag: the address of a variant or of a segment."""
        if self.variant is not None:
            self.list.tracks.append(self.rendition(self.variant, self.absolute(line)))
            self.variant = None
            return
        url = self.absolute(line)
        self.list.segments.append(
            Segment(len(self.list.segments), url, self.duration or 0.0, self.place(url), self.discontinuity)
        )
        self.duration, self.discontinuity = None, False

    def place(self, url: str) -> ByteRange | None:
        """The byte range of a segment; without an offset it follows the one before (§4.3.2.2)."""
        if self.range is None:
            self.last = None
            return None
        length, start = self.range
        if start is None:
            if not self.last or self.last[0] != url:
                raise ManifestError(
                    f"Line {self.line} of {self.list.url}: a byte range without offset follows nothing."
                )
            start = self.last[1]
        self.range, self.last = None, (url, start + length)
        return ByteRange(start, length)

    def rendition(self, given: dict[str, str], url: str) -> Track:
        """A variant stream (§4.3.4.2)."""
        codecs = tuple(codec.strip() for codec in given.get("CODECS", "").split(",") if codec.strip())
        stated = [whole_number(side) for side in given.get("RESOLUTION", "").lower().split("x")]
        width, height = stated if len(stated) == 2 else (None, None)
        sized = bool(width and height)
        sound_only = bool(codecs) and not sized and all(c.startswith(("mp4a", "ac-3", "ec-3", "opus")) for c in codecs)
        rate = given.get("FRAME-RATE")
        return Track(
            name=f"v{len(self.list.tracks) + 1}",
            type="audio" if sound_only else "video",
            url=url,
            codecs=codecs,
            width=width if sized else None,
            height=height if sized else None,
            frame_rate=self.decimal(rate) if rate else None,
            bitrate=self.whole(given["BANDWIDTH"]) if "BANDWIDTH" in given else None,
            audio_group=given.get("AUDIO"),
        )

    def on_variant(self, value: str) -> None:
        self.variant = attributes(value)

    def on_media(self, value: str) -> None:
        given = attributes(value)
        kind = _MEDIA_TYPES.get(given.get("TYPE", ""))
        if kind is None or ("URI" not in given and kind != "audio"):
            return
        track = self.list.within if "URI" not in given else self.list.tracks
        track.append(
            Track(
                name=f"{given['TYPE'][0].lower()}{len(self.list.tracks) + 1}",
                type=kind,
                url=self.absolute(given["URI"]) if "URI" in given else "",
                language=given.get("LANGUAGE"),
                label=given.get("NAME"),
                group=given.get("GROUP-ID"),
                default=given.get("DEFAULT") == "YES",
            )
        )

    def on_duration(self, value: str) -> None:
        self.duration = self.decimal(value.partition(",")[0].strip())

    def on_range(self, value: str) -> None:
        length, _, start = value.strip().strip('"').partition("@")
        self.range = (self.whole(length), self.whole(start) if start else None)

    def on_discontinuity(self, _: str) -> None:
        self.discontinuity = True

    def on_key(self, value: str) -> None:
        """Encryption (§4.3.2.4): a key system is refused by name, a key served in clear is noted."""
        given = attributes(value)
        method, form = given.get("METHOD", "NONE"), given.get("KEYFORMAT", "identity").lower()
        if method == "NONE":
            return
        if form != "identity" or method.startswith("SAMPLE-AES"):
            system = KEY_SYSTEMS.get(form, form if form != "identity" else method)
            raise Refused(f"{self.list.url} is protected by {system}.", "Mudlark does not fetch protected media.")
        self.list.encryption = method

    def on_map(self, _: str) -> None:
        self.list.has_map = True

    def on_type(self, value: str) -> None:
        self.list.ended = self.list.ended or value == "VOD"

    def on_end(self, _: str) -> None:
        self.list.ended = True


_TAGS: dict[str, Callable[[_Reader, str], None]] = {
    "#EXT-X-STREAM-INF": _Reader.on_variant,
    "#EXT-X-MEDIA": _Reader.on_media,
    "#EXTINF": _Reader.on_duration,
    "#EXT-X-BYTERANGE": _Reader.on_range,
    "#EXT-X-DISCONTINUITY": _Reader.on_discontinuity,
    "#EXT-X-KEY": _Reader.on_key,
    "#EXT-X-SESSION-KEY": _Reader.on_key,
    "#EXT-X-MAP": _Reader.on_map,
    "#EXT-X-PLAYLIST-TYPE": _Reader.on_type,
    "#EXT-X-ENDLIST": _Reader.on_end,
}
