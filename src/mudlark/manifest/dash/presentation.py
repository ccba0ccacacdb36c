"""From the levels of an MPD to renditions: Periods, adaptation sets, representations (ISO/IEC 23009-1 §5.3).

A Period is a stretch. What is one rendition in several Periods is found by what the sets say of themselves: a set of
the same kind, language and role, in it the representation of the same name or size.
"""

import time
from collections.abc import Iterable, Sequence

import msgspec
from msgspec.structs import replace

from mudlark.errors import ManifestError
from mudlark.manifest.dash.document import (
    Element,
    duration,
    fail,
    first,
    local_name,
    moment,
    namespace_of,
    number,
    own,
    ratio,
)
from mudlark.manifest.dash.segments import MOST_SEGMENTS, SegmentPlace, pieces_of
from mudlark.manifest.model import (
    Document,
    IndexedFile,
    Live,
    ManifestRemark,
    Presentation,
    Rendition,
    RenditionType,
    Segment,
)
from mudlark.manifest.sequences import SequenceChain
from mudlark.media.codec_names import codec_named
from mudlark.web.address import resolve

_MOST_PERIODS = 2_000
_MOST_RENDITIONS = 5_000
_MOST_BASES = 8
_MOST_NOTES = 1_000
SOUND, WORDS = "sound", "words"  # the groups of sounds and of subtitles
_ASIDE = ("trickmode", "thumbnail_tile")  # in the schemes of properties of what is not played
_KNOWN_ESSENTIAL = ("urn:mpeg:mpegb:cicp", "urn:mpeg:dash:preselection", "http://dashif.org/metadata/hdr")
_DESCRIBES = "public.accessibility.describes-video"
_PURPOSE = "urn:tva:metadata:cs:AudioPurposeCS:2007"
_SCHEMES = {
    "urn:uuid:edef8ba9-79d6-4ace-a3c8-27dcd51d21ed": "Widevine",
    "urn:uuid:9a04f079-9840-4286-ab92-e65be0885f95": "PlayReady",
    "urn:uuid:94ce86fb-07ff-4f43-adb8-93d2fa968ca2": "FairPlay Streaming",
    "urn:uuid:e2719d58-a985-b3c9-781a-b030af78d30e": "Clear Key",
    "urn:uuid:1077efec-c0b2-4d02-ace3-3c1e52e2fb4b": "common encryption",
    "urn:mpeg:dash:sea:2012": "segment encryption (SEA)",
}
_COMMON = "urn:mpeg:dash:mp4protection:2011"
_UNLIKED = -10
Pieces = Sequence[Segment] | IndexedFile


class _Version(msgspec.Struct):
    """One representation in one Period."""

    identifier: str
    rendition: Rendition
    pieces: Pieces


class _Set(msgspec.Struct):
    """One adaptation set in one Period. of: what tells it from others, for finding it in other Periods."""

    type: RenditionType
    language: str | None
    of: tuple[str, ...]
    identifier: str
    versions: list[_Version] = msgspec.field(default_factory=list)


class _Period(msgspec.Struct):
    """begin, length: seconds, as far as they are stated or can be told from the segments."""

    number: int
    begin: float
    length: float | None
    asset: str | None
    sets: list[_Set] = msgspec.field(default_factory=list)


def open_mpd(root: Element, url: str, documents: tuple[Document, ...], now: float | None = None) -> Presentation:
    """The presentation that an MPD describes. url: its address after redirects. now: the server's time in seconds since
    1970, which tells what is there of a presentation that is still running; this machine's, where it is not given."""
    return _Reader(root, url, time.time() if now is None else now).read(documents)


def is_running(root: Element, now: float) -> bool:
    """True if a presentation is still running: dynamic (§5.3.1.2), and not over by its own clock."""
    if root.get("type") != "dynamic":
        return False
    begun, total = moment(root, "availabilityStartTime"), duration(root, "mediaPresentationDuration")
    return begun is None or total is None or now < begun + total


