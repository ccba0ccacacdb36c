"""Is an MP4 whole? Boxes inside boxes, samples inside the media data, NAL units inside samples.

The file is read once, in windows of bounded size; all work on samples is in arrays.
"""

from pathlib import Path

import numpy as np

from mudlark.errors import FormatError
from mudlark.media.mp4.boxes import Box
from mudlark.media.mp4.read import LARGEST_INDEX, Movie, ReadAt, TrackIndex, parse_movie, scan
from mudlark.media.samples import Bytes, Flags, Ints
from mudlark.verify.verdict import Report

_WINDOW = 8 << 20
_MOST_UNITS = 4096  # NAL units in one sample


def check_structure(path: Path, report: Report) -> Movie | None:
    """Check the MP4 at `path`; gives its index, or None if there is none to go on with."""
    size = path.stat().st_size
    with path.open("rb", buffering=0) as file:

        def read(at: int, count: int) -> bytes:
            file.seek(at)
            return file.read(count)

        try:
            boxes = scan(read, size)
            if boxes[-1].end > size:
                last = boxes[-1]
                report.failed(
                    *("boxes", "truncated"),
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
            movie = parse_movie(read(index.start, index.end - index.start), index.start)
        except FormatError as problem:
            report.failed("boxes", "boxes", str(problem), grave=True)
            return None
        first = "first" if index.start < media[0].start else "last"
        report.passed("boxes", f"{len(boxes)} boxes fill {size:,} bytes; the index comes {first}")
        if not any(len(track.sizes) for track in movie.tracks):
            report.failed("samples", "empty", "The index lists no picture and no sound", grave=True)
            return movie
        if _check_places(movie, media, report):
            for track in movie.tracks:
                if track.format.codec.startswith(("avc1", "avc3")):
                    _check_units(read, track, report)
    return movie


def _check_places(movie: Movie, media: list[Box], report: Report) -> bool:
    """Every sample inside a media data box, none over another."""
    begins = np.concatenate([track.offsets for track in movie.tracks])
    sizes = np.concatenate([track.sizes for track in movie.tracks])
    order = np.argsort(begins, kind="stable")
    begins, ends = begins[order], (begins + sizes)[order]
    homes = sorted(media, key=lambda box: box.start)
    home = np.searchsorted(np.array([box.content for box in homes]), begins, "right") - 1
    limits = np.array([box.end for box in homes])
    outside = (home < 0) | (ends > limits[np.maximum(home, 0)])
    if outside.any():
        at = int(begins[np.flatnonzero(outside)[0]])
        report.failed(
            *("samples", "sample-outside"),
            f"{int(outside.sum()):,} of {len(begins):,} samples lie outside the media data, the first at byte {at:,}",
            grave=True,
        )
        return False
    over = np.flatnonzero(begins[1:] < ends[:-1])
    if len(over):
        report.failed(
            *("samples", "sample-overlap"),
            f"{len(over):,} samples overlap the one before, the first at byte {int(begins[over[0] + 1]):,}",
            grave=True,
        )
        return False
    report.passed("samples", f"all {len(begins):,} samples lie inside the media data")
    return True


def _check_units(read: ReadAt, track: TrackIndex, report: Report) -> None:
    """The NAL units of every sample add up to its size."""
    order = np.argsort(track.offsets, kind="stable")
    bad: list[int] = []
    at = 0
    while at < len(order):
        start = int(track.offsets[order[at]])
        reach = np.searchsorted(track.offsets[order], start + _WINDOW) - at
        count = max(1, int(reach))
        group = order[at : at + count]
        ends = track.offsets[group] + track.sizes[group]
        data = np.frombuffer(read(start, int(ends.max()) - start), np.uint8)
        wrong = misfits(data, track.offsets[group] - start, ends - start)
        bad.extend(group[wrong].tolist())
        at += count
    if bad:
        report.failed(
            *("picture-units", "picture-units"),
            f"The units of {len(bad):,} of {len(order):,} pictures do not add up, the first is picture {min(bad):,}",
            grave=True,
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
