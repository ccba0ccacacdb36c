"""Is a Matroska file whole? Elements inside elements, blocks inside clusters, NAL units inside samples."""

import zlib
from pathlib import Path

from mudlark.errors import FormatError
from mudlark.media.matroska import names
from mudlark.media.matroska.cues import read_cues
from mudlark.media.matroska.ebml import Element, children, header, number_in
from mudlark.media.matroska.read import read_matroska
from mudlark.media.movie import Movie, ReadAt, reader_of
from mudlark.verify.account import Account
from mudlark.verify.coded import check_coded

_BLOCK = 1 << 20
_HEAD = 65536
_CUES, _CLUSTER, _CRC = names.CUES.to_bytes(4, "big"), names.CLUSTER.to_bytes(4, "big"), b"\xbf\x84"
_LARGEST_CUES, _LARGEST_CHECKED, _MOST_CUES = 1 << 26, 1 << 28, 2_000
# what a reader must be able to do: its version, bytes of an identifier and of a size, the version of the document
_ASKED = {
    names.EBML_READ_VERSION: range(1, 2),
    names.EBML_MAX_ID: range(4, 5),
    names.EBML_MAX_SIZE: range(1, 9),
    names.DOCTYPE_READ_VERSION: range(1, 5),
}
_IN_HEAD = frozenset(
    {*_ASKED, names.EBML_VERSION, names.DOCTYPE, names.DOCTYPE_VERSION, names.DOCTYPE_EXTENSION}
    | {names.VOID, names.CRC_32}
)
_LEAST = 12  # bytes of the shortest seek head


def _check_end(read: ReadAt, size: int, segment: Element, movie: Movie, account: Account) -> int:
    """The segment ends where it says, with nothing behind it; one of unknown size (RFC 9559 §4.5) that states no length
    either may go on. Gives how many bytes stand behind."""
    if segment.unknown:
        if not movie.stated:
            account.leave_open("a Matroska file of unknown size that states no length")
        return 0
    at, padded = segment.end, True
    while padded and at < size:
        block = read(at, min(_BLOCK, size - at))
        padded, at = not any(block), at + len(block)
    if not padded:
        text = f"{size - segment.end:,} bytes stand behind its segment, and belong to nothing"
        account.failed("boxes", "stray-bytes", text, offset=segment.end)
    else:
        account.cover("padding", size - segment.end)
    return size - segment.end


def _check_head(read: ReadAt, size: int, segment: Element, account: Account) -> None:
    """The EBML header asks for nothing that a reader cannot do (RFC 8794 §11.2, RFC 9559 §4)."""
    if odd := _odd_head(read, size):
        account.failed("boxes", "boxes", f"Its head {odd}")


def _odd_head(read: ReadAt, size: int) -> str:
    head = header(read(0, 16), 0, size)
    data = read(0, min(head.end, _HEAD))
    values = {}
    for one in children(data, 0, head.content, min(head.end, _HEAD)):
        values[one.identifier] = bytes(data[one.content : one.end])
        if one.identifier not in _IN_HEAD:
            return f"holds an element that nobody knows, at byte {one.start:,}"
    if values.get(names.DOCTYPE, b"").rstrip(b"\0") not in (b"webm", b"matroska"):
        return "names no kind of document that there is"
    for identifier, known in _ASKED.items():
        if identifier in values and (value := number_in(values[identifier])) not in known:
            return f"asks for what no reader can do ({value:,}, where {known[0]} to {known[-1]} are known)"
    return ""


def _check_places(read: ReadAt, size: int, segment: Element, account: Account) -> None:
    """What the head of the segment says stands elsewhere is there (RFC 9559 §5.1.1, §5.1.5): a file that was cut where
    a cluster begins still names the index behind all clusters."""
    data = read(segment.content, _HEAD)
    named = _named_places(data, segment)
    if named is None:
        return
    for identifier, place in named:
        there = read(place, 4)
        if not there.startswith(identifier):
            text = f"Its head names an element at byte {place:,}, and there is none of that kind"
            code = "cut-off" if place >= size else "boxes"
            account.failed("promises", code, text, offset=min(place, size))
            return
        if identifier == _CUES and not _check_cues(read, size, place, account):
            return
    if named:
        account.passed("promises", f"all {len(named)} elements stand where its head says")


