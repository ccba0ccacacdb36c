"""Items as bags for other archives: BagIt 1.0 (RFC 8493), with the `bagit` package.

Files get second names in the bag where the file system allows, else copies. A bag has its name only when it is
complete, and its payload has been compared with the records of the items.
"""

import os
import shutil
import tempfile
import zipfile
from collections.abc import Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from mudlark import __version__
from mudlark.archive.layout import OWN
from mudlark.archive.naming import numbered
from mudlark.archive.place import make_durable, rename_to_free, sync_folder
from mudlark.archive.record import Record, read_record
from mudlark.archive.tree import DECLARATION, files_below, items_below
from mudlark.atomic import atomic_write
from mudlark.errors import FormatError, StorageError, UsageError
from mudlark.fetch.store import WORKING
from mudlark.plain import is_plain

_LISTS = "manifest-sha256.txt"
_ALGORITHMS = ["sha256", "sha512"]
_DECLARATION = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"


@dataclass(frozen=True, slots=True)
class Bagged:
    """A bag. items: that are in it. files, bytes: of its payload. new: it was not there already."""

    path: Path
    items: int
    files: int
    bytes: int
    new: bool = True


def items_in(folder: Path) -> list[Path]:
    """Folders of items at and below a folder. Raises UsageError where there is none."""
    if WORKING in folder.resolve().parts:
        raise UsageError(f"{folder} is unfinished work.", "Haul it to its end first.")
    found = items_below(folder)
    if not found:
        raise UsageError(f"{folder} holds no item.", "Give an item's folder, or one with items below it.")
    return found


def make_bag(items: Sequence[Path], root: Path, into: Path, facts: Mapping[str, str], *, zipped: bool) -> Bagged:
    """One bag of one or several items, below `into`. root: the folder that several were found in. facts: for
    bag-info.txt. Raises FormatError where an item is not what its record says, StorageError where it cannot be written.
    """
    bagit = _bagit()
    records = [_record(item) for item in items]
    name = items[0].resolve().name if len(items) == 1 else (root.resolve().name or "items")
    try:
        into.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(prefix=".mudlark-bag-", dir=into) as temporary:
            made = Path(temporary) / name
            for item in items:
                place = made if len(items) == 1 else made / item.relative_to(root)
                _link(item, place)
            with _standing():
                bag = bagit.make_bag(str(made), {**facts, **_info(records)}, checksums=_ALGORITHMS)
                if not any(
                    "%" in name for name in bag.payload_entries()
                ):  # which 1.0 writes otherwise than the package
                    (made / "bagit.txt").write_text(_DECLARATION)
                    bag.save()
            for item, record in zip(items, records, strict=True):
                _compare(bag, item, record, "" if len(items) == 1 else f"{item.relative_to(root)}/")
            make_durable(made)
            size, files = (int(part) for part in bag.info["Payload-Oxum"].split("."))
            path, new = _placed(made, into, name, zipped=zipped)
            return Bagged(path, len(items), files, size, new)
    except OSError as problem:
        raise StorageError(
            f"Cannot make a bag in {into}: {problem.strerror}.", "Make room, or choose another folder with --into."
        ) from problem
    except bagit.BagError as problem:
        raise StorageError(f"Cannot make a bag of {name}: {problem}.", "See that you may read all of it.") from problem


def bags_in(folder: Path) -> list[Path]:
    """The bag that a path is, or the bags right below it. Raises UsageError where there is none."""
    if _is_bag(folder):
        return [folder]
    found = sorted(filter(_is_bag, folder.iterdir())) if folder.is_dir() else []
    if not found:
        raise UsageError(f"{folder} is no bag, and holds none.", "Give the folder or ZIP file of a bag.")
    return found


def _is_bag(path: Path) -> bool:
    return is_plain(path / DECLARATION) or (path.suffix == ".zip" and is_plain(path))


def _bagit() -> Any:
    try:
        import bagit
    except ImportError as problem:
        raise UsageError(
            "Bags need the `bagit` package.", "Install it with: python -m pip install 'mudlark[archive]'"
        ) from problem
    import logging

    logging.getLogger("bagit").setLevel(logging.CRITICAL)
    return bagit


