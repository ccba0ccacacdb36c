"""What decoded pictures and sound are like: black, frozen, silent, clipping, and how loud over time."""

import msgspec
import numpy as np
from numpy.typing import NDArray

from mudlark.media.samples import Flags

BLACK = 20.0  # of 255: no brighter than this on average, and
_DARK = 40.0  # no brighter than this in all but a hundredth of the picture
STILL = 0.4  # of 255: mean difference of two moments below which nothing moves
SILENT = -60.0  # dB of full scale
SHORTEST = {"black": 0.5, "frozen": 2.0, "silent": 2.0}  # seconds from which it is told
_HOLE = 1.0  # seconds without anything measured, across which nothing is said
_FLOOR = 1e-6
Floats = NDArray[np.float64]
Span = tuple[float, float]


class Measured(msgspec.Struct):
    """Seconds from when to when; seen: how many seconds were measured. loudness: dB of full scale, second by second
    (time, dB). peak: the loudest, in dB. clipped: samples at full scale."""

    black: list[Span] = msgspec.field(default_factory=list)
    frozen: list[Span] = msgspec.field(default_factory=list)
    silent: list[Span] = msgspec.field(default_factory=list)
    seen: float = 0.0
    heard: float = 0.0
    loudness: list[tuple[float, float]] = msgspec.field(default_factory=list)
    peak: float | None = None
    clipped: int = 0


def measure_pictures(times: Floats, greys: NDArray[np.uint8], step: float, into: Measured) -> None:
    """Small grey pictures, shape (n, height, width), at times in seconds, about `step` apart."""
    if not len(times):
        return
    order = np.argsort(times, kind="stable")
    times, greys = times[order], greys[order]
    flat = greys.reshape(len(greys), -1).astype(np.float32)
    ends = _ends(times, step)
    black = (flat.mean(axis=1) < BLACK) & (np.percentile(flat, 99, axis=1) < _DARK)
    still = np.zeros(len(times), np.bool_)
    if len(times) > 1:
        apart = np.abs(np.diff(flat, axis=0)).mean(axis=1)
        still[:-1] = (apart < STILL) & (np.diff(times) < _HOLE)
    into.black = _spans(times, ends, black, SHORTEST["black"])
    into.frozen = _spans(times, ends, still & ~black, SHORTEST["frozen"])
    into.seen = float((ends - times).sum())


def measure_sound(frames: Floats, into: Measured) -> None:
    """Frames of sound, shape (n, 5): second, seconds, root mean square, peak, samples at full scale."""
    if not len(frames):
        return
    frames = frames[np.argsort(frames[:, 0], kind="stable")]
    times, lengths, loud, peak, full = frames.T
    times = np.maximum(times, 0.0)  # what decoders need before the beginning
    levels = 20 * np.log10(np.maximum(peak, _FLOOR))
    into.silent = _spans(times, times + lengths, levels < SILENT, SHORTEST["silent"])
    into.heard = float(lengths.sum())
    into.peak = round(float(levels.max()), 1)
    into.clipped = int(full.sum())
    seconds = np.floor(times).astype(np.int64)
    first, power = np.unique(seconds), loud * loud * lengths
    totals = np.bincount(seconds - first[0], power), np.bincount(seconds - first[0], lengths)
    for second in first.tolist():
        mean = totals[0][second - first[0]] / max(totals[1][second - first[0]], _FLOOR)
        into.loudness.append((float(second), round(float(10 * np.log10(max(mean, _FLOOR * _FLOOR))), 1)))


def _ends(times: Floats, step: float) -> Floats:
    """How long each moment lasts: until the next, unless that is far away."""
    following = np.append(times[1:], times[-1] + step)
    return np.where(following - times < _HOLE, following, times + step)


def _spans(begins: Floats, ends: Floats, true: Flags, shortest: float) -> list[Span]:
    """Where something is true without a break, if for long enough."""
    if not true.any():
        return []
    joined = np.append(False, (begins[1:] - ends[:-1] < _HOLE) & true[1:] & true[:-1])
    starts = np.flatnonzero(true & ~joined)
    lasts = np.append(starts[1:], len(true)) - 1
    spans = []
    for start, last in zip(starts.tolist(), lasts.tolist(), strict=True):
        inside = np.flatnonzero(true[start : last + 1])
        end = start + int(inside[-1]) if len(inside) else start
        if ends[end] - begins[start] >= shortest:
            spans.append((round(float(begins[start]), 2), round(float(ends[end]), 2)))
    return spans
