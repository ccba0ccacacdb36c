"""The steps of a haul in order: look, choose, resolve, compare with what is there, make.

What is there already is compared with the server first, and never written over.
"""

import asyncio
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, closing, suppress
from pathlib import Path

from msgspec.structs import replace

from mudlark.archive.assay import assay
from mudlark.archive.identity import Earlier, Identity, identity_of
from mudlark.archive.layout import EXCHANGES, REQUESTS
from mudlark.archive.record import read_record
from mudlark.archive.requests import EarlyRequests, RequestLog
from mudlark.archive.shelf import find_earlier
from mudlark.archive.sidecar import mend_checksums
from mudlark.archive.warc import Exchanges, Notes, need_warcio, seen_in
from mudlark.errors import FormatError, MudlarkError, NetworkError, NothingFound, StorageError, UsageError
from mudlark.fetch.incoming import what_to_do
from mudlark.fetch.store import Store, now, remove_if_empty
from mudlark.fetch.unfinished import unfinished
from mudlark.find.compare import best_guise
from mudlark.find.judge.probe import MANY, probe
from mudlark.find.look import PageScan, look
from mudlark.find.model import Find, Page
from mudlark.hauling.begun import Begun, begun_in
from mudlark.hauling.make import make
from mudlark.hauling.order import HaulWatch, Item, ItemState, Order
from mudlark.hauling.recording import finished
from mudlark.hauling.renew import same_find
from mudlark.hauling.resolve import Target, resolve
from mudlark.hauling.same import compare_there
from mudlark.hauling.title import folder_name
from mudlark.hauling.work import Work
from mudlark.manifest.model import STREAMED
from mudlark.verify.account import Verdict
from mudlark.web.address import shown
from mudlark.web.session import Changed, Session

_DIED = frozenset({403, 404, 410})  # what a link answers that is no longer good
_LIVE = " live"  # a recording beside a haul of the same
_WALKS = 3  # times that the way through questions is walked at most


async def haul(session: Session, order: Order, watch: HaulWatch | None = None) -> AsyncIterator[Item]:
    """Fetch what the target (a page, playlist or file) holds into new folders, one for each find chosen.

    When several finds are chosen, one that fails is told to the watch, and the others go on.
    """
    watch = watch or HaulWatch()
    watch.on_step("Looking")
    if order.keep_page and order.means.listening:
        order = replace(order, means=replace(order.means, listening=replace(order.means.listening, picture=True)))
    if order.guises:
        guise = await best_guise(session.connection, order.target, order.guises, order.means)
        async with Session(replace(session.connection, guise=guise)) as dressed:
            async for item in haul(dressed, replace(order, guises=()), watch):
                yield item
        return
    session = session.noting(EarlyRequests())
    if order.warc:
        need_warcio()
        session = session.observed(Notes())
    try:
        scan, finds = await take(session, order, watch)
    except (NetworkError, NothingFound, FormatError):
        left = begun_in(order.into, lambda one: one.target == order.target)
        if not left:
            raise
        for begun in left:
            yield await _finish(session, order, None, begun, watch)
        return
    if order.expect and len(finds) > 1:
        raise UsageError(f"One digest cannot be that of {len(finds)} files.", "Choose one with --nth or --match.")
    running = [find for find in finds if find.response.live]
    if len(running) > 1:  # broadcasts do not wait for each other
        finds = [find for find in finds if find not in running]
        work = [_haul_living(session, order, scan, find, watch) for find in running]
        for find, result in zip(running, await asyncio.gather(*work, return_exceptions=True), strict=True):
            if isinstance(result, MudlarkError):
                result.url = result.url or find.url
                watch.on_failure(result)
            elif isinstance(result, BaseException):
                raise result
            else:
                yield result
    for find in finds:
        try:
            yield await _haul_living(session, order, scan, find, watch)
        except MudlarkError as problem:
            problem.url = problem.url or find.url
            if len(finds) == 1:
                raise
            watch.on_failure(problem)


async def take(session: Session, order: Order, watch: HaulWatch) -> tuple[PageScan, list[Find]]:
    """The page and the finds chosen of it; where answers led to links that are dead already, the walk is made again."""
    if order.looked:
        session.at_home(order.target)
        return order.looked, list(order.finds) or await _chosen(session, order, order.looked.page)
    for _ in range(_WALKS - 1):
        scan = await look(session, order.target, order.means, watch=watch.listening)
        try:
            return scan, await _chosen(session, order, scan.page)
        except NothingFound:
            if not order.means.answers or not any(find.response.status in _DIED for find in scan.page.finds):
                raise
    scan = await look(session, order.target, order.means, watch=watch.listening)
    return scan, await _chosen(session, order, scan.page)


