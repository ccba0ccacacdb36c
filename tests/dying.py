"""Runs the program, and kills it just before one of its changes to the disk, by number; else writes how many it made.

python dying.py NUMBER COUNTED ARGUMENTS…
"""

import atexit
import os
import signal
import sys
from collections.abc import Callable
from itertools import count
from pathlib import Path
from typing import Any

_CHANGES = ("fsync", "link", "mkdir", "remove", "rename", "replace", "rmdir", "truncate", "unlink", "write")
_here = os.getpid()


def counted(change: Callable[..., Any], steps: "count[int]", last: int) -> Callable[..., Any]:
    """A change to the disk that is counted, and is not made any more if it is the last."""

    def made(*given: Any, **named: Any) -> Any:
        if os.getpid() == _here and next(steps) == last:
            os.kill(_here, signal.SIGKILL)
        return change(*given, **named)

    return made


def main() -> None:
    """Patch, and run."""
    last, told = int(sys.argv[1]), Path(sys.argv[2])
    steps = count(1)
    atexit.register(lambda: told.write_text(str(next(steps) - 1)))
    from mudlark.cli.main import run

    for name in _CHANGES:
        setattr(os, name, counted(getattr(os, name), steps, last))
    sys.argv[1:] = sys.argv[3:]
    run()


if __name__ == "__main__":
    main()
