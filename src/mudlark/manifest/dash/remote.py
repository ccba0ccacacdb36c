"""What an MPD refers to and must be fetched before its segments are known: remote parts, and indexes inside of files.

Follows ISO/IEC 23009-1 §5.5.3 (remote elements) and §5.3.9.2 (segments that an index lists), ISO/IEC 14496-12 §8.16.3,
and RFC 9559 §5.1.5 (cues). All of it is bounded.
"""

from collections.abc import Sequence

from msgspec.structs import replace

from mudlark.errors import FormatError, ManifestError, MudlarkError, NetworkError
from mudlark.manifest.dash.document import TO_NOTHING, XLINK, Element, fail, namespace_of, parse_fragment
from mudlark.manifest.model import Document, IndexedFile, Initialization, Segment
from mudlark.media.matroska.cues import read_cues
from mudlark.media.mp4.boxes import Box, header
from mudlark.media.mp4.sidx import Reference, read_index
from mudlark.media.sniff import sniff
from mudlark.text import whole_number
from mudlark.web.address import resolve, shown
from mudlark.web.resource import Resource, Span
from mudlark.web.retry import persist
from mudlark.web.session import Session

_MOST_REMOTE = 50
_MOST_REMOTE_BYTES = 20_000_000  # of all remote parts together
_MOST_INDEXES = 500  # indexes that an index may lead to, altogether
_DEEPEST = 4  # remote parts inside of remote parts, indexes of indexes
_HEAD = 64 * 1024  # bytes of a file that are looked through for its index
_LARGEST_HEAD = 8_000_000
_LARGEST_INDEX = 32_000_000
_MOST_REFERENCES = 2_000_000


async def with_remote_parts(session: Session, root: Element, url: str) -> list[Document]:
    """Put remote elements into their places in a document; gives what was fetched for that."""
    documents: list[Document] = []
    for _ in range(_DEEPEST):
        waiting = [element for element in root.iter() if isinstance(element.tag, str) and element.get(XLINK)]
        if not waiting:
            return documents
        for element in waiting:
            await _put(session, element, url, documents)
    if any(isinstance(element.tag, str) and element.get(XLINK) for element in root.iter()):
        raise ManifestError(f"{shown(url)} has remote parts inside of remote parts, again and again.")
    return documents


async def _put(session: Session, element: Element, url: str, documents: list[Document]) -> None:
    reference = str(element.attrib.pop(XLINK))
    parent = element.getparent()
    if parent is None:
        return
    if reference.strip() == TO_NOTHING:
        parent.remove(element)
        return
    address = resolve(url, reference)
    if address is None:
        fail(element, f"points to {reference[:80]!r}, which is no address of the web.", url)
    if len(documents) >= _MOST_REMOTE:
        raise ManifestError(f"{shown(url)} has more than {_MOST_REMOTE} remote parts.")
    look = await session.look(address, lambda _head, _type: True)
    if sum(len(document.body) for document in documents) + len(look.body) > _MOST_REMOTE_BYTES:
        raise ManifestError(
            f"{shown(url)} has remote parts of more than {_MOST_REMOTE_BYTES // 1_000_000} MB together."
        )
    documents.append(Document(look.url, look.body))
    place = parent.index(element)
    parent.remove(element)
    for at, part in enumerate(parse_fragment(look.body, look.url, namespace_of(parent))):
        parent.insert(place + at, part)


async def indexed(session: Session, file: IndexedFile) -> Sequence[Segment]:
    """The segments of a file that carries its own index; the whole file as one, if it carries none."""
    try:
        if file.index is not None:
            data = await _part(session, file.resource, file.index.start, file.index.length, short=True)
            base = file.index.start
            if sniff(data) != "mp4":
                return await _by_cues(session, file)
        else:
            data, base = await _part(session, file.resource, 0, _HEAD, short=True), 0
            if sniff(data) == "matroska":
                return await _by_cues(session, file)
            if sniff(data) != "mp4":
                return _whole(file)
        return await _by_boxes(session, file, data, base)
    except FormatError as problem:
        raise ManifestError(f"The index of {shown(file.resource.url)} cannot be read: {problem.what}") from problem


def _whole(file: IndexedFile) -> Sequence[Segment]:
    return (
        Segment(0, file.resource, file.begin, file.length or 0.0, file.stretch, init=file.init, offset=file.offset),
    )


