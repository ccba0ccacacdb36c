"""Proving what was made, and the record of it."""

import getpass
import platform
import shutil
from concurrent.futures import ThreadPoolExecutor
from itertools import accumulate

import msgspec
from msgspec.structs import replace

from mudlark import __version__
from mudlark.archive.identify import identified
from mudlark.archive.layout import EXCHANGES, REQUESTS
from mudlark.archive.place import sync_file
from mudlark.archive.provenance import (
    find_facts,
    keep_capture,
    keep_manifests,
    keep_page,
    page_facts,
    request_facts,
    walk_facts,
)
from mudlark.archive.record import (
    Asked,
    FetchingFacts,
    FileFacts,
    ManifestNote,
    Note,
    Record,
    SegmentCounts,
    Source,
    TrackFacts,
    tracks_of,
    without_access,
)
from mudlark.assemble.join import second_name
from mudlark.fetch.store import now
from mudlark.find.judge.kind import is_foreign, kind_by_extension, kind_by_type
from mudlark.find.model import PLAYED, Kind
from mudlark.hauling.order import Order
from mudlark.hauling.resolve import Target
from mudlark.hauling.title import is_alone
from mudlark.hauling.work import Fetching, Made, Work
from mudlark.manifest.model import STREAMED
from mudlark.manifest.wish import Wish
from mudlark.media.forms import CATEGORIES
from mudlark.text import counted
from mudlark.verify.account import Account
from mudlark.verify.fixity import digest
from mudlark.verify.frames import check_frames, check_packing
from mudlark.verify.media import Checked, check_file
from mudlark.verify.transfer import Promise
from mudlark.web.address import file_part

_MOST_CONTENTS = 1_000  # names inside an archive that a record keeps


class Proof(msgspec.Struct):
    """The record of an item, the account that its verdict follows from, and what was found in its media."""

    record: Record
    account: Account
    checked: Checked


def prove(work: Work, made: Made, fetching: Fetching) -> Proof:
    """Look into the finished files, and make the record."""
    target = work.target
    presentation = target.presentation
    main = made.media[0]
    account = Account(list(made.account.checks), [*made.account.problems, *made.problems])
    planned, tolerance = _promised(target)
    with ThreadPoolExecutor(2, "mudlark-beside") as beside:
        hashing = beside.submit(digest, main) if made.digest is None else None
        syncing = beside.submit(sync_file, main)  # which takes the disk its time, and nobody else
        streamed = presentation.kind in STREAMED
        checked = (
            check_file(main, planned, account, tolerance, streamed=streamed, endless=presentation.kind == "stream")
            if len(made.media) == 1
            else Checked("images")
        )
        digests: list[str] = []
        if made.frames:
            movie = checked.movie
            digests = (
                check_frames(main, movie, made.frames, account) if movie else check_packing(main, made.frames, account)
            )
        size, sha256 = hashing.result() if hashing else made.digest or digest(main)
        syncing.result()
    if presentation.kind == "file":
        facts = presentation.facts
        Promise(facts.length, dict(facts.digests), target.order.expect).check(main, size, sha256, account)
    _check_kind(target, checked.form, account)
    notes = [*target.notes, *made.notes]
    if fetching.counts.elsewhere:
        notes.append(
            Note("elsewhere", f"{counted(fetching.counts.elsewhere, 'piece')} came from another address than the first")
        )
    if fetching.counts.renewed:
        renewed = counted(fetching.counts.renewed, "segment")
        notes.append(Note("renewed", f"Links expired, and were renewed for {renewed}"))
    if not account.problems and not account.proven:
        notes.append(Note("unproven", "It came as the server sent it; nothing proves that it is whole"))
    tracks = (_packed_tracks(made) if not checked.movie else []) or tracks_of(checked)
    firsts = accumulate((frames.tracks for frames in made.frames), initial=0)  # of the tracks that they went into
    for first, frames, digest_there in zip(firsts, made.frames, digests, strict=False):
        track = tracks[first]
        track.coded_frames, track.coded_digest, track.file_digest = frames.count, frames.digest, digest_there
        track.added = sum(count for _, count in frames.added)
    length = checked.seconds
    if length is None:
        length = max((track.duration for track in tracks), default=None)
    notes += _compared_with_page(target, length)
    files = [FileFacts(str(main.relative_to(work.store.item)), "media", size, sha256)]
    files += [FileFacts(str(path.relative_to(work.store.item)), "media", *digest(path)) for path in made.media[1:]]
    files += made.beside
    if work.exchanges:
        work.exchanges.close()
        second_name(work.exchanges.path, work.store.item / EXCHANGES)
        files.append(FileFacts(EXCHANGES, "exchanges", *digest(work.store.item / EXCHANGES)))
    if work.requests:
        work.requests.flush()
        shutil.copyfile(work.requests.path, work.store.item / REQUESTS)  # the store's own may still grow
        files.append(FileFacts(REQUESTS, "requests", *digest(work.store.item / REQUESTS)))
    counts = fetching.counts
    record = Record(
        title=target.title,
        verdict=account.verdict,
        reason=account.reason,
        problems=account.problems,
        started=work.started,
        finished=now(),
        source=_source(work, files, made),
        duration=length,
        planned_duration=planned,
        tracks=tracks,
        files=files,
        segments=SegmentCounts(counts.planned, counts.fetched, counts.reused, counts.retried, counts.missing),
        fetching=FetchingFacts(
            fetching.came, round(fetching.seconds, 3), counts.elsewhere, counts.renewed, counts.raced
        ),
        segment_list=list(fetching.facts.values()),
        checks=account.checks,
        command=target.order.command,
        operator=_operator(target.order.operator),
        versions={"mudlark": __version__, "python": platform.python_version(), "system": platform.system()},
        contents=checked.contents[:_MOST_CONTENTS],
        notes=notes,
    )
    record.files = [_identified(work, file, record) for file in record.files]
    return Proof(record if target.order.keep_secrets else without_access(record), account, checked)


