"""When two things are the same. Hiding is another matter: `web/redact.py`.

An item is known by the whole address of its source and what was asked of it: what gives access tells things apart as
well, though only its digest is kept. Links are handed out anew all the time, though, so an item whose address differs
in such parameters alone is *alike*; it is the same where everything else says so (hauling/same.py). Keys, sections,
segments and rows of a list are the same only if their whole address is.
"""

import hashlib
import re
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from mudlark.web.redact import redacted, without_access

if TYPE_CHECKING:
    from mudlark.archive.entry import Slim
    from mudlark.archive.record import Record

_TIMES = re.compile(
    r"(?P<open>[?&])(?P<name>expires?|expiry|exp|e|se|st|deadline|valid_?until|[\w-]+[-_]expires)="
    r"(?:\d{9,13}|\d{4}-\d\d-\d\dT[\w:.%+-]+)(?=[&#]|$)",
    re.I,
)
_LEFT_OVER = re.compile(r"(?<![?&])[?&]++(?=$|[\s\"'<>#])|(?<![?&])(?P<first>[?&])&+")


def without_passing(text: str) -> str:
    """An address, or a text with addresses, without what is handed out anew each time: what gives access, and the times
    at which that ends. What is equal so is alike."""
    return _LEFT_OVER.sub(r"\g<first>", without_access(_TIMES.sub(r"\g<open>", text)))


class Identity(msgspec.Struct, frozen=True):
    """Digests in hexadecimal. key: of the whole address; alike: of what is the same for all that are alike."""

    key: str
    alike: str


def identity(target: str, address: str | None, asked: str, *, warc: bool = False) -> Identity:
    """What an item is known by. address: of the find that was taken, None if the target is the media itself.

    asked: the form in which it was wanted, empty if there is only one. warc: with all exchanges.
    """

    def digest(*addresses: str) -> str:
        parts = (*addresses, asked, *(["warc"] if warc else []))
        return hashlib.sha256("\n".join(parts).encode("utf-8", "surrogatepass")).hexdigest()

    address = address or ""
    return Identity(
        digest(redacted(target), redacted(address)), digest(without_passing(target), without_passing(address))
    )


def identity_of(record: "Record | Slim") -> Identity:
    """The same, of an item that is there; records of earlier versions state less."""
    source = record.source
    if source.identity:
        return Identity(source.identity, source.alike or source.identity)
    address = source.find.url if source.find and source.page else None
    media = [file.path for file in record.files if file.role == "media"]
    form = "" if source.kind != "images" else "pdf" if media and media[0].endswith(".pdf") else "images"
    return identity(source.target, address, form)


class Earlier(msgspec.Struct, frozen=True):
    """An item that is there already. exact: its source is the very same; else it is alike."""

    folder: Path
    record: "Record"
    exact: bool = True
