"""Is an item that is there already still what the server has? Asked of the server, and said by what it was told.

Of a file: its entity tag, or its date, length and first bytes, or its bytes at some places. Of a stream: its manifests,
and its first and last segment. Where nothing can be compared nothing is claimed.
"""

import asyncio
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

_PART = 65_536  # bytes that are compared at one place


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
        return await _compare_file(session, earlier, intact, is_named, presentation)
    if presentation.kind == "tap":
        return Sameness(None, "nothing, as no address serves it")
    if presentation.documents and not _same_manifests(earlier, presentation):
        return Sameness(False, "its manifest")
    known = {(facts.track, facts.number): facts for facts in earlier.record.segment_list}
    segments = [(one.name, number, segment) for one in renditions for number, segment in enumerate(one.segments or ())]
    if {(name, number) for name, number, _ in segments} != set(known):
        return Sameness(False, "the number of its segments")
    compared = list[str]()
    for which, (name, number, segment) in (("first", segments[0]), ("last", segments[-1]))[: len(segments)]:
        try:
            same = await _same_segment(session, segment, known[name, number])
        except NetworkError as problem:
            return Sameness(None, problem.what)
        if same is False:
            return Sameness(False, f"segment {number + 1}")
        compared += [which] if same else []
    words = ["its manifest"] if presentation.documents else []
    words += [f"its {' and '.join(compared)} segment"] if compared else []
    return Sameness(True if words else None, " and ".join(words) or "nothing")


async def _compare_file(
    session: Session, earlier: Earlier, intact: bool, is_named: bool, presentation: Presentation
) -> Sameness:
    """Compare a plain file with what the server says of it; and where that is neither tag nor date, with its bytes at
    some places. One that was named by an address that is only alike is the same by what the server says alone."""
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
    if "date" in enough:
        return Sameness(True if len(enough) > 1 else None, by)
    path = _media(earlier)
    if not is_named or path is None or not {"length", "first bytes"} <= known.keys():
        return Sameness(None, by)
    try:
        return await _compare_places(session, path, presentation)
    except (NetworkError, OSError) as problem:
        return Sameness(None, str(problem))


async def _compare_places(session: Session, path: Path, presentation: Presentation) -> Sameness:
    """Compare a file whose length and first bytes are the same in its middle and at its end; a server that sends no
    parts is not asked for all of it here."""
    length, first = presentation.facts.length or 0, len(presentation.facts.head)
    if length <= first:
        return Sameness(True, "its bytes")
    for start in (length // 2, max(0, length - _PART)):
        span = (start, min(_PART, length - start))
        async with session.open(presentation.url, span=span, or_whole=True) as answer:
            if answer.status != 206:
                return Sameness(None, "its length and first bytes")
            there = b"".join([chunk async for chunk in answer.chunks])
        if there != await asyncio.to_thread(_part, path, *span):
            return Sameness(False, "its bytes")
    return Sameness(True, "its length and its bytes at three places")


def _part(path: Path, start: int, length: int) -> bytes:
    with path.open("rb") as file:
        file.seek(start)
        return file.read(length)


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


async def _same_segment(session: Session, segment: Segment, facts: SegmentFacts) -> bool | None:
    """None where it cannot be told: nothing is known of it, or its server sends all instead of a part."""
    part = segment.resource.span
    if facts.sha256 is None:
        return None

    async def attempt() -> bool | None:
        digest = hashlib.sha256()
        async with session.open(
            segment.resource.url, span=(part.start, part.length) if part else None, or_whole=True
        ) as answer:
            if part and answer.status == 200:
                return None
            async for chunk in answer.chunks:
                digest.update(chunk)
        return digest.hexdigest() == facts.sha256

    return await persist(attempt, session.connection.backoff)


def same_media(one: Record, other: Record) -> bool:
    """True if two records are of the same media, byte for byte."""

    def media(record: Record) -> list[str]:
        return [file.sha256 for file in record.files if file.role == "media"]

    return media(one) == media(other)
