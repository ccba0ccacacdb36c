"""Is an item that is there already still what the server has? Asked of the server, and said by what it was told.

Of a file: its entity tag, date, length and first bytes. Of a stream: its manifests, and its first and last segment.
Where nothing can be compared nothing is claimed.
"""

import hashlib
from pathlib import Path

import msgspec

from mudlark.archive.identity import Earlier, without_passing
from mudlark.archive.record import Record, SegmentFacts
from mudlark.errors import NetworkError
from mudlark.manifest.model import Presentation, Rendition, Segment
from mudlark.web.redact import redacted
from mudlark.web.retry import persist
from mudlark.web.session import Session


class Sameness(msgspec.Struct, frozen=True):
    """same: None if it cannot be told. by: what was compared, in words."""

    same: bool | None
    by: str


async def compare_there(
    session: Session,
    earlier: Earlier,
    intact: bool,
    target: str,
    presentation: Presentation,
    renditions: list[Rendition],
) -> Sameness:
    """Compare an item with what the server has now. intact: its own files may be compared, not only its record. target:
    what the user named."""
    if presentation.kind == "file":
        is_named = earlier.exact or redacted(earlier.record.source.target) == redacted(target)
        return _compare_file(earlier, intact, is_named, presentation)
    if presentation.kind == "tap":
        return Sameness(None, "nothing, as no address serves it")
    if presentation.documents and not _same_manifests(earlier, presentation):
        return Sameness(False, "its manifest")
    known = {(facts.track, facts.number): facts for facts in earlier.record.segment_list}
    segments = [(one.name, number, segment) for one in renditions for number, segment in enumerate(one.segments or ())]
    if {(name, number) for name, number, _ in segments} != set(known):
        return Sameness(False, "the number of its segments")
    for name, number, segment in (segments[0], segments[-1]):
        facts = known[name, number]
        if facts.sha256 is None:
            continue
        try:
            if not await _same_segment(session, segment, facts):
                return Sameness(False, f"segment {number + 1}")
        except NetworkError as problem:
            return Sameness(None, problem.what)
    return Sameness(
        True, "its manifest and its first and last segment" if presentation.documents else "its first and last"
    )


def _compare_file(earlier: Earlier, intact: bool, is_named: bool, presentation: Presentation) -> Sameness:
    """Compare a plain file with what the server says of it, and with its first bytes. One that was named by an address
    that is only alike is the same by its entity tag, or its date: two recordings of one length may well begin alike."""
    source = earlier.record.source
    facts = {
        "length": (source.length, presentation.facts.length),
        "entity tag": (source.validator, presentation.facts.validator),
        "date": (source.modified, presentation.facts.modified),
        "first bytes": _heads(earlier, presentation) if intact else (None, None),
    }
    known = {name: there == here for name, (there, here) in facts.items() if there is not None and here is not None}
    different = [name for name, same in known.items() if not same]
    if different:
        return Sameness(False, f"its {' and '.join(different)}")
    if "entity tag" in known:
        return Sameness(True, "its entity tag")
    enough = [name for name in ("date", "length", "first bytes") if name in known]
    by = f"its {' and '.join(enough)}" if enough else "nothing"
    return Sameness(True if len(enough) > 1 and (is_named or "date" in enough) else None, by)


def _heads(earlier: Earlier, presentation: Presentation) -> tuple[bytes | None, bytes | None]:
    """The first bytes here and there, as many as were sent."""
    path = _media(earlier)
    if path is None or not presentation.facts.head:
        return None, None
    try:
        with path.open("rb") as file:
            return file.read(len(presentation.facts.head)), presentation.facts.head
    except OSError:
        return None, None


def _media(earlier: Earlier) -> Path | None:
    media = [file for file in earlier.record.files if file.role == "media"]
    path = earlier.folder / media[0].path if len(media) == 1 else None
    return path if path and path.is_file() and not path.is_symlink() else None


def _same_manifests(earlier: Earlier, presentation: Presentation) -> bool:
    kept = []
    for manifest in earlier.record.source.manifests:
        try:
            kept.append((earlier.folder / manifest.path).read_text(encoding="utf-8", errors="replace"))
        except OSError:
            return False
    now = [redacted(document.body.decode("utf-8", "replace")) for document in presentation.documents]
    return [without_passing(text) for text in kept] == [without_passing(text) for text in now]


async def _same_segment(session: Session, segment: Segment, facts: SegmentFacts) -> bool:
    part = segment.resource.span

    async def attempt() -> bool:
        digest = hashlib.sha256()
        async with session.open(
            segment.resource.url, span=(part.start, part.length) if part else None, or_whole=True
        ) as answer:
            if part and answer.status == 200:
                return True  # the server sends all of it instead of a part; that is not fetched for a comparison
            async for chunk in answer.chunks:
                digest.update(chunk)
        return digest.hexdigest() == facts.sha256

    return await persist(attempt, session.connection.backoff)


def same_media(one: Record, other: Record) -> bool:
    """True if two records are of the same media, byte for byte."""

    def media(record: Record) -> list[str]:
        return [file.sha256 for file in record.files if file.role == "media"]

    return media(one) == media(other)
