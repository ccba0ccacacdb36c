"""Does a file run from beginning to end? Rising times, no gaps, the promised length, picture and sound together."""

from collections import Counter

import numpy as np

from mudlark.media.codecs import codec_of
from mudlark.media.movie import Movie, TrackIndex
from mudlark.media.samples import Ints
from mudlark.verify.account import END, Account

TOGETHER = 0.5  # seconds by which the ends of picture and sound may differ, as where a recorder was stopped
_BEGIN_TOGETHER = 0.9  # seconds by which their beginnings may
_STEADY, _LIKE = 0.98, 0.25  # share of steps that are like the usual one, give or take so much of it
_OVERLAP = 0.5  # of a usual frame, from which one lies over the one before
_DRIFT = 0.25  # seconds
_HEARD = 0.1  # seconds of sound that lie over other sound, from which a listener could hear it
_FEW = 10  # frames that are too few to tell
_MOST_REORDERED = 32  # pictures; the standards allow 16 (H.264 A.3.1, H.265 A.4.2), which may be fields
_STATED, _STATED_SHORT = 1.0, 0.25  # seconds by which a header may be wrong, of a short film a quarter of it
_FINE = 8_000  # ticks a second
_GAP = {"video": 0.5, "audio": 0.1}  # seconds; a sample that lasts longer than this and than its usual is a gap
_NAMES = {"video": "picture", "audio": "sound"}


def check_timeline(
    movie: Movie, planned: float | None, account: Account, tolerance: float = 0.0, *, streamed: bool = False
) -> None:
    """planned: seconds that the manifest promised, None if nothing did; tolerance: by how many that may be off.
    streamed: the film was made of segments, of which some may be missing."""
    tracks = [track for track in movie.tracks if len(track.sizes)]
    names = _named(tracks)
    for track, name in zip(tracks, names, strict=True):
        _check_times(track, name, account, streamed=streamed)
    begins = [track.presented()[0] for track in tracks]
    ends = [track.presented()[1] for track in tracks]
    for track, name, begin, end in zip(tracks, names, begins, ends, strict=True):
        if begin == end and track.durations.any():
            account.failed(f"{name.partition(' ')[0]}-times", "times", f"Its edit list presents nothing of the {name}")
    length = max(ends, default=0.0)
    if planned:
        check_length(length, planned, account, tolerance)
    elif movie.stated and _is_far(movie.stated, length):
        account.failed("duration", "duration", f"The header says {movie.stated:.2f} s, the samples last {length:.2f} s")
    elif movie.stated:
        account.passed("duration", f"{length:.2f} s by header and samples")
    else:
        account.passed("duration", f"{length:.2f} s by its samples; its header states no length")
    for track, name in zip(tracks, names, strict=True):
        stated, there = (ticks / track.format.timescale for ticks in (track.stated, int(track.durations.sum())))
        if stated and _is_far(stated, there):
            text = f"The header of the {name} says {stated:.2f} s, its samples last {there:.2f} s"
            account.failed("duration", "duration", text)
    _check_together(tracks, names, ends, account)
    _check_beginnings(tracks, names, begins, account)


def _is_far(stated: float, there: float) -> bool:
    """True if a header is wrong about how long something lasts, in seconds."""
    return abs(stated - there) > min(_STATED, max(_STATED_SHORT, there / 4))


def check_length(length: float, planned: float, account: Account, tolerance: float = 0.0) -> None:
    """As long as the manifest promised, in seconds, give or take a little."""
    allowed = max(0.75, 0.005 * planned, tolerance)
    words = f"{length:.2f} s where the manifest promises {planned:.2f} s"
    if abs(length - planned) > allowed:
        account.failed("duration", "duration", f"The file lasts {words}", seconds=length, planned=planned)
    else:
        account.passed("duration", words, seconds=length, planned=planned)
        account.passed(END, "it ends where its manifest says")


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


def _check_together(tracks: list[TrackIndex], names: list[str], ends: list[float], account: Account) -> None:
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
            account.failed("together", "ends-apart", f"{words[0].upper()}{words[1:]}; the {first} ends first")
        else:
            account.passed("together", words)


def _check_beginnings(tracks: list[TrackIndex], names: list[str], begins: list[float], account: Account) -> None:
    """Every sound begins about where the picture does."""
    pictures = [begin for track, begin in zip(tracks, begins, strict=True) if track.format.type == "video"]
    for track, name, begin in zip(tracks, names, begins, strict=True):
        if not pictures or track.format.type != "audio":
            continue
        apart = abs(pictures[0] - begin)
        if apart > _BEGIN_TOGETHER:
            text = f"Picture and {name} begin {apart:.2f} s apart"
            account.failed("together", "begins-apart", text, at=min(pictures[0], begin), seconds=round(apart, 3))


