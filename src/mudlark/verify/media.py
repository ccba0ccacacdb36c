"""The verification of one file: what it is, then its structure and timeline, or its content."""

from dataclasses import dataclass, field
from pathlib import Path

from mudlark.media.mp4.read import Movie
from mudlark.media.sniff import sniff
from mudlark.verify.content import check_content
from mudlark.verify.matroska import check_matroska
from mudlark.verify.structure import check_structure
from mudlark.verify.timeline import check_timeline
from mudlark.verify.verdict import Report


@dataclass(slots=True)
class Checked:
    """form: what the first bytes say it is. movie: of an MP4. contents: names and sizes inside an archive."""

    form: str
    movie: Movie | None = None
    contents: list[tuple[str, int]] = field(default_factory=list)


def check_file(
    path: Path, planned: float | None, report: Report, tolerance: float = 0.0, *, streamed: bool = False
) -> Checked:
    """Look into a file. planned: seconds that the manifest promised, None if nothing did; tolerance: by how many that
    may be off. streamed: the file was made of segments."""
    with path.open("rb") as file:
        head = file.read(65536)
    checked = Checked(sniff(head))
    if not head:
        report.failed("content", "empty", f"{path.name} is empty", grave=True)
        return checked
    if checked.form == "mp4":
        checked.movie = check_structure(path, report, streamed=streamed)
        if checked.movie and not any(problem.grave for problem in report.problems):
            check_timeline(checked.movie, planned, report, tolerance)
    elif checked.form == "matroska":
        checked.movie = check_matroska(path, report, streamed=streamed)
        if checked.movie and not any(problem.grave for problem in report.problems):
            check_timeline(checked.movie, planned, report, tolerance)
    else:
        checked.contents = check_content(path, checked.form, report)
    return checked