async def _chosen(session: Session, order: Order, page: Page) -> list[Find]:
    if order.choice.wanted.larger_than is not None:
        page.finds = await probe(session, page.finds, MANY)
    return page.finds[:1] if page.itself and not order.choice.made else order.choice.take(page)


async def _haul_living(session: Session, order: Order, scan: PageScan, find: Find, watch: HaulWatch) -> Item:
    """One find; when its link has died and answers led to it, the walk is made again, and goes on where it was."""
    for _ in range(_WALKS - 1):
        try:
            if not order.means.answers or not _expired(find):
                return await _haul_find(session, order, scan, find, watch)
        except NetworkError as problem:
            if not order.means.answers or problem.status not in _DIED:
                raise
        watch.on_step("Answering again")
        scan = await look(session, order.target, order.means, watch=watch.listening)
        find = same_find(find, scan.page) or _only(order.choice.take(scan.page))
    if _expired(find):
        raise NetworkError(
            f"{shown(find.url)} has died before it could be fetched.", "Its links live very shortly.", url=find.url
        )
    return await _haul_find(session, order, scan, find, watch)


def _only(finds: list[Find]) -> Find:
    """The one that was chosen. Raises NothingFound where there are several, of which none is the one of before."""
    if len(finds) == 1:
        return finds[0]
    raise NothingFound(
        "The page names other links by now, and none is known to be the one of before.",
        "Choose one with --nth or --match, and haul again.",
    )


def _expired(find: Find) -> bool:
    return find.response.expires is not None and find.response.expires <= time.time()


async def _haul_find(session: Session, order: Order, scan: PageScan, find: Find, watch: HaulWatch) -> Item:
    """One find; when it changes on the server while it is fetched, it is fetched anew, once."""
    started = now()
    behind = session.behind(find.mention.referrer, find.mention.sent)
    if isinstance(session.on_request, EarlyRequests):  # what was asked for the page's sake led to each of its finds
        behind = behind.noting(EarlyRequests(session.on_request))
    if isinstance(session.observer, Notes):  # and is evidence of each
        behind = behind.observed(Notes(session.observer))
    page = None if scan.page.itself else scan.page
    try:
        target = await resolve(behind, order, scan, find, watch)
    except (NetworkError, FormatError):
        left = begun_in(order.into, lambda one: (one.target, one.find) == (order.target, find.url))
        if not left:
            raise
        return await _finish(behind, order, page, left[0], watch)
    if target.presentation.live is None:
        left = begun_in(order.into, lambda one: one.identity.alike == target.identity.alike)
        if left:
            return await _finish(behind, order, page, left[0], watch)
    try:
        return await _haul_target(behind, target, watch, started)
    except Changed:
        return await _haul_target(behind, await resolve(behind, order, scan, find, watch), watch, started)


async def _finish(session: Session, order: Order, page: Page | None, begun: Begun, watch: HaulWatch) -> Item:
    """An item of what was recorded of a broadcast that is over."""
    watch.on_warning(
        "The broadcast is over; what was recorded of it becomes an item. Haul once more for what its server has now."
    )
    target = begun.resolved(order, page)
    with _store(order, begun.identity, _LIVE) as store:
        work = Work(session, target, store, watch, now(), None, "failed")
        if begun.kind in STREAMED:
            work = finished(work)
        item = await make(work, item_name(target), "new")
        if item.folder:  # nobody can be asked for what is missing
            item.kept = None
            await asyncio.to_thread(store.discard)
        return item


async def _haul_target(session: Session, target: Target, watch: HaulWatch, started: str) -> Item:
    """Compare with what is there already, and haul what is not."""
    order = target.order
    made = _make_folder(order.into)
    try:
        return await _compare_and_make(session, target, watch, started)
    except OSError as problem:
        raise StorageError(
            f"Cannot write into {order.into}: {problem.strerror or problem}.", what_to_do(problem)
        ) from problem
    finally:
        if made:
            remove_if_empty(order.into)


