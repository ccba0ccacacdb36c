"""HTTP Live Streaming playlists: text in, renditions and segments out.

Follows RFC 8216 §4 and its revision (draft-pantos-hls-rfc8216bis §4.4). Sans-I/O. Tags go to handlers by tables, one
for media playlists and one for masters; docs/manifests.md says of every tag what is done with it. Tags that are not
known are ignored, as §6.3.1 asks. Raises ManifestError (with line and tag) on what cannot be a playlist.
"""

import re
from collections import Counter, defaultdict
from collections.abc import Callable, Mapping
from urllib.parse import parse_qsl, urlsplit

import msgspec
from msgspec.structs import replace

from mudlark.errors import ManifestError
from mudlark.manifest.compressed import uncompressed
from mudlark.manifest.model import (
    LONGEST_GAP,
    Cipher,
    Initialization,
    ManifestRemark,
    Rendition,
    RenditionType,
    Segment,
)
from mudlark.media.codec_names import is_sound
from mudlark.text import printable, whole_number
from mudlark.web.address import resolve
from mudlark.web.resource import Resource, Span

_NAME = re.compile(r"[A-Z0-9-]{1,200}")
_HEXADECIMAL = re.compile(r"(?:0[xX])?([0-9A-Fa-f]{1,32})")
_VARIABLE = re.compile(r"\{\$([A-Za-z0-9_-]+)\}")
_MEDIA_TYPES: dict[str, RenditionType] = {
    "AUDIO": "audio",
    "SUBTITLES": "subtitles",
    "VIDEO": "video",
    "CLOSED-CAPTIONS": "captions",
}
KEY_SYSTEMS = {
    "com.apple.streamingkeydelivery": "FairPlay Streaming",
    "urn:uuid:edef8ba9-79d6-4ace-a3c8-27dcd51d21ed": "Widevine",
    "urn:uuid:9a04f079-9840-4286-ab92-e65be0885f95": "PlayReady",
    "com.microsoft.playready": "PlayReady",
    "com.widevine.alpha": "Widevine",
    "com.apple.fps": "FairPlay Streaming",
}
_MOST_SEGMENTS = 2_000_000
_MOST_RENDITIONS = 5_000
_MOST_NOTES = 1_000
_MOST_PARTS = 1_000  # of one segment
_LONGEST_LINE = 65_536  # characters that a line may grow to by its variables
_MOST_PUT_IN = 20_000_000  # characters that variables put in altogether
_LONGEST = 1e9  # seconds
_WHOLE_SECONDS = 0.5  # a duration given in whole seconds may be off by so much (§4.3.3.1)


class Playlist(msgspec.Struct, frozen=True):
    """A playlist as read: a master lists `renditions`, a media playlist `segments`.

    ended: the playlist says that nothing more will come. target: seconds that no segment exceeds, as stated. protected:
    the systems that protect segments, or all of a master. only_stills: a master
    that lists pictures for seeking, and nothing else. can_block: its server waits with an answer until there is more.
    can_skip: it can leave out what it has told of before; skipped: how many it has left out. before: discontinuities
    before its first segment, as stated (§4.3.3.3). parts: of the segment that comes next, while it is not
    whole.
    """

    url: str
    renditions: tuple[Rendition, ...] = ()
    segments: tuple[Segment, ...] = ()
    ended: bool = False
    target: float | None = None
    precision: float = 0.01
    protected: tuple[str, ...] = ()
    notes: tuple[ManifestRemark, ...] = ()
    variables: Mapping[str, str] = msgspec.field(default_factory=dict)
    only_stills: bool = False
    start: float | None = None
    can_block: bool = False
    can_skip: bool = False
    skipped: int = 0
    before: int = 0
    parts: tuple[Segment, ...] = ()

    @property
    def sequence(self) -> int:
        """The number of the first segment."""
        return self.segments[0].sequence if self.segments else 0

    @property
    def master(self) -> bool:
        """True for a master playlist."""
        return bool(self.renditions) or self.only_stills


def attributes(text: str) -> dict[str, str]:
    """An attribute list (§4.2), quotes removed. What is no attribute is passed over; read once from left to right."""
    found: dict[str, str] = {}
    at = 0
    while (equals := text.find("=", at)) >= 0:
        name = text[at:equals].rpartition(",")[2].strip()
        at = equals + 1
        while at < len(text) and text[at].isspace():
            at += 1
        quoted = at < len(text) and text[at] == '"'
        closing = text.find('"', at + 1) if quoted else -1
        begin, at = at, text.find(",", max(at, closing))
        at = len(text) if at < 0 else at + 1
        if _NAME.fullmatch(name):
            value = text[begin + 1 : closing] if closing >= 0 else text[begin:at].removesuffix(",")
            found[name] = value.strip().strip('"')
    return found


