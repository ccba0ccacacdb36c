"""What goes into every package for another archive, whatever its form: an item's files, each the one that its record
lists, and beside them what the record says in words that others read (`preservation.py`).

Files get second names where the file system allows, else copies; those that change while an item is kept are copied.
"""

import shutil
from collections.abc import Mapping
from pathlib import Path

import msgspec

from mudlark.archive.layout import OWN
from mudlark.archive.preservation import dublin_core_of, premis_of
from mudlark.archive.record import Record, read_record
from mudlark.archive.tree import files_below
from mudlark.errors import FormatError

METADATA = "metadata"  # the folder of what is said of an item


class Package(msgspec.Struct, frozen=True):
    """A package. items: that are in it. files, bytes: of what was handed over. new: it was not there already. version:
    of an object that has several."""

    path: Path
    items: int
    files: int
    bytes: int
    new: bool = True
    version: str | None = None


def record_for(item: Path) -> Record:
    """The record of an item that may be handed over. Raises FormatError for one that is broken."""
    record = read_record(item, segments=False)
    if record.verdict == "broken":
        raise FormatError(f"{item} is broken, and goes into no package.", advice="Mend it by hauling it again.")
    return record


def plain_files(item: Path) -> list[str]:
    """The files of an item, by their paths in it. Raises FormatError for what is no plain file: nothing is followed."""
    found = []
    for name, words in files_below(item):
        if words:
            raise FormatError(f"{item / name} is {words}, and goes into no package.", advice="Move it away.")
        found.append(name)
    return found


def give(source: Path, name: str, target: Path) -> None:
    """Give a file of an item a second name, or a copy. name: its path in the item."""
    target.parent.mkdir(parents=True, exist_ok=True)
    try:
        if name in OWN:
            shutil.copy2(source, target)
        else:
            target.hardlink_to(source)
    except OSError:
        shutil.copy2(source, target)


def insist_on_digests(item: Path, record: Record, digests: Mapping[str, str]) -> None:
    """Raises FormatError unless files are what the record says. digests: their SHA-256, by their paths in the item."""
    for file in record.files:
        if file.path not in digests:
            raise FormatError(
                f"{item.name} lacks {file.path}, which its record lists.", advice="Mend it by hauling it again."
            )
        if digests[file.path] != file.sha256:
            raise FormatError(
                f"{item.name}: {file.path} is not what it was when it was hauled.",
                advice="Look at it with `mudlark assay`, and mend it by hauling it again.",
            )


def said_of(item: Path, record: Record) -> dict[str, bytes]:
    """What is said of an item, by the names of the files that it stands in."""
    return {"premis.xml": premis_of(item, record), "dublin-core.xml": dublin_core_of(record)}