def _check_rate(track: TrackIndex, name: str, shown: Ints, steps: Ints, account: Account) -> None:
    """Frames of sound follow each other without lying over one another, and as many as its time needs."""
    usual = track.format.sample_duration or (float(np.median(steps)) if len(steps) else 0.0)
    scale = track.format.timescale
    codec = codec_of(track.format.codec)
    if track.format.type != "audio" or usual <= 0 or len(steps) < _FEW or (codec is not None and codec.varies):
        return
    over = np.flatnonzero(steps < _OVERLAP * usual)
    if len(over):
        at = float(shown[over[0]] - shown[0]) / scale
        twice = float((usual - steps[over]).sum()) / scale
        text = f"{len(over):,} frames of the {name} lie over the one before, the first at {at:.2f} s"
        # as where sound is cut at the end of a part, or times of segments were rounded: nobody hears that
        among = steps[over[0] : over[-1] + 1]
        ahead = float((usual - among).sum()) / scale
        if min(twice, ahead) <= _HEARD:
            account.passed("sound-gaps", f"{text}; {twice * 1000:.0f} ms together", seconds=round(twice, 3))
        else:
            account.failed("sound-gaps", "overlap", text, at=at)
    if scale < _FINE:
        return  # times are rounded by more than a drift would show
    steady = steps[(steps >= _OVERLAP * usual) & (steps < 3 * usual)]
    drift = float((steady - usual).sum()) / scale
    if abs(drift) > _DRIFT:
        faster = "slower" if drift > 0 else "faster"
        text = f"The {name} drifts: its times run {abs(drift):.2f} s {faster} than its {len(shown):,} frames last"
        account.failed("drift", "drift", text, seconds=round(drift, 3))
    else:
        account.passed("drift", f"the {name} keeps its time within {abs(drift):.2f} s", seconds=round(drift, 3))


def _check_order(track: TrackIndex, name: str, account: Account) -> None:
    """Samples stand in the order in which they are decoded: when they are shown may differ from that by a few, and by
    none where a codec does not change the order."""
    codec = codec_of(track.format.codec)
    most = _MOST_REORDERED if codec is not None and codec.reorders else 0
    ranks = np.argsort(np.argsort(track.pts, kind="stable"), kind="stable")
    far = np.flatnonzero(np.abs(ranks - np.arange(len(ranks))) > most)
    if len(far):
        at = float(track.dts[far[0]] - track.dts[0]) / track.format.timescale
        text = f"The times of the {name} do not fit its order, from number {int(far[0]):,} on"
        account.failed(f"{_NAMES[track.format.type]}-times", "times", text, at=at)


def _check_times(track: TrackIndex, name: str, account: Account, *, streamed: bool) -> None:
    kind = track.format.type
    check = _NAMES[kind]
    scale = track.format.timescale
    # two samples may have one time where times are in thousandths of a second
    still = np.flatnonzero(track.durations[:-1] < (1 if scale >= _FINE else 0))
    if len(still):
        at = float(track.dts[still[0]] - track.dts[0]) / scale
        message = f"{len(still):,} decoding times of the {name} do not rise, the first at {at:.2f} s"
        account.failed(f"{check}-times", "times", message, at=at)
    else:
        account.passed(f"{check}-times", f"all {len(track.dts):,} decoding times of the {name} rise")
    shown = np.sort(track.pts)
    steps = np.diff(shown)
    usual = float(np.median(steps)) if len(steps) else 0.0
    gaps = np.flatnonzero(steps > max(_GAP[kind] * scale, 3 * usual))
    spans = _spans(shown, gaps, usual, scale)
    # a sound lasts as long as its codec says, a picture until the next one
    if len(gaps) and (kind == "audio" or (streamed and _is_steady(steps, usual))):
        at = float(shown[gaps[0]] - shown[0] + usual) / scale
        account.failed(f"{check}-gaps", "gap", f"There is no {name} at {spans}", at=at)
    elif len(gaps):
        account.passed(f"{check}-gaps", f"the {name} stands still at {spans}: it has no steady rate")
    else:
        rate = f", {scale / usual:.6g} frames a second" if kind == "video" and usual else ""
        account.passed(f"{check}-gaps", f"no gap in the {name}{rate}")
    _check_order(track, name, account)
    _check_rate(track, name, shown, steps, account)


def _spans(shown: Ints, gaps: Ints, usual: float, scale: int) -> str:
    """The first of some gaps, in words."""
    origin = shown[0] if len(shown) else 0
    spans = [f"{(shown[g] - origin + usual) / scale:.2f}–{(shown[g + 1] - origin) / scale:.2f} s" for g in gaps[:5]]
    return ", ".join(spans) + (f" and {len(gaps) - 5} more" if len(gaps) > 5 else "")


def _is_steady(steps: Ints, usual: float) -> bool:
    """True if pictures follow each other at one rate, but for a few."""
    return bool((np.abs(steps - usual) <= _LIKE * usual).mean() >= _STEADY)
