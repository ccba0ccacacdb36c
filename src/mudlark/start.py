"""Where the program begins: Ctrl-C ends it without a word as long as it has not loaded itself."""

import signal
from typing import NoReturn


def start() -> NoReturn:
    """Load the program, and run it."""
    heeded = signal.getsignal(signal.SIGINT) is signal.default_int_handler  # not so under nohup
    if heeded:
        signal.signal(signal.SIGINT, signal.SIG_DFL)
    from mudlark.cli.main import run

    if heeded:
        signal.signal(signal.SIGINT, signal.default_int_handler)
    run()
