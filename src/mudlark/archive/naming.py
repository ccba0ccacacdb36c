"""Names for people: from a title to a folder and file name that every file system takes."""

import re
import unicodedata
from pathlib import Path
from urllib.parse import urlsplit

from pathvalidate import sanitize_filename

from mudlark.archive.record import RECORD, Record, read_record
from mudlark.errors import MudlarkError
from mudlark.web.address import file_part, printable, without_query

_LONGEST = 120  # bytes of UTF-8: leaves room for an extension, a number and a deep folder on every file system
_RANDOM = re.compile(
    r"^(?:[0-9a-f-]{8,}|[0-9_-]+|(?:index|master|playlist|manifest|default|video|media|file|watch|stream)\d*)$", re.I
)


def safe_name(title: str) -> str:
    """The title as a name: no reserved characters or names, not hidden, not too long; empty if nothing is left."""
    text = unicodedata.normalize("NFC", printable(title))
    text = re.sub(r"\s*[/\\|]\s*", " - ", text)
    text = re.sub(r"\s*:\s+", " - ", text)
    text = " ".join(sanitize_filename(text, platform="universal").split())
    while len(text.encode()) > _LONGEST:
        shorter = text.rpartition(" ")[0]
        text = shorter if len(shorter.encode()) > _LONGEST // 2 else text[:-1]
    return sanitize_filename(text.strip(" .-_"), platform="universal")


def title_for(page_title: str | None, *addresses: str) -> str:
    """The best title there is: the page's, else a telling part of an address, else the host. Never a random number."""
    if page_title and safe_name(page_title):
        return page_title
    for address in addresses:
        for part in [file_part(address), *reversed(urlsplit(address).path.split("/")[:-1])]:
            stem = re.sub(r"\.[A-Za-z0-9]{1,5}$", "", part)
            if stem and not _RANDOM.match(stem) and safe_name(stem):
                return re.sub(r"[-_+]+", " ", stem).strip()
    return f"From {urlsplit(addresses[0]).hostname or 'the web'}"


def folder_for(into: Path, title: str, target: str, address: str | None = None) -> tuple[Path, Record | None]:
    """Where an item of this title goes, and its record if the same was hauled there before.

    The same is: of the same target, and (if `address` is given) the same find, leaving out what varies in its query.

    A folder of the same name from another target is left alone: a number is added.
    """
    name = safe_name(title) or "Untitled"
    number = 1
    while True:
        folder = into / (name if number == 1 else f"{name} ({number})")
        if not folder.exists():
            return folder, None
        if (folder / RECORD).is_file():
            try:
                record = read_record(folder)
            except MudlarkError:
                record = None
            if record and record.source.target == target and _is_find(record, address):
                return folder, record
        number += 1


def _is_find(record: Record, address: str | None) -> bool:
    found = record.source.find
    return address is None or found is None or without_query(found.url) == without_query(address)
