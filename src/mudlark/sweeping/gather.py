"""From what a user names to the rows of a list: a file, standard input, a feed, site maps, or an index page with all
the pages that follow it.

What is found on index pages was named by no person, so robots.txt (RFC 9309) is kept to for them.
"""

import asyncio
import re
from collections import deque
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urljoin, urlsplit

import msgspec
from msgspec.structs import replace

from mudlark.browser.options import Listening
from mudlark.errors import MudlarkError, NetworkError, NothingFound, Refused, UsageError
from mudlark.find.look import looks_in
from mudlark.find.model import ListEntry, Page
from mudlark.find.places.links import links_in
from mudlark.find.places.listing import entries_in
from mudlark.find.places.markup import parse
from mudlark.sweeping.rows import MOST, Listed, ListRow, once, rows_in
from mudlark.sweeping.sheets import is_workbook
from mudlark.web.address import resolve, shown
from mudlark.web.robots import Rules
from mudlark.web.session import Session

AGENT = "Mudlark"
_MOST_PAGES = 200  # index pages that follow each other
_MOST_MAPS = 500
_NOTHING = b"User-agent: *\nDisallow: /"
_LARGEST = 200_000_000  # bytes of a list on disk
_NEXT = re.compile(r"^\W*(next|older|more|weiter|nächste|ältere|suivant|siguiente|volgende|nesaf)\b|^[»›→]$", re.I)


class Gathering(msgspec.Struct):
    """rows: each address once. doubled: rows that were left out for that. pages: index pages, feeds and maps that were
    read. notes: what else there is to say."""

    rows: list[ListRow]
    doubled: int
    pages: int
    notes: list[str]


class Gatherer(msgspec.Struct):
    """listening: how index pages are opened in a browser; None to read their source alone. robots: keep to
    robots.txt. on_page: hears of each page before it is read. links: which of their links are meant, as a glob."""

    session: Session
    listening: Listening | None
    robots: bool = True
    on_page: Callable[[str], None] = lambda _url: None
    links: str | None = None
    _rules: dict[str, Rules] = msgspec.field(default_factory=dict)
    _unreachable: set[str] = msgspec.field(default_factory=set)

    async def gather(self, source: str, standard_input: bytes | None = None) -> Gathering:
        """All rows of a list. standard_input: what came by that way, if the source is `-`."""
        notes: list[str] = []
        pages = 0
        if standard_input is not None:
            listed = rows_in(standard_input)
        elif re.match(r"https?://", source, re.I):
            listed, pages = await self._from_web(source, notes)
        else:
            listed = await self._from_file(Path(source))
        if listed is None:
            raise UsageError(f"{source} is a page that was saved.", "Give the address of the index page itself.")
        rows, doubled = once(replace(row, number=number) for number, row in enumerate(listed.rows, start=1))
        if not rows:
            raise NothingFound(
                f"{source} lists nothing{f' like {self.links!r}' if self.links else ''}.",
                "Give another --links PATTERN."
                if self.links
                else "Give a table, a text of addresses, a feed or an index page.",
            )
        return Gathering(rows, doubled, pages, notes)

    async def _from_file(self, path: Path) -> Listed | None:
        body = await asyncio.to_thread(_read, path)
        if body.lstrip()[:1] == b"{" and b'"log"' in body[:4096]:
            scans = await looks_in(self.session, path, asking=0)
            finds = [(scan.page, find) for scan in scans for find in scan.page.finds if find.role == "main"]
            return Listed(
                [ListRow(n, find.url, page.title, found=True) for n, (page, find) in enumerate(finds, start=1)]
            )
        return rows_in(body)

    async def _from_web(self, address: str, notes: list[str]) -> tuple[Listed, int]:
        self.session.at_home(address)
        rows: list[ListRow] = []
        waiting, seen, fresh = deque([address]), set[str](), set[str]()
        size = 0
        while waiting:
            if len(seen) >= _MOST_PAGES + _MOST_MAPS or len(rows) >= MOST or size > _LARGEST:
                notes.append(f"The list goes on behind {len(rows):,} rows on {len(seen):,} pages, and was left there")
                break
            url = waiting.popleft()
            if url in seen:
                continue
            seen.add(url)
            await self._mind_robots(url)
            self.on_page(url)
            try:
                answer = await self.session.look(url, _is_text)
                if not answer.complete:
                    raise UsageError(f"{shown(url)} is no list.", "Haul it by `mudlark haul`.")
                body = answer.body
                size += len(body)
                is_page = answer.type == "text/html" and body.lstrip()[:1] == b"<"
                listed = None if is_page else rows_in(body, answer.url)
                if listed is None:
                    entries, following = await self._index(url, body, notes)
                    listed = Listed([_of(entry) for entry in entries], following if len(seen) < _MOST_PAGES else [])
            except NetworkError as problem:
                if url == address:
                    raise
                notes.append(f"{shown(url)} could not be read: {problem.what}")
                continue
            rows += [row for row in listed.rows if row.address not in fresh][: MOST - len(rows)]
            fresh.update(row.address for row in listed.rows)
            waiting += [one for one in listed.maps if one not in seen][:_MOST_MAPS]
        return Listed([row for row in rows if await self._may(row.address, notes)]), len(seen)

    async def _index(self, url: str, body: bytes, notes: list[str]) -> tuple[list[ListEntry], list[str]]:
        """What an index page lists, and the page that follows it."""
        source = body.decode("utf-8", "replace")
        entries: list[ListEntry] = []
        if self.listening:
            try:
                page, standing = await self._listened(url, self.listening)
                entries, source = page.entries, standing or source
            except MudlarkError as problem:
                notes.append(f"{shown(url)} was read without a browser: {problem.what}")
        entries = [] if self.links else entries or entries_in(source, url)
        if not entries:
            links = links_in(source, url, self.links)
            entries = links.entries
            if links.shape:
                words = f"It says nothing of what it lists; its {len(entries):,} links like {links.shape} are taken"
                notes.append(f"{shown(url)}: {words}. Others are chosen with --links PATTERN")
        return entries, following(source, url)

    async def _listened(self, url: str, listening: Listening) -> tuple[Page, str | None]:
        """An index page in a browser, and its markup as that stood at the end."""
        from mudlark.browser.listen import listen
        from mudlark.find.places.capture import page_in

        recording = await listen(url, listening, self.session.connection)
        if problem := recording.error:
            raise problem
        views = recording.page.views
        return page_in(recording.capture()), views[0].source if views else None

    async def _mind_robots(self, url: str) -> None:
        if not await self._allowed(url):
            raise Refused(
                f"{urlsplit(url).netloc} {self._why(url)} {shown(url)} (robots.txt).",
                "With the owner's leave, add --ignore-robots.",
                url=url,
            )

    async def _may(self, url: str, notes: list[str]) -> bool:
        if await self._allowed(url):
            return True
        notes.append(f"{shown(url)} is left out: its host {self._why(url)} it (robots.txt)")
        return False

    def _why(self, url: str) -> str:
        gone = _robots_of(url) in self._unreachable
        return "does not say whether programs may read" if gone else "asks programs not to read"

    async def _allowed(self, url: str) -> bool:
        """Whether the host of an address lets programs read it: so it does where it has no rules, and not while they
        cannot be reached (RFC 9309 §2.3.1)."""
        if not self.robots:
            return True
        place = _robots_of(url)
        if place not in self._rules:
            try:
                answer = await self.session.look(place, _is_text)
                self._rules[place] = Rules(answer.body if answer.type != "text/html" else b"", AGENT)
            except NetworkError as problem:
                unreachable = problem.status is None or problem.status >= 500
                self._rules[place] = Rules(_NOTHING if unreachable else b"", AGENT)
                if unreachable:
                    self._unreachable.add(place)
        return self._rules[place].allow(url)