def parse(body: bytes, url: str, imported: Mapping[str, str] | None = None) -> Playlist:
    """Read a playlist that came from `url`; its addresses are made absolute. imported: variables of its master."""
    text = uncompressed(body, url).decode("utf-8-sig", "replace")
    lines = text.split("\n")  # at nothing else (§4.1): names may hold other line breaks
    first = next((number for number, line in enumerate(lines) if line.strip()), 0)
    if not lines or not lines[first].strip().startswith("#EXTM3U"):
        if "<html" in text[:4096].lower() or "<!doctype" in text[:4096].lower():
            raise ManifestError(
                f"{url} sends a web page where a playlist was expected.",
                advice="The link may have expired or need a log-in; open it in a browser to see.",
            )
        raise ManifestError(f"{url} is not a playlist: it does not begin with #EXTM3U.")
    return _Reader(url, imported or {}).read(lines)


class _Reader:
    def __init__(self, url: str, imported: Mapping[str, str]) -> None:
        self.url = url
        self.imported = imported
        self.variables: dict[str, str] = {}
        self.line = 0
        self.tag = ""
        # of a master
        self.renditions: list[Rendition] = []
        self.within: list[Rendition] = []
        self.counts: Counter[str] = Counter()  # of renditions so far, by the letter of their names
        self.put_in = 0
        self.parameters: dict[str, str] | None = None
        self.variant: dict[str, str] | None = None
        self.stills = 0
        # of a media playlist
        self.segments: list[Segment] = []
        self.parts: list[Segment] = []  # since the last segment
        self.duration: float | None = None
        self.span: tuple[int, int | None] | None = None
        self.last: tuple[str, int] | None = None
        self.sequence = 0
        self.stretch = 0
        self.begin = 0.0
        self.discontinuity = False
        self.gap = False
        self.moment: str | None = None
        self.keys: dict[str, tuple[str, Resource, bytes | None]] = {}  # by format: method or system, key, IV
        self.keyed = False
        self.key_place = 0
        self.init: Initialization | None = None
        self.ended = False
        self.target: float | None = None
        self.whole_seconds = True
        self.protected: list[str] = []
        self.notes: list[ManifestRemark] = []
        self.start: float | None = None
        self.can_block = self.can_skip = False
        self.skipped = self.before = 0

    def read(self, lines: list[str]) -> Playlist:
        for self.line, raw in enumerate(lines, start=1):
            line = raw.strip() if raw.isprintable() else printable(raw)
            if "{$" in line and not line.startswith("#EXT-X-DEFINE"):
                line = self.substituted(line).strip()
            if not line:
                continue
            if line[0] != "#":
                self.address(line)
            elif line.startswith("#EXT"):
                self.tag, _, value = line.partition(":")
                handler = _TAGS.get(self.tag)
                if handler:
                    handler(self, value)
        if self.ended:
            self.segments, self.parts = self.segments + self.parts, []
        if self.renditions and self.segments:
            raise ManifestError(f"{self.url} mixes the tags of a master and of a media playlist.")
        return Playlist(
            url=self.url,
            renditions=tuple(_merged(self.renditions, self.within)),
            segments=tuple(self.segments),
            ended=self.ended,
            target=self.target,
            precision=_WHOLE_SECONDS if self.whole_seconds and self.segments else 0.01,
            protected=tuple(dict.fromkeys(self.protected)),
            notes=tuple(self.notes),
            variables=self.variables,
            only_stills=bool(self.stills) and not self.renditions and not self.segments,
            start=self.start,
            can_block=self.can_block,
            can_skip=self.can_skip,
            skipped=self.skipped,
            before=self.before,
            parts=tuple(self.parts),
        )

    def fail(self, what: str) -> ManifestError:
        tag = f" ({self.tag})" if self.tag else ""
        return ManifestError(f"Line {self.line}{tag} of {self.url} {what}")

    def substituted(self, text: str) -> str:
        """The text with variables replaced by their values (revision §4.3)."""

        length = 0

        def value(match: re.Match[str]) -> str:
            nonlocal length
            if match[1] not in self.variables:
                raise self.fail(f"uses the variable {match[1][:40]!r}, which nothing defines.")
            length += len(self.variables[match[1]])
            if length > _LONGEST_LINE:
                raise self.fail("grows longer by its variables than any line.")
            return self.variables[match[1]]

        written = _VARIABLE.sub(value, text)
        self.put_in += length
        if self.put_in > _MOST_PUT_IN:
            raise self.fail("makes the playlist longer by its variables than any.")
        return written

    def absolute(self, reference: str) -> str:
        resolved = resolve(self.url, reference)
        if resolved is None:
            raise self.fail(f"is not a web address: {reference[:80]!r}.")
        return resolved

    def whole(self, text: str) -> int:
        number = whole_number(text)
        if number is None:
            raise self.fail(f"has {text[:40]!r} for a number.")
        return number

    def decimal(self, text: str) -> float:
        try:
            value = float(text)
        except ValueError:
            value = -1.0
        if not 0 <= value < _LONGEST:
            raise self.fail(f"has {text[:40]!r} for a duration.")
        return value

    def address(self, line: str) -> None:
        """A line without a tag: the address of a variant or of a segment."""
        self.tag = ""
        if self.variant is not None:
            self.add(self.as_variant(self.variant, self.absolute(line)))
            self.variant = None
            return
        if len(self.segments) >= _MOST_SEGMENTS:
            raise self.fail(f"lists more than {_MOST_SEGMENTS:,} segments.")
        url = self.absolute(line)
        self.stretch += self.discontinuity
        sequence = self.sequence + len(self.segments)
        duration = self.duration or 0.0
        if self.gap and duration > LONGEST_GAP:
            raise self.fail(f"says that {duration:,.0f} s are missing, which is no gap in a film.")
        resource = Resource(url, self.place(url) if self.span or self.last else None)
        cipher = self.cipher(sequence) if self.keyed else None
        self.segments.append(
            Segment(sequence, resource, self.begin, duration, self.stretch, self.init, cipher, self.gap, self.moment)
        )
        self.begin += duration
        self.parts.clear()
        self.duration, self.moment = None, None
        self.discontinuity = self.gap = False

    def place(self, url: str) -> Span | None:
        """The byte range of a segment; without an offset it follows the one before (§4.3.2.2)."""
        if self.span is None:
            self.last = None
            return None
        length, start = self.span
        if start is None:
            if not self.last or self.last[0] != url:
                raise self.fail("has a byte range without offset that follows nothing.")
            start = self.last[1]
        self.span, self.last = None, (url, start + length)
        return Span(start, length)

    def cipher(self, sequence: int | None) -> Cipher | None:
        """How what follows is encrypted: with the key of an `identity` format, if there is one among those given."""
        method, key, iv = self.keys.get("identity", ("", Resource(""), None))
        if method != "AES-128":
            self.protected += [system for system, _, _ in self.keys.values() if system not in self.protected]
            return None
        if iv is None:
            if sequence is None:
                raise self.fail("names an encrypted section, whose key states no IV.")
            iv = sequence.to_bytes(16, "big")
        return Cipher(key, iv)

    def add(self, rendition: Rendition) -> None:
        if len(self.renditions) >= _MOST_RENDITIONS:
            raise self.fail(f"lists more than {_MOST_RENDITIONS:,} renditions.")
        self.renditions.append(rendition)

    def numbered(self, letter: str, *, counted: bool = True) -> str:
        """The name of the next rendition of a kind. counted: the one after it has the number behind."""
        self.counts[letter] += counted
        return f"{letter}{self.counts[letter] + (not counted)}"

    def as_variant(self, given: dict[str, str], url: str) -> Rendition:
        """A variant stream (§4.3.4.2)."""
        codecs = tuple(codec.strip() for codec in given.get("CODECS", "").split(",") if codec.strip())
        stated = [whole_number(side) for side in given.get("RESOLUTION", "").lower().split("x")]
        width, height = stated if len(stated) == 2 else (None, None)
        sized = bool(width and height)
        rate = given.get("FRAME-RATE")
        score = given.get("SCORE")
        return Rendition(
            name=self.numbered("v"),
            type="audio" if codecs and not sized and all(map(is_sound, codecs)) else "video",
            url=url,
            codecs=codecs,
            width=width if sized else None,
            height=height if sized else None,
            frame_rate=self.decimal(rate) if rate else None,
            bitrate=whole_number(given.get("BANDWIDTH", "")),
            average=whole_number(given.get("AVERAGE-BANDWIDTH", "")),
            score=self.decimal(score) if score else None,
            range=given.get("VIDEO-RANGE"),
            sound_group=given.get("AUDIO"),
            subtitle_group=given.get("SUBTITLES"),
            label=given.get("NAME"),
            pathway=given.get("PATHWAY-ID"),
        )

    def on_variant(self, value: str) -> None:
        self.variant = attributes(value)

    def on_stills(self, _: str) -> None:
        self.stills += 1

    def on_media(self, value: str) -> None:
        given = attributes(value)
        kind = _MEDIA_TYPES.get(given.get("TYPE", ""))
        if kind is None or ("URI" not in given and kind not in ("audio", "captions")):
            return
        inside = "URI" not in given
        letter = {"audio": "a", "subtitles": "s", "video": "g", "captions": "c"}[kind]
        rendition = Rendition(
            name=self.numbered(letter, counted=not inside or kind == "captions"),
            type=kind,
            url="" if inside else self.absolute(given["URI"]),
            language=given.get("LANGUAGE"),
            label=given.get("NAME"),
            group=given.get("GROUP-ID", ""),
            channels=given.get("CHANNELS", "").partition("/")[0] or None,
            default=given.get("DEFAULT") == "YES",
            forced=given.get("FORCED") == "YES",
            characteristics=tuple(filter(None, given.get("CHARACTERISTICS", "").split(","))),
        )
        if inside and rendition.type != "captions":
            if len(self.within) < _MOST_RENDITIONS:
                self.within.append(rendition)
        else:
            self.add(rendition)

    def on_duration(self, value: str) -> None:
        self.duration = self.decimal(value.partition(",")[0])
        if self.whole_seconds and self.duration != int(self.duration):
            self.whole_seconds = False

    def on_part(self, value: str) -> None:
        """A part of a segment (revision §4.4.4.9). Of encrypted ones only whole segments are taken: whether a part is
        encrypted by itself nothing says."""
        given = attributes(value)
        if not given.get("URI"):
            raise self.fail("names no part.")
        if self.keyed or len(self.parts) >= _MOST_PARTS:
            return
        url, before = self.absolute(given["URI"]), self.parts[-1] if self.parts else None
        span = None
        if "BYTERANGE" in given:
            length, _, start = given["BYTERANGE"].partition("@")
            follows = before.resource.span if before and before.resource.url == url else None
            span = Span(self.whole(start) if start else follows.end if follows else 0, self.whole(length))
        self.parts.append(
            Segment(
                self.sequence + len(self.segments) + len(self.parts),
                Resource(url, span),
                before.begin + before.duration if before else self.begin,
                self.decimal(given.get("DURATION", "")),
                self.stretch + self.discontinuity,
                self.init,
                gap=given.get("GAP") == "YES",
                moment=None if before else self.moment,
            )
        )

    def on_range(self, value: str) -> None:
        length, _, start = value.strip().strip('"').partition("@")
        self.span = (self.whole(length), self.whole(start) if start else None)

    def on_discontinuity(self, _: str) -> None:
        self.discontinuity = bool(self.segments) or self.skipped > 0

    def on_discontinuity_sequence(self, value: str) -> None:
        if not self.segments:
            self.stretch = self.before = self.whole(value.strip())

    def on_sequence(self, value: str) -> None:
        if not self.segments:
            self.sequence = self.whole(value.strip())

    def on_gap(self, _: str) -> None:
        self.gap = True

    def on_moment(self, value: str) -> None:
        self.moment = value.strip()[:64]

    def on_key(self, value: str) -> None:
        """Encryption (§4.3.2.4). Several keys of different formats may stand side by side; any one of them serves."""
        given = attributes(value)
        method, form = given.get("METHOD", "NONE"), given.get("KEYFORMAT", "identity").lower()
        if method == "NONE":
            self.keys, self.keyed = {}, False
            return
        if form in self.keys or len(self.segments) != self.key_place:
            self.keys = {}
        self.key_place, self.keyed = len(self.segments), True
        if form != "identity" or method.startswith("SAMPLE-AES"):
            system = KEY_SYSTEMS.get(form, form if form != "identity" else method)
            self.keys[form] = (system, Resource(""), None)
        elif method != "AES-128":
            raise self.fail(f"encrypts by {method[:40]!r}, which is not known.")
        else:
            if not given.get("URI"):
                raise self.fail("names no key.")
            self.keys[form] = (method, Resource(self.absolute(given["URI"])), self.iv(given.get("IV")))

    def iv(self, text: str | None) -> bytes | None:
        """An initialization vector: up to 128 bits in hexadecimal."""
        if text is None:
            return None
        digits = _HEXADECIMAL.fullmatch(text)
        if digits is None:
            raise self.fail(f"has {text[:40]!r} for an IV.")
        return int(digits[1], 16).to_bytes(16, "big")

    def on_session_key(self, value: str) -> None:
        given = attributes(value)
        form = given.get("KEYFORMAT", "identity").lower()
        if form != "identity":
            self.note("session-key", KEY_SYSTEMS.get(form, form))

    def on_map(self, value: str) -> None:
        given = attributes(value)
        if not given.get("URI"):
            raise self.fail("names no section.")
        span = None
        if "BYTERANGE" in given:
            length, _, start = given["BYTERANGE"].partition("@")
            span = Span(self.whole(start) if start else 0, self.whole(length))
        resource = Resource(self.absolute(given["URI"]), span)
        explicit = self.keys.get("identity", ("", Resource(""), None))[2]
        cipher = self.cipher(None) if self.keyed and explicit is not None else None
        self.init = Initialization(resource, cipher)

    def on_target(self, value: str) -> None:
        text = value.strip()
        self.target = float(text) if re.fullmatch(r"\d{1,9}(?:\.\d{0,9})?", text, re.A) else None

    def on_type(self, value: str) -> None:
        self.ended = self.ended or value.strip() == "VOD"

    def on_end(self, _: str) -> None:
        self.ended = True

    def on_define(self, value: str) -> None:
        """A variable (revision §4.4.2.3): given here, taken over from the master, or from the address."""
        given = attributes(value)
        if "NAME" in given:
            self.variables[given["NAME"]] = given.get("VALUE", "")
        elif "IMPORT" in given:
            name = given["IMPORT"]
            if name not in self.imported:
                raise self.fail(f"imports the variable {name[:40]!r}, which its master does not define.")
            self.variables[name] = self.imported[name]
        elif "QUERYPARAM" in given:
            name = given["QUERYPARAM"]
            if self.parameters is None:
                self.parameters = dict(parse_qsl(urlsplit(self.url).query, keep_blank_values=True))
            if name not in self.parameters:
                raise self.fail(f"wants the parameter {name[:40]!r}, which the playlist's address does not have.")
            self.variables[name] = self.parameters[name]

    def on_start(self, value: str) -> None:
        text = attributes(value).get("TIME-OFFSET", "")
        if re.fullmatch(r"-?\d{1,9}(?:\.\d{0,9})?", text, re.A):
            self.start = float(text)

    def on_session_data(self, value: str) -> None:
        given = attributes(value)
        self.note(given.get("DATA-ID", "session-data"), given.get("VALUE") or given.get("URI", ""))

    def on_date_range(self, value: str) -> None:
        given = attributes(value)
        self.note(f"date-range {given.get('ID', '')}".strip(), value)

    def on_server_control(self, value: str) -> None:
        given = attributes(value)
        self.can_block = given.get("CAN-BLOCK-RELOAD") == "YES"
        self.can_skip = "CAN-SKIP-UNTIL" in given

    def on_skip(self, value: str) -> None:
        """A list that leaves out segments which it has told of before (revision §4.4.5.2)."""
        if not self.segments:
            self.skipped = self.whole(attributes(value).get("SKIPPED-SEGMENTS", "0"))
            self.sequence += self.skipped

    def on_steering(self, value: str) -> None:
        self.note("content-steering", attributes(value).get("SERVER-URI", ""))

    def note(self, name: str, value: str) -> None:
        if len(self.notes) < _MOST_NOTES:
            self.notes.append(ManifestRemark(name[:200], value[:2_000]))


