"""Making one item: fetch and put together, prove, and give it its place.

Everything is made inside the store; nothing stands under its final name before it is verified. Which maker makes what
is a table, by the kind of presentation.
"""

import asyncio
import shutil
from collections.abc import Awaitable, Callable

from msgspec.structs import replace

from mudlark.archive.layout import REPLACED
from mudlark.archive.place import can_mend, conclude, mend, names_for, put
from mudlark.archive.record import Note, Record, to_json
from mudlark.errors import Refused, StorageError
from mudlark.fetch.incoming import what_to_do
from mudlark.find.model import Find
from mudlark.hauling import recording
from mudlark.hauling.beside import beside as find_beside
from mudlark.hauling.beside import fetch_beside, language_of
from mudlark.hauling.film import make_film
from mudlark.hauling.order import Item, ItemState, Plan
from mudlark.hauling.pages import make_pages
from mudlark.hauling.plain import make_plain
from mudlark.hauling.prove import prove
from mudlark.hauling.radio import make_radio
from mudlark.hauling.same import same_media
from mudlark.hauling.work import Fetching, Made, Work
from mudlark.manifest.model import STREAMED, PresentationKind
from mudlark.manifest.wish import ALL, NONE, Wish
from mudlark.media.language import same_language
from mudlark.verify.account import WORTH, Verdict


async def _make_tapped(work: Work, fetching: Fetching) -> Made:
    from mudlark.hauling.tapped import make_tapped

    return await make_tapped(work, fetching)


_MAKERS: dict[PresentationKind, Callable[[Work, Fetching], Awaitable[Made]]] = {
    "hls": make_film,
    "dash": make_film,
    "series": make_film,
    "file": make_plain,
    "images": make_pages,
    "stream": make_radio,
    "tap": _make_tapped,
}


async def make(work: Work, name: str, state: ItemState) -> Item:
    """The item of a haul. name: that it should have. state: what it is to an earlier one."""
    live = work.target.presentation.live is not None
    recorded = None
    if live and work.target.presentation.kind in STREAMED:
        work, recorded = await recording.record(work)
    elif work.target.presentation.kind == "tap":
        from mudlark.hauling.tapped import take_down  # with the browser, which few want

        work, recorded = await take_down(work)
    target, store = work.target, work.store
    planned = max((taken.rendition.duration or 0.0 for taken in target.taken), default=0.0) or None
    renditions = [taken.rendition for taken in target.taken]
    count = sum(len(one.segments or ()) for one in renditions)
    work.watch.on_plan(Plan(target.title, target.presentation, renditions, count, planned))
    fetching = Fetching(work, recorded)
    _mind_room(work, planned)
    try:
        await asyncio.to_thread(shutil.rmtree, store.item, ignore_errors=True)
        store.item.mkdir(mode=0o755)
        streamed = target.presentation.kind in STREAMED
        beside = await _fetch_beside(work, work.name) if streamed else Made(())  # its poster becomes the film's cover
        made = await _MAKERS[target.presentation.kind](work, fetching)
        beside = beside if streamed else await _fetch_beside(work, made.media[0].stem)
        made = replace(
            made,
            beside=(*made.beside, *beside.beside),
            problems=(*made.problems, *beside.problems),
            notes=(*made.notes, *beside.notes),
        )
        work.watch.on_step("Verifying")
        proof = await asyncio.to_thread(prove, work, made, fetching)
        record = proof.record
        if (manner := target.order.play) and record.verdict != "broken":
            from mudlark.hauling.playing import prove_by_playing  # few want it, and its libraries are slow to load

            await prove_by_playing(work, made, proof, manner)
        if record.verdict == "broken":
            store.distrust([(row.track, row.number) for row in store.rows() if row.plan])
            return Item(record, None, store.folder)
        item = await asyncio.to_thread(_keep, work, record, name, state)
    except Refused:
        await _clear_away(work)  # nothing of what is protected stays
        raise
    except OSError as problem:
        raise StorageError(f"Cannot write into {store.folder}: {problem.strerror}.", what_to_do(problem)) from problem
    if fetching.counts.missing and not live:
        item.kept = store.folder
    else:
        await _clear_away(work)
    return item


