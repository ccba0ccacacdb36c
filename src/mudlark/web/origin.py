"""Origins: who may see a secret. Scheme, host and port, as browsers count it (RFC 6454 §4)."""

from urllib.parse import urlsplit

import msgspec

_PORTS = {"http": 80, "https": 443}


class Origin(msgspec.Struct, frozen=True):
    """scheme and host in lower case; port: as stated, or the usual one of the scheme."""

    scheme: str
    host: str
    port: int


def origin_of(address: str) -> Origin:
    """The origin of an address; one that cannot be read has an origin that no other has."""
    try:
        parts = urlsplit(address)
        port = parts.port
    except ValueError:
        return Origin("", address, 0)
    scheme = parts.scheme.lower()
    return Origin(scheme, (parts.hostname or "").rstrip("."), _PORTS.get(scheme, 0) if port is None else port)