def _merged(renditions: list[Rendition], within: list[Rendition]) -> list[Rendition]:
    """The renditions, copies of one under other addresses (redundant streams) as one, with what is inside of each."""
    merged: dict[tuple[object, ...], Rendition] = {}
    copies: dict[str, str] = {}  # groups of one pathway, by those of another
    sounds: defaultdict[str | None, list[Rendition]] = defaultdict(list)
    for sound in within:
        if sound.type == "audio":
            sounds[sound.group].append(sound)
    defaults = {group for group, inside in sounds.items() if any(sound.default for sound in inside)}
    for rendition in renditions:
        inside = sounds.get(rendition.sound_group, [])
        if rendition.sound_group and inside and rendition.group is None:
            rendition = replace(
                rendition,
                sound_within=True,
                language=inside[0].language,
                sound_default=rendition.sound_group in defaults,
            )
        known = merged.get(key := _likeness(rendition))
        if known is None:
            merged[key] = rendition
        elif rendition.url not in (known.url, *known.others):
            merged[key] = replace(known, others=(*known.others, rendition.url))
            pairs = ((rendition.sound_group, known.sound_group), (rendition.subtitle_group, known.subtitle_group))
            copies |= {copy: group for copy, group in pairs if copy and group and copy != group}
    return _without_copies(list(merged.values()), copies)