class _Reader:
    def __init__(self, root: Element, url: str, now: float) -> None:
        self.root = root
        self.url = url
        self.notes: list[ManifestRemark] = []
        self.running = is_running(root, now)
        self.since = now - (moment(root, "availabilityStartTime") or 0.0)
        self.depth = duration(root, "timeShiftBufferDepth")

    def window(self, begin: float) -> tuple[float, float] | None:
        """The seconds of a Period between which segments are there (§A.3.2); None for what is over."""
        if not self.running:
            return None
        latest = self.since - begin
        return (latest - self.depth if self.depth is not None else 0.0, latest)

    def note(self, name: str, value: str) -> None:
        note = ManifestRemark(name[:200], value[:2_000])
        if len(self.notes) < _MOST_NOTES and note not in self.notes:
            self.notes.append(note)

    def read(self, documents: tuple[Document, ...]) -> Presentation:
        elements = list(own(self.root, "Period"))
        if not elements:
            fail(self.root, "has no Period.", self.url)
        if len(elements) > _MOST_PERIODS:
            raise ManifestError(f"{self.url} has {len(elements):,} Periods, more than any presentation.")
        bases = self.bases(self.root, (self.url,))
        self.information()
        periods = self.periods(elements, bases)
        renditions = _joined(periods, in_order=self.running)
        if not renditions:
            raise ManifestError(f"{self.url} lists neither picture nor sound.")
        if len(renditions) > _MOST_RENDITIONS:
            raise ManifestError(f"{self.url} lists {len(renditions):,} renditions, more than any presentation.")
        most = max((len(one.segments) for one in renditions if one.segments is not None), default=0)
        if most > MOST_SEGMENTS:
            raise ManifestError(f"{self.url} promises {most:,} segments, more than any presentation has.")
        self.adverts(periods)
        live = Live(depth=self.depth, target=duration(self.root, "maxSegmentDuration")) if self.running else None
        return Presentation(self.url, "dash", tuple(renditions), documents, tuple(self.notes), live=live)

    def information(self) -> None:
        """What the MPD says of itself, for the record (§5.3.4, Annex on metrics)."""
        for element in own(self.root, "ProgramInformation"):
            for child in own(element, "Title", "Source", "Copyright"):
                if child.text and child.text.strip():
                    self.note(local_name(child).lower(), child.text.strip())
            if more := element.get("moreInformationURL"):
                self.note("more-information", more)
        for element in own(self.root, "Metrics"):
            self.note("metrics", element.get("metrics") or "")

    def periods(self, elements: list[Element], bases: tuple[str, ...]) -> list[_Period]:
        """Periods one after the other; one that states no length lasts until the next, or as long as its segments."""
        total = duration(self.root, "mediaPresentationDuration")
        starts = [duration(element, "start") for element in elements]
        lengths = [duration(element, "duration") for element in elements]
        periods: list[_Period] = []
        begin = 0.0
        for at, element in enumerate(elements):
            begin = begin if (stated := starts[at]) is None else stated
            length = lengths[at]
            following = starts[at + 1] if at + 1 < len(elements) else total
            if self.running and begin > self.since:
                break  # announced, and not begun
            if length is None and following is not None and following > begin:
                length = following - begin
            asset = first(element, "AssetIdentifier")
            identifier = f"{asset.get('schemeIdUri')} {asset.get('value')}" if asset is not None else None
            number_of = round(begin * 1000) if self.running else at  # that of a Period changes where earlier ones go
            period = _Period(number_of, begin, length, identifier)
            self.events(element, period)
            self.sets(element, self.bases(element, bases), period)
            if period.length is None and not self.running:
                period.length = _length_of(period)
            periods.append(period)
            begin += period.length or 0.0
        return periods

    def events(self, element: Element, period: _Period) -> None:
        for stream in own(element, "EventStream"):
            scale = number(stream, "timescale") or 1
            for event in list(own(stream, "Event"))[:_MOST_NOTES]:
                at = period.begin + (number(event, "presentationTime") or 0) / scale
                lasts = (number(event, "duration") or 0) / scale
                words = "".join(map(str, event.itertext())).strip() or event.get("messageData") or ""
                scheme = stream.get("schemeIdUri") or ""
                self.note(f"event {event.get('id') or ''}".strip(), f"{at:.3f} s, {lasts:.3f} s, {scheme}: {words}")

    def bases(self, level: Element, above: tuple[str, ...]) -> tuple[str, ...]:
        """The addresses that references of a level are relative to, the preferred first (§5.6)."""
        stated = [child for child in own(level, "BaseURL") if child.text and child.text.strip()]
        if not stated:
            return above
        resolved = []
        for child in sorted(stated, key=_preference):
            reference = (child.text or "").strip()
            for base in above:
                if address := resolve(base, reference):
                    resolved.append(address)
                elif base == above[0]:
                    fail(child, f"points to {reference[:80]!r}, which is no address of the web.", self.url)
        return tuple(dict.fromkeys(resolved))[:_MOST_BASES]

    def sets(self, element: Element, bases: tuple[str, ...], period: _Period) -> None:
        for sets_at, adaptation in enumerate(own(element, "AdaptationSet")):
            own_bases = self.bases(adaptation, bases)
            made = self.adaptation(element, adaptation, own_bases, period, sets_at)
            if made and made.versions:
                period.sets.append(made)
        for preselection in own(element, "Preselection"):
            self.note(
                f"preselection {preselection.get('id') or ''}".strip(), preselection.get("preselectionComponents") or ""
            )

    def adaptation(
        self, period_element: Element, element: Element, bases: tuple[str, ...], period: _Period, at: int
    ) -> _Set | None:
        representations = list(own(element, "Representation"))
        if not representations:
            return None
        facts = _Facts(element, representations[0])
        if facts.type is None:
            self.note("left-out", f"an adaptation set of type {facts.stated_type or 'that is not stated'}")
            return None
        made = _Set(facts.type, facts.language, (*facts.roles, *facts.accessibility), element.get("id") or "")
        essential = [scheme for scheme in facts.essential if not scheme.lower().startswith(_KNOWN_ESSENTIAL)]
        for representation in representations:
            identifier = representation.get("id") or ""
            if representation.get("dependencyId"):
                self.note(
                    "left-out", f"the layer {identifier!r}, which depends on {representation.get('dependencyId')!r}"
                )
                continue
            levels = (period_element, element, representation)
            window = self.window(period.begin)
            place = SegmentPlace(self.bases(representation, bases), period.begin, period.length, period.number, window)
            pieces = pieces_of(levels, place)
            rendition = facts.rendition(representation, f"{period.number}/{at}")
            if essential:
                rendition = replace(rendition, liking=rendition.liking + _UNLIKED)
            made.versions.append(_Version(identifier, rendition, pieces))
        return made

    def adverts(self, periods: list[_Period]) -> None:
        """Periods that are of another asset than the longest are likely adverts; they are kept, and said."""
        if len(periods) < 2:
            return
        lengths: dict[str | None, float] = {}
        for period in periods:
            lengths[period.asset] = lengths.get(period.asset, 0.0) + (period.length or 0.0)
        main = max(lengths, key=lambda asset: lengths[asset])
        for period in periods:
            if period.asset != main and period.asset is not None and main is not None:
                end = period.begin + (period.length or 0.0)
                self.note(
                    "advert", f"Period {period.number + 1} ({period.begin:.1f}–{end:.1f} s) is of another asset; kept"
                )


