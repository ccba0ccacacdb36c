"""AAC in ADTS frames: frame headers in arrays, the AudioSpecificConfig they imply, and frame times.

Follows ISO/IEC 14496-3 §1.A.2.2 (ADTS) and §1.6.2.1 (AudioSpecificConfig).
"""

from dataclasses import dataclass

import numpy as np

from mudlark.errors import FormatError
from mudlark.media.samples import Bytes, Format, Ints, Samples

_RATES = (96000, 88200, 64000, 48000, 44100, 32000, 24000, 22050, 16000, 12000, 11025, 8000, 7350)
_CHANNELS = (0, 1, 2, 3, 4, 5, 6, 8)
FRAME = 1024  # samples a frame
_TOLERANCE = 0.020  # seconds by which a timestamp may differ from the running count before it is a jump


@dataclass(frozen=True, slots=True)
class Frames:
    """Positions, lengths and header lengths in bytes of whole ADTS frames; `rest`: where the unfinished one begins."""

    positions: Ints
    lengths: Ints
    headers: Ints
    rest: int


def frames(stream: Bytes) -> Frames:
    """Find the chain of frames. Bytes that belong to no frame are stepped over."""
    marks = (
        np.flatnonzero((stream[:-6] == 0xFF) & (stream[1:-5] & 0xF6 == 0xF0)) if len(stream) > 6 else np.zeros(0, int)
    )
    marks = marks.astype(np.int64)
    if not len(marks):
        return Frames(marks, marks, marks, max(0, len(stream) - 6))
    first = marks[0]
    alike = marks[(stream[marks + 2] == stream[first + 2]) & (stream[marks + 1] == stream[first + 1])]
    lengths = _lengths(stream, alike)
    if np.array_equal(alike[1:], alike[:-1] + lengths[:-1]) and (lengths > 7).all():
        chain = alike
    else:
        chain = _walk(marks, _lengths(stream, marks), len(stream))
        lengths = _lengths(stream, chain)
    whole = chain + lengths <= len(stream)
    rest = int(chain[~whole][0]) if not whole.all() else int(chain[-1] + lengths[-1]) if len(chain) else len(stream)
    chain, lengths = chain[whole], lengths[whole]
    return Frames(chain, lengths, np.where(stream[chain + 1] & 1, 7, 9).astype(np.int64), rest)


def _lengths(stream: Bytes, at: Ints) -> Ints:
    fields = stream[at[:, None] + np.arange(3, 6)].astype(np.int64)
    lengths: Ints = (fields[:, 0] & 3) << 11 | fields[:, 1] << 3 | fields[:, 2] >> 5
    return lengths


def _walk(marks: Ints, lengths: Ints, end: int) -> Ints:
    """Follow the chain mark by mark: the slow way, for streams in which sync words also occur inside frames."""
    following = dict(zip(marks.tolist(), lengths.tolist(), strict=True))
    chain = []
    at = int(marks[0])
    for mark in marks.tolist():
        target = mark + following[mark]
        if mark >= at and following[mark] > 7 and (target in following or target >= end - 6):
            chain.append(mark)
            at = target
    return np.array(chain, np.int64)


def audio_format(header: bytes) -> Format:
    """The format that an ADTS header describes; its timescale is the sample rate."""
    profile, rate = header[2] >> 6, header[2] >> 2 & 15
    channels = (header[2] & 1) << 2 | header[3] >> 6
    if rate >= len(_RATES):
        raise FormatError(f"An AAC header names the reserved sample rate {rate}")
    if not channels:
        raise FormatError("An AAC stream describes its channels inside the frames, which is not supported")
    kind = profile + 1
    config = (kind << 11 | rate << 7 | channels << 3).to_bytes(2, "big")
    return Format(
        type="audio",
        codec=f"mp4a.40.{kind}",
        timescale=_RATES[rate],
        config=config,
        sample_duration=FRAME,
        channels=_CHANNELS[channels],
        sample_rate=_RATES[rate],
    )


class AacStream:
    """Turns ADTS with the 90 kHz timestamps of its packets into samples.

    Frames are counted on from the first timestamp; a timestamp that is off by more than a little (a gap, or an
    overlap) moves the count there.
    """

    def __init__(self, track: int) -> None:
        self.track = track
        self.format: Format | None = None
        self._next: int | None = None

    def restart(self) -> None:
        """The next timestamp starts a new count."""
        self._next = None

    def samples(self, stream: Bytes, starts: Ints, pts: Ints) -> tuple[Samples | None, int]:
        """Samples of all whole frames, and where the unfinished rest begins.

        starts: where in the stream each timed packet begins; pts: its time in ticks of 90 kHz, unwrapped; shape (k,).
        """
        found = frames(stream)
        count = len(found.positions)
        if not count:
            return None, found.rest
        head = stream[found.positions[0] : found.positions[0] + 7].tobytes()
        if self.format is None:
            self.format = audio_format(head)
        elif (changed := audio_format(head)) != self.format:
            raise FormatError(
                f"The sound changes from {self.format.sample_rate} Hz, {self.format.channels} channels to "
                f"{changed.sample_rate} Hz, {changed.channels} channels in the middle, which one file cannot hold"
            )
        times = self._times(count, np.searchsorted(found.positions, starts), pts)
        begins, ends = found.positions + found.headers, found.positions + found.lengths
        whole = stream.data
        pieces = [whole[begin:end] for begin, end in zip(begins.tolist(), ends.tolist(), strict=True)]
        return Samples(
            self.track, self.format, ends - begins, times, times, np.ones(count, np.bool_), pieces
        ), found.rest

    def _times(self, count: int, frame: Ints, pts: Ints) -> Ints:
        """Times in ticks of the sample rate: a running count that jumps only where a timestamp says so."""
        assert self.format is not None
        rate = self.format.sample_rate
        stated = (pts * rate + 45_000) // 90_000
        frame, first = np.unique(frame, return_index=True)  # of two timestamps for one frame the first counts
        frame, stated = frame[frame < count], stated[first][frame < count]
        if self._next is None:
            self._next = int(stated[0] - frame[0] * FRAME) if len(frame) else 0
        times = self._next + np.arange(count, dtype=np.int64) * FRAME
        off = stated - times[frame]
        while len(jumps := np.flatnonzero(np.abs(off) > _TOLERANCE * rate)):
            jump = jumps[0]
            shift = off[jump]
            times[frame[jump] :] += shift
            off[frame >= frame[jump]] -= shift
        self._next = int(times[-1]) + FRAME
        return times
