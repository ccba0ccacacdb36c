"""Endless bodies over HTTP, which is what radio is; the plain lists that lead to them; and the titles sent along.

Titles come as blocks among the bytes, at every so many of them (`icy-metaint`): a length in sixteenths, then text.
"""

import re
from collections.abc import Iterator

from mudlark.manifest.model import Live, Presentation, Rendition
from mudlark.media.sniff import sniff
from mudlark.web.address import resolve
from mudlark.web.session import Content

_SOUNDS = frozenset({"mp3", "adts", "ogg", "flv"})  # an FLV without a length is a live one
_LIST_TYPES = frozenset(
    {"audio/x-mpegurl", "audio/mpegurl", "application/x-mpegurl", "audio/x-scpls", "application/pls+xml"}
)
_MOST_LISTED = 50
_LARGEST_LIST = 100_000  # bytes
_TITLE = "StreamTitle='"
_LONGEST_TITLE = 500


def is_endless(look: Content) -> bool:
    """True for sound, or an FLV, that has begun to come, and of which nobody says how much there is."""
    if look.complete or look.length is not None or look.status != 200:
        return False
    sound = look.type.startswith("audio/") or look.type == "application/ogg" or "icy-name" in look.headers
    return sound or sniff(look.body) in _SOUNDS


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
    """The addresses in a plain list (M3U, PLS); empty if it is none. Lists that HLS knows are none."""
    name = look.url.partition("?")[0].lower()
    likely = look.type in _LIST_TYPES or name.endswith((".m3u", ".pls", ".m3u8"))
    if not likely or not look.complete or len(look.body) > _LARGEST_LIST or b"#EXT-X-" in look.body:
        return []
    text = look.body.decode("utf-8-sig", "replace")
    if "[playlist]" in text.lower():
        found = re.findall(r"(?im)^[ \t]*File\d+[ \t]*=[ \t]*(\S+)", text)
    else:
        found = [line.strip() for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
        if re.search(r"(?m)^#EXTINF:\s*[1-9]", text):
            return []
    addresses = [address for one in found[:_MOST_LISTED] if (address := resolve(look.url, one))]
    return addresses if all(re.match(r"https?://", one, re.I) for one in found[:_MOST_LISTED]) else []


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
