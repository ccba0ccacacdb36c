"""The finds of one page while it is read: one entry an address, however many places name it."""

import html
import re
from bisect import bisect_right

import msgspec
from msgspec.structs import replace

from mudlark.find.judge.kind import is_segment, kind_by_extension, kind_of_sent
from mudlark.find.model import Evidence, Find, Frame, Hint, Kind, Mention, Page, Place
from mudlark.web.address import resolve
from mudlark.web.referrer import DEFAULT, Referrer

MOST_FINDS = 5_000
_MOST_FRAMES = 100
_LONGEST_ADDRESS = 16_384
MOST_EVIDENCE = 12
_SEARCHING = 20_000_000  # characters of a small source that are read for the lines of its finds, or eight times it


class Beside(msgspec.Struct, frozen=True, kw_only=True):
    """What a place says of an address beside naming it; all of it may be unknown. See Evidence and Find."""

    tag: str | None = None
    at: str | None = None
    label: str | None = None
    hint: Hint | None = None
    group: str | None = None
    item: str | None = None
    declared: int | None = None
    language: str | None = None
    policy: str | None = None


NOTHING = Beside()
_GUESS = 8  # points at most for what may be a page
_AGAINST_CACHES = re.compile(r"[?&]_=\d{1,13}$")  # a number that only makes an address another one
_BLANK = re.compile(r"\$\{|\{\{")  # of a template, which a script fills in


class Collector:
    """Takes references with the places where they stand; knows the lines of the source."""

    def __init__(self, source: str, url: str, base: str, frame: str | None = None) -> None:
        self.source = source
        self.page = Page(url)
        self.base = base
        self.frame = frame
        self.mentions: dict[str, Mention] = {}
        self.left_out = 0
        self._breaks = [match.start() for match in re.finditer("\n", source)]
        self._cursors: dict[str, int] = {}
        self._searching = max(_SEARCHING, 8 * len(source))

    def line_at(self, position: int) -> str:
        """The line of a position in the source."""
        return f"line {bisect_right(self._breaks, position) + 1}"

    def line(self, snippet: str, tag: str) -> str | None:
        """The line on which a snippet stands inside a tag. Elements of one tag come in the page's order, so the search
        goes on from where the last one was found."""
        for text in (snippet, html.escape(snippet, quote=False)) if "&" in snippet else (snippet,):
            at = self._cursors.get(tag, 0) - 1
            for _ in range(50):
                if not text or self._searching <= 0:
                    break
                begin = at + 1
                at = self.source.find(text, begin)
                self._searching -= (at if at >= 0 else len(self.source)) - begin
                if at < 0:
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
        place: Place,
        where: str,
        weight: int,
        beside: Beside = NOTHING,
    ) -> Mention | None:
        """Note a reference if it is media. kind: what the place says of it; a telling extension overrules it."""
        reference = _AGAINST_CACHES.sub("", reference)
        url = resolve(self.base, reference) if len(reference) <= _LONGEST_ADDRESS else None
        if url is None or url == self.page.url or _BLANK.search(reference):
            return None
        by_name = kind_by_extension(url)
        if by_name is None and kind is None and (kind := kind_of_sent(url)):
            weight, beside = min(weight, _GUESS), replace(beside, hint=beside.hint or "guessed")
        known = by_name if by_name and kind in (None, "video", "audio") else kind
        if known is None and is_segment(url):
            known = "video"
        if known is None:
            return None
        mention = self.mentions.get(url)
        if mention is None:
            if len(self.mentions) >= MOST_FINDS:
                self.left_out += 1
                return None
            referrer = Referrer(self.page.url, beside.policy or self.page.policy or DEFAULT)
            mention = Mention(url=url, kind=known, referrer=referrer)
        evidence = mention.evidence
        if len(evidence) < MOST_EVIDENCE:
            at = beside.at or (self.line(reference, beside.tag) if beside.tag else None)
            one = Evidence(place, where, at, weight, self.frame, hint=beside.hint, group=beside.group, item=beside.item)
            evidence = evidence if one in evidence else (*evidence, one)
        mention = self.mentions[url] = replace(
            mention,
            evidence=evidence,
            label=mention.label or beside.label,
            declared=mention.declared or beside.declared,
            language=mention.language or beside.language,
        )
        return mention

    def link(self, smaller: Mention, larger: str) -> None:
        """Note that the page ties a picture to a larger one."""
        known = self.mentions[smaller.url]
        self.mentions[smaller.url] = replace(known, linked=known.linked or larger)

    def finds(self) -> list[Find]:
        """What was collected, in the order in which it was met."""
        return [Find(mention) for mention in self.mentions.values()]

    def add_frame(self, reference: str, where: str, *, advert: bool = False) -> None:
        """Note a page inside the page."""
        url = resolve(self.base, reference) if len(self.page.frames) < _MOST_FRAMES else None
        if url and not _BLANK.search(reference) and all(frame.url != url for frame in self.page.frames):
            self.page.frames.append(Frame(url, where, advert))
