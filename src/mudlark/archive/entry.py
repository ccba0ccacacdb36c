"""What lists of items show of one, read from its record alone; and what it is known by."""

import os
from functools import cache
from pathlib import Path

import msgspec

from mudlark.archive.history import last_check
from mudlark.archive.identity import Identity, identity_of
from mudlark.archive.layout import LARGEST_RECORD, RECORD
from mudlark.errors import is_withheld
from mudlark.plain import NotPlain, read_plain
from mudlark.verify.account import Count, Seconds, Verdict


class _File(msgspec.Struct):
    path: str = ""
    role: str = ""
    bytes: Count = 0
    sha256: str = ""


class LedgerTrack(msgspec.Struct, frozen=True, gc=False):
    """height: in pixels, of pictures."""

    type: str = ""
    codec: str = ""
    height: Count | None = None
    language: str | None = None


class _Page(msgspec.Struct):
    url: str = ""


class _Source(msgspec.Struct):
    target: str = ""
    address: str = ""
    kind: str = ""
    find: _Page | None = None
    page: _Page | None = None
    identity: str | None = None
    alike: str | None = None
    listed: dict[str, str] = {}


class _Problem(msgspec.Struct):
    message: str = ""


class Slim(msgspec.Struct):
    """What a list wants of a record."""

    title: str
    verdict: Verdict
    finished: str = ""
    duration: Seconds | None = None
    tracks: tuple[LedgerTrack, ...] = ()
    files: list[_File] = []
    source: _Source = msgspec.field(default_factory=_Source)
    problems: list[_Problem] = []


_decoder = msgspec.json.Decoder(Slim)


class LedgerEntry(msgspec.Struct, gc=False):
    """One item. path: below the folder. date: when it was hauled; checked: last (RFC 3339). duration: seconds. bytes:
    of its media. url: the page or address that was named. media: SHA-256 of its media files. problem: the first, if
    there is one. listed: what a list that named it says of it, by column. A record that cannot be read is an entry
    too, and broken.
    """

    path: str
    title: str
    verdict: Verdict
    date: str = ""
    checked: str = ""
    duration: float | None = None
    bytes: int = 0
    tracks: tuple[LedgerTrack, ...] = ()
    media: tuple[str, ...] = ()
    problem: str = ""
    listed: dict[str, str] = {}
    url: str = ""


@cache
def in_words(tracks: tuple[LedgerTrack, ...]) -> str:
    """Tracks, for people."""
    return ", ".join(
        f"{one.codec.partition('.')[0]}{f' {one.height}p' if one.height else ''}"
        f"{f' {one.language}' if one.language else ''}"
        for one in tracks
    )


def read_entry(folder: str, name: str) -> tuple[LedgerEntry, Identity | None]:
    """An item as lists show it, by its path below them; and what it is known by, unless its record cannot be read."""
    try:
        slim = _decoder.decode(read_plain(f"{folder}{os.sep}{RECORD}", LARGEST_RECORD))
    except (OSError, ValueError, NotPlain, RecursionError) as problem:
        verdict: Verdict = "unproven" if is_withheld(problem) else "broken"
        return LedgerEntry(name, Path(folder).name, verdict, problem=f"Its record cannot be read: {problem}"), None
    media = [file for file in slim.files if file.role == "media"]
    checked = last_check(folder)  # which knows better than the record what it is like now
    words = slim.problems[0].message if slim.problems else ""
    if checked and checked.verdict != slim.verdict:
        words = f"It was {slim.verdict} when it was hauled, and {checked.verdict} when it was last checked"
    entry = LedgerEntry(
        path=name,
        title=slim.title,
        verdict=checked.verdict if checked else slim.verdict,
        date=slim.finished,
        checked=checked.when if checked else slim.finished,
        duration=slim.duration,
        bytes=sum(file.bytes for file in media),
        tracks=slim.tracks,
        url=(slim.source.page.url if slim.source.page else "") or slim.source.target or slim.source.address,
        media=tuple(file.sha256 for file in media),
        problem=words,
        listed=slim.source.listed,
    )
    return entry, identity_of(slim)
