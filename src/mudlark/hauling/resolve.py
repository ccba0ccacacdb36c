"""From a find to what it promises: the presentation, the tracks to take, the title, and what the item is known by."""

from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from mudlark.archive.identity import Identity, identity, without_passing
from mudlark.archive.record import Note, TapFacts
from mudlark.find.judge.rank import rivals
from mudlark.find.look import PageScan
from mudlark.find.model import Find, Page
from mudlark.hauling.order import HaulWatch, Order
from mudlark.hauling.title import title_of
from mudlark.manifest import numbered
from mudlark.manifest.choose import Taken, choose
from mudlark.manifest.load import fill, load
from mudlark.manifest.model import STREAMED, Presentation, PresentationKind, Rendition
from mudlark.manifest.wish import Wish
from mudlark.verify.account import Problem
from mudlark.web.address import without_query
from mudlark.web.redact import redacted
from mudlark.web.session import Session

if TYPE_CHECKING:
    from mudlark.browser.listen import Recording


class Target(msgspec.Struct, frozen=True):
    """The way from the target to the presentation. page: None if the target is no page. recording: of the browser.

    title: of the item. identity: what it is known by; alone: no other find or row is alike. notes: what is to be
    known of the choice. problems, tap: what was found while it was tapped, and what that was.
    """

    order: Order
    page: Page | None
    find: Find
    presentation: Presentation
    taken: list[Taken]
    title: str
    identity: Identity
    recording: "Recording | None" = None
    notes: tuple[Note, ...] = ()
    alone: bool = False
    problems: tuple[Problem, ...] = ()
    tap: TapFacts | None = None

    @property
    def key_address(self) -> str:
        """The address that a file may name as its source: the page's, or its own, without what gives access."""
        return redacted(self.page.url if self.page else self.presentation.url)

    @property
    def choice(self) -> str | None:
        """The find's address, if the user chose it; up to its query where that gives access."""
        if not self.page or not self.order.choice.made:
            return None
        return self.find.url if redacted(self.find.url) == self.find.url else without_query(self.find.url)


async def resolve(session: Session, order: Order, scan: PageScan, find: Find, watch: HaulWatch) -> Target:
    """What a find promises, which tracks of it to take, and what the item is to be called."""
    presentation = await _presentation(session, find)
    chosen = choose(presentation, order.wish)
    presentation = await fill(session, presentation, [one.rendition for one in chosen])
    taken = [replace(one, rendition=presentation.named(one.rendition.name)) for one in chosen]
    page = None if scan.page.itself else scan.page
    known_by = identity(order.target, find.url if page else None, _asked(order, presentation.kind), warc=order.warc)
    title = title_of(order.target, page, find, presentation, order.title)
    notes = (*_notes(order, page, find), *_passed_over(order, presentation.kind))
    for note in notes:
        watch.on_warning(note.message)
    alone = order.alone and _alone(find, page)
    return Target(order, page, find, presentation, taken, title, known_by, scan.recording, notes, alone)


def _passed_over(order: Order, kind: PresentationKind) -> tuple[Note, ...]:
    """What was wished of something that has no renditions to choose from."""
    if kind in STREAMED or not _asked(order, "hls"):
        return ()
    text = "There are no renditions to choose from, and nothing to put into another container; it is taken as it is"
    return (Note("nothing-to-choose", text),)


def _asked(order: Order, kind: PresentationKind) -> str:
    """What was asked of it, in one line; empty if nothing was that makes another item of it."""
    if kind == "images":
        return "images" if order.as_images else "pdf"
    if kind == "file":
        return ""
    wish = "" if order.wish == Wish() else repr(order.wish)
    return wish if order.container in (None, "mp4") else f"{order.container} {wish}".strip()


def _alone(find: Find, page: Page | None) -> bool:
    """True if no other find of the page differs from this one in what is handed out anew each time alone."""
    bare = without_passing(find.url)
    return page is None or sum(without_passing(other.url) == bare for other in page.finds) <= 1


def _notes(order: Order, page: Page | None, find: Find) -> tuple[Note, ...]:
    """What was not sure about the choice."""
    if page is None or order.choice.made:
        return ()
    count = len(rivals(page, find))
    if count <= 1:
        return ()
    return (
        Note(
            "one-of-several",
            f"This is one of {count} finds of the same standing on the page; see the others with `mudlark sift`, "
            "and take them with --nth N or --all.",
        ),
    )


async def _presentation(session: Session, find: Find) -> Presentation:
    """What a find promises."""
    if find.kind == "tap":
        return Presentation(find.url, "tap", (Rendition("b1", "video", find.url, segments=(), length=find.duration),))
    if not find.members:
        return await load(session, find.url)
    return numbered.images(find.members) if find.kind == "image" else await numbered.series(session, find.members)
