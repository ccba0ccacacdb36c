"""Giving a finished item its final name, and mending one that is there.

A name is taken in one step, and never one that something stands under. In an item that is mended only files are moved
that its record lists; what is replaced stays below `replaced/` in the item. Nothing is ever removed.
"""

import ctypes
import errno
import os
import shutil
import sys
import tempfile
from collections.abc import Callable, Iterator
from functools import cache
from itertools import count
from pathlib import Path, PurePosixPath

from mudlark.archive.layout import CHECKSUMS, RECORD, REPLACED
from mudlark.archive.naming import numbered
from mudlark.archive.record import FileFacts, Record
from mudlark.archive.sidecar import sidecar
from mudlark.verify.fixity import digest

_NO_REPLACE = 1  # RENAME_NOREPLACE of renameat2(2)
_HERE = -100  # AT_FDCWD
_RESERVE = 64_000_000  # bytes that a disk must have left for another item
_TRIED = 65_536  # bytes that a folder must take


def names_for(title: str, day: str | None) -> Iterator[str]:
    """Names to try, one after the other. day: the date that an item carries which stands beside an earlier one."""
    if day is None:
        yield from (numbered(title, number) for number in count(1))
    else:
        yield f"{title} ({day})"
        yield from (f"{title} ({day}, {number})" for number in count(2))


def put(item: Path, record: bytes, into: Path, names: Iterator[str]) -> Path:
    """Write the record, make all of the item durable, and move it to the first name that is free. Raises OSError."""
    (item / RECORD).write_bytes(record)
    (item / CHECKSUMS).write_bytes(sidecar(record))
    make_durable(item)
    for name in names:
        try:
            rename_to_free(item, into / name)
        except FileExistsError:
            continue
        sync_folder(into)
        return into / name
    raise FileExistsError(errno.EEXIST, "no name is free", str(into))


def make_durable(folder: Path) -> None:
    """Have every file below a folder reach the disk."""
    for file in folder.rglob("*"):
        if file.is_file() and not file.is_symlink():
            sync_file(file)


def sync_file(path: Path) -> None:
    """Have a file reach the disk."""
    with path.open("rb+") as opened:
        os.fsync(opened.fileno())


def rename_to_free(source: Path, target: Path) -> None:
    """Rename a folder in one step; raises FileExistsError if anything stands at the target."""
    exclusive = _exclusive_rename()
    if exclusive is not None:
        try:
            exclusive(source, target)
            return
        except OSError as problem:
            if problem.errno not in (errno.EINVAL, errno.ENOSYS, errno.ENOTSUP):
                raise
    if sys.platform == "win32":
        source.rename(target)  # fails by itself where something stands
        return
    target.mkdir()  # takes the name, or fails; an empty folder is what a rename may replace
    try:
        source.rename(target)
    except OSError:
        target.rmdir()
        raise


@cache
def _exclusive_rename() -> Callable[[Path, Path], None] | None:
    """renameat2(2) where the system has it."""
    if sys.platform != "linux":
        return None
    try:
        call = ctypes.CDLL(None, use_errno=True).renameat2
    except (OSError, AttributeError):
        return None

    def rename(source: Path, target: Path) -> None:
        if call(_HERE, os.fsencode(source), _HERE, os.fsencode(target), _NO_REPLACE):
            code = ctypes.get_errno()
            raise OSError(code, os.strerror(code), str(target))

    return rename


def takes_files(folder: Path) -> bool:
    """True if a folder still takes files: what could not be written of one item is no reason to end the others."""
    try:
        if shutil.disk_usage(folder).free < _RESERVE:
            return False
        with tempfile.TemporaryFile(dir=folder) as file:
            file.write(bytes(_TRIED))
            file.flush()
    except OSError:
        return False
    return True


def sync_folder(folder: Path) -> None:
    """Have the names in a folder reach the disk."""
    if sys.platform == "win32":
        return
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def inside_item(folder: Path, name: str) -> Path | None:
    """The path of a file that a record names; None if it would lead out of the item, or by way of a link."""
    path = folder
    parts = PurePosixPath(name).parts
    if not parts or "\0" in name or any(part in ("..", "/") for part in parts) or PurePosixPath(name).is_absolute():
        return None
    for part in parts:
        path = path / part
        try:
            if path.is_symlink():
                return None
        except PermissionError:  # which whoever opens it is told
            continue
        except OSError:
            return None
    return path


def can_mend(folder: Path, old: Record, new: Record) -> bool:
    """True if nothing that Mudlark did not write would be in the way: neither files nor links."""
    listed = {file.path for file in old.files}
    for name in {*listed, *(file.path for file in new.files), REPLACED, RECORD}:
        path = inside_item(folder, name)
        if path is None or (os.path.lexists(path) and name not in (*listed, REPLACED, RECORD)):
            return False
    return True


def mend(item: Path, new: Record, folder: Path, old: Record, moment: str) -> list[str]:
    """Move what is new or better from a finished item into one that is there, but for the record, which `conclude`
    writes; gives what was replaced, by path.

    moment: names the folder below `replaced/`. Files that are the same stay as they are. Raises OSError.
    """
    make_durable(item)
    aside = folder / REPLACED / moment
    replaced = []
    fresh = {file.path: file for file in new.files}
    for file in old.files:
        path = folder / file.path
        if not path.is_file() or _same(path, fresh.get(file.path)):
            continue
        (aside / file.path).parent.mkdir(parents=True, exist_ok=True)
        path.rename(aside / file.path)
        replaced.append(file.path)
    for file in new.files:
        path = folder / file.path
        if not path.exists():
            path.parent.mkdir(parents=True, exist_ok=True)
            (item / file.path).rename(path)
    aside.mkdir(parents=True, exist_ok=True)
    (aside / RECORD).write_bytes((folder / RECORD).read_bytes())
    return replaced


def conclude(folder: Path, record: bytes) -> None:
    """Put a new record in the place of an item's own, of which `mend` has kept a copy. Raises OSError."""
    temporary = folder / f".{RECORD}.partial"
    temporary.write_bytes(record)
    sums = folder / f".{CHECKSUMS}.partial"
    sums.write_bytes(sidecar(record))
    make_durable(folder)
    temporary.replace(folder / RECORD)
    sums.replace(folder / CHECKSUMS)
    sync_folder(folder)


def _same(path: Path, file: FileFacts | None) -> bool:
    return file is not None and digest(path) == (file.bytes, file.sha256)
