"""Endless bodies over HTTP, which is what radio is; the lists that lead to them; and the titles sent along.

Titles come as blocks among the bytes, at every so many of them (`icy-metaint`): a length in sixteenths, then text.
"""

import re
import zlib
from bisect import bisect_left
from collections.abc import Iterator

from mudlark.manifest.model import Live, Presentation, Rendition
from mudlark.media.sniff import sniff
from mudlark.web.address import resolve
from mudlark.web.answer import Content

_LIVE = frozenset(
    {"mp3", "adts", "ogg", "flv", "ts", "matroska"}
)  # forms that can be joined anywhere, or stop anywhere
LISTS = (".m3u", ".m3u8", ".pls", ".ram", ".asx", ".wax", ".wvx")
_LIST_TYPES = frozenset(
    {
        *("audio/x-mpegurl", "audio/mpegurl", "application/x-mpegurl", "audio/x-scpls", "application/pls+xml"),
        *("audio/x-pn-realaudio", "audio/x-ms-wax", "video/x-ms-wvx", "video/x-ms-asx", "video/x-ms-asf"),
    }
)
_MOST_LISTED = 50
_LARGEST_LIST = 100_000  # bytes
_TITLE = "StreamTitle='"
_LONGEST_TITLE = 500
COMPARED = 4096  # bytes of sound that tell where it goes on
_LONGEST_BURST, _BURST = 2_000_000, 3.0  # bytes, and seconds, that come at once when a body is asked for
_LATE = 0.5  # seconds by which pieces come later than they should


def is_endless(look: Content) -> bool:
    """True for sound or a film that has begun to come, can end anywhere, and of which nobody says how much there is."""
    if look.complete or look.length is not None or look.status != 200:
        return False
    sound = look.type.startswith("audio/") or look.type == "application/ogg" or "icy-name" in look.headers
    form = sniff(look.body)
    return sound or form in _LIVE or (form == "mp4" and b"mvex" in look.body)  # which says that fragments follow


def radio(look: Content) -> Presentation:
    """An endless body as a presentation."""
    bitrate = look.headers.get("icy-br", "").split(",")[0].strip()
    rendition = Rendition(
        name="sound",
        type="audio",
        url=look.url,
        bitrate=int(bitrate) * 1000 if bitrate.isascii() and bitrate.isdigit() and len(bitrate) < 7 else None,
        label=look.headers.get("icy-name") or None,
        segments=(),
    )
    return Presentation(look.url, "stream", (rendition,), live=Live())


def listed(look: Content) -> list[str]:
    """The addresses in a plain list (M3U, PLS, ASX, one a line); empty if it is none. Lists that HLS knows are none."""
    likely = look.type in _LIST_TYPES or look.url.partition("?")[0].lower().endswith(LISTS)
    if not likely or not look.complete or len(look.body) > _LARGEST_LIST or b"#EXT-X-" in look.body:
        return []
    text = look.body.decode("utf-8-sig", "replace")
    if text.lstrip().startswith("<"):
        found = _in_markup(text)
    elif "[playlist]" in text.lower():
        found = re.findall(r"(?im)^[ \t]*File\d+[ \t]*=[ \t]*(\S+)", text)
    else:
        found = [
            line.strip() for line in text.splitlines() if line.strip() and not line.lstrip().startswith(("#", "--"))
        ]
        if re.search(r"(?m)^#EXTINF:\s*[1-9]", text):
            return []
    addresses = [resolve(look.url, one) for one in found[:_MOST_LISTED]]
    named = text.lstrip()[:1] in "<[#"  # as what it is; text without a mark may be any, and names whole addresses
    if None in addresses or not (named or all(re.match(r"https?://", one, re.I) for one in found[:_MOST_LISTED])):
        return []
    return [address for address in addresses if address]


def _in_markup(text: str) -> list[str]:
    """The addresses in ASX, which seldom is well-formed."""
    from selectolax.lexbor import LexborHTMLParser

    named = (node.attributes.get("href") or "" for node in LexborHTMLParser(text).css("ref, entryref"))
    return [one.strip() for one in named if one.strip()]


class Titles:
    """Takes the blocks of titles out of a body. every: bytes of sound between two of them, 0 if there are none."""

    def __init__(self, every: int) -> None:
        self._every = every
        self._left = every
        self._block = bytearray()
        self._wanted = 0

    def split(self, chunk: bytes) -> Iterator[bytes | str]:
        """The sound in a chunk as bytes, and titles as text, in order."""
        if not self._every:
            yield chunk
            return
        view, at = memoryview(chunk), 0
        while at < len(view):
            if self._left:
                sound = bytes(view[at : at + self._left])
                self._left -= len(sound)
                at += len(sound)
                yield sound
            elif not self._block:
                self._wanted = 16 * view[at] + 1
                self._block += view[at : at + 1]
                at += 1
            else:
                part = view[at : at + self._wanted - len(self._block)]
                self._block += part
                at += len(part)
            if not self._left and len(self._block) == self._wanted and self._wanted:
                title = _title(bytes(self._block[1:]))
                self._block.clear()
                self._wanted, self._left = 0, self._every
                if title:
                    yield title


