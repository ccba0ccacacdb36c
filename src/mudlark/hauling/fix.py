"""An item hauled again from what its record says of how it was asked for, without the command that made it."""

from pathlib import Path

import msgspec

from mudlark.archive.record import Record, read_record
from mudlark.browser.options import Listening
from mudlark.errors import NothingFound, UsageError
from mudlark.find.look import Means
from mudlark.find.questions import Answer
from mudlark.find.select import ANYTHING, Choice, Filter
from mudlark.hauling.order import HaulWatch, Item, Order
from mudlark.hauling.steps import haul
from mudlark.manifest.choose import Wish
from mudlark.web.secret import is_veiled
from mudlark.web.session import Session


def order_of(record: Record, folder: Path) -> Order:
    """The order that an item came from. Raises UsageError where its record does not tell enough."""
    source, asked = record.source, record.source.asked
    if is_veiled(source.target):
        raise UsageError(
            f"The address of {folder} had something in it that gave access, and was left out.",
            "Haul it again with its whole address.",
        )
    listening = msgspec.convert(asked.listening, Listening, dec_hook=_path) if asked.listening else None
    wanted = Filter(match=source.choice) if source.choice else ANYTHING
    return Order(
        target=source.target,
        into=folder.parent,
        choice=Choice(None, wanted, False, asked.series),
        title=record.title,
        means=Means(listening, None, tuple(Answer(name, value) for name, value in asked.answers)),
        as_images=asked.as_images,
        keep_page=asked.keep_page,
        warc=asked.warc,
        wish=msgspec.convert(asked.wish, Wish) if asked.wish else Wish(),
        container=asked.container,
        listed=source.listed,
        command=record.command,
    )


def _path(kind: type, value: object) -> Path:
    return Path(str(value))


async def fix(session: Session, folder: Path, watch: HaulWatch | None = None) -> Item:
    """Haul an item again: what was missing or damaged is fetched, and the item replaced if it becomes better; what was
    there is kept. Raises MudlarkError where that does not work."""
    record = read_record(folder)
    async for item in haul(session, order_of(record, folder), watch):
        return item
    raise NothingFound(f"Nothing came of {record.source.target}.", "Open it in a browser to see what is there now.")