def _without_copies(renditions: list[Rendition], copies: Mapping[str, str]) -> list[Rendition]:
    """The renditions, those in groups that are copies of others as other addresses of these."""
    places = {(one.type, one.language, one.label, one.group): at for at, one in reversed(list(enumerate(renditions)))}
    others: defaultdict[int, list[str]] = defaultdict(list)
    gone = set()
    for at, copy in enumerate(renditions):
        if copy.group not in copies:
            continue
        first = places.get((copy.type, copy.language, copy.label, copies[copy.group or ""]))
        if first is not None and first not in gone:
            others[first].append(copy.url)
            gone.add(at)
    joined = [
        replace(one, others=(*one.others, *others[at])) if at in others else one for at, one in enumerate(renditions)
    ]
    return [one for at, one in enumerate(joined) if at not in gone]


def _likeness(rendition: Rendition) -> tuple[object, ...]:
    """What two copies of one rendition have in common. Variants that differ in nothing but their address, or the groups
    that stand beside them, are copies (§6.2.4)."""
    if rendition.group is not None:
        return (rendition.type, rendition.group, rendition.language, rendition.label, rendition.url)
    if rendition.bitrate is None or (not rendition.codecs and rendition.width is None):
        return (rendition.url,)
    return (
        rendition.type,
        rendition.codecs,
        rendition.width,
        rendition.height,
        rendition.frame_rate,
        rendition.bitrate,
        rendition.average,
        rendition.range,
        rendition.score,
        # each pathway has groups of its own (revision §4.4.6.2, PATHWAY-ID)
        None if rendition.pathway else rendition.sound_group,
        None if rendition.pathway else rendition.subtitle_group,
        rendition.label,
    )


