"""Is an MP4 whole? Boxes inside boxes, samples inside the media data, and every byte of these in a sample.

Places of samples are looked at as arrays; what is in them is looked at in `coded`.
"""

from pathlib import Path

import numpy as np

from mudlark.errors import FormatError
from mudlark.media.movie import Movie, ReadAt, TrackIndex, reader_of
from mudlark.media.mp4.boxes import Box, header
from mudlark.media.mp4.fragments import read_movie
from mudlark.media.mp4.read import LARGEST_INDEX, IndexedMovie, parse_movie, scan
from mudlark.media.mp4.sidx import Reference, read_index
from mudlark.media.samples import Format, Ints
from mudlark.verify.account import Account
from mudlark.verify.coded import check_coded

_BLOCK = 1 << 20
_FREE = frozenset({"free", "skip", "wide"})
_LENGTH = 0.5  # seconds by which a stated length may be off
_CLOSE = 0.1  # seconds by which it may be off to prove that no fragment is missing


def check_structure(path: Path, account: Account, *, streamed: bool = False) -> Movie | None:
    """Check the MP4 at `path`; gives its index, or None if there is none to go on with."""
    size = path.stat().st_size
    with path.open("rb", buffering=0) as file:
        read = reader_of(file)
        try:
            boxes = scan(read, size)
            if boxes[-1].end > size:
                last = boxes[-1]
                account.failed(
                    "boxes",
                    "truncated",
                    f"The file ends at byte {size:,}, but box '{last.kind}' should end at byte {last.end:,}: "
                    f"{last.end - size:,} bytes are missing",
                    grave=True,
                )
                return None
            indexes = [box for box in boxes if box.kind == "moov"]
            media = [box for box in boxes if box.kind == "mdat"]
            if not indexes or not media:
                missing = "index (moov)" if not indexes else "media data (mdat)"
                account.failed("boxes", "incomplete", f"The file has no {missing}", grave=True)
                return None
            index = indexes[0]
            if index.end - index.start > LARGEST_INDEX:
                account.failed("boxes", "index-too-large", "The index is larger than a gigabyte", grave=True)
                return None
            movie = read_movie(read, boxes, index)
            if other := _other_index(read, indexes, movie):
                text = f"A second index (moov) describes other tracks, from byte {other.start:,} on"
                account.failed("boxes", "boxes", text, offset=other.start)
        except FormatError as problem:
            account.failed("boxes", "boxes", str(problem), grave=True)
            return None
        first = "first" if index.start < media[0].start else "last"
        fragments = sum(box.kind == "moof" for box in boxes)
        where = f"{fragments:,} fragments" if fragments else f"the index comes {first}"
        account.passed("boxes", f"{len(boxes):,} boxes fill {size:,} bytes; {where}")
        if not any(len(track.sizes) for track in movie.tracks):
            account.failed("samples", "empty", "The index lists no picture and no sound", grave=True)
            return movie
        if movie.is_bent:
            text = "The matrix of its header shows the picture as nothing, far too small or large, or bent"
            account.failed("boxes", "boxes", text)
        numbers = [track.number for track in (*movie.tracks, *movie.others)]
        if 0 in numbers or len(set(numbers)) < len(numbers):
            text = "Its tracks are not told from each other: one has the number 0, or two have the same"
            account.failed("boxes", "boxes", text)
        tracks = [track for track in (*movie.tracks, *movie.others) if len(track.sizes)]
        if _check_places(tracks, media, account):
            check_coded(read, tracks, account, streamed=streamed)
            _check_between(read, tracks, media, account)
            padding = sum(box.end - box.start for box in boxes if box.kind in _FREE)
            account.cover("padding", padding)
            account.cover("structure", size - padding - sum(box.end - box.content for box in media))
        if fragments:
            _check_promises(read, boxes, movie, account)
    return movie


def _other_index(read: ReadAt, indexes: list[Box], movie: Movie) -> Box | None:
    """The first index behind that of the movie which describes other tracks, as where files were joined: no fragment
    behind it can be read by the first. Raises Refused if one is of protected samples."""
    for index in indexes[1:]:
        if index.end - index.start > LARGEST_INDEX:
            return index
        again = parse_movie(read(index.start, index.end - index.start), index.start, fragments=True)
        if _formats(again) != _formats(movie):
            return index
    return None


def _formats(movie: Movie) -> dict[int, tuple[Format, ...]]:
    return {track.number: track.formats for track in movie.tracks}


