"""What an item is known by: the full address of its source, and what was asked of it.

Secret values are left out, as they are handed out anew each time; two sources that differ in anything else are two.
"""

import hashlib
import re
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from mudlark.archive.layout import RECORD
from mudlark.archive.record import Record, read_record
from mudlark.errors import MudlarkError
from mudlark.web.secret import without_secrets


def identity(target: str, address: str | None, asked: str, *, warc: bool = False) -> str:
    """A digest in hexadecimal. address: of the find that was taken, None if the target is the media itself.

    asked: the form in which it was wanted, empty if there is only one. warc: with all exchanges.
    """
    parts = (without_secrets(target), without_secrets(address or ""), asked, *(["warc"] if warc else []))
    return hashlib.sha256("\n".join(parts).encode("utf-8", "surrogatepass")).hexdigest()


def identity_of(record: Record) -> str:
    """The same, of an item that is there; records of earlier versions do not state it."""
    source = record.source
    if source.identity:
        return source.identity
    address = source.find.url if source.find and source.page else None
    media = [file.path for file in record.files if file.role == "media"]
    form = "" if source.kind != "images" else "pdf" if media and media[0].endswith(".pdf") else "images"
    return identity(source.target, address, form)


@dataclass(frozen=True, slots=True)
class Earlier:
    """An item that is there already."""

    folder: Path
    record: Record


def find_earlier(into: Path, name: str, key: str) -> Earlier | None:
    """The newest item with this identity under this name (or the name with a number or date behind it)."""
    matching = [earlier for earlier in _named(into, name) if identity_of(earlier.record) == key]
    return max(matching, key=_age, default=None)


def _age(earlier: Earlier) -> tuple[str, int]:
    """When an item was made: as its record says, and within one second as the disk has it."""
    return earlier.record.finished, (earlier.folder / RECORD).stat().st_mtime_ns


def _named(into: Path, name: str) -> Iterator[Earlier]:
    form = re.compile(rf"{re.escape(name)}(?: \([^()]*\))?", re.I)
    try:
        folders = [entry for entry in into.iterdir() if form.fullmatch(entry.name)]
    except OSError:
        return
    for folder in folders:
        if folder.is_symlink() or not (folder / RECORD).is_file():
            continue
        try:
            yield Earlier(folder, read_record(folder))
        except MudlarkError:
            continue  # what cannot be read is nobody's, and is left alone
