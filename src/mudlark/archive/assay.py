"""The whole verification of an item or a file, in one place: fixity, structure, timeline.

A record may come from anyone: what it names outside of its item, or by way of a link, is refused and not opened.
"""

import os
import random
import stat
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from pathlib import Path
from threading import Event

import msgspec

from mudlark.archive.history import last_check
from mudlark.archive.layout import CHECKSUMS, OWN, REPLACED, is_sweep_table
from mudlark.archive.place import inside_item
from mudlark.archive.record import FileFacts, PlayFacts, Record, TrackFacts, read_record, tracks_of
from mudlark.archive.sidecar import checksums_right
from mudlark.archive.tree import below, files_below, items_below
from mudlark.errors import MudlarkError, UsageError, Withheld, examining
from mudlark.find.judge.kind import kind_by_extension
from mudlark.manifest.model import STREAMED
from mudlark.manifest.radio import LISTS
from mudlark.plain import is_plain, kind_of
from mudlark.text import printable
from mudlark.verify.account import UNOPENED, Account, Verdict
from mudlark.verify.fixity import compare
from mudlark.verify.forms.pictures import check_pages
from mudlark.verify.media import Checked, check_file

CHECKSUMS_STALE = "checksums-stale"  # a problem that is mended on the spot
_STREAMS = (".ts", ".m2ts", ".mts")
_KINDS = frozenset({"video", "audio", "image", "document", "package", "subtitle"})
_GIVE = "Give an item's folder or a media file."
LASTING = frozenset(  # what only the haul, or playing it, could know
    (
        *("segment-missing", "segment-unreadable", "segment-short", "radio-gap", "hole", "no-end", "no-media", "loss"),
        *("picture-missing", "sound-missing", "subtitle-missing", "page-missing", "page-unreadable", "page-size"),
        *("tiles-missing", "black", "frozen", "silent", "undecodable", "not-played", "wrong-place"),
    )
)


class Assay(msgspec.Struct):
    """What an assay found. path: the item's folder or the file. tracks: as the media file itself says. media: the files
    that were looked into. played: how it played, if it was. state: what hauling it again did to it, if it was."""

    path: Path
    account: Account
    title: str | None = None
    duration: float | None = None
    tracks: list[TrackFacts] = []
    media: list[tuple[Path, Checked]] = []
    played: PlayFacts | None = None
    state: str | None = None

    @property
    def verdict(self) -> Verdict:
        return self.account.verdict

    def _repr_html_(self) -> str:
        """As notebooks show it."""
        from mudlark.notebook import assay_table  # few are looked at in a notebook

        return assay_table(self)


def assay(path: Path) -> list[Assay]:
    """Verify an item's folder, a media file, or all items and media files in a folder and below it."""
    assayed = list(assays(path))
    if not assayed:
        raise UsageError(f"{path} holds no item and no media file, at no depth.", _GIVE)
    return assayed


class Sampling(msgspec.Struct, frozen=True):
    """Which items are verified. before: only those that were last checked before this (RFC 3339, or the beginning of
    it). share: of them, that are taken by chance, and at least one; None for all."""

    before: str | None = None
    share: float | None = None

    def takes(self, folders: list[Path]) -> set[Path]:
        """Of these items, those that are to be verified."""
        due = [folder for folder in folders if self.before is None or _last(folder) < self.before]
        if self.share is None or not due:
            return set(due)
        return set(random.SystemRandom().sample(due, max(1, round(self.share * len(due)))))


def _last(folder: Path) -> str:
    """When an item was last checked, or hauled."""
    with suppress(MudlarkError):
        checked = last_check(str(folder))
        return checked.when if checked else read_record(folder, segments=False).finished
    return ""