async def _clear_away(work: Work) -> None:
    """Remove the store. Nothing in it is open any more: on a server's disk, or on Windows, part of it would stay."""
    for log in (work.requests, work.exchanges):
        if log:
            log.close()
    await asyncio.to_thread(work.store.discard)


def _mind_room(work: Work, planned: float | None) -> None:
    """Raises StorageError where a file cannot fit on the disk; warns where a film, by its bit rate, may not."""
    presentation, there = work.target.presentation, sum(row.bytes for row in work.store.rows())
    free = shutil.disk_usage(work.store.folder).free
    length = presentation.facts.length
    if length is not None and length - there > free:
        raise StorageError(
            f"It is {length / 1e9:.2f} GB, and the disk of {work.target.order.into} has {free / 1e9:.2f} GB left.",
            "Make room, or choose a folder on another disk with --into.",
        )
    bits = sum(taken.rendition.bitrate or 0 for taken in work.target.taken)
    need = bits * (planned or 0.0) / 8 * 2 - there  # the segments, and the film that is made of them
    if length is None and need > free:
        work.watch.on_warning(
            f"It may need {need / 1e9:.1f} GB while it is made; the disk has {free / 1e9:.1f} GB left."
        )


async def _fetch_beside(work: Work, stem: str) -> Made:
    """The subtitles and the poster that the page shows with the film, under names that begin with `stem`."""
    wanted = [
        find for find in find_beside(work.target.page, work.target.find) if _is_wanted(find, work.target.order.wish)
    ]
    if not wanted:
        return Made(())
    work.watch.on_step("Fetching what stands beside it")
    files, problems, notes = await fetch_beside(work.session, wanted, stem, work.store.item)
    return Made((), tuple(files), tuple(problems), tuple(notes))


def _is_wanted(find: Find, wish: Wish) -> bool:
    """False for subtitles in languages that were not asked for."""
    if find.kind != "subtitle" or ALL in wish.subtitles:
        return True
    return NONE not in wish.subtitles and any(same_language(language_of(find) or "", one) for one in wish.subtitles)


def _keep(work: Work, record: Record, name: str, state: ItemState) -> Item:
    """Give the finished item its place: a name of its own, or that of the item that it mends."""
    earlier, into = work.earlier, work.target.order.into
    intact = earlier is not None and work.earlier_verdict == earlier.record.verdict
    if earlier and state == "changed" and intact and same_media(earlier.record, record):
        return Item(earlier.record, earlier.folder, state="unchanged", by="its bytes, fetched anew")
    if earlier and state == "repaired":
        if _worth(record.verdict, record) <= _worth(work.earlier_verdict, earlier.record):
            return Item(earlier.record, earlier.folder, state="unchanged", by="what came now, which is no better")
        if can_mend(earlier.folder, earlier.record, record):
            return _mend(work, record)
        state = "again"
    day = record.finished[:10] if earlier else None
    work.store.placing()
    folder = put(work.store.item, to_json(record), into, names_for(name, day))
    return Item(record, folder, state=state)


def _mend(work: Work, record: Record) -> Item:
    earlier = work.earlier
    assert earlier
    moment = record.finished.replace(":", "")
    replaced = mend(work.store.item, record, earlier.folder, earlier.record, moment)
    if replaced:
        names = f"{', '.join(replaced[:5])}{' and others' if len(replaced) > 5 else ''}"
        record.notes.append(
            Note("replaced", f"The item was mended; it keeps {names} as before in {REPLACED}/{moment}.")
        )
    conclude(earlier.folder, to_json(record))
    return Item(record, earlier.folder, state="repaired")


def _worth(verdict: Verdict, record: Record) -> tuple[int, int]:
    """For comparing two items of one source: the better verdict, then the fewer segments missing."""
    return WORTH[verdict], -record.segments.missing