def _check_cues(read: ReadAt, size: int, place: int, account: Account) -> bool:
    """Every cue leads to a cluster (RFC 9559 §5.1.5). True if so; of very many some are looked at."""
    whole = header(read(place, 16), 0, size, place)
    if whole.unknown or whole.end > size or whole.end - place > _LARGEST_CUES:
        return True  # what is wrong with its size is said where elements are read
    try:
        cues = read_cues(read(0, _HEAD), read(place, whole.end - place), place)
    except FormatError as problem:
        account.failed("promises", "boxes", str(problem), offset=place)
        return False
    places = [at for at, _ in cues.places] if cues else []
    for at in places[:: len(places) // _MOST_CUES + 1]:
        if not read(at, 4).startswith(_CLUSTER):
            text = f"A cue leads to byte {at:,}, where no cluster begins"
            account.failed("promises", "cut-off" if at >= size else "boxes", text, offset=min(at, size))
            return False
    return True


def _check_sums(read: ReadAt, size: int, segment: Element, account: Account) -> None:
    """Elements that carry a check sum of what is inside (RFC 8794 §11.3.1) have it."""
    at, checked = segment.content, 0
    while at < segment.end:
        element = header(read(at, 16), 0, segment.end, at)
        if element.unknown:
            break
        head = read(element.content, 6)
        if head[:2] == _CRC and element.end - element.content <= _LARGEST_CHECKED:
            inside = read(element.content + 6, element.end - element.content - 6)
            checked += 1
            if zlib.crc32(inside) != int.from_bytes(head[2:], "little"):
                text = f"The element at byte {at:,} does not have its check sum"
                account.failed("check-sums", "check-sum", text, offset=at)
                return
        at = element.end
    if checked:
        account.passed("check-sums", f"{checked:,} elements, each with its check sum")


def _named_places(data: bytes, segment: Element) -> list[tuple[bytes, int]] | None:
    """Identifiers and bytes of the file of the elements that the seek head names; None without one."""
    head = header(data, 0, segment.end, segment.content) if len(data) > _LEAST else None
    if head is None or head.identifier != names.SEEK_HEAD or head.end > segment.content + len(data):
        return None
    found = []
    for seek in children(data, segment.content, head.content, head.end):
        if seek.identifier != names.SEEK:
            continue  # a check sum, or free space with what stood there before
        values = {
            one.identifier: data[one.content - segment.content : one.end - segment.content]
            for one in children(data, segment.content, seek.content, seek.end)
        }
        identifier = values.get(names.SEEK_ID, b"")
        if identifier and len(identifier) <= 4 and names.SEEK_POSITION in values:
            found.append((identifier, segment.content + number_in(values[names.SEEK_POSITION])))
    return found


def check_matroska(path: Path, account: Account, *, streamed: bool = False) -> Movie | None:
    """Check the file at `path`; gives its tracks, or None if there is nothing to go on with."""
    size = path.stat().st_size
    with path.open("rb", buffering=0) as file:
        read = reader_of(file)
        try:
            movie = read_matroska(read, size)
        except FormatError as problem:
            account.failed("boxes", "boxes", str(problem), grave=True)
            return None
        count = sum(len(track.sizes) for track in movie.tracks)
        if not count:
            account.failed("samples", "empty", "The file holds no picture and no sound", grave=True)
            return movie
        account.passed("boxes", f"its elements fill {size:,} bytes")
        account.passed("samples", f"all {count:,} samples lie inside the clusters")
        tracks = [*movie.tracks, *movie.others]
        check_coded(read, tracks, account, streamed=streamed)
        first = header(read(0, 16), 0, size)
        segment = header(read(first.end, 16), 0, size, first.end)
        behind = _check_end(read, size, segment, movie, account)
        frames = sum(int(track.sizes.sum()) for track in tracks)
        unread = movie.unread
        if unread.count:
            where = f"the first at byte {unread.first:,}"
            account.leave_out(f"{unread.count:,} elements ({unread.size:,} bytes) that Matroska does not know, {where}")
        account.cover("structure", size - frames - behind - unread.size)
        for check in (_check_head, _check_places, _check_sums):
            try:
                check(read, size, segment, account)
            except FormatError as problem:
                account.failed("promises", "boxes", str(problem), offset=problem.offset)
    return movie