def _robots_of(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}/robots.txt"


def _read(path: Path) -> bytes:
    try:
        if path.stat().st_size > _LARGEST:
            raise UsageError(f"{path} is larger than any list.", "Give a part of it.")
        return path.read_bytes()
    except OSError as problem:
        raise UsageError(
            f"Cannot read the list {path}: {problem.strerror}.", "Give a file, an address, or - for standard input."
        ) from problem


def _is_text(head: bytes, kind: str) -> bool:
    """True for what may be a list."""
    return kind.startswith("text/") or kind.endswith(("xml", "json", "csv")) or b"\0" not in head or is_workbook(head)


def following(source: str, url: str) -> list[str]:
    """The page that follows an index page, as its markup names it; none or one."""
    tree = parse(source).tree
    named = [*tree.css("link[rel~=next]"), *tree.css("a[rel~=next]")]
    told = [node for node in tree.css("a[href]")[:5_000] if _NEXT.match((node.text(strip=True) or "").strip())]
    labelled = [node for node in tree.css("a[aria-label]") if _NEXT.match(node.attributes.get("aria-label") or "")]
    for node in [*named, *labelled, *told]:
        target = resolve(url, node.attributes.get("href") or "")
        if target and target.partition("#")[0] != url.partition("#")[0] and _same_host(target, url):
            return [target]
    return []


def _same_host(one: str, other: str) -> bool:
    return urlsplit(urljoin(other, one)).netloc == urlsplit(other).netloc


def _of(entry: ListEntry) -> ListRow:
    listed = {"description": entry.description, "date": entry.date, "media": entry.media}
    return ListRow(0, entry.url, entry.title, listed={k: v for k, v in listed.items() if v}, found=True)
