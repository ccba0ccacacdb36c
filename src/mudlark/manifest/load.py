"""From an answer of a server to a presentation: the playlists behind a playlist are fetched here, and only here."""

from collections.abc import Iterable

from mudlark.errors import ManifestError, UsageError
from mudlark.manifest import hls
from mudlark.manifest.model import Document, Presentation, Track
from mudlark.manifest.plain import plain_file
from mudlark.media.sniff import sniff
from mudlark.together import together
from mudlark.web.session import Look, Session


def wants_text(head: bytes, kind: str) -> bool:
    """True if an answer that begins so is a page or a manifest, to be read whole. What holds NULs is no text, whatever
    its type says."""
    form = sniff(head)
    if form in ("html", "hls", "dash", "xml", "json", "text"):
        return True
    wide = head.startswith((b"\xff\xfe", b"\xfe\xff"))  # UTF-16
    return form == "unknown" and kind.startswith("text/") and (wide or b"\0" not in head)


def is_manifest(look: Look) -> bool:
    """True if the answer is, or claims to be, a manifest. A playlist's type on a web page is an expired link."""
    return sniff(look.body) in ("hls", "dash") or "mpegurl" in look.type or look.url.partition("?")[0].endswith(".m3u8")


def open_presentation(look: Look) -> Presentation:
    """The presentation that an answer holds: a playlist, or a plain file."""
    if sniff(look.body) == "dash":
        raise UsageError(f"{look.url} is a DASH manifest; this version of Mudlark reads HLS only.")
    if is_manifest(look):
        playlist = hls.parse(look.body, look.url)
        document = Document(look.url, look.body)
        if playlist.master:
            return Presentation(look.url, "hls", playlist.tracks, [document])
        track = Track("v1", "video", look.url)
        _fill(track, playlist)
        return Presentation(look.url, "hls", [track], [document])
    return plain_file(look)


async def load(session: Session, address: str) -> Presentation:
    """The presentation at an address. A plain file is asked for its beginning as a part, to see whether that works."""
    look = await session.look(address, wants_text)
    if is_manifest(look) or look.complete:
        return open_presentation(look)
    return plain_file(await session.glance(look.url, patient=True), look)


async def fill(session: Session, presentation: Presentation, tracks: Iterable[Track]) -> None:
    """Read the playlists of those tracks that have none yet."""
    waiting = [track for track in tracks if track.segments is None and track.type != "subtitles"]
    looks = await together(session.look(track.url, wants_text) for track in waiting)
    for track, look in zip(waiting, looks, strict=True):
        _fill(track, hls.parse(look.body, look.url))
        presentation.documents.append(Document(look.url, look.body))


def _fill(track: Track, playlist: hls.Playlist) -> None:
    if playlist.master:
        raise ManifestError(f"{playlist.url} is a master playlist where a media playlist was expected.")
    if not playlist.segments:
        raise ManifestError(
            f"{playlist.url} lists no segments.", advice="The recording may not have begun, or be gone."
        )
    if playlist.has_map:
        raise UsageError(
            f"{playlist.url} has fragmented MP4 segments; this version of Mudlark reads transport streams."
        )
    if playlist.encryption:
        raise UsageError(
            f"{playlist.url} is encrypted ({playlist.encryption}); this version of Mudlark cannot read it."
        )
    if not playlist.ended:
        raise UsageError(f"{playlist.url} is a live playlist; this version of Mudlark fetches finished ones.")
    track.segments = playlist.segments
