"""The digests of an item in the form that `sha256sum --check` reads, so that anyone can check it without Mudlark."""

import hashlib

import msgspec

from mudlark.archive.layout import RECORD


class _File(msgspec.Struct):
    path: str
    sha256: str


class _Files(msgspec.Struct):
    files: list[_File] = []


_decoder = msgspec.json.Decoder(_Files)  # made once, as threads use it


def sidecar(record: bytes) -> bytes:
    """A line for each file that a record lists, and one for the record itself. Names with line breaks or backslashes
    are written as that program writes them."""
    listed = {file.path: file.sha256 for file in _decoder.decode(record).files}
    listed[RECORD] = hashlib.sha256(record).hexdigest()
    return b"".join(_line(path, digest) for path, digest in listed.items())


def _line(path: str, digest: str) -> bytes:
    escaped = path.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
    escaped = "./-" if escaped == "-" else escaped  # which would be standard input
    mark = "\\" if "\\" in escaped else ""
    return f"{mark}{digest}  {escaped}\n".encode("utf-8", "surrogateescape")
