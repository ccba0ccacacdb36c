"""Does a file run from beginning to end? Rising times, no gaps, the promised length, picture and sound together."""

from collections import Counter

import numpy as np

from mudlark.media.mp4.read import Movie, TrackIndex
from mudlark.verify.verdict import Report

TOGETHER = 0.25  # seconds by which the ends of picture and sound may differ
_GAP = {"video": 0.5, "audio": 0.1}  # seconds; a sample that lasts longer than this and than its usual is a gap
_NAMES = {"video": "picture", "audio": "sound"}


def check_timeline(movie: Movie, planned: float | None, report: Report, tolerance: float = 0.0) -> None:
    """planned: seconds that the manifest promised, None if nothing did; tolerance: by how many that may be off."""
    tracks = [track for track in movie.tracks if len(track.sizes)]
    names = _named(tracks)
    for track, name in zip(tracks, names, strict=True):
        _check_times(track, name, report)
    ends = [track.presented(movie.timescale)[1] for track in tracks]
    length = max(ends, default=0.0)
    if planned:
        check_length(length, planned, report, tolerance)
    elif movie.seconds and abs(movie.seconds - length) > 1.0:
        report.failed("duration", "duration", f"The header says {movie.seconds:.2f} s, the samples last {length:.2f} s")
    else:
        report.passed("duration", f"{length:.2f} s by header and samples")
    _check_together(tracks, names, ends, report)


def check_length(length: float, planned: float, report: Report, tolerance: float = 0.0) -> None:
    """As long as the manifest promised, in seconds, give or take a little."""
    allowed = max(0.75, 0.005 * planned, tolerance)
    words = f"{length:.2f} s where the manifest promises {planned:.2f} s"
    if abs(length - planned) > allowed:
        report.failed("duration", "duration", f"The file lasts {words}", seconds=length, planned=planned)
    else:
        report.passed("duration", words, seconds=length, planned=planned)


def _named(tracks: list[TrackIndex]) -> list[str]:
    """What each track is called: picture, sound; with its language or number where there are several of a kind."""
    counts = Counter(track.format.type for track in tracks)
    met: Counter[str] = Counter()
    names = []
    for track in tracks:
        kind = track.format.type
        met[kind] += 1
        known = f" ({track.language})" if track.language not in ("", "und") else ""
        names.append(_NAMES[kind] if counts[kind] == 1 else f"{_NAMES[kind]} {met[kind]}{known}")
    return names


def _check_together(tracks: list[TrackIndex], names: list[str], ends: list[float], report: Report) -> None:
    """Every sound ends where the picture does."""
    pictures = [end for track, end in zip(tracks, ends, strict=True) if track.format.type == "video"]
    if not pictures:
        return
    for track, name, end in zip(tracks, names, ends, strict=True):
        if track.format.type != "audio":
            continue
        apart = abs(pictures[0] - end)
        words = f"picture and {name} end {apart:.2f} s apart"
        if apart > TOGETHER:
            first = "picture" if pictures[0] < end else name
            report.failed("together", "ends-apart", f"{words[0].upper()}{words[1:]}; the {first} ends first")
        else:
            report.passed("together", words)


def _check_times(track: TrackIndex, name: str, report: Report) -> None:
    kind = track.format.type
    check = _NAMES[kind]
    scale = track.format.timescale
    still = np.flatnonzero(track.durations[:-1] <= 0)
    if len(still):
        at = track.dts[still[0]] / scale
        message = f"{len(still):,} decoding times of the {name} do not rise, the first at {at:.2f} s"
        report.failed(f"{check}-times", "times", message)
    else:
        report.passed(f"{check}-times", f"all {len(track.dts):,} decoding times of the {name} rise")
    shown = np.sort(track.pts)
    steps = np.diff(shown)
    usual = float(np.median(steps)) if len(steps) else 0.0
    gaps = np.flatnonzero(steps > max(_GAP[kind] * scale, 3 * usual))
    if len(gaps):
        origin = shown[0]
        spans = [f"{(shown[g] - origin + usual) / scale:.2f}–{(shown[g + 1] - origin) / scale:.2f} s" for g in gaps[:5]]
        more = f" and {len(gaps) - 5} more" if len(gaps) > 5 else ""
        report.failed(f"{check}-gaps", "gap", f"There is no {name} at {', '.join(spans)}{more}")
    else:
        report.passed(f"{check}-gaps", f"no gap in the {name}")