def assays(
    path: Path, sampling: Sampling | None = None, passed_over: Callable[[Path], None] = lambda _path: None
) -> Iterator[Assay]:
    """The same, one after the other as they are verified; none if there is nothing to verify. What is not opened, as it
    is no plain file or cannot be entered, is given too, as unproven; an item whose record it is, as broken. sampling:
    only some of the items, and no other files. passed_over: hears of files of no kind that is looked at."""
    try:
        status = path.stat()
    except (OSError, ValueError) as problem:
        raise UsageError(f"There is nothing to read at {path}.", _GIVE) from problem
    if not stat.S_ISDIR(status.st_mode):
        if words := kind_of(status.st_mode):
            raise UsageError(f"{path} is {words}, and was not opened.", _GIVE)
        yield _guarded(path.resolve() if path.is_symlink() else path, _assay_file)
        return
    if sampling is not None:
        folders = items_below(path)
        taken = sampling.takes(folders)
        for folder in folders:
            if folder in taken:
                yield _guarded(folder, _assay_item)
        return
    for found in below(path, lambda _name: True):
        if found.kind == "item":
            yield _guarded(found.path, _assay_item)
        elif found.kind == "file" and _is_looked_at(found.path.name):
            yield _guarded(found.path, _assay_file)
        elif found.kind == "file" and not is_sweep_table(found.path.name):
            passed_over(found.path)
        elif found.kind == "odd" and (found.path.is_dir() or _is_looked_at(found.path.name) or found.path == path):
            yield _unopened(found.path, found.words[:1].upper() + found.words[1:])


class Workload(msgspec.Struct, frozen=True):
    """What there is to verify: items, files beside items, and bytes in all of them."""

    items: int
    files: int
    bytes: int


def workload(path: Path, sampling: Sampling | None = None) -> Workload:
    """What `assays` would go through. Raises UsageError if there is nothing to read."""
    if not path.is_dir():
        try:
            return Workload(0, 1, path.stat().st_size)
        except (OSError, ValueError) as problem:
            raise UsageError(f"There is nothing to read at {path}.", _GIVE) from problem
    found = list(below(path, _is_looked_at if sampling is None else None))
    folders = [one.path for one in found if one.kind == "item"]
    folders = folders if sampling is None else sorted(sampling.takes(folders))
    files = [one.path for one in found if one.kind == "file"]
    return Workload(len(folders), len(files), sum(map(_bytes_of, folders)) + sum(one.stat().st_size for one in files))


def _bytes_of(folder: Path) -> int:
    with suppress(MudlarkError):
        return sum(file.bytes for file in read_record(folder, segments=False).files)
    return 0


def _unopened(path: Path, words: str) -> Assay:
    """What was named and not opened: nothing is known of it."""
    assayed = Assay(path, Account(), path.name)
    assayed.account.skipped(UNOPENED, words.rstrip("."))
    return assayed


def _is_looked_at(name: str) -> bool:
    """True for the name of a film, sound, picture, document, table or archive that somebody laid beside the items."""
    kept = kind_by_extension(f"/{name}") in _KINDS or name.lower().endswith(_STREAMS)
    return kept and not name.lower().endswith(LISTS) and not is_sweep_table(name)


def _guarded(path: Path, verify: Callable[[Path], Assay]) -> Assay:
    """What cannot be read is told of the thing itself, and is no reason to leave out the others."""
    try:
        with examining(path):
            return verify(path)
    except Withheld as problem:
        return _unopened(path, problem.what)
    except MudlarkError as problem:
        assayed = Assay(path, Account(), path.name)
        assayed.account.failed("record" if path.is_dir() else "file", problem.code, problem.what, grave=True)
        return assayed


def _assay_file(path: Path) -> Assay:
    assayed = Assay(path, Account())
    _describe(assayed, check_file(path, None, assayed.account), path)
    return assayed


