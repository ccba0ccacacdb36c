"""Zeros in place of coded data: what a broken download or a bad disk leaves in a file whose tables are good.

What a codec can hold of zeros is a property of the codec: three in a row have no place in a NAL unit (ITU-T H.264
§7.4.1, H.265 §7.4.2.1: emulation prevention), and entropy-coded sound and pictures have no long runs of them. Codecs
whose frames are padded with zeros, or carry their own check sums, are not looked at here, nor is sound that is not
coded.
"""

import numpy as np

from mudlark.media.movie import ReadAt, TrackIndex, contiguous
from mudlark.media.samples import Ints
from mudlark.verify.forms.found import at_second
from mudlark.verify.verdict import Report

_WINDOW = 8 << 20
_WORD = 8  # bytes that are looked at as one
_RUNS = {  # bytes of zeros that no sample holds, by the beginning of a codec's name
    **dict.fromkeys(("avc1", "avc3", "hvc1", "hev1"), 32),
    **dict.fromkeys(("vp08", "vp09", "vp8", "vp9", "av01", "mp4a.40", "mp4a.67"), 512),
    **dict.fromkeys(("Opus", "opus", "vorb"), 256),
}


def check_holes(read: ReadAt, tracks: list[TrackIndex], report: Report) -> None:
    """Look for long runs of zeros in the samples of tracks."""
    for track in tracks:
        longest = next((run for name, run in _RUNS.items() if track.format.codec.startswith(name)), None)
        if longest is None or not len(track.sizes):
            continue
        order = np.argsort(track.offsets, kind="stable")
        hit = _hit(read, track.offsets[order], track.sizes[order], longest // _WORD - 1)
        if len(hit):
            first = int(order[hit[0]])
            second = float(track.dts[first] - track.dts[0]) / track.format.timescale
            what = "pictures" if track.format.type == "video" else "frames of sound"
            text = f"Zeros stand in place of coded data in {len(hit):,} {what}, the first at {at_second(second)}"
            report.failed("holes", "zeros", text, at=second, offset=int(track.offsets[first]))


def _hit(read: ReadAt, offsets: Ints, sizes: Ints, words: int) -> Ints:
    """The numbers of samples, in the order of their places, that hold so many words of zeros in a row."""
    ends = offsets + sizes
    found: list[Ints] = []
    for begin, end in contiguous(offsets, sizes).tolist():
        for at in range(begin, end, _WINDOW):
            data = read(at, min(_WINDOW, end - at))
            zero = np.frombuffer(data, "<u8", len(data) // _WORD) == 0
            places = np.flatnonzero(zero)
            if len(places) < words:
                continue
            run = np.flatnonzero(places[words - 1 :] - places[: len(places) - words + 1] == words - 1)
            if len(run):
                found.append(np.unique(np.searchsorted(ends, at + places[run] * _WORD, "right")))
    return np.unique(np.concatenate(found)) if found else np.zeros(0, np.int64)
