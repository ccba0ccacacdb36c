"""Is a Matroska file whole? Elements inside elements, blocks inside clusters, NAL units inside samples."""

from pathlib import Path

from mudlark.errors import FormatError
from mudlark.media.matroska.read import read_matroska
from mudlark.media.mp4.read import Movie, reader_of
from mudlark.verify.structure import check_units
from mudlark.verify.verdict import Report


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
    return movie
