"""What a list says, row by row: a table as spreadsheets write it, a text of addresses, a feed, or a site map.

Follows RFC 4180 loosely, RSS 2.0, Atom (RFC 4287) and the Sitemaps protocol. Entities, document types and the network
are off in the XML parser.
"""

import csv
import re
from collections import Counter
from collections.abc import Iterable
from io import StringIO
from typing import TYPE_CHECKING

import msgspec
from msgspec.structs import replace

from mudlark.archive.identity import without_passing
from mudlark.errors import FormatError
from mudlark.manifest.pictures.canvases import documents_of, is_collection, parsed
from mudlark.media.sniff import sniff
from mudlark.sweeping.sheets import cells_in, is_workbook
from mudlark.text import tidy
from mudlark.web.address import pasted, resolve

if TYPE_CHECKING:
    from lxml.etree import _Element as Element

MOST = 1_000_000  # rows of one list
_ADDRESSES = ("address", "url", "uri", "link", "href", "page", "webpage", "media", "source")
_TITLES = ("title", "name", "label", "titel", "titre", "título", "titulo", "titolo", "teitl")
WISHES = ("within", "under", "codecs", "languages", "subtitles", "rendition")
_ADDRESS = re.compile(r"https?://\S+$", re.I)
_LINE = re.compile(r"^\s*(https?://\S+)\s*$", re.I)
_DELIMITERS = ",;\t|"
_STATED = re.compile(r'\s*"?sep=([,;\t|])"?[ \t]*\n', re.I)  # how a spreadsheet says what stands between its cells
_MOST_CAPTIONS = 20
_ATOM = "{http://www.w3.org/2005/Atom}"
_MEDIA = "{http://search.yahoo.com/mrss/}"
_WIDEST = 1_000_000  # characters of one cell


class ListRow(msgspec.Struct, frozen=True):
    """One thing to haul. number: in its list, from 1. wishes: which renditions, by the options' names. listed: what
    else the list says of it. found: no person has named it, a page or feed has. alone: no other row is alike
    (archive/identity.py)."""

    number: int
    address: str
    title: str | None = None
    wishes: dict[str, str] = msgspec.field(default_factory=dict)
    listed: dict[str, str] = msgspec.field(default_factory=dict)
    found: bool = False
    alone: bool = True


class Listed(msgspec.Struct, frozen=True):
    """What a list holds. maps: further site maps that it names."""

    rows: list[ListRow]
    maps: list[str] = msgspec.field(default_factory=list)


def decoded(body: bytes) -> str:
    """The text of a list, in the encodings and with the line ends that spreadsheets write."""
    if body[:2] in (b"\xff\xfe", b"\xfe\xff"):
        text = body.decode("utf-16", "replace")
    else:
        try:
            text = body.decode("utf-8-sig")
        except UnicodeDecodeError:
            text = body.decode("cp1252", "replace")
    return text.replace("\r\n", "\n").replace("\r", "\n")


def rows_in(body: bytes, base: str = "") -> Listed | None:
    """What stands in a list; None if it is a web page. base: the address that it came from."""
    if is_workbook(body):
        return Listed(_from_cells(cells_in(body)))
    head = body[:2048].lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    if head.startswith((b"<!doctype html", b"<html")):
        return None
    if head.startswith(b"<") and not head.startswith(b"<http"):
        return _from_xml(body, base)
    if sniff(body) == "iiif":
        return Listed(_from_collection(body, base))
    return Listed(_from_text(decoded(body)))


def _from_collection(body: bytes, base: str) -> list[ListRow]:
    """The documents of a IIIF collection; a document by itself is a list of one."""
    facts = parsed(body, base)
    listed = documents_of(facts) if is_collection(facts) else [(base, None)]
    addresses = ((resolve(base, address), title) for address, title in listed[:MOST])
    return [
        ListRow(number, address, title, found=True)
        for number, (address, title) in enumerate(((a, t) for a, t in addresses if a), start=1)
    ]


