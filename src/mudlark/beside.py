"""Work on many things, of which a second process does a part: two cores are had everywhere.

It is only a saving: where a second process cannot be had, or ends before it told what it did, all is done here.
"""

import os
import pickle
import threading
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from functools import partial
from typing import BinaryIO, TypeVar

Done = TypeVar("Done")
Thing = TypeVar("Thing")
_PARTS = 100  # fewer than a byte has values


def in_parts(do: Callable[[Sequence[Thing]], Done], things: Sequence[Thing], *, beside: bool = True) -> Iterator[Done]:
    """What comes of each part of the things, in order. do: is called in either process. beside: False where a second
    process would cost more than it saves."""
    step = -(-len(things) // _PARTS) or 1
    parts = [things[at : at + step] for at in range(0, len(things), step)]
    done = dict[int, Done]()
    if beside and len(parts) > 1 and hasattr(os, "fork") and threading.active_count() == 1:
        done = _done_by_two(lambda number: do(parts[number]), len(parts))
    return (done[number] if number in done else do(part) for number, part in enumerate(parts))


def _done_by_two(do: Callable[[int], Done], parts: int) -> dict[int, Done]:
    """What comes of parts by their numbers, which wait in a queue for whichever process is free; not of all where the
    second one was refused or ended."""
    (queue, numbers), (beside, told) = os.pipe(), os.pipe()
    with os.fdopen(numbers, "wb") as all_numbers:
        all_numbers.write(bytes(range(parts)))
    with os.fdopen(queue, "rb", 0) as waiting, os.fdopen(beside, "rb") as answer, os.fdopen(told, "wb") as tell:
        try:
            process = os.fork()
        except OSError:
            return {}
        if not process:
            try:
                answer.close()  # so that it ends with who wanted to know
                pickle.dump(_done(do, waiting), tell, pickle.HIGHEST_PROTOCOL)
                tell.flush()
            finally:
                os._exit(0)
        tell.close()
        done = _done(do, waiting)
        with suppress(EOFError, pickle.UnpicklingError):
            done |= pickle.load(answer)
        os.waitpid(process, 0)
    return done


def _done(do: Callable[[int], Done], waiting: BinaryIO) -> dict[int, Done]:
    return {number[0]: do(number[0]) for number in iter(partial(waiting.read, 1), b"")}
