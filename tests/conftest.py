"""What the tests share: the demo site, the installed program, and a server that misbehaves to order."""

import atexit
import hashlib
import json
import os
import shutil
import signal
import sys
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cache
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings
from jsonschema import Draft202012Validator

from mudlark.demo.site import DemoSite
from mudlark.schemas import NAMES, schema_of
from tests.raw import Raw
from tests.warm import WarmProgram

PROGRAM = Path(sys.executable).with_name("mudlark")

_cache = tempfile.mkdtemp(prefix="mud-cache-")  # the tests leave the user's own alone
atexit.register(shutil.rmtree, _cache, ignore_errors=True)
os.environ["XDG_CACHE_HOME"] = _cache

for _number in (signal.SIGINT, signal.SIGTERM, getattr(signal, "SIGHUP", signal.SIGTERM)):
    if signal.getsignal(_number) == signal.SIG_IGN:  # by nohup, or a shell in the background
        signal.signal(_number, lambda *_: None)  # goes on ignoring it; what is started from here does not

settings.register_profile("calm", deadline=None)  # no test fails for being slow on a busy machine
settings.load_profile("calm")


@pytest.fixture(scope="session")
def site() -> Iterator[DemoSite]:
    with DemoSite() as running:
        yield running


@dataclass
class Ran:
    """What a run of the program left: exit status, both outputs."""

    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        """The one document that was given, which is as its schema says."""
        assert self.out, f"nothing was given; status {self.status}\n{self.err}"
        document = json.loads(self.out)
        if document.get("command") in NAMES:
            validator_of(document["command"]).validate(document)
        return document


@cache
def validator_of(name: str) -> Draft202012Validator:
    """What checks documents against a schema that Mudlark ships."""
    return Draft202012Validator(schema_of(name))


def own_environment(folder: Path) -> dict[str, str]:
    """The environment of a run: each test has its own folder for temporary files, so that what is left can be seen.

    Its path is short, as that of a socket in it may have a hundred characters only.
    """
    name = hashlib.sha256(str(folder).encode()).hexdigest()[:12]
    temporary = Path(tempfile.gettempdir()) / f"mud-test-{name}"
    temporary.mkdir(exist_ok=True)
    atexit.register(shutil.rmtree, temporary, ignore_errors=True)
    return {**os.environ, "TMPDIR": str(temporary)}


@pytest.fixture(scope="session")
def warm() -> Iterator[WarmProgram]:
    with WarmProgram() as program:
        yield program


@pytest.fixture
def mudlark(tmp_path: Path, warm: WarmProgram) -> Callable[..., Ran]:
    """Run the installed program in a temporary folder; it must never show a traceback. own_mistake: the test is of an
    error of the program itself, which no other may meet."""

    def run(*arguments: object, limit: float = 100, own_mistake: bool = False) -> Ran:
        status, out, err = warm.run(list(map(str, arguments)), tmp_path, own_environment(tmp_path), limit)
        assert "Traceback" not in err, err
        assert (status == 70) is own_mistake, err
        return Ran(status, out, err)

    return run


def wait_until(happened: Callable[[], object]) -> None:
    """Wait for what another process does; a test fails if it never comes, however slow the machine."""
    ends = time.monotonic() + 100
    while not happened():
        assert time.monotonic() < ends, "what was waited for did not happen"
        time.sleep(0.02)


SOON = 0.05  # seconds in which a server ends when it is told to


@dataclass
class Answer:
    """What the misbehaving server says. cut: how many bytes of the body are really sent. hold: seconds
    of silence, which end with the test."""

    body: bytes = b""
    status: int = 200
    type: str = "application/octet-stream"
    cut: int | None = None
    hold: float = 0.0
    headers: dict[str, str] = field(default_factory=dict)


@contextmanager
def serving(handler: type[BaseHTTPRequestHandler]) -> Iterator[str]:
    """A server on loopback; gives its address, without a path."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), handler)
    server.daemon_threads = True
    threading.Thread(target=server.serve_forever, args=(SOON,), daemon=True).start()
    try:
        yield f"http://127.0.0.1:{server.server_port}"
    finally:
        server.shutdown()
        server.server_close()


class QuietHandler(BaseHTTPRequestHandler):
    """Says nothing, and takes it well when the other side goes away."""

    protocol_version = "HTTP/1.1"

    def log_message(self, *_: object) -> None:
        pass

    def handle(self) -> None:
        try:
            super().handle()
        except OSError:
            self.close_connection = True


class Trouble:
    """A server on loopback whose answers a test sets: path to a list of answers, the last of which is repeated."""

    def __init__(self) -> None:
        self.answers: dict[str, list[Answer]] = {}
        self.asked: list[str] = []
        self.headers: list[dict[str, str]] = []
        self.busy = self.busiest = 0
        self._wake = threading.Event()
        trouble = self

        class Handler(QuietHandler):
            def do_GET(self) -> None:
                trouble.asked.append(self.path)
                trouble.headers.append(dict(self.headers))
                exact, bare = self.path, self.path.partition("?")[0]
                queue = trouble.answers.get(exact) or trouble.answers.get(bare) or [Answer(b"no", 404, "text/plain")]
                answer = queue.pop(0) if len(queue) > 1 else queue[0]
                trouble.busy += 1
                trouble.busiest = max(trouble.busiest, trouble.busy)
                if answer.hold:
                    trouble._wake.wait(answer.hold)
                trouble.busy -= 1
                self.send_response(answer.status)
                for name, value in {"Content-Type": answer.type, **answer.headers}.items():
                    self.send_header(name, value)
                self.send_header("Content-Length", str(len(answer.body)))
                self.end_headers()
                self.wfile.write(answer.body[: answer.cut])
                if answer.cut is not None:
                    self.close_connection = True

            def do_POST(self) -> None:
                self.rfile.read(int(self.headers.get("Content-Length", 0)))
                self.do_GET()

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self._server.daemon_threads = True
        self.url = f"http://127.0.0.1:{self._server.server_port}"
        threading.Thread(target=self._server.serve_forever, args=(SOON,), daemon=True).start()

    def say(self, path: str, *answers: Answer) -> str:
        """Set the answers of a path; gives its address."""
        self.answers[path] = list(answers)
        return self.url + path

    def close(self) -> None:
        self._wake.set()
        self._server.shutdown()
        self._server.server_close()


@pytest.fixture
def trouble() -> Iterator[Trouble]:
    server = Trouble()
    yield server
    server.close()


@pytest.fixture
def raw() -> Iterator[Raw]:
    """A server that says byte for byte what it is told."""
    server = Raw()
    yield server
    server.close()
