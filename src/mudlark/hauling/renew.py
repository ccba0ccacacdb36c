"""Links that expire while their segments are fetched: the manifest is asked for anew, and where that has died too, the
page.

Once for all that wait, and bounded. Segments are matched by their numbers; what is there already is not fetched again.
"""

import asyncio

from msgspec.structs import replace

from mudlark.archive.identity import without_passing
from mudlark.errors import MudlarkError, NothingFound
from mudlark.fetch.engine import Job
from mudlark.find.look import look
from mudlark.find.model import Find, Page
from mudlark.hauling.resolve import Target
from mudlark.manifest.choose import choose
from mudlark.manifest.load import fill, load
from mudlark.manifest.model import Presentation, Segment
from mudlark.web.address import without_query
from mudlark.web.session import Session

_MOST = 5  # times that links are renewed in one haul


class Renewal:
    """Gives a segment under the address that it has now."""

    def __init__(self, session: Session, target: Target) -> None:
        self._session = session
        self._target = target
        self._lock = asyncio.Lock()
        self._known: dict[tuple[str, int], Segment] = {}
        self._tries = 0

    async def __call__(self, job: Job) -> Segment | None:
        """The segment of a job whose address no longer serves; None where there is no other."""
        if self._target.presentation.live is not None or self._target.presentation.kind in ("images", "series"):
            return None
        async with self._lock:
            fresh = self._fitting(job)
            if fresh is not None:
                return fresh
            if self._tries >= _MOST:
                return None
            self._tries += 1
            for way in (self._by_manifest, self._by_page):
                try:
                    presentation = await way()
                except MudlarkError:
                    continue
                for one in presentation.renditions:
                    for number, segment in enumerate(one.segments or ()):
                        self._known[one.name, number] = segment
                if fresh := self._fitting(job):
                    return fresh
            self._tries = _MOST  # it stands where it stood: asking again brings nothing
            return None

    def _fitting(self, job: Job) -> Segment | None:
        """The same segment under another address, if it is known."""
        if self._target.presentation.kind == "file":  # its parts are cut as they are fetched
            known = self._known.get((job.track, 0))
            known = known and replace(known, resource=replace(known.resource, span=job.segment.resource.span))
        else:
            known = self._known.get((job.track, job.number))
        if known is None or known.resource.url == job.segment.resource.url:
            return None
        old, new = job.segment.resource, known.resource
        same = known.sequence == job.segment.sequence and abs(known.duration - job.segment.duration) < 0.01
        return known if same and old.span == new.span and old.version == new.version else None

    async def _by_manifest(self) -> Presentation:
        return await self._filled(self._session, self._target.find.url)

    async def _by_page(self) -> Presentation:
        target = self._target
        if target.page is None:
            raise NothingFound("There is no page that led to it.")
        scan = await look(self._session, target.order.target, target.order.means)
        find = same_find(target.find, scan.page)
        if find is None:
            taken = target.order.choice.take(scan.page)
            if len(taken) > 1:
                raise NothingFound("None of the page's links is known to be the one of before.")
            find = taken[0]
        return await self._filled(self._session.behind(find.mention.referrer, find.mention.sent), find.url)

    async def _filled(self, session: Session, address: str) -> Presentation:
        presentation = await load(session, address)
        chosen = choose(presentation, self._target.order.wish)
        return await fill(session, presentation, [one.rendition for one in chosen], patient=False)


def same_find(find: Find, page: Page) -> Find | None:
    """The find of another look that is this one, but for what its address is handed out with anew each time."""
    for same in (str, without_passing, without_query):
        alike = [other for other in page.finds if same(other.url) == same(find.url)]
        if len(alike) == 1:
            return alike[0]
    return None