class _Facts:
    """What an adaptation set says of all its representations, wherever it stands (§5.3.3, §5.3.7)."""

    def __init__(self, element: Element, representation: Element) -> None:
        self.element = element
        component = first(element, "ContentComponent")
        places = [element, representation, *([component] if component is not None else [])]

        def stated(name: str) -> str:
            return next((value for place in places if (value := place.get(name))), "")

        mime = stated("mimeType").lower().partition(";")[0].strip()
        codecs = stated("codecs")
        self.stated_type = stated("contentType").lower() or mime
        components = {child.get("contentType") for child in own(element, "ContentComponent")}
        self.roles = tuple(child.get("value") or "" for child in own(element, "Role"))
        self.essential = tuple(child.get("schemeIdUri") or "" for child in own(element, "EssentialProperty"))
        properties = [
            *self.essential,
            *(child.get("schemeIdUri") or "" for child in own(element, "SupplementalProperty")),
        ]
        self.aside = any(part in scheme.lower() for scheme in properties for part in _ASIDE)
        self.type = _type_of(self.stated_type, mime, codecs, components)
        if self.aside and self.type is not None:
            self.type = "other"
        self.language = stated("lang") or None
        self.accessibility = tuple(
            _DESCRIBES
            if child.get("schemeIdUri") == _PURPOSE and child.get("value") == "1"
            else child.get("value") or ""
            for child in own(element, "Accessibility")
        )
        if "description" in self.roles:
            self.accessibility = tuple(dict.fromkeys((*self.accessibility, _DESCRIBES)))
        label = first(element, "Label")
        self.label = (label.text or "").strip() if label is not None else ""
        self.muxed = self.type == "video" and ("audio" in components or _has_sound(codecs))
        self.liking = _liking(element, self.roles, self.accessibility)

    def rendition(self, representation: Element, alternative: str) -> Rendition:
        """One representation as a rendition, without its segments."""
        levels = (representation, self.element)

        def stated(name: str) -> str:
            return next((value for level in levels if (value := level.get(name))), "")

        width, height = (_small(stated(name)) for name in ("width", "height"))
        codecs = tuple(part.strip() for part in stated("codecs").split(",") if part.strip())
        channels = next((child for level in levels for child in own(level, "AudioChannelConfiguration")), None)
        label = first(representation, "Label")
        assert self.type is not None
        sound = self.type == "audio"
        return Rendition(
            name="",
            type=self.type,
            url="",
            codecs=codecs,
            width=width,
            height=height,
            frame_rate=ratio(stated("frameRate")),
            bitrate=number(representation, "bandwidth"),
            range=_range(levels),
            channels=_channels(channels),
            language=self.language,
            label=((label.text or "").strip() if label is not None else "") or self.label or None,
            group=SOUND if sound else WORDS if self.type == "subtitles" else "aside" if self.type == "other" else None,
            sound_group=None if self.muxed else SOUND,
            subtitle_group=WORDS,
            forced=any("forced" in role for role in self.roles),
            characteristics=self.accessibility,
            sound_within=self.muxed,
            protected=_protection((representation, self.element)),
            alternative=alternative,
            liking=self.liking,
        )


