"""Where the program begins: Ctrl-C ends it without a word as long as it has not loaded itself."""

import os
import signal
import sys
from typing import NoReturn


def start() -> NoReturn:
    """Load the program, and run it."""
    _have_streams()
    heeded = signal.getsignal(signal.SIGINT) is signal.default_int_handler  # not so under nohup
    if heeded:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
    from mudlark.cli.main import run

    if heeded:
        signal.signal(signal.SIGINT, signal.default_int_handler)
    run()


def _have_streams() -> None:
    """Have standard input, output and errors lead to nowhere where they are closed, as by some that start programs at
    night: or the next file that is opened takes their place."""
    for name, mode in (("stdin", "r"), ("stdout", "w"), ("stderr", "w")):
        if getattr(sys, name) is None:
            setattr(sys, name, os.fdopen(os.open(os.devnull, os.O_RDWR), mode, encoding="utf-8", closefd=False))