@contextmanager
def _standing() -> Any:
    """The working folder as it was, which the package changes."""
    here = Path.cwd()
    try:
        yield
    finally:
        os.chdir(here)


def _link(item: Path, place: Path) -> None:
    """The files of an item under a second name, those that change while it is kept as copies. Raises FormatError for
    what is no plain file: nothing is followed."""
    place.mkdir(parents=True, exist_ok=True)
    for name, words in files_below(item):
        source, target = item / name, place / name
        if words:
            raise FormatError(f"{source} is {words}, and goes into no bag.", advice="Move it away.")
        target.parent.mkdir(parents=True, exist_ok=True)
        try:
            if name in OWN:
                shutil.copy2(source, target)
            else:
                target.hardlink_to(source)
        except OSError:
            shutil.copy2(source, target)


def _record(item: Path) -> Record:
    """The record of an item that may go into a bag. Raises FormatError for one that is broken."""
    record = read_record(item, segments=False)
    if record.verdict == "broken":
        raise FormatError(f"{item} is broken, and goes into no bag.", advice="Mend it by hauling it again.")
    return record


def _info(records: Sequence[Record]) -> dict[str, str]:
    """What the records say of themselves, by the names of RFC 8493 §2.2.2."""
    facts = {"Bag-Software-Agent": f"Mudlark {__version__}"}
    if len(records) == 1:
        source = records[0].source
        description = source.page.description if source.page else None
        facts["External-Identifier"] = source.identity or source.address
        facts["External-Description"] = ": ".join(filter(None, (records[0].title, description)))
        listed = [f"{name}: {text}" for name, text in source.listed.items()]
        facts["Internal-Sender-Description"] = "; ".join([f"Verdict when it was hauled: {records[0].verdict}", *listed])
    else:
        facts["External-Description"] = f"{len(records)} items: " + "; ".join(one.title for one in records[:20])
    return {name: " ".join(text.split()) for name, text in facts.items()}


def _compare(bag: Any, item: Path, record: Record, below: str) -> None:
    """Raises FormatError unless the payload has what the record says."""
    entries = bag.payload_entries()
    for file in record.files:
        entry = entries.get(f"data/{below}{file.path}")
        if entry is None:
            raise FormatError(
                f"{item.name} lacks {file.path}, which its record lists.", advice="Mend it by hauling it again."
            )
        if entry["sha256"] != file.sha256:
            raise FormatError(
                f"{item.name}: {file.path} is not what it was when it was hauled.",
                advice="Look at it with `mudlark assay`, and mend it by hauling it again.",
            )


def _payload(bag: Path) -> bytes | None:
    """The manifest of what is in a bag; None if it is none."""
    try:
        if bag.suffix == ".zip":
            with zipfile.ZipFile(bag) as archive:
                names = (name for name in archive.namelist() if name.count("/") == 1 and name.endswith(f"/{_LISTS}"))
                return archive.read(next(names))
        return (bag / _LISTS).read_bytes()
    except (OSError, zipfile.BadZipFile, StopIteration):
        return None


def _placed(made: Path, into: Path, name: str, *, zipped: bool) -> tuple[Path, bool]:
    """The bag under a name that was free; or the one that is there, if it has the same in it."""
    payload = _payload(made)
    number = 1
    while True:
        target = into / (numbered(name, number) + (".zip" if zipped else ""))
        number += 1
        if os.path.lexists(target):
            if _payload(target) == payload:
                return target, False
            continue
        if zipped:
            _write_zip(made, target)
            return target, True
        try:
            rename_to_free(made, target)
        except FileExistsError:
            continue
        sync_folder(into)
        return target, True


def _write_zip(made: Path, target: Path) -> None:
    """A bag as one file, nothing packed: media are already."""
    with (
        atomic_write(target, "Choose another folder with --into.") as file,
        zipfile.ZipFile(file, "w", strict_timestamps=False) as archive,
    ):
        for path in sorted(made.rglob("*")):
            archive.write(path, Path(made.name) / path.relative_to(made))