def _check_promises(read: ReadAt, boxes: list[Box], movie: IndexedMovie, account: Account) -> None:
    """What a file in fragments says of all of them: their length (mehd, ISO/IEC 14496-12 §8.8.2), where they stand
    (sidx, §8.16.3), and that there are no more (mfra, §8.8.9). One that says nothing of the kind may go on."""
    bounded = any(box.kind == "mfra" for box in boxes)
    if movie.fragments_last:
        bounded = True
        seconds, there = movie.fragments_last / movie.timescale, movie.end or 0.0
        if abs(seconds - there) > _LENGTH:
            text = f"Its index states {seconds:.2f} s, and its fragments last {there:.2f} s"
            account.failed("promises", "duration", text, at=min(seconds, there))
    listed = [one for place in boxes if place.kind == "sidx" for one in _references(read, place, account)]
    bounded = bounded or bool(listed)
    _check_references(listed, boxes, movie, account)
    if lost := [track.number for track in movie.tracks if track.number not in (movie.defaults or {})]:
        text = f"Its index does not say that track {lost[0]} goes on in fragments (trex)"
        account.failed("promises", "boxes", text)
    as_stated = movie.stated > 0 and abs(movie.stated - (movie.end or 0.0)) < _CLOSE
    if not bounded and not as_stated:
        account.leave_open("an MP4 of fragments that states neither its length nor its last one")


def _references(read: ReadAt, place: Box, account: Account) -> list[Reference]:
    data = read(place.start, place.end - place.start)
    try:
        return read_index(data, header(data[:16], 0, len(data)), place.start)
    except FormatError as problem:
        account.failed("promises", "boxes", str(problem), offset=place.start)
        return []


def _check_references(listed: list[Reference], boxes: list[Box], movie: IndexedMovie, account: Account) -> None:
    """What segment indexes list is there: fragments begin where they say, and last as long together."""
    if not listed:
        return
    size, begins = boxes[-1].end, {box.start for box in boxes}
    if (missing := max(one.start + one.size for one in listed) - size) > 0:
        text = f"Its segment index lists {missing:,} bytes more than there are"
        account.failed("promises", "cut-off", text, offset=size)
    elif wrong := next((one for one in listed if one.start not in begins and one.size), None):
        text = f"Its segment index leads to byte {wrong.start:,}, where no box begins"
        account.failed("promises", "boxes", text, offset=wrong.start)
    seconds = max(one.begin + one.duration for one in listed) - min(one.begin for one in listed)
    spans = [(track.format.timescale, track) for track in movie.tracks if len(track.sizes)]
    there = [float((one.pts + one.durations).max() - one.pts.min()) / scale for scale, one in spans]
    if there and min(abs(seconds - one) for one in there) > _LENGTH:
        text = f"Its segment index lists {seconds:.2f} s, and its fragments last {max(there):.2f} s"
        account.failed("promises", "duration", text, at=min(seconds, max(there)))


def _check_places(tracks: list[TrackIndex], media: list[Box], account: Account) -> bool:
    """Every sample inside a media data box, none over another. Works on stretches of samples that follow each other."""
    begins, ends = _in_order(tracks)
    outside = np.ones(len(begins), np.bool_)
    for box in media:
        outside &= (begins < box.content) | (ends > box.end)
    if outside.any():
        at = int(begins[np.flatnonzero(outside)[0]])
        account.failed(
            "samples", "sample-outside", f"Samples lie outside the media data, from byte {at:,} on", grave=True
        )
        return False
    over = np.flatnonzero(begins[1:] < ends[:-1])
    if len(over):
        at = int(begins[over[0] + 1])
        account.failed("samples", "sample-overlap", f"Samples overlap each other, the first at byte {at:,}", grave=True)
        return False
    count = sum(len(track.sizes) for track in tracks)
    account.passed("samples", f"all {count:,} samples lie inside the media data")
    return True


def _in_order(tracks: list[TrackIndex]) -> tuple[Ints, Ints]:
    """First byte and end of all stretches of samples, in the order of the file. Samples without any bytes are nowhere,
    and may stand between two of another track."""
    stretches = np.concatenate([track.runs() for track in tracks])
    stretches = stretches[stretches[:, 0] < stretches[:, 1]]
    stretches = stretches[np.argsort(stretches[:, 0], kind="stable")]
    return stretches[:, 0], stretches[:, 1]


def _check_between(read: ReadAt, tracks: list[TrackIndex], media: list[Box], account: Account) -> None:
    """Media data that no table names: zeros are padding, anything else belongs to nothing."""
    begins, ends = _in_order(tracks)
    for box in media:
        first, last = np.searchsorted(begins, (box.content, box.end))
        edges = [box.content, *ends[first:last].tolist()], [*begins[first:last].tolist(), box.end]
        for begin, end in zip(*edges, strict=True):
            if begin == end:
                continue
            padded = all(not any(read(at, min(_BLOCK, end - at))) for at in range(begin, end, _BLOCK))
            if padded:
                account.cover("padding", end - begin)
            else:
                account.leave_out(f"{end - begin:,} bytes of media data from byte {begin:,} on, which no table names")