async def _compare_and_make(session: Session, target: Target, watch: HaulWatch, started: str) -> Item:
    order = target.order
    name = item_name(target)
    earlier = await asyncio.to_thread(_earlier, order, target)
    if earlier and not earlier.exact:
        named = target.alone and earlier.record.title == target.title
        if target.presentation.live or order.again or not named:
            earlier = None  # what is alike is nothing to go by
    state: ItemState = "new"
    verdict: Verdict = "failed"
    run = ""
    if target.presentation.live:
        state, run = "again" if earlier else "new", _LIVE
    elif earlier and order.again:
        state, run = "again", " again"
    elif earlier:
        watch.on_step("Comparing with the server")
        await asyncio.to_thread(mend_checksums, earlier.folder)
        verdict = (await asyncio.to_thread(assay, earlier.folder))[0].verdict
        intact = verdict == earlier.record.verdict and verdict in ("sound", "unproven") and _expected(earlier, order)
        renditions = [taken.rendition for taken in target.taken]
        there = await compare_there(session, earlier, intact, order.target, target.presentation, renditions)
        if intact and there.same:
            await asyncio.to_thread(_clear, _store(order, target.identity))
            return Item(earlier.record, earlier.folder, state="unchanged", by=there.by)
        if not earlier.exact:
            earlier = None
        elif there.same is False or intact:
            state, run = "changed", f" since {earlier.record.finished}"
        else:
            state = "repaired"
    store = _store(order, target.identity, run)
    if target.alone:
        await asyncio.to_thread(_adopt, store, order)
    with store:
        async with _exchanges(session, target, store) as exchanges:
            before = session.on_request if isinstance(session.on_request, EarlyRequests) else ()
            with closing(RequestLog(store.folder / REQUESTS, before)) as requests:
                logged = session.observed(exchanges).noting(requests)
                work = Work(logged, target, store, watch, started, earlier, verdict, exchanges, requests)
                return await make(work, name, state)


def item_name(target: Target) -> str:
    """What the folder of an item is to be called."""
    date = (target.page.date if target.page else None) or now()
    return folder_name(target.order.name_from, target.title, date, target.order.listed)


def _earlier(order: Order, target: Target) -> Earlier | None:
    """The item that is there already. Raises NothingFound where one is to be mended of which nothing is there now."""
    if order.mends:
        record = read_record(order.mends)
        own = identity_of(record)
        if own.key != target.identity.key and not (target.alone and own.alike == target.identity.alike):
            raise NothingFound(
                f"{shown(order.target)} leads to something else by now than what {order.mends} holds.",
                "Haul it by its own address, if you know it.",
            )
        return Earlier(order.mends, record)
    return find_earlier(order.into, target.identity)


def _store(order: Order, identity: Identity, run: str = "") -> Store:
    """Where a haul has its unfinished work. run: what tells it from others of the same source."""
    return Store(order.into, f"{identity.key}{run}", order.target, f"{identity.alike}{run}")


def _adopt(store: Store, order: Order) -> None:
    """Go on with what an earlier run has left of the same target, where that had other links: whether what is there is
    the same, its bytes and entity tags say."""
    if store.folder.exists() or not any(store.folder.parent.glob(f"{store.alike}*")):
        return
    for left in unfinished(order.into):
        if left.folder.name.startswith(store.alike) and left.target == order.target and not left.running:
            with suppress(OSError):
                left.folder.rename(store.folder)
            return


def _clear(left: Store) -> None:
    """Clear away the store of an item that has its place already, where a run that was killed could not."""
    if left.folder.is_dir():
        with suppress(StorageError), left as store:
            if store.placed:
                store.discard()
    else:
        remove_if_empty(left.folder.parent)


@asynccontextmanager
async def _exchanges(session: Session, target: Target, store: Store) -> AsyncIterator[Exchanges | None]:
    """Where the exchanges of an item are written, with those in it that led to it."""
    before = session.observer
    if not isinstance(before, Notes):
        yield None
        return
    exchanges = await asyncio.to_thread(Exchanges, store.folder / EXCHANGES, keep_secrets=target.order.keep_secrets)
    try:
        recorded = [seen for entry in target.recording.entries if (seen := seen_in(entry))] if target.recording else []
        for one in [*recorded, *before]:
            await exchanges(one)
        yield exchanges
    finally:
        exchanges.close()


def _expected(earlier: Earlier, order: Order) -> bool:
    """True if an item that is there already has the digest that the user expects."""
    media = [file for file in earlier.record.files if file.role == "media"]
    return order.expect is None or any(file.sha256 == order.expect for file in media)


def _make_folder(into: Path) -> bool:
    """The target folder exists and takes files; found out before anything is fetched. True if it had to be made."""
    there = into.is_dir()
    try:
        into.mkdir(parents=True, exist_ok=True)
    except OSError as problem:
        raise StorageError(
            f"Cannot make the folder {into}: {problem.strerror}.", "Choose another with --into."
        ) from problem
    return not there