def _type_of(stated: str, mime: str, codecs: str, components: Iterable[str | None]) -> RenditionType | None:
    """What is in a set: by its content type, its MIME type, its components, its codecs."""
    kind = stated.partition("/")[0]
    if mime in ("text/vtt", "application/ttml+xml") or codecs.startswith(("stpp", "wvtt")):
        return "subtitles"
    if kind == "text":
        return "subtitles"
    if kind == "image":
        return "other"
    if kind in ("video", "audio"):
        return "video" if kind == "video" else "audio"
    known = [codec for name in codecs.split(",") if (codec := codec_named(name.strip()))]
    for wanted in ("video", "audio"):
        if wanted in components or any(codec.type == wanted for codec in known):
            return "video" if wanted == "video" else "audio"
    return None


def _has_sound(codecs: str) -> bool:
    known = [codec for name in codecs.split(",") if (codec := codec_named(name.strip()))]
    return any(codec.type == "audio" for codec in known) and any(codec.type == "video" for codec in known)


def _liking(element: Element, roles: Sequence[str], accessibility: Sequence[str]) -> int:
    """By the maker's own priority first, then by role: the main one before those that say nothing, alternates
    behind."""
    priority = number(element, "selectionPriority")
    by_role = 1 if "main" in roles else -1 if set(roles) - {"main", "caption", "subtitle"} or accessibility else 0
    return 4 * (1 if priority is None else min(priority, 1 << 20)) + by_role


def _small(text: str) -> int | None:
    return int(text) if text.isascii() and text.isdigit() and 0 < len(text) < 7 else None


def _channels(element: Element | None) -> str | None:
    """The number of channels, where the scheme states one (§5.8.5.4)."""
    if element is None:
        return None
    value = (element.get("value") or "").strip()
    scheme = (element.get("schemeIdUri") or "").lower()
    if "dolby" in scheme and len(value) == 4:  # a bit for each place of a speaker
        return str(int(value, 16).bit_count()) if all(digit in "0123456789abcdefABCDEF" for digit in value) else None
    if "cicp:channelconfiguration" in scheme:
        return {"7": "8", "8": "2"}.get(value, value) or None
    return value or None


def _range(levels: Sequence[Element]) -> str | None:
    """SDR, PQ or HLG, as the transfer characteristics state (ISO/IEC 23091-2 §8.2)."""
    for level in levels:
        for child in own(level, "EssentialProperty", "SupplementalProperty"):
            if (child.get("schemeIdUri") or "").lower() == "urn:mpeg:mpegb:cicp:transfercharacteristics":
                return {"16": "PQ", "18": "HLG"}.get(child.get("value") or "", "SDR")
    return None


def _protection(levels: Sequence[Element]) -> tuple[str, ...]:
    """The key systems that are named (§5.8.4.1); the common scheme alone, where no system is."""
    schemes = [
        (child.get("schemeIdUri") or "").lower().strip()
        for level in levels
        for child in own(level, "ContentProtection")
    ]
    schemes += [
        "urn:mpeg:dash:sea:2012"
        for level in levels
        for child in level
        if local_name(child) in ("ContentProtectionSEA", "SegmentEncryption") or "dash:sea" in namespace_of(child)
    ]
    systems = [
        _SCHEMES.get(scheme, scheme or "a scheme that it does not name") for scheme in schemes if scheme != _COMMON
    ]
    return tuple(dict.fromkeys(systems)) or (("common encryption",) if schemes else ())


