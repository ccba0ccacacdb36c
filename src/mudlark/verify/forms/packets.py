"""Transport packets of every kind (ISO/IEC 13818-1 §2.4.3): each stream's are counted, known or not.

Packets of 188, 192 and 204 bytes. Per packet work is on arrays of whole windows.
"""

import msgspec
import numpy as np

from mudlark.media.samples import Bytes, Flags, Ints

_SYNC, NULL = 0x47, 0x1FFF
_STRIDES = (188, 192, 204)
_LEAST = 4  # packets that tell how far they stand apart


class Packets(msgspec.Struct):
    """What was seen so far. all: packets, by PID; counts: those with a payload. lost: packets that are missing, by PID.
    damaged: that say so of themselves. stride: bytes from one to the next; 0 if that is not known."""

    stride: int = 0
    all: dict[int, int] = msgspec.field(default_factory=dict)
    counts: dict[int, int] = msgspec.field(default_factory=dict)
    lost: dict[int, int] = msgspec.field(default_factory=dict)
    damaged: int = 0
    _phase: int = 0
    _rest: bytes = b""
    _last: dict[int, int] = msgspec.field(default_factory=dict)

    def take(self, block: bytes) -> None:
        """Go on with what comes next."""
        data = np.frombuffer(self._rest + block, np.uint8)
        if not self.stride:
            self.stride, self._phase = _layout(data)
            if not self.stride:
                return
            data = data[self._phase :]
        whole = len(data) // self.stride * self.stride
        self._rest = data[whole:].tobytes()
        rows = data[:whole].reshape(-1, self.stride)
        rows = rows[rows[:, 0] == _SYNC]
        if not len(rows):
            return
        self.damaged += int((rows[:, 1] >> 7).sum())
        pids = (rows[:, 1].astype(np.int64) & 0x1F) << 8 | rows[:, 2]
        loaded = (rows[:, 3] & 0x10) != 0
        marked = ((rows[:, 3] & 0x20) != 0) & (rows[:, 4] > 0) & ((rows[:, 5] & 0x80) != 0)
        for pid, number in zip(*(found.tolist() for found in np.unique(pids, return_counts=True)), strict=True):
            self.all[pid] = self.all.get(pid, 0) + number
            if pid != NULL:
                own = pids == pid
                self._count(pid, (rows[own, 3] & 15).astype(np.int64), loaded[own], marked[own])

    def _count(self, pid: int, counters: Ints, loaded: Flags, marked: Flags) -> None:
        """Continuity counters (§2.4.3.3): each packet with a payload has the next, or is the same once more. marked:
        the counter may begin anew."""
        marks = np.cumsum(marked)[loaded]
        own = counters[loaded]
        if not len(own):
            return
        self.counts[pid] = self.counts.get(pid, 0) + len(own)
        steps = np.diff(own, prepend=self._last.get(pid, int(own[0]) - 1)) & 15
        free = np.diff(marks, prepend=0) > 0
        missing = np.where((steps > 1) & ~free, steps - 1, 0)
        if total := int(missing.sum()):
            self.lost[pid] = self.lost.get(pid, 0) + total
        self._last[pid] = int(own[-1])


def _layout(data: Bytes) -> tuple[int, int]:
    """How far packets stand apart, and where the first begins."""
    for stride in _STRIDES:
        for phase in range(min(stride, max(0, len(data) - _LEAST * stride))):
            if (data[phase::stride][:_LEAST] == _SYNC).all():
                return stride, phase
    return 0, 0
