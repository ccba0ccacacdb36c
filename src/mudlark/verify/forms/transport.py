"""Transport streams (ISO/IEC 13818-1): packets from the first to the last byte, none missing, and what they carry in
order, read as for a film.
"""

from collections import defaultdict
from pathlib import Path

import msgspec
import numpy as np

from mudlark.errors import FormatError
from mudlark.media.samples import Format, Loss, LossCode, Samples
from mudlark.media.ts import TransportReader
from mudlark.verify.account import Account
from mudlark.verify.forms.found import Found, at_second
from mudlark.verify.forms.packets import NULL, Packets

_WINDOW = 188 * 21 * 2048  # bytes, some 8 MB; packets of 188, 192 and 204 bytes all begin here or are found again
_WORDS = {
    LossCode.PACKETS: ("packets-lost", "{count:,} transport packets are missing or damaged"),
    LossCode.STRAY_BYTES: ("stray-bytes", "{count:,} bytes are no transport packets"),
    LossCode.UNDECODABLE: ("undecodable-pictures", "{count:,} pictures come before what is needed to decode them"),
}
_GAP = 0.5  # seconds
_LAST_RESERVED = 0x1F  # up to which PIDs are of tables that say something of the stream


class _Track(msgspec.Struct):
    """begin, end: seconds of its own clock, jumps taken out. gaps: (second, seconds) that are missing."""

    format: Format
    samples: int = 0
    begin: float | None = None
    end: float = 0.0
    gaps: list[tuple[float, float]] = msgspec.field(default_factory=list)

    def take(self, samples: Samples) -> None:
        """Go on with what comes next."""
        times = np.sort(samples.pts) / samples.format.timescale
        step = samples.format.sample_duration / samples.format.timescale or float(
            np.median(np.diff(times)) if len(times) > 1 else 0
        )
        if self.begin is None:
            self.begin = self.end = float(times[0])
        joined = np.append(self.end, times + step)[:-1]
        for place in np.flatnonzero((times - joined > _GAP) & (times - joined < 3600))[:20].tolist():
            self.gaps.append((float(joined[place]) - self.begin, float(times[place] - joined[place])))
        self.end = max(self.end, float(times[-1]) + step)
        self.samples += len(samples)


def check_transport(path: Path, account: Account) -> Found:
    """Look into a transport stream."""
    reader, tracks = TransportReader(), dict[int, _Track]()
    lost: defaultdict[LossCode, int] = defaultdict(int)
    first: dict[LossCode, tuple[int, float]] = {}
    at, packets, problem = 0, Packets(), None
    with path.open("rb") as file:
        while block := file.read(_WINDOW):
            packets.take(block)
    try:
        with path.open("rb") as file:
            while block := file.read(_WINDOW):
                _take(tracks, reader.feed(memoryview(block)))
                _lose(reader.losses(), lost, first, at, tracks)
                at += len(block)
        _take(tracks, reader.flush())
        _lose(reader.losses(), lost, first, at, tracks)
    except FormatError as odd:
        problem = odd
    if problem is not None or not tracks:
        _cover(packets, frozenset(range(_LAST_RESERVED + 1)), account)
        if packets.counts and len(packets.counts) > 1 and not packets.lost and not packets.damaged:
            words = problem.what if problem else "It carries no picture and no sound that is known"
            account.skipped("content", f"{words}; its packets are all there, of {len(packets.counts)} streams")
        else:
            words = problem.what if problem else "it carries no picture and no sound that is known"
            account.failed("content", "stream", f"The transport stream cannot be read: {words}", grave=True)
        return Found()
    others = {pid: count for pid, count in packets.counts.items() if pid not in reader.pids and pid > _LAST_RESERVED}
    for pid, count in packets.lost.items():
        if pid in others or LossCode.PACKETS not in lost:
            text = f"{count:,} transport packets of the stream with PID {pid} are missing"
            account.failed("packets", "packets-lost", text)
    _cover(packets, reader.pids | frozenset(range(_LAST_RESERVED + 1)), account)
    if others:
        account.skipped("left-out", f"not looked into: {sum(others.values()):,} packets of {len(others)} other streams")
    for code, count in lost.items():
        if code in _WORDS:
            name, words = _WORDS[code]
            byte, second = first[code]
            text = f"{words.format(count=count)}, first after byte {byte:,} ({at_second(second)})"
            account.failed("packets", name, text, at=second, offset=byte)
    for number, track in tracks.items():
        for second, seconds in track.gaps[:5]:
            text = f"{seconds:.2f} s of {track.format.type} {number} are missing at {at_second(second)}"
            account.failed("times", "gap", text, at=second)
    if at % 188 and at % 192 and at % 204:
        account.failed("packets", "cut-off", "The last packet is cut off", offset=at)
    spans = [(track.begin or 0.0, track.end) for track in tracks.values()]
    length = max(end for _, end in spans) - min(begin for begin, _ in spans)
    if not account.problems:
        counts = ", ".join(f"{track.samples:,} of {track.format.codec}" for track in tracks.values())
        account.leave_open("a transport stream")
        account.passed("samples", f"transport packets from the first to the last byte, none missing; samples: {counts}")
    return Found(length, [track.format for track in tracks.values()])


def _cover(packets: Packets, known: frozenset[int], account: Account) -> None:
    """Account for packets, stream by stream; those without a payload say something of the time alone."""
    for pid, count in packets.all.items():
        if pid == NULL:
            account.cover("padding", count * packets.stride)
        elif pid in known:
            account.cover("samples" if pid > _LAST_RESERVED else "structure", count * packets.stride)
        elif loaded := packets.counts.get(pid):
            account.leave_out(f"{loaded:,} packets of a stream that no one looks into (PID {pid})")
        else:
            account.cover("structure", count * packets.stride)


def _take(tracks: dict[int, _Track], came: list[Samples]) -> None:
    for samples in came:
        if len(samples):
            tracks.setdefault(samples.track, _Track(samples.format)).take(samples)


def _lose(
    losses: list[Loss],
    lost: defaultdict[LossCode, int],
    first: dict[LossCode, tuple[int, float]],
    at: int,
    tracks: dict[int, _Track],
) -> None:
    for loss in losses:
        seconds = max((track.end - (track.begin or 0.0) for track in tracks.values()), default=0.0)
        first.setdefault(loss.code, (at, seconds))
        lost[loss.code] += loss.count
