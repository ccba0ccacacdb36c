"""The finds of one page while it is read: one entry an address, however many places name it."""

import html
import re
from bisect import bisect_right

from mudlark.find.kind import is_segment, kind_by_extension
from mudlark.find.model import Evidence, Find, Frame, Kind, Page
from mudlark.web.address import resolve

MOST_FINDS = 5_000
_MOST_FRAMES = 100
_LONGEST_ADDRESS = 16_384
MOST_EVIDENCE = 12


class Collector:
    """Takes references with the places where they stand; knows the lines of the source."""

    def __init__(self, source: str, url: str, base: str, frame: str | None = None) -> None:
        self.source = source
        self.page = Page(url)
        self.base = base
        self.frame = frame
        self.finds: dict[str, Find] = {}
        self.left_out = 0
        self._breaks = [match.start() for match in re.finditer("\n", source)]
        self._cursors: dict[str, int] = {}

    def line_at(self, position: int) -> str:
        """The line of a position in the source."""
        return f"line {bisect_right(self._breaks, position) + 1}"

    def line(self, snippet: str, tag: str) -> str | None:
        """The line on which a snippet stands inside a tag. Elements of one tag come in the page's order, so the search
        goes on from where the last one was found."""
        for text in (snippet, html.escape(snippet, quote=False)) if "&" in snippet else (snippet,):
            at = self._cursors.get(tag, 0) - 1
            for _ in range(50):
                if not text or (at := self.source.find(text, at + 1)) < 0:
                    break
                opening = self.source.rfind("<", max(0, at - 20_000), at) + 1
                if self.source[opening : opening + len(tag)].lower() == tag:
                    self._cursors[tag] = at
                    return self.line_at(at)
        return None

    def add(
        self,
        reference: str,
        kind: Kind | None,
        where: str,
        weight: int,
        *,
        tag: str | None = None,
        at: str | None = None,
        label: str | None = None,
    ) -> Find | None:
        """Note a reference if it is media. kind: what the place says of it; a telling extension overrules it."""
        url = resolve(self.base, reference) if len(reference) <= _LONGEST_ADDRESS else None
        if url is None or url == self.page.url:
            return None
        by_name = kind_by_extension(url)
        told = by_name if by_name and kind in (None, "video", "audio") else kind
        if told is None and is_segment(url):
            told = "video"
        if told is None:
            return None
        find = self.finds.get(url)
        if find is None:
            if len(self.finds) >= MOST_FINDS:
                self.left_out += 1
                return None
            find = self.finds[url] = Find(url, told)
        find.label = find.label or label
        if len(find.evidence) < MOST_EVIDENCE:
            evidence = Evidence(where, at or (self.line(reference, tag) if tag else None), weight, self.frame)
            if evidence not in find.evidence:
                find.evidence.append(evidence)
        return find

    def add_frame(self, reference: str, where: str) -> None:
        """Note a page inside the page."""
        url = resolve(self.base, reference) if len(self.page.frames) < _MOST_FRAMES else None
        if url and all(frame.url != url for frame in self.page.frames):
            self.page.frames.append(Frame(url, where))
