"""From fetched segments to parts in order of time, handed from the event loop to the assembling thread."""

import queue
import threading
from collections.abc import Iterator

from mudlark.assemble.film import Part, Section
from mudlark.fetch.engine import Outcome


class Parts:
    """An iterator over parts that another thread puts in."""

    def __init__(self) -> None:
        self._queue: queue.SimpleQueue[Part | None] = queue.SimpleQueue()
        self._stopped = threading.Event()

    def put(self, part: Part) -> None:
        """Hand over the next part."""
        self._queue.put(part)

    def end(self) -> None:
        """There are no more."""
        self._queue.put(None)

    def stop(self) -> None:
        """End early: what was assembled so far will be thrown away."""
        self._stopped.set()
        self._queue.put(None)

    def __iter__(self) -> Iterator[Part]:
        while (part := self._queue.get()) is not None and not self._stopped.is_set():
            yield part


def part_of(outcome: Outcome, rendition: int) -> Part:
    """What became of a job, as a part of the film: the rendition is known by its number."""
    segment = outcome.job.segment
    cipher = segment.cipher
    init = None
    if outcome.init is not None and segment.init is not None:
        iv = segment.init.cipher.iv if segment.init.cipher else b""
        init = Section(outcome.init, outcome.init_key, iv)
    return Part(
        rendition=rendition,
        number=outcome.job.number,
        begin=segment.begin,
        duration=segment.duration,
        place=outcome.place,
        stretch=segment.stretch,
        init=init,
        key=outcome.key,
        iv=cipher.iv if cipher else b"",
        offset=segment.offset,
        shown=segment.shown,
    )
