"""Where the events that the core logs go: a file of JSON lines, or the terminal. Secrets are hidden on the way."""

import logging
import os
import sys
import time
from pathlib import Path

import msgspec

from mudlark.errors import StorageError
from mudlark.text import escaped_json, visible
from mudlark.web.redact import redacted

_ROOT = logging.getLogger("mudlark")


class _Lines(logging.Formatter):
    """An event as a line of JSON: when (UTC), what, and its facts."""

    def format(self, record: logging.LogRecord) -> str:
        moment = time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime(record.created))
        event = {"time": f"{moment}.{int(record.msecs):03d}Z", "level": record.levelname.lower(), "part": record.name}
        facts = {name: value for name, value in getattr(record, "facts", {}).items() if value is not None}
        return escaped_json(redacted(msgspec.json.encode({**event, "event": record.getMessage(), **facts}).decode()))


class _Words(logging.Formatter):
    """An event for people."""

    def format(self, record: logging.LogRecord) -> str:
        facts = {name: value for name, value in getattr(record, "facts", {}).items() if value is not None}
        known = (str(facts.pop(name, "")) for name in ("url", "status"))  # which need no name
        words = [record.getMessage(), *known, *(f"{name}={value}" for name, value in facts.items())]
        return visible(redacted(f"  {' '.join(filter(None, words))}"))


def log_to_file(path: Path) -> None:
    """Add events to a file, readable by its owner only."""
    try:
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)
    except OSError as problem:
        raise StorageError(
            f"Cannot write the log {path}: {problem.strerror}.", "Choose another with --log."
        ) from problem
    _add(logging.StreamHandler(os.fdopen(handle, "a", encoding="utf-8")), _Lines())


def log_to_terminal() -> None:
    """Show events on stderr."""
    _add(logging.StreamHandler(sys.stderr), _Words())


def _add(handler: logging.Handler, form: logging.Formatter) -> None:
    handler.setFormatter(form)
    _ROOT.addHandler(handler)
    _ROOT.setLevel(logging.INFO)
    _ROOT.propagate = False
