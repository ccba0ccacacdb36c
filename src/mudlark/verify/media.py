"""The verification of one media file: what it is, its structure, its timeline."""

from pathlib import Path

from mudlark.media.mp4.read import Movie
from mudlark.media.sniff import sniff
from mudlark.verify.structure import check_structure
from mudlark.verify.timeline import check_timeline
from mudlark.verify.verdict import Report


def check_media(path: Path, planned: float | None, report: Report) -> Movie | None:
    """Structure and timeline of a media file."""
    with path.open("rb") as file:
        form = sniff(file.read(65536))
    if form != "mp4":
        name = {"unknown": "this format"}.get(form, form.upper())
        report.failed("structure", "unproven", f"{path.name}: Mudlark cannot look inside {name} yet; nothing is proven")
        return None
    movie = check_structure(path, report)
    if movie and not any(problem.grave for problem in report.problems):
        check_timeline(movie, planned, report)
    return movie
