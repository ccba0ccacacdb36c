"""What is being recorded, kept in the store while it runs: so that it can be finished from what is there when its
broadcast is over, and nobody can be asked any more."""

from collections.abc import Callable
from contextlib import suppress
from pathlib import Path

import msgspec
from msgspec.structs import replace

from mudlark.archive.identity import Identity
from mudlark.archive.record import Note
from mudlark.fetch.store import WORKING
from mudlark.find.model import Find, Kind, Mention, Page
from mudlark.hauling.order import Order
from mudlark.hauling.resolve import Target
from mudlark.manifest.choose import Taken
from mudlark.manifest.model import Presentation, PresentationKind
from mudlark.plain import NotPlain, read_plain

_NAME = "begun.json"
_LARGEST = 1_000_000  # bytes


class Begun(msgspec.Struct):
    """A recording that has begun. target: as the user gave it. find: the address that was taken; form: its kind. url,
    kind: of the presentation. taken: its renditions, without segments."""

    target: str
    find: str
    form: Kind
    url: str
    kind: PresentationKind
    title: str
    identity: Identity
    taken: list[Taken]

    def resolved(self, order: Order, page: Page | None) -> Target:
        """The way to the presentation, as if it were finished. Its segments are in the store."""
        renditions = tuple(one.rendition for one in self.taken)
        presentation = Presentation(self.url, self.kind, renditions)
        words = "The recording was broken off, and its broadcast was over before it was gone on with"
        find = Find(Mention(url=self.find, kind=self.form))
        notes = (Note("recording-ended", words),)
        return Target(order, page, find, presentation, self.taken, self.title, self.identity, notes=notes)


_decoder = msgspec.json.Decoder(Begun)


def note_begun(folder: Path, target: Target) -> None:
    """Keep what a recording is of. folder: of its store."""
    taken = [replace(one, rendition=replace(one.rendition, segments=None, pieces=())) for one in target.taken]
    begun = Begun(
        target.order.target,
        target.find.url,
        target.find.kind,
        target.presentation.url,
        target.presentation.kind,
        target.title,
        target.identity,
        taken,
    )
    (folder / _NAME).write_bytes(msgspec.json.encode(begun))


def begun_in(into: Path, fits: Callable[[Begun], bool]) -> list[Begun]:
    """The recordings in a target folder that fit, and were not finished."""
    found: list[Begun] = []
    if (into / WORKING).is_symlink():
        return found
    for path in sorted((into / WORKING).glob(f"*/{_NAME}")):
        with suppress(OSError, NotPlain, ValueError, RecursionError):
            begun = _decoder.decode(read_plain(path, _LARGEST))
            if fits(begun):
                found.append(begun)
    return found
