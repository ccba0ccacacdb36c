"""Does a file run from beginning to end? Rising times, no gaps, the promised length, picture and sound together."""

import numpy as np

from mudlark.media.mp4.read import Movie, TrackIndex
from mudlark.verify.verdict import Report

TOGETHER = 0.25  # seconds by which the ends of picture and sound may differ
_GAP = {"video": 0.5, "audio": 0.1}  # seconds; a sample that lasts longer than this and than its usual is a gap


def check_timeline(movie: Movie, planned: float | None, report: Report, tolerance: float = 0.0) -> None:
    """planned: seconds that the manifest promised, None if nothing did; tolerance: by how many that may be off."""
    tracks = [track for track in movie.tracks if len(track.sizes)]
    for track in tracks:
        _check_times(track, report)
    ends = [track.presented(movie.timescale)[1] for track in tracks]
    length = max(ends, default=0.0)
    if planned:
        allowed = max(0.75, 0.005 * planned, tolerance)
        words = f"{length:.2f} s where the manifest promises {planned:.2f} s"
        if abs(length - planned) > allowed:
            report.failed("duration", "duration", f"The file lasts {words}")
        else:
            report.passed("duration", words)
    elif movie.seconds and abs(movie.seconds - length) > 1.0:
        report.failed("duration", "duration", f"The header says {movie.seconds:.2f} s, the samples last {length:.2f} s")
    else:
        report.passed("duration", f"{length:.2f} s by header and samples")
    kinds = {track.format.type: end for track, end in zip(tracks, ends, strict=True)}
    if len(kinds) == 2:
        apart = abs(kinds["video"] - kinds["audio"])
        words = f"picture and sound end {apart:.2f} s apart"
        if apart > TOGETHER:
            first = "picture" if kinds["video"] < kinds["audio"] else "sound"
            report.failed("together", "ends-apart", f"{words[0].upper()}{words[1:]}; the {first} ends first")
        else:
            report.passed("together", words)


def _check_times(track: TrackIndex, report: Report) -> None:
    kind = track.format.type
    name = {"video": "picture", "audio": "sound"}[kind]
    scale = track.format.timescale
    still = np.flatnonzero(track.durations[:-1] <= 0)
    if len(still):
        at = track.dts[still[0]] / scale
        report.failed(f"{name}-times", "times", f"{len(still):,} decoding times do not rise, the first at {at:.2f} s")
    else:
        report.passed(f"{name}-times", f"all {len(track.dts):,} decoding times rise")
    shown = np.sort(track.pts)
    steps = np.diff(shown)
    usual = float(np.median(steps)) if len(steps) else 0.0
    gaps = np.flatnonzero(steps > max(_GAP[kind] * scale, 3 * usual))
    if len(gaps):
        origin = shown[0]
        said = [f"{(shown[g] - origin + usual) / scale:.2f}–{(shown[g + 1] - origin) / scale:.2f} s" for g in gaps[:5]]
        more = f" and {len(gaps) - 5} more" if len(gaps) > 5 else ""
        report.failed(f"{name}-gaps", "gap", f"There is no {name} at {', '.join(said)}{more}")
    else:
        report.passed(f"{name}-gaps", f"no gap in the {name}")
