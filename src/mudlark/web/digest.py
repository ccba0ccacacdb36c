"""Digests that a server states for what it sends.

Follows RFC 9530 (Content-Digest, Repr-Digest), its predecessor RFC 3230 (Digest) and RFC 1864 (Content-MD5). A digest
of the content counts only if the content was the whole representation.
"""

import base64
import binascii
import re
from collections.abc import Mapping

_MEMBER = re.compile(r"(?<![A-Za-z0-9-])([A-Za-z0-9-]+)\s*=\s*:?([A-Za-z0-9+/=]+):?")
_ALGORITHMS = {"sha-256": ("sha256", 32), "sha-512": ("sha512", 64), "md5": ("md5", 16)}


def stated_digests(headers: Mapping[str, str], *, whole: bool) -> dict[str, str]:
    """Digests by hashlib's name of the algorithm, in hexadecimal. headers: by lower-case name.

    whole: the response carries the whole representation, unencoded.
    """
    digests: dict[str, str] = {}
    names = ("repr-digest", "digest", *(("content-digest",) if whole else ()))
    for name in names:
        for algorithm, value in _MEMBER.findall(headers.get(name, "")):
            _note(digests, algorithm.lower(), value)
    if whole and "content-md5" in headers:
        _note(digests, "md5", headers["content-md5"])
    return digests


def _note(digests: dict[str, str], algorithm: str, value: str) -> None:
    if algorithm not in _ALGORITHMS:
        return
    name, size = _ALGORITHMS[algorithm]
    try:
        data = base64.b64decode(value, validate=True)
    except (binascii.Error, ValueError):
        return
    if len(data) == size:
        digests.setdefault(name, data.hex())
