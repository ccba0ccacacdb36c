"""The HTTP library, imported without what it does at once for TLS.

It reads all certificates that this machine trusts, twice, before anything is asked for, which takes longer than the
rest of its import; the transport reads them once, when an address is the first to need them.
"""

import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

_METHODS = ("load_default_certs", "set_default_verify_paths")


@contextmanager
def _unread_certificates() -> Iterator[None]:
    """TLS contexts that this thread makes meanwhile trust nobody; those of other threads are as always."""
    thread = threading.get_ident()
    own = {name: vars(ssl.SSLContext).get(name) for name in _METHODS}

    def later(usual: Any) -> Any:
        def method(context: ssl.SSLContext, *given: Any, **named: Any) -> None:
            if threading.get_ident() != thread:
                usual(context, *given, **named)

        return method

    for name in _METHODS:
        setattr(ssl.SSLContext, name, later(getattr(ssl.SSLContext, name)))
    try:
        yield
    finally:
        for name, method in own.items():
            if method is None:
                delattr(ssl.SSLContext, name)
            else:
                setattr(ssl.SSLContext, name, method)


with _unread_certificates():
    import aiohttp

__all__ = ["aiohttp"]
