"""Is an MP4 whole? Boxes inside boxes, samples inside the media data, NAL units inside samples.

The file is read once, in windows of bounded size; all work on samples is in arrays.
"""

from pathlib import Path

import numpy as np

from mudlark.errors import FormatError
from mudlark.media.movie import Movie, ReadAt, TrackIndex, reader_of
from mudlark.media.mp4.boxes import Box, header
from mudlark.media.mp4.fragments import read_movie
from mudlark.media.mp4.read import LARGEST_INDEX, IndexedMovie, scan
from mudlark.media.mp4.sidx import read_index
from mudlark.media.picture.inband import length_size
from mudlark.media.samples import Bytes, Flags, Ints
from mudlark.verify.holes import check_holes
from mudlark.verify.verdict import Report

_WINDOW = 8 << 20
_MOST_BAD = 0.1  # share of pictures of a stream that may have come damaged
_LENGTH = 0.5  # seconds by which a stated length may be off
_MOST_UNITS = 4096  # NAL units in one sample


def check_structure(path: Path, report: Report, *, streamed: bool = False) -> Movie | None:
    """Check the MP4 at `path`; gives its index, or None if there is none to go on with."""
    size = path.stat().st_size
    with path.open("rb", buffering=0) as file:
        read = reader_of(file)
        try:
            boxes = scan(read, size)
            if boxes[-1].end > size:
                last = boxes[-1]
                report.failed(
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
                report.failed("boxes", "incomplete", f"The file has no {missing}", grave=True)
                return None
            index = indexes[0]
            if index.end - index.start > LARGEST_INDEX:
                report.failed("boxes", "index-too-large", "The index is larger than a gigabyte", grave=True)
                return None
            movie = read_movie(read, boxes, index)
        except FormatError as problem:
            report.failed("boxes", "boxes", str(problem), grave=True)
            return None
        first = "first" if index.start < media[0].start else "last"
        fragments = sum(box.kind == "moof" for box in boxes)
        where = f"{fragments:,} fragments" if fragments else f"the index comes {first}"
        report.passed("boxes", f"{len(boxes):,} boxes fill {size:,} bytes; {where}")
        if not any(len(track.sizes) for track in movie.tracks):
            report.failed("samples", "empty", "The index lists no picture and no sound", grave=True)
            return movie
        if _check_places(movie, media, report):
            for track in movie.tracks:
                check_units(read, track, report, streamed=streamed)
            check_holes(read, movie.tracks, report)
        if fragments:
            _check_promises(read, boxes, movie, report)
    return movie


def _check_promises(read: ReadAt, boxes: list[Box], movie: IndexedMovie, report: Report) -> None:
    """What a file in fragments says of all of them: their length (mehd, ISO/IEC 14496-12 §8.8.2), where they stand
    (sidx, §8.16.3), and that there are no more (mfra, §8.8.9). One that says nothing of the kind may go on."""
    told = any(box.kind == "mfra" for box in boxes)
    if movie.fragments_last:
        told = True
        seconds, there = movie.fragments_last / movie.timescale, movie.end or 0.0
        if abs(seconds - there) > _LENGTH:
            text = f"Its index states {seconds:.2f} s, and its fragments last {there:.2f} s"
            report.failed("promises", "duration", text, at=min(seconds, there))
    size = boxes[-1].end
    for place in (box for box in boxes if box.kind == "sidx"):
        data = read(place.start, place.end - place.start)
        references = read_index(data, header(data[:16], 0, len(data)), place.start)
        told = told or bool(references)
        if references and references[-1].start + references[-1].size > size:
            missing = references[-1].start + references[-1].size - size
            text = f"Its segment index lists {missing:,} bytes more than there are"
            report.failed("promises", "cut-off", text, offset=size)
    if not told:
        report.leave_open("an MP4 of fragments that states neither its length nor its last one")


def _check_places(movie: Movie, media: list[Box], report: Report) -> bool:
    """Every sample inside a media data box, none over another. Works on stretches of samples that follow each other."""
    stretches = [track.runs() for track in movie.tracks if len(track.sizes)]
    begins, ends = np.concatenate(stretches).T
    order = np.argsort(begins, kind="stable")
    begins, ends = begins[order], ends[order]
    outside = np.ones(len(begins), np.bool_)
    for box in media:
        outside &= (begins < box.content) | (ends > box.end)
    if outside.any():
        at = int(begins[np.flatnonzero(outside)[0]])
        report.failed(
            "samples", "sample-outside", f"Samples lie outside the media data, from byte {at:,} on", grave=True
        )
        return False
    over = np.flatnonzero(begins[1:] < ends[:-1])
    if len(over):
        at = int(begins[over[0] + 1])
        report.failed("samples", "sample-overlap", f"Samples overlap each other, the first at byte {at:,}", grave=True)
        return False
    count = sum(len(track.sizes) for track in movie.tracks)
    report.passed("samples", f"all {count:,} samples lie inside the media data")
    return True


def check_units(read: ReadAt, track: TrackIndex, report: Report, *, streamed: bool = False) -> None:
    """The NAL units of every sample add up to its size, where the codec has such units. streamed: the file was made of
    segments, in which single pictures may have come damaged.
    """
    codec = track.format.codec[:4]
    if codec not in ("avc1", "avc3", "hvc1", "hev1") or length_size(codec, track.format.config) != 4:
        return
    order = np.argsort(track.offsets, kind="stable")
    places = track.offsets[order]
    bad: list[int] = []
    at = 0
    while at < len(order):
        start = int(places[at])
        until = max(at + 1, int(np.searchsorted(places, start + _WINDOW)))
        group = order[at:until]
        begins = places[at:until] - start
        ends = begins + track.sizes[group]
        data = np.frombuffer(read(start, int(ends.max())), np.uint8)
        bad.extend(group[misfits(data, begins, ends)].tolist())
        at = until
    if bad:
        first = float(track.pts[min(bad)] - track.pts.min()) / track.format.timescale
        report.failed(
            "picture-units",
            "picture-units",
            f"The units of {len(bad):,} of {len(order):,} pictures do not add up, the first is picture {min(bad):,}, "
            f"at {first:.1f} s",
            grave=not streamed or len(bad) > _MOST_BAD * len(order),
        )
    else:
        report.passed("picture-units", f"the units of all {len(order):,} pictures add up to their sizes")


def misfits(data: Bytes, begins: Ints, ends: Ints) -> Flags:
    """True for samples whose length-prefixed units do not end exactly where the sample ends.

    begins, ends: bytes within data, shape (n,). All samples are walked together, unit by unit.
    """
    wrong = ends > len(data)
    place = begins.copy()
    active = np.flatnonzero(~wrong & (place < ends))
    wrong |= begins >= ends
    for _ in range(_MOST_UNITS):
        if not len(active):
            return wrong
        here = place[active]
        short = here + 4 > ends[active]
        prefix = data[np.minimum(here[:, None] + np.arange(4), len(data) - 1)].astype(np.int64)
        length = prefix[:, 0] << 24 | prefix[:, 1] << 16 | prefix[:, 2] << 8 | prefix[:, 3]
        following = here + 4 + length
        failed = short | (length == 0) | (following > ends[active])
        wrong[active[failed]] = True
        place[active] = following
        active = active[~failed & (following < ends[active])]
    wrong[active] = True
    return wrong
