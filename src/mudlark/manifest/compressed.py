"""Manifests that are served as gzip files (RFC 1952), as some storage does without saying so."""

import zlib

from mudlark.errors import ManifestError

_LARGEST_TEXT = 64_000_000  # bytes


def uncompressed(body: bytes, url: str) -> bytes:
    """The text of a manifest, whether it comes as a gzip file or not."""
    if not body.startswith(b"\x1f\x8b"):
        return body
    stream = zlib.decompressobj(wbits=31)
    try:
        text = stream.decompress(body, _LARGEST_TEXT)
    except zlib.error as problem:
        raise ManifestError(f"{url} is a damaged gzip file: {problem}.") from problem
    if stream.unconsumed_tail:
        raise ManifestError(f"{url} is larger than any manifest: more than {_LARGEST_TEXT:,} bytes.")
    return text