def _preference(child: Element) -> tuple[int, int]:
    """Lower priorities first; among equals the heavier (attributes of a registered extension)."""
    values = {local_name_of(name): value for name, value in child.attrib.items()}

    def whole(name: str) -> int:
        text = str(values.get(name, "1")).strip()
        return int(text) if text.isascii() and text.isdigit() and len(text) < 10 else 1

    return whole("priority"), -whole("weight")


def local_name_of(name: str | bytes) -> str:
    """An attribute's name without its namespace."""
    return str(name).rpartition("}")[2]


def _length_of(period: _Period) -> float | None:
    """How long a Period lasts that does not state it: as long as its segments."""
    ends = []
    for one in period.sets:
        for version in one.versions[:1]:
            if not isinstance(version.pieces, IndexedFile) and len(version.pieces):
                last = version.pieces[len(version.pieces) - 1]
                ends.append(last.begin + last.duration - period.begin)
    return max(ends, default=None)


def _joined(periods: list[_Period], *, in_order: bool) -> list[Rendition]:
    """Renditions over all Periods: those of the longest first, then what stands in others only. in_order: those of the
    first Period first, as the longest is not known while it runs."""
    used: set[tuple[int, int]] = set()
    renditions: list[Rendition] = []
    by_length = periods if in_order else sorted(periods, key=lambda period: -(period.length or 0.0))
    counts: dict[str, int] = {}
    default_set: int | None = None
    for leading in by_length:
        sounds = [one for one in leading.sets if one.type == "audio"]
        if default_set is None and sounds:
            best = max(sounds, key=lambda one: one.versions[0].rendition.liking)
            default_set = id(best)
        for one in leading.sets:
            if (leading.number, id(one)) in used:
                continue
            others = {}
            for period in periods:
                match = one if period is leading else _match(one, period, used, default=id(one) == default_set)
                if match is not None:
                    others[period.number] = match
                    used.add((period.number, id(match)))
            for version in one.versions:
                letter = {"video": "v", "audio": "a", "subtitles": "s"}.get(one.type, "x")
                counts[letter] = counts.get(letter, 0) + 1
                renditions.append(
                    _over(version, others, periods, f"{letter}{counts[letter]}", default=id(one) == default_set)
                )
    return renditions


def _match(one: _Set, period: _Period, used: set[tuple[int, int]], *, default: bool) -> _Set | None:
    """The set of another Period that goes on with this one. default: any sound will do where its language is not
    there."""
    alike = [other for other in period.sets if other.type == one.type and (period.number, id(other)) not in used]
    same = [other for other in alike if (other.language or "") == (one.language or "")]
    families = _family(one)
    exact = [other for other in same if other.of == one.of]
    for candidates in (exact, same if one.type != "audio" or not one.of else []):
        if candidates:
            return max(candidates, key=lambda other: (_family(other) == families, other.identifier == one.identifier))
    if (one.type == "video" or default) and alike:
        return max(alike, key=lambda other: (_family(other) == families, other.versions[0].rendition.liking))
    return None


def _family(one: _Set) -> str:
    codecs = one.versions[0].rendition.codecs
    known = codec_named(codecs[0]) if codecs else None
    return known.words if known else ""


def _over(version: _Version, sets: dict[int, _Set], periods: list[_Period], name: str, *, default: bool) -> Rendition:
    """A rendition with its pieces in all Periods."""
    pieces: list[Pieces] = []
    length = 0.0
    known = True
    protected = list(version.rendition.protected)
    for period in periods:
        if period.number not in sets:
            continue
        there = _alike(version, sets[period.number])
        pieces.append(there.pieces)
        protected += there.rendition.protected
        if period.length is None:
            known = False
        length += period.length or 0.0
    listed = [piece for piece in pieces if not isinstance(piece, IndexedFile)]
    segments = (listed[0] if len(listed) == 1 else SequenceChain(listed)) if len(listed) == len(pieces) else None
    return replace(
        version.rendition,
        name=name,
        default=default,
        segments=segments,
        pieces=tuple(pieces),
        length=length if known else None,
        protected=tuple(dict.fromkeys(protected)),
    )


def _alike(version: _Version, one: _Set) -> _Version:
    """The representation of a set that is closest: of the same name, else of the nearest size and bit rate."""
    if version in one.versions:
        return version
    wanted = version.rendition

    def distance(other: _Version) -> tuple[bool, int, int]:
        own = other.rendition
        return (
            other.identifier != version.identifier or own.height != wanted.height,
            abs((own.height or 0) - (wanted.height or 0)),
            abs((own.bitrate or 0) - (wanted.bitrate or 0)),
        )

    return min(one.versions, key=distance)
