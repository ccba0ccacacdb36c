"""The whole verification of an item or a file, in one place: fixity, structure, timeline."""

from pathlib import Path

import msgspec

from mudlark.archive.record import RECORD, Record, TrackFacts, read_record
from mudlark.errors import UsageError
from mudlark.media.mp4.read import Movie
from mudlark.verify.content import check_pages
from mudlark.verify.fixity import compare
from mudlark.verify.media import check_file
from mudlark.verify.verdict import Problem, Report, Verdict

_LASTING = ("segment-missing", "segment-unreadable", "loss", "page-missing", "page-unreadable")


class Assay(msgspec.Struct):
    """What an assay found. path: the item's folder or the file. tracks: as the media file itself says."""

    path: Path
    report: Report
    title: str | None = None
    duration: float | None = None
    tracks: list[TrackFacts] = []

    @property
    def verdict(self) -> Verdict:
        return self.report.verdict


def assay(path: Path) -> list[Assay]:
    """Verify an item's folder, a folder of items, or a media file."""
    if not path.exists():
        raise UsageError(f"There is nothing at {path}.", "Give an item's folder or a media file.")
    if path.is_file():
        return [_assay_file(path)]
    if (path / RECORD).is_file():
        return [_assay_item(path)]
    items = sorted(record.parent for record in path.glob(f"*/{RECORD}"))
    if not items:
        raise UsageError(
            f"{path} holds no item: no {RECORD} in it or one level below.", "Give an item's folder or a media file."
        )
    return [_assay_item(item) for item in items]


def _assay_file(path: Path) -> Assay:
    found = Assay(path, Report())
    _describe(found, check_file(path, None, found.report).movie, path)
    if all(check.outcome == "skipped" for check in found.report.checks):
        found.report.problems.append(Problem("unproven", "Nothing in this file tells Mudlark whether it is whole"))
    return found


def _assay_item(folder: Path) -> Assay:
    record = read_record(folder)
    found = Assay(folder, Report(), record.title)
    _check_fixity(folder, record, found.report)
    media = [folder / file.path for file in record.files if file.role == "media" and (folder / file.path).is_file()]
    if record.source.kind == "images" and len(media) > 1:
        check_pages(media, found.report)
    else:
        for path in media:
            checked = check_file(path, record.planned_duration, found.report)
            _describe(found, checked.movie, path)
    # what was missing when the item was made is still missing, whatever the file looks like
    for problem in record.problems:
        if problem.code in _LASTING and problem not in found.report.problems:
            found.report.problems.append(problem)
    return found


def _check_fixity(folder: Path, record: Record, report: Report) -> None:
    wrong = []
    for file in record.files:
        inside = (folder / file.path).resolve()
        if not inside.is_relative_to(folder.resolve()):
            wrong.append(f"{file.path} points outside the item")
        elif problem := compare(inside, file.bytes, file.sha256):
            wrong.append(problem)
    if wrong:
        report.failed("fixity", "fixity", "; ".join(wrong), grave=True)
    else:
        report.passed(
            "fixity",
            f"{len(record.files)} {'file has' if len(record.files) == 1 else 'files have'} the recorded SHA-256",
        )


def _describe(found: Assay, movie: Movie | None, path: Path) -> None:
    if movie:
        found.tracks = [TrackFacts.of(track) for track in movie.tracks]
        found.duration = round(max((t.presented(movie.timescale)[1] for t in movie.tracks), default=0.0), 3)
    found.title = found.title or path.stem
