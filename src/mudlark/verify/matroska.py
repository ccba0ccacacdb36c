"""Is a Matroska file whole? Elements inside elements, blocks inside clusters, NAL units inside samples."""

from pathlib import Path

from mudlark.errors import FormatError
from mudlark.media.matroska.ebml import header
from mudlark.media.matroska.read import read_matroska
from mudlark.media.movie import Movie, ReadAt, reader_of
from mudlark.verify.holes import check_holes
from mudlark.verify.structure import check_units
from mudlark.verify.verdict import Report

_BLOCK = 1 << 20


def _check_end(read: ReadAt, size: int, movie: Movie, report: Report) -> None:
    """The segment ends where it says, with nothing behind it; one of unknown size (RFC 9559 §4.5) that states no length
    either may go on."""
    first = header(read(0, 16), 0, size)
    segment = header(read(first.end, 16), 0, size, first.end)
    if segment.unknown:
        if not movie.stated:
            report.leave_open("a Matroska file of unknown size that states no length")
        return
    at, padded = segment.end, True
    while padded and at < size:
        block = read(at, min(_BLOCK, size - at))
        padded, at = not any(block), at + len(block)
    if not padded:
        text = f"{size - segment.end:,} bytes stand behind its segment, and belong to nothing"
        report.failed("boxes", "stray-bytes", text, offset=segment.end)


def check_matroska(path: Path, report: Report, *, streamed: bool = False) -> Movie | None:
    """Check the file at `path`; gives its tracks, or None if there is nothing to go on with."""
    size = path.stat().st_size
    with path.open("rb", buffering=0) as file:
        read = reader_of(file)
        try:
            movie = read_matroska(read, size)
        except FormatError as problem:
            report.failed("boxes", "boxes", str(problem), grave=True)
            return None
        count = sum(len(track.sizes) for track in movie.tracks)
        if not count:
            report.failed("samples", "empty", "The file holds no picture and no sound", grave=True)
            return movie
        report.passed("boxes", f"its elements fill {size:,} bytes")
        report.passed("samples", f"all {count:,} samples lie inside the clusters")
        for track in movie.tracks:
            check_units(read, track, report, streamed=streamed)
        check_holes(read, movie.tracks, report)
        _check_end(read, size, movie, report)
    return movie
