"""Work on many things, of which a second process does a part: two cores are had everywhere.

It is only a saving: where a second process cannot be had, or ends before it told what it did, all is done here.
"""

import os
import pickle
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from functools import partial
from io import BufferedReader, FileIO
from typing import BinaryIO, TypeVar

Done = TypeVar("Done")
Thing = TypeVar("Thing")
_PARTS = 100  # fewer than a byte has values


def in_parts(
    do: Callable[[Sequence[Thing]], Done],
    things: Sequence[Thing],
    *,
    beside: bool = True,
    meanwhile: Callable[[], object] = lambda: None,
) -> Iterator[Done]:
    """What comes of each part of the things, in order. do: is called in either process. beside: False where a second
    process would cost more than it saves. meanwhile: what this one does first."""
    step = -(-len(things) // _PARTS) or 1
    parts = [things[at : at + step] for at in range(0, len(things), step)]
    done = dict[int, Done]()
    if beside and len(parts) > 1 and hasattr(os, "fork") and threading.active_count() == 1:
        done = _done_by_two(lambda number: do(parts[number]), len(parts), meanwhile)
    else:
        meanwhile()
    return (done[number] if number in done else do(part) for number, part in enumerate(parts))


def _done_by_two(do: Callable[[int], Done], parts: int, meanwhile: Callable[[], object]) -> dict[int, Done]:
    """What comes of parts by their numbers, which wait in a queue for whichever process is free; not of all where the
    second one was refused or ended."""
    try:
        (waiting, numbers), (answer, tell) = _pipe(), _pipe()
        with numbers:
            numbers.write(bytes(range(parts)))
        process = os.fork()
    except OSError:
        meanwhile()
        return {}
    with waiting, answer, tell:
        if not process:
            try:
                answer.close()  # so that it ends with who wanted to know
                pickle.dump(_done(do, waiting), tell, pickle.HIGHEST_PROTOCOL)
                tell.flush()
            finally:
                os._exit(0)
        tell.close()
        meanwhile()
        done = _done(do, waiting)
        with suppress(EOFError, pickle.UnpicklingError), answer:  # which is closed before the other one is waited for
            done |= pickle.load(BufferedReader(answer))
        os.waitpid(process, 0)
    return done


def _pipe() -> tuple[FileIO, BinaryIO]:
    """Both ends; nothing is read ahead."""
    reader, writer = os.pipe()
    return FileIO(reader, "rb"), os.fdopen(writer, "wb")


def _done(do: Callable[[int], Done], waiting: FileIO) -> dict[int, Done]:
    return {number[0]: do(number[0]) for number in iter(partial(waiting.read, 1), b"")}
