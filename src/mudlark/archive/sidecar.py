"""The digests of an item in the form that `sha256sum --check` reads, so that anyone can check it without Mudlark."""

import hashlib
from pathlib import Path

import msgspec

from mudlark.archive.layout import CHECKSUMS, LARGEST_RECORD, RECORD
from mudlark.atomic import atomic_write
from mudlark.errors import MudlarkError
from mudlark.plain import NotPlain, is_plain, read_plain


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


def checksums_right(folder: Path) -> bool:
    """True if the checksums in an item are those of its record. Raises NotPlain or OSError where the record cannot be
    read."""
    return _are_in(folder, _wanted(folder))


def mend_checksums(folder: Path) -> bool:
    """Write the checksums that stand in an item anew if they are not those of its record; true if they are right now.
    Where there are none, or no plain file, nothing is done."""
    try:
        wanted, path = _wanted(folder), folder / CHECKSUMS
        if _are_in(folder, wanted):
            return True
        if not is_plain(path):
            return False
        with atomic_write(path, "See that it may be written.", 0o644, replace=True) as file:
            file.write(wanted)
    except (OSError, ValueError, MudlarkError):
        return False
    return True


def _wanted(folder: Path) -> bytes:
    return sidecar(read_plain(folder / RECORD, LARGEST_RECORD))


def _are_in(folder: Path, wanted: bytes) -> bool:
    try:
        return read_plain(folder / CHECKSUMS, len(wanted)) == wanted
    except (OSError, NotPlain):
        return False


def _line(path: str, digest: str) -> bytes:
    escaped = path.replace("\\", "\\\\").replace("\n", "\\n").replace("\r", "\\r")
    escaped = "./-" if escaped == "-" else escaped  # which would be standard input
    mark = "\\" if "\\" in escaped else ""
    return f"{mark}{digest}  {escaped}\n".encode("utf-8", "surrogateescape")