def _title(block: bytes) -> str | None:
    text = block.rstrip(b"\0")
    try:
        words = text.decode("utf-8")
    except UnicodeDecodeError:
        words = text.decode("cp1252", "replace")
    begin = words.find(_TITLE)
    if begin < 0:
        return None
    rest = words[begin + len(_TITLE) :]
    end = rest.find("';") if "';" in rest else len(rest) - rest.endswith("'")
    return rest[:end].strip()[:_LONGEST_TITLE] or None


def _behind(parts: list[bytes | str], place: int) -> Iterator[bytes | str]:
    """What is behind a byte of the sound."""
    for part in parts:
        size = len(part) if isinstance(part, bytes) else 0
        if isinstance(part, str) and place <= 0:
            yield part
        elif isinstance(part, bytes) and size > place:
            yield part[max(0, place) :]
        place -= size


class Splice:
    """Joins a body that is asked for again to what is there: servers first send at once what they sent last, so that
    a player need not wait. What comes is held back for some seconds, and the end of what is there is looked for in it.
    The end may be silence, or a tune that is played again and again, which is in many places: what comes before it has
    to be the same, too, and as much has to come behind it as was heard meanwhile. Where more came, as the server had
    been late, it has to be the one place there is.

    last: of the sound that is there. lost_at: when the last of it came, in seconds by any clock. rate: of the sound,
    bytes per second, 0 if it is not known; wavers: it is a mean, from which a part may differ by a tenth. joined: True
    if it goes on without a gap, False if not, None as long as nobody knows. since: when it began to come.
    """

    def __init__(self, last: bytes, lost_at: float = 0.0, rate: float = 0.0, *, wavers: bool = False) -> None:
        self._last, self._end = last, last[-COMPARED:]
        self._lost_at, self._rate, self._wavers = lost_at, rate, wavers
        self._away = 0.0
        self._places: list[int] = []
        self._expected = 0.0
        self._held: list[bytes | str] = []
        self._sound = bytearray()
        self.since: float | None = None
        self.joined: bool | None = None if last else False

    def take(self, part: bytes | str, now: float) -> list[bytes | str]:
        """What is new, once that is known. now: seconds by the same clock."""
        if self.joined is not None:
            return [part]
        self.since = now if self.since is None else self.since
        self._held.append(part)
        if isinstance(part, bytes):
            searched = max(0, len(self._sound) - len(self._end))
            self._sound += part
            while (found := self._sound.find(self._end, searched)) >= 0:
                behind, searched = found + len(self._end), found + 1
                if self._goes_on(behind):
                    self._places.append(behind)
            self._away = now - self._lost_at
            self._expected = max(self._expected, len(self._sound) - self._rate * self._away)
        if len(self._sound) > _LONGEST_BURST or now - self.since > _BURST or (self._places and not self._rate):
            return self.release()
        return []

    def _goes_on(self, behind: int) -> bool:
        """True if what came before a place is the end of what is there, and more than silence: half as much as is
        compared where all of it is the same, as far as either reaches; all of that behind something else, which some
        servers send first."""
        came = bytes(self._sound[max(0, behind - len(self._last)) : behind])
        there = self._last[-len(came) :]
        differs = bisect_left(range(len(came)), True, key=lambda size: came[-size - 1 :] != there[-size - 1 :])
        packed = len(zlib.compress(there[len(there) - differs :]))
        return packed >= min(COMPARED, len(self._last)) / (2 if came == there else 1)

    def _place(self) -> int | None:
        """Where it goes on, if that is known: the place next to where it is expected, or the only one before that.
        Without a rate, the first."""
        if not self._rate:
            return self._places[0] if self._places else None
        late = self._rate * (_LATE + (0.1 * self._away if self._wavers else 0.0))
        likely = [place for place in self._places if place <= self._expected + late]
        nearest = min(likely, key=lambda place: abs(place - self._expected), default=None)
        return nearest if nearest is None or nearest >= self._expected - late or len(likely) == 1 else None

    def release(self) -> list[bytes | str]:
        """What is new of what was held back, as nothing more is waited for."""
        held, self._held = self._held, []
        if self.joined is None:
            place = self._place()
            self.joined = place is not None
            return held if place is None else list(_behind(held, place))
        return held
