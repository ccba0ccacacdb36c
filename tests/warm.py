"""The program with its libraries loaded once: each run is a fork that goes in by the program's own entrance.

A run of its own takes a second of the machine only to load libraries, and there are hundreds. Runs that are killed or
measured start the installed program itself.
"""

import array
import faulthandler
import importlib
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
import traceback
from pathlib import Path
from typing import Any

_LIBRARIES = ("aiohttp", "numpy", "lxml.etree", "selectolax.lexbor", "rich.progress", "PIL.Image", "sqlite3", "msgspec")


class WarmProgram:
    """Use as a context manager."""

    def __enter__(self) -> "WarmProgram":
        self._ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.warm", str(theirs.fileno())],
            cwd=Path(__file__).parents[1],
            pass_fds=[theirs.fileno()],
        )
        theirs.close()
        return self

    def __exit__(self, *_: object) -> None:
        self._ours.close()
        self._process.wait(10)

    def run(self, arguments: list[str], cwd: Path, environment: dict[str, str], limit: float) -> tuple[int, str, str]:
        """Exit status, stdout and stderr of a run; one that takes longer than the limit is ended, and fails."""
        with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
            order = json.dumps([arguments, str(cwd), environment, limit]).encode()
            handles = array.array("i", [out.fileno(), err.fileno()])
            self._ours.sendmsg([order], [(socket.SOL_SOCKET, socket.SCM_RIGHTS, handles.tobytes())])
            status = int(self._ours.recv(64))
            texts = []
            for file in (out, err):
                file.seek(0)
                texts.append(file.read().decode())
        assert status != -signal.SIGKILL, f"no end within {limit:g} s: {arguments}\n{texts[1]}"
        return status, texts[0], texts[1]


def _serve(channel: socket.socket) -> None:
    for name in _LIBRARIES:
        importlib.import_module(name)
    from mudlark.cli.main import _COMMANDS, _load

    for name in _COMMANDS:
        _load(name)
    while True:
        order, passed, _, _ = channel.recvmsg(1 << 20, socket.CMSG_SPACE(8))
        if not order:
            return
        handles = array.array("i")
        handles.frombytes(passed[0][2][:8])
        arguments, cwd, environment, limit = json.loads(order)
        child = os.fork()
        if not child:
            channel.close()
            _become(arguments, cwd, environment, list(handles))
        for handle in handles:
            os.close(handle)
        signal.signal(signal.SIGALRM, lambda *_, number=child: os.kill(number, signal.SIGKILL))
        signal.setitimer(signal.ITIMER_REAL, limit)
        _, status = os.waitpid(child, 0)
        signal.setitimer(signal.ITIMER_REAL, 0)
        channel.send(str(os.waitstatus_to_exitcode(status)).encode())


def _become(arguments: list[str], cwd: str, environment: dict[str, str], handles: list[int]) -> Any:
    """The program, as if it had just been started."""
    status = 99
    try:
        os.chdir(cwd)
        os.environ.clear()
        os.environ.update(environment)
        os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
        os.dup2(handles[0], 1)
        os.dup2(handles[1], 2)
        faulthandler.enable(handles[1])
        sys.argv = ["mudlark", *arguments]
        from mudlark.cli.main import run

        run()
    except SystemExit as end:
        status = end.code if isinstance(end.code, int) else 0 if end.code is None else 1
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        os._exit(status)


if __name__ == "__main__":
    _serve(socket.socket(fileno=int(sys.argv[1])))