_TAGS: dict[str, Callable[[_Reader, str], None]] = {
    "#EXT-X-STREAM-INF": _Reader.on_variant,
    "#EXT-X-I-FRAME-STREAM-INF": _Reader.on_stills,
    "#EXT-X-MEDIA": _Reader.on_media,
    "#EXT-X-SESSION-KEY": _Reader.on_session_key,
    "#EXT-X-SESSION-DATA": _Reader.on_session_data,
    "#EXT-X-CONTENT-STEERING": _Reader.on_steering,
    "#EXT-X-DEFINE": _Reader.on_define,
    "#EXT-X-SERVER-CONTROL": _Reader.on_server_control,
    "#EXT-X-SKIP": _Reader.on_skip,
    "#EXT-X-START": _Reader.on_start,
    "#EXTINF": _Reader.on_duration,
    "#EXT-X-BYTERANGE": _Reader.on_range,
    "#EXT-X-PART": _Reader.on_part,
    "#EXT-X-DISCONTINUITY": _Reader.on_discontinuity,
    "#EXT-X-DISCONTINUITY-SEQUENCE": _Reader.on_discontinuity_sequence,
    "#EXT-X-MEDIA-SEQUENCE": _Reader.on_sequence,
    "#EXT-X-TARGETDURATION": _Reader.on_target,
    "#EXT-X-KEY": _Reader.on_key,
    "#EXT-X-MAP": _Reader.on_map,
    "#EXT-X-GAP": _Reader.on_gap,
    "#EXT-X-PROGRAM-DATE-TIME": _Reader.on_moment,
    "#EXT-X-DATERANGE": _Reader.on_date_range,
    "#EXT-X-PLAYLIST-TYPE": _Reader.on_type,
    "#EXT-X-ENDLIST": _Reader.on_end,
}
