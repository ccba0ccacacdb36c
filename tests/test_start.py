"""What is loaded before it is needed: `--help`, completion and small pages pay for nothing that they do not use."""

import ssl
import subprocess
import sys
import threading

import pytest

from mudlark.web.client import _unread_certificates


def loaded_by(statement: str) -> set[str]:
    """The modules that a program of its own has loaded behind a statement."""
    code = f"{statement}\nimport sys\nprint(*sys.modules)"
    return set(subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split())


@pytest.mark.parametrize(
    ("command", "unwanted"),
    [
        ("haul", {"aiohttp", "asyncio", "lxml", "numpy", "rich", "ssl", "tomllib"}),
        ("sift", {"lxml", "matplotlib", "numpy", "PIL"}),
        ("sift, mudlark.find.judge.probe", {"mudlark.media.mp4.read", "numpy"}),
        ("ledger", {"aiohttp", "numpy"}),
    ],
)
def test_a_command_loads_what_it_needs_when_it_needs_it(command: str, unwanted: set[str]) -> None:
    assert not unwanted & loaded_by(f"import mudlark.cli.main, mudlark.cli.{command}")


def test_arrays_do_without_what_is_slow_to_load() -> None:
    """`np.unique` loads masked arrays, which takes as long as all the rest of NumPy."""
    code = """
import numpy as np
from mudlark.demo.streamed import MEDIA
from mudlark.media.ts import TransportReader
assert TransportReader().feed(memoryview((MEDIA / "tide-mill/180p/part-000.ts").read_bytes()))"""
    assert "numpy.ma" not in loaded_by(code) - loaded_by("import numpy")  # which loads them itself before 2.0


def test_certificates_are_left_unread_by_this_thread_alone() -> None:
    def trusted() -> int:
        return ssl.create_default_context().cert_store_stats()["x509_ca"]

    usual, beside = trusted(), list[int]()
    with _unread_certificates():
        other = threading.Thread(target=lambda: beside.append(trusted()))
        other.start()
        other.join()
        assert trusted() == 0
    assert beside == [usual] and trusted() == usual
    assert ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT).load_default_certs.__name__ == "load_default_certs"