def _assay_item(folder: Path) -> Assay:
    record = read_record(folder, segments=False)
    assayed = Assay(folder, Account(), record.title)
    inside = {file.path: path for file in record.files if (path := inside_item(folder, file.path))}
    unwanted = Event()
    with ThreadPoolExecutor(1, "mudlark-digest") as beside:  # which takes as long as looking into what is digested
        fixity = beside.submit(_wrong_files, record, inside, unwanted)
        try:
            media = _look_into(assayed, record, inside)
            wrong, unread = fixity.result()
        except BaseException:
            unwanted.set()
            raise
    if _check_fixity(record, wrong, unread, assayed.account):
        assayed.account.carry(record.checks)
    _tell_unlisted(folder, record, assayed.account)
    sums = folder / CHECKSUMS
    if is_plain(sums) and not os.access(sums, os.R_OK):
        assayed.account.skipped("checksums", f"{CHECKSUMS} may not be read")
    elif os.path.lexists(sums) and not checksums_right(folder):
        text = f"{CHECKSUMS} does not say what the record says: it is stale, or was altered"
        assayed.account.failed("checksums", CHECKSUMS_STALE, text)
    assayed.account.add(media)
    # what was missing when the item was made is still missing, whatever the file looks like
    for problem in record.problems:
        if problem.code in LASTING and problem not in assayed.account.problems:
            assayed.account.problems.append(problem)
    return assayed


def _look_into(assayed: Assay, record: Record, inside: dict[str, Path]) -> Account:
    """The media of an item, whatever their digests say; gives what is to be said of them."""
    account = Account()
    listed = [inside[f.path] for f in dict.fromkeys(record.files) if f.role == "media" and f.path in inside]
    media = [path for path in listed if is_plain(path)]
    if record.source.kind == "images" and len(media) > 1:
        check_pages(media, account)
        return account
    for path in media:
        streamed, endless = record.source.kind in STREAMED, record.source.kind == "stream"
        with suppress(Withheld), examining(path):  # which its digest says
            checked = check_file(path, record.planned_duration, account, streamed=streamed, endless=endless)
            _describe(assayed, checked, path)
    return account


def _wrong_files(record: Record, inside: dict[str, Path], unwanted: Event) -> tuple[list[str], list[str]]:
    """What is wrong with the recorded files: that they are not there, or not with their sizes and digests; and which
    of them could not be read."""
    wrong, unread = list[str](), list[str]()
    first: dict[str, FileFacts] = {}  # a file that is listed often is read once
    for file in record.files:
        if (known := first.setdefault(file.path, file)) is not file:
            if (known.bytes, known.sha256) != (file.bytes, file.sha256):
                wrong.append(f"{file.path} is listed twice, and differently")
        elif file.path not in inside:
            wrong.append(f"{file.path} is outside of the item or a link, and was not opened")
        else:
            try:
                wrong += filter(None, [compare(inside[file.path], file.bytes, file.sha256, unwanted)])
            except Withheld as problem:
                unread.append(problem.what.rstrip("."))
    if not any(file.role == "media" for file in record.files):
        wrong.append("the record lists no media")
    return wrong, unread


def _check_fixity(record: Record, wrong: list[str], unread: list[str], account: Account) -> bool:
    """True if every recorded file is there with its size and digest."""
    for words in unread[:10]:
        account.skipped(UNOPENED, words)
    if wrong:
        more = f"; and {len(wrong) - 10} more" if len(wrong) > 10 else ""
        account.failed("fixity", "fixity", "; ".join(wrong[:10]) + more, grave=True)
    if wrong or unread:
        return False
    count = "the file has" if len(record.files) == 1 else f"all {len(record.files)} files have"
    account.passed("fixity", f"{count} the recorded SHA-256")
    return True


def _tell_unlisted(folder: Path, record: Record, account: Account) -> None:
    """What stands in an item and not in its record is nobody's, and is left alone."""
    listed = {file.path for file in record.files} | OWN
    found = []
    for path, words in files_below(folder, frozenset({REPLACED})):
        if path not in listed:
            found.append(f"{path} ({words})" if words else path)
    if found:
        more = f" and {len(found) - 5} more" if len(found) > 5 else ""
        names = ", ".join(found[:5])
        account.skipped("unlisted", f"not in the record, and left alone: {names}{more}")


def _describe(assayed: Assay, checked: Checked, path: Path) -> None:
    assayed.media.append((path, checked))
    if checked.movie or checked.length:
        assayed.tracks, assayed.duration = tracks_of(checked), checked.seconds or 0.0
    assayed.title = printable(assayed.title or path.stem)