async def _by_boxes(session: Session, file: IndexedFile, data: bytes, base: int) -> Sequence[Segment]:
    """By the segment index of an MP4. Without a stated place it stands before the first fragment."""
    at, front = 0, base
    while at + 8 <= len(data):
        box = header(data[at : at + 16], at, 1 << 62)
        if box.kind in ("moof", "mdat"):
            break
        if box.end > len(data) and box.kind in ("ftyp", "moov", "sidx", "free", "styp") and box.end < _LARGEST_HEAD:
            data = await _part(session, file.resource, base, box.end + 16, short=True)
            if box.end > len(data):
                break
        if box.kind == "sidx":
            before = Span(0, base if file.index else front)
            init = file.init or Initialization(replace(file.resource, span=before))
            references = await _followed(session, file, read_index(data, box, base), 0, [])
            return _segments(file, references, init)
        at = box.end
        front = base + at
    return _whole(file)


async def _followed(
    session: Session, file: IndexedFile, references: list[Reference], depth: int, asked: list[int]
) -> list[Reference]:
    """The references to media, those to other indexes followed. asked: where indexes were asked for so far."""
    made: list[Reference] = []
    for reference in references:
        if not reference.is_index:
            made.append(reference)
        else:
            if depth >= _DEEPEST or not 0 < reference.size <= _LARGEST_INDEX:
                raise FormatError("Indexes refer to indexes, again and again", reference.start)
            asked.append(reference.start)
            if len(asked) > _MOST_INDEXES:
                raise FormatError(f"Indexes refer to more than {_MOST_INDEXES} others", reference.start)
            data = await _part(session, file.resource, reference.start, reference.size)
            box: Box = header(data[:16], 0, len(data))
            if box.kind != "sidx" or box.end > len(data):
                raise FormatError("An index refers to an index that is none", reference.start)
            made += await _followed(session, file, read_index(data, box, reference.start), depth + 1, asked)
        if len(made) > _MOST_REFERENCES:
            raise FormatError(f"An index lists more than {_MOST_REFERENCES:,} segments", reference.start)
    return made


def _segments(file: IndexedFile, references: Sequence[Reference], init: Initialization) -> Sequence[Segment]:
    return tuple(
        Segment(
            number,
            replace(file.resource, span=Span(reference.start, reference.size)),
            file.begin + reference.begin + file.offset,
            reference.duration,
            file.stretch,
            init=init,
            offset=file.offset,
        )
        for number, reference in enumerate(references)
        if reference.size
    )


async def _by_cues(session: Session, file: IndexedFile) -> Sequence[Segment]:
    """By the cues of a WebM or Matroska file: each segment is a cluster, or several up to the next cue."""
    section = file.init.resource.span if file.init else None
    index = file.index
    needed = max(section.end if section else 0, index.end if index else 0)
    head, size = await _part_and_size(session, file.resource, 0, max(_HEAD, min(needed, _LARGEST_HEAD)))
    cues = await _part(session, file.resource, index.start, index.length, short=True) if index else b""
    found = read_cues(head, cues, index.start if index else 0)
    if found is None or not found.places:
        return _whole(file)
    end = size or (index.start if index and index.start > found.places[-1][0] else 0)
    if index and index.start > found.places[-1][0]:
        end = index.start
    if not end:
        return _whole(file)
    init = Initialization(replace(file.resource, span=section or Span(0, found.places[0][0])))
    places = found.places
    ends = [*(place for place, _ in places[1:]), end]
    total = found.duration or file.length or places[-1][1]
    lasts = [*(time for _, time in places[1:]), max(total, places[-1][1])]
    references = [
        Reference(place, until - place, time, last - time, False)
        for (place, time), until, last in zip(places, ends, lasts, strict=True)
    ]
    return _segments(file, references, init)


async def _part(session: Session, resource: Resource, start: int, length: int, *, short: bool = False) -> bytes:
    """Some bytes of a resource. short: there may be fewer."""
    data, _ = await _part_and_size(session, resource, start, length)
    if len(data) < length and not short:
        raise FormatError(f"There are only {len(data):,} of {length:,} bytes", start)
    return data


async def _part_and_size(session: Session, resource: Resource, start: int, length: int) -> tuple[bytes, int | None]:
    """Some bytes of a resource, from whichever of its addresses gives them, and how large it is in all, if that is
    said."""
    if length > _LARGEST_INDEX:
        raise FormatError(f"An index of {length:,} bytes is larger than any", start)
    failed: MudlarkError | None = None
    for address in (resource.url, *resource.others):

        async def attempt(url: str = address) -> tuple[bytes, int | None]:
            data = bytearray()
            async with session.open(url, span=(start, length), or_whole=True, or_less=True) as reply:
                skip = 0 if reply.status == 206 else start
                async for chunk in reply.chunks:
                    data += chunk
                    if len(data) >= skip + length:
                        break
                size = reply.length
                if reply.status == 206:
                    size = whole_number(reply.headers.get("content-range", "").rpartition("/")[2])
            return bytes(data[skip : skip + length]), size

        try:
            return await persist(attempt, session.connection.backoff)
        except NetworkError as problem:
            failed = failed or problem
    assert failed is not None
    raise failed