def _from_text(text: str) -> list[ListRow]:
    stated = _STATED.match(text)
    text = text[stated.end() :] if stated else text
    lines = [line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")]
    if lines and lines[0].strip().strip('"').lower() in _ADDRESSES:
        lines = lines[1:]  # a table of one column, with its head
    if all(_LINE.match(line) for line in lines) or not any(d in lines[0] for d in _DELIMITERS if lines):
        return [ListRow(number, pasted(line.strip())[0]) for number, line in enumerate(lines[:MOST], start=1)]
    return _from_table(text, stated[1] if stated else _delimiter(text))


def _from_table(text: str, delimiter: str) -> list[ListRow]:
    csv.field_size_limit(_WIDEST)
    try:
        return _from_cells(list(csv.reader(StringIO(text), delimiter=delimiter)))
    except csv.Error as problem:
        raise FormatError(f"The table cannot be read: {problem}.", advice="Save it anew as CSV.") from problem


def _from_cells(table: list[list[str]]) -> list[ListRow]:
    cells = [row for row in table if any(map(str.strip, row)) and not row[0].lstrip().startswith("#")]
    if not cells:
        return []
    cells = cells[_captions(cells) :]
    header = [] if any(_ADDRESS.match(cell.strip()) for cell in cells[0]) else [name.strip() for name in cells[0]]
    rows = cells[1:] if header else cells
    places = _address_columns(header, rows)
    if not places:
        raise FormatError(
            "The table has no column of addresses.", advice="Name it `address`, or put addresses with https:// into it."
        )
    return [_row(number, row, header, places) for number, row in enumerate(rows[:MOST], start=1)]


def _captions(cells: list[list[str]]) -> int:
    """How many rows stand above the head of a table: the name of the list, its date. The head is what names a column
    of addresses, else the first row of more than one cell."""
    wide = None
    for number, row in enumerate(cells[:_MOST_CAPTIONS]):
        filled = [text for cell in row if (text := cell.strip())]
        if any(map(_ADDRESS.match, filled)):
            break
        if len(filled) > 1 and any(text.lower() in _ADDRESSES for text in filled):
            return number
        wide = number if wide is None and len(filled) > 1 else wide
    return wide or 0


def _delimiter(text: str) -> str:
    """What stands between the cells: that which most of the first lines have alike, outside of quotes."""
    lines = [re.sub(r'"[^"]*"', "", line) for line in text.splitlines()[:20] if line.strip()]

    def weight(delimiter: str) -> tuple[int, int]:
        counts = Counter(filter(None, (line.count(delimiter) for line in lines)))
        return max(((how_often, count) for count, how_often in counts.items()), default=(0, 0))

    return max(_DELIMITERS, key=weight)


def _address_columns(header: list[str], rows: list[list[str]]) -> list[int]:
    """Columns of addresses, the best first: by their names, else by what stands in them."""
    names = [name.lower() for name in header]
    named = [names.index(name) for name in _ADDRESSES if name in names]
    filled: dict[int, int] = {}
    for row in rows[:200]:
        for at, cell in enumerate(row):
            filled[at] = filled.get(at, 0) + bool(_ADDRESS.match(cell.strip()))
    by_content = sorted((at for at, count in filled.items() if count), key=lambda at: -filled[at])
    return list(dict.fromkeys([*(at for at in named if filled.get(at) or not by_content), *by_content]))


def _row(number: int, cells: list[str], header: list[str], places: list[int]) -> ListRow:
    texts = [cell.strip() for cell in cells]
    there = [at for at in places if at < len(texts) and texts[at]]
    address = texts[there[0]] if there else ""
    title, wishes, listed = None, dict[str, str](), dict[str, str]()
    for at, text in enumerate(texts):
        name = header[at] if at < len(header) and header[at] else f"column {at + 1}"
        if not text or (there and at == there[0]):
            continue
        if name.lower() in _TITLES and title is None:
            title = tidy(text)
        elif name.lower() in WISHES:
            wishes[name.lower()] = text
        else:
            listed[name] = text
    return ListRow(number, address, title, wishes, listed)


def _from_xml(body: bytes, base: str) -> Listed:
    from lxml import etree  # tables and texts need none of it

    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, recover=True)
    root = etree.fromstring(body, parser)
    if root is None:
        raise FormatError("The list is not well-formed XML.")
    maps, rows = list[str](), list[ListRow]()

    def child(entry: "Element", *names: str) -> str | None:
        wanted = {name.lower() for name in names}
        found = (node for node in entry if _name(node).lower() in wanted and (node.text or "").strip())
        node = next(found, None)
        return tidy(node.text) if node is not None else None

    for entry in root.iter(etree.Element):
        kind = _name(entry)
        address = None
        if kind == "sitemap" and (place := child(entry, "loc")):
            maps.append(place)
        elif kind == "url":
            address = child(entry, "loc")
        elif kind in ("item", "entry"):
            address = _of_entry(entry) or child(entry, "link")
        if address and (whole := resolve(base, address)):
            listed = {name: text for name in ("pubDate", "published", "updated") if (text := child(entry, name))}
            rows.append(ListRow(len(rows) + 1, whole, child(entry, "title"), listed=listed, found=True))
        if len(rows) >= MOST:
            break
    return Listed(rows, maps)


def _name(node: "Element") -> str:
    """The name of an element without its namespace, as it stands there; of a comment, none."""
    return str(node.tag).rpartition("}")[2] if isinstance(node.tag, str) else ""


def _of_entry(entry: "Element") -> str | None:
    """The media that a feed's entry encloses, else the page that it leads to."""
    enclosed = [node.get("url") for node in entry.iter("enclosure")]
    enclosed += [node.get("href") for node in entry.iter(f"{_ATOM}link") if node.get("rel") == "enclosure"]
    enclosed += [node.get("url") for node in entry.iter(f"{_MEDIA}content") if node.get("medium") != "image"]
    pages = [node.get("href") for node in entry.iter(f"{_ATOM}link") if node.get("rel") in (None, "alternate")]
    return next((one for one in [*enclosed, *pages] if one), None)


def once(rows: Iterable[ListRow]) -> tuple[list[ListRow], int]:
    """Rows whose address came before left out; and how many these are. Those of which others are alike know it."""
    seen: dict[str, ListRow] = {}
    count = 0
    for row in rows:
        count += 1
        seen.setdefault(row.address.partition("#")[0] or f"#{row.number}", row)
    bare = {address: without_passing(address) for address in seen}
    times = Counter(bare.values())
    kept = [replace(row, alone=times[bare[address]] == 1) for address, row in seen.items()]
    return kept, count - len(kept)
