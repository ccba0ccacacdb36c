"""How pages, items and tracks look in a notebook: as tables of HTML; and progress there, which changes in place."""

import sys
import time
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from html import escape
from typing import TYPE_CHECKING, Any

import msgspec

from mudlark.text import clock, counted, printable, size

if TYPE_CHECKING:
    from mudlark.archive.assay import Assay
    from mudlark.find.model import Page
    from mudlark.hauling.order import HaulWatch, Item, Plan
    from mudlark.manifest.model import Presentation

_MOST = 50  # rows
_EVERY = 0.25  # seconds


def table(caption: str, columns: Sequence[str], rows: Sequence[Sequence[object]]) -> str:
    """A table, all its text escaped; of many rows the first."""
    head = "".join(f"<th>{_text(name)}</th>" for name in columns)
    body = "".join("<tr>" + "".join(f"<td>{_text(cell)}</td>" for cell in row) + "</tr>" for row in rows[:_MOST])
    more = f"<p>… and {len(rows) - _MOST:,} more</p>" if len(rows) > _MOST else ""
    return f"<table><caption>{_text(caption)}</caption><tr>{head}</tr>{body}</table>{more}"


def page_table(page: "Page") -> str:
    """The finds of a page."""
    rows = [
        (
            find.number,
            find.kind,
            find.role,
            clock(find.duration) if find.duration else "",
            size(find.bytes) if find.bytes else "",
            find.label or "",
            find.url,
        )
        for find in page.finds
    ]
    caption = f"{page.title or 'Untitled page'}: {counted(len(rows), 'find')} on {page.url}"
    return table(caption, ("", "kind", "role", "length", "size", "label", "address"), rows)


def presentation_table(presentation: "Presentation") -> str:
    """The renditions of a playlist or file."""
    rows = [
        (
            one.name,
            one.type,
            ", ".join(one.codecs),
            f"{one.width}×{one.height}" if one.width and one.height else "",
            f"{one.bitrate / 1000:,.0f} kbit/s" if one.bitrate else "",
            one.language or "",
            "" if one.segments is None else f"{len(one.segments):,}",
            ", ".join(one.protected),
        )
        for one in presentation.renditions
    ]
    columns = ("name", "type", "codecs", "size", "bit rate", "language", "segments", "protected by")
    length = f", {clock(presentation.duration)}" if presentation.duration else ""
    return table(f"{presentation.kind}{length}: {presentation.url}", columns, rows)


def item_table(item: "Item") -> str:
    """An item: its verdict, files and what is wrong."""
    record = item.record
    rows: list[tuple[object, object]] = [("verdict", f"{item.verdict} ({item.state})"), ("folder", item.folder or "")]
    rows += [("why", record.reason)] if record.reason else []
    rows += [("wrong", problem.message) for problem in record.problems]
    rows += [("length", clock(record.duration))] if record.duration else []
    rows += [("file", f"{file.path}, {size(file.bytes)}") for file in record.files if file.role == "media"]
    rows += [("source", record.source.address)]
    return table(record.title, ("", ""), rows)


def assay_table(assayed: "Assay") -> str:
    """What an assay found: every check."""
    rows: list[tuple[str, str, str]] = [(one.name, one.outcome, one.detail) for one in assayed.account.checks]
    rows += [("", "wrong", problem.message) for problem in assayed.account.problems]
    return table(f"{assayed.verdict}: {assayed.title or assayed.path}", ("check", "outcome", "what was seen"), rows)


def _text(value: object) -> str:
    return escape(printable(str(value)))


@contextmanager
def watched(watch: "HaulWatch | None") -> "Iterator[HaulWatch | None]":
    """Who watches a haul: whoever was given, else progress in a notebook, if it runs in one."""
    if watch is not None or "ipykernel" not in sys.modules:
        yield watch
        return
    progress = ProgressLine()
    try:
        yield progress.watch()
    finally:
        progress.show(done=True)


class ProgressLine(msgspec.Struct):
    """A line in a notebook that says how a haul goes."""

    step: str = ""
    bytes: int = 0
    pieces: int = 0
    planned: int = 0
    begun: float = msgspec.field(default_factory=time.monotonic)
    _shown: float = 0.0
    _handle: Any = None

    def watch(self) -> "HaulWatch":
        """What hears of it."""
        from mudlark.hauling.order import HaulWatch

        return HaulWatch(
            on_step=self._on_step, on_plan=self._on_plan, on_bytes=self._on_bytes, on_outcome=self._on_outcome
        )

    @property
    def words(self) -> str:
        """What it says."""
        seconds = max(0.001, time.monotonic() - self.begun)
        facts = [self.step] if self.step else []
        facts += [f"{self.pieces:,} of {counted(self.planned, 'piece')}"] if self.planned else []
        facts += [f"{size(self.bytes)}, {size(self.bytes / seconds)}/s"] if self.bytes else []
        return "  ".join(facts)

    def show(self, *, done: bool = False) -> None:
        """Show it, unless it was just shown."""
        if not done and time.monotonic() - self._shown < _EVERY:
            return
        self._shown = time.monotonic()
        from IPython.display import HTML, display  # type: ignore[import-not-found]  # only where it is there

        shown = HTML(f"<p>{_text(self.words)}{' — done' if done else ''}</p>")
        if self._handle is None:
            self._handle = display(shown, display_id=True)
        else:
            self._handle.update(shown)

    def _on_step(self, step: str) -> None:
        self.step = step
        self.show()

    def _on_plan(self, plan: "Plan") -> None:
        self.planned = plan.segments
        self.show()

    def _on_bytes(self, count: int) -> None:
        self.bytes += count
        self.show()

    def _on_outcome(self, _outcome: object) -> None:
        self.pieces += 1
        self.show()
