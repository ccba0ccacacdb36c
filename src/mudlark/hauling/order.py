"""What a haul is asked for, what it tells while it goes on, and what it leaves."""

from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

import msgspec

from mudlark.archive.record import Record
from mudlark.browser.options import ListenWatch
from mudlark.errors import MudlarkError
from mudlark.fetch.engine import Watch
from mudlark.find.look import Means, PageScan
from mudlark.find.model import Find
from mudlark.find.select import Choice
from mudlark.manifest.live.broadcast import State
from mudlark.manifest.live.pace import Airtime
from mudlark.manifest.model import Presentation, Rendition
from mudlark.manifest.wish import Wish
from mudlark.verify.account import Verdict
from mudlark.web.guise import Guise


class Plan(msgspec.Struct, frozen=True):
    """What is about to be fetched: for whoever watches. bytes: of all of it, if that is known."""

    title: str
    presentation: Presentation
    renditions: list[Rendition]
    segments: int
    duration: float | None


class RecordingState(msgspec.Struct, frozen=True):
    """How a recording goes. title: of its item. now: seconds since 1970. film: what can be played of it so far, if it
    is playable while it grows. retries: tries beyond the first. end: makes an end of it, and an item of what is there.
    """

    title: str
    state: State
    now: float
    film: Path
    retries: int
    end: Callable[[], None]
    playable: bool = True


@dataclass  # whoever shows it inherits this, and is made in a way of its own
class HaulWatch(Watch):
    """A Watch that also hears of the plan and of the steps."""

    on_plan: Callable[[Plan], None] = lambda _plan: None
    on_step: Callable[[str], None] = lambda _step: None
    on_failure: Callable[[MudlarkError], None] = lambda _problem: None
    on_warning: Callable[[str], None] = lambda _text: None
    on_recording: "Callable[[RecordingState], None]" = lambda _state: None
    listening: ListenWatch = field(default_factory=ListenWatch)


ItemState = Literal["new", "unchanged", "repaired", "changed", "again"]


class Item(msgspec.Struct):
    """What a haul left. folder: None if nothing was fit for a final name. kept: where the unfinished work is.

    state: whether it is new; or was there and is the same on the server (by: as was told by what); or was damaged and
    is mended; or has changed there, and stands dated beside the earlier one; or was wanted again.
    """

    record: Record
    folder: Path | None
    kept: Path | None = None
    state: ItemState = "new"
    by: str | None = None

    @property
    def verdict(self) -> Verdict:
        return self.record.verdict

    def _repr_html_(self) -> str:
        """As notebooks show it."""
        from mudlark.notebook import item_table  # few are looked at in a notebook

        return item_table(self)


class Order(msgspec.Struct, frozen=True):
    """What a user wants hauled. means: how to look at the target. expect: SHA-256 in hexadecimal that the file must
    have. as_images: keep page images as they are, instead of binding them. guises: take the find from whichever of
    these gets the best; as the session's own if there are none. again: make a new item even if there is one.
    keep_secrets: leave what gives access in what is kept. keep_page: the page stays with the item.
    warc: all exchanges do, too. play: in a browser, stretches or all of it; browser: the program, if not the usual one.
    wish: which renditions of a stream. container: of a film. span: what part of a broadcast. listed: what a list says
    of the target; command: as it was given; operator: who answers for it: all for the record. mends: the item that it
    is hauled for, whatever that is called by now. name_from: a column of the list, or a pattern of such, by which the
    item is named instead of its title. alone: nothing else that is wanted is alike. looked: the target, where it was
    looked at before; finds: those of it that are meant, where they were chosen.
    """

    target: str
    into: Path
    choice: Choice = msgspec.field(default_factory=Choice)
    title: str | None = None
    expect: str | None = None
    means: Means = msgspec.field(default_factory=Means)
    as_images: bool = False
    guises: tuple[Guise, ...] = ()
    again: bool = False
    keep_secrets: bool = False
    keep_page: bool = True
    warc: bool = False
    play: Literal["some", "full"] | None = None
    browser: Path | None = None
    wish: Wish = msgspec.field(default_factory=Wish)
    container: Literal["mp4", "mkv"] | None = None
    span: Airtime = msgspec.field(default_factory=Airtime)
    listed: dict[str, str] = msgspec.field(default_factory=dict)
    command: str | None = None
    operator: str | None = None
    mends: Path | None = None
    name_from: str | None = None
    alone: bool = True
    looked: PageScan | None = None
    finds: tuple[Find, ...] = ()