def asked_of(order: Order) -> Asked:
    """What of an order makes its item what it is."""
    listening = order.means.listening
    return Asked(
        wish=msgspec.to_builtins(order.wish) if order.wish != Wish() else None,
        container=order.container,
        as_images=order.as_images,
        series=order.choice.series,
        warc=order.warc,
        keep_page=order.keep_page,
        listening=msgspec.to_builtins(replace(listening, browser=None)) if listening else None,
        answers=[(answer.name, answer.value) for answer in order.means.answers],
    )


def _identified(work: Work, file: FileFacts, record: Record) -> FileFacts:
    """A file with what it is by its content."""
    only_sound = bool(record.tracks) and all(track.type == "audio" for track in record.tracks)
    media_type, pronom = identified(work.store.item / file.path, only_sound=only_sound)
    return replace(file, media_type=media_type, pronom=pronom)


def _operator(name: str | None) -> dict[str, str] | None:
    """Who answers for an item, at which machine; nothing unless somebody is named."""
    if name is None:
        return None
    return {"name": name, "user": getpass.getuser(), "machine": platform.node()}


def _packed_tracks(made: Made) -> list[TrackFacts]:
    """The track of a file that is nothing but its frames."""
    return [
        TrackFacts(
            type=frames.format.type,
            codec=frames.format.codec,
            channels=frames.format.channels,
            sample_rate=frames.format.sample_rate,
            bitrate=round(frames.bytes * 8 / frames.seconds) if frames.seconds else None,
            samples=frames.count,
            duration=round(frames.seconds, 3),
        )
        for frames in made.frames
        if frames.format
    ]


def _promised(target: Target) -> tuple[float | None, float]:
    """Seconds that the manifest promises, and by how many that may be off."""
    renditions = [taken.rendition for taken in target.taken if taken.rendition.type != "subtitles"]
    longest = max(renditions, key=lambda one: one.duration or 0.0)
    return longest.duration, longest.tolerance


def _compared_with_page(target: Target, length: float | None) -> list[Note]:
    """Say where a film lasts much shorter or longer than its page states."""
    stated = target.page.duration if target.page else None
    if length and stated and _is_alone_on(target) and not 0.6 <= length / stated <= 1 / 0.6:
        message = (
            f"It lasts {length:.0f} s, and the page states {stated:.0f} s; it may be only a part, or something else"
        )
        return [Note("length-stated", message)]
    return []


def _check_kind(target: Target, form: str, account: Account) -> None:
    """What came where a film or sound was promised: by the page, and of a file by its address and type, too."""
    find, presentation, category = target.find, target.presentation, CATEGORIES.get(form)
    promised: set[Kind | None] = {find.kind}
    foreign = form == "unknown" and is_foreign(presentation.url, find.response.type)
    if presentation.kind == "file" and category:  # whole as it may be
        promised |= {find.mention.kind, kind_by_extension(presentation.url), kind_by_type(find.response.type)}
    elif category or presentation.kind == "images" or foreign:
        return
    if PLAYED.intersection(promised) and category not in ("video", "audio"):
        what = "unknown bytes" if form == "unknown" else form.upper()
        account.failed("content", "no-media", f"A film or sound was promised; {what} came", grave=category is None)


def _is_alone_on(target: Target) -> bool:
    """True if what the page says of a film is meant of this one."""
    return target.page is not None and target.find.kind in PLAYED and is_alone(target.page, target.find)


def _source(work: Work, files: list[FileFacts], made: Made) -> Source:
    """Where it came from; what is kept of that is added to the files."""
    item, target, page = work.store.item, work.target, work.target.page
    secrets, presentation = target.order.keep_secrets, target.presentation
    if page and target.order.keep_page:
        keep_page(item, page, target.recording, files, keep_secrets=secrets)
    return Source(
        target=target.order.target,
        choice=target.choice,
        kind=presentation.kind,
        address=presentation.url,
        page=page_facts(page) if page else None,
        find=find_facts(target.find),
        capture=keep_capture(item, page, target.recording, target.order.means.har, files, keep_secrets=secrets),
        manifests=keep_manifests(item, presentation.documents, files, keep_secrets=secrets),
        walk=walk_facts(page) if page else [],
        request=request_facts(work.session, presentation.url, target.find),
        identity=target.identity.key,
        alike=target.identity.alike,
        validator=presentation.facts.validator,
        modified=presentation.facts.modified,
        length=presentation.facts.length,
        listed=target.order.listed,
        filename=presentation.facts.filename or file_part(presentation.url) or None,
        response=dict(presentation.facts.headers),
        asked=asked_of(target.order),
        tap=target.tap,
        manifest_notes=[
            *(ManifestNote(note.name, note.value) for note in presentation.notes),
            *(ManifestNote("event", one.words) for one in made.events),
        ],
    )
