"""Looking through the source of a page: every element that can name media, and what its attributes hide.

Works on text alone. Addresses are resolved against `<base>`; only http and https count. What a place says about an
address (an extension, a type, the element around it) decides whether it is media at all.
"""

import html
import re
from collections.abc import Callable, Iterator
from itertools import islice
from urllib.parse import urlsplit

from msgspec.structs import replace
from selectolax.lexbor import LexborHTMLParser, LexborNode

from mudlark.find.judge.advert import named_for_advertising
from mudlark.find.judge.kind import (
    FAMILIES,
    FEEDS,
    is_segment,
    kind_by_extension,
    kind_by_key,
    kind_by_type,
    kind_of_sent,
)
from mudlark.find.judge.quality import is_only_quality, stated_height
from mudlark.find.model import PLAYED, Hint, Kind, Page, Place
from mudlark.find.places.collect import NOTHING, Beside, Collector
from mudlark.find.places.embedded import embedded_json
from mudlark.find.places.hidden import (
    ANYWHERE,
    Object,
    addresses,
    decode_json,
    is_rooted,
    looks_like_address,
    parameters,
    strings_with_objects,
)
from mudlark.find.places.markup import UNREADABLE, parse
from mudlark.find.places.metadata import read_metadata
from mudlark.find.places.reckoned import Reckoned, reckoned
from mudlark.find.places.script import literals
from mudlark.text import tidy
from mudlark.web.address import file_part, resolve, shown
from mudlark.web.referrer import policy_of

_WIDTH = re.compile(r"^(\d+(?:\.\d+)?)([wx])$")
_BOUND = re.compile(r"on|[:@\[(]|(?:v|x|ng)-")  # how attributes begin that hold a script
_LINKS = frozenset({"preload", "alternate", "enclosure", "prefetch", "video_src", "audio_src", "image_src"})
_SHOWN = ("src", "data-src", "data-lazy-src", "data-original", "data-lazy")
_PICTURE_KEYS = frozenset({"poster", "posterurl", "image", "thumbnail", "thumbnailurl", "thumb", "cover", "preview"})
_LEADS = re.compile(
    r"(?:\b(?:window|document|self|top|parent)\.)?\blocation(?:\.href)?\s*(?:=(?!=)|\.(?:replace|assign)\()\s*([\"'])(.+?)\1"
)
_EMPTY_WORDS = frozenset({"download", "here", "click here", "link", "more", "open", "get"})
_INDICES = re.compile(r"^.*\.(?=[^.]*\.[^.]*$)|\[\d+\]")  # and the path above the last two names
_INDEX = re.compile(r"\[\d+\]$")
_BLOCKS = frozenset(
    {"ul", "ol", "dl", "p", "div", "section", "article", "td", "tr", "nav", "figure", "form", "main", "body"}
)
_TINY = 48  # CSS pixels: what is declared no larger in both directions is an icon or a beacon
_HIGHEST = 12  # elements above a link, within which its block is looked for
_ABOVE = 3  # elements above a frame whose names may speak of advertising
_TYPES = ("type", "mimetype", "mime_type", "mime", "contenttype", "content_type", "encodingformat", "format")
_STREAMS: dict[str, Kind] = {"hls": "hls", "dash": "dash"}
_HEIGHTS = ("height", "res", "resolution", "size", "quality", "label", "name", "title", "definition")
_OEMBED = ("application/json+oembed", "text/xml+oembed")
_MOST_FEEDS = 20
_MOST_ELEMENTS = 200_000
TOO_MANY = f"It has more than {_MOST_ELEMENTS:,} elements; what comes after those was not read."
_LONGEST_JSON = 1 << 21  # characters of JSON in an attribute
_MOST_TREES = 500  # templates and comments that are read
_MOST_SIZES = 64  # of one picture
_LONGEST_URL = 2048
_SOON = 10  # seconds
_SOURCES = frozenset({"src", "href", "url", "file", "source", "stream", "playlist", "manifest", "poster"})
_FORMAT = re.compile(r"\b(mp4|m4v|mov|webm|mkv|avi|mpe?g|wmv|flv|mxf|mp3|m4a|wav|flac|ogg|opus|aiff?)\b", re.I)
_SORT = re.compile(r"\b(video|film|movie|audio|sound|recording|podcast)\b", re.I)
_SORTS: dict[str, Kind] = {
    **dict.fromkeys(("video", "film", "movie"), "video"),
    **dict.fromkeys(("audio", "sound", "recording", "podcast"), "audio"),
}
_ONLY_FORMAT = re.compile(
    r"(?:\(\s*+|^\s*+(?:download\s++|as\s++)?)(mp4|m4v|mov|webm|avi|wmv|mp3|m4a|wav|flac|ogg)(?:\s*+\)|(?:\s++(?:file|download))?\s*+$)",
    re.I,
)
_SIZE = re.compile(r"\b\d{1,6}(?:[.,]\d{1,3})?\s?(?:[kMGT]i?B|[KMG]o|bytes)\b", re.I)
_DATA = re.compile(r"\.json(?:[?#]|$)", re.I)
MOST_SCRIPTS = 12
_SCRIPTED = re.compile(r"\s*+javascript:", re.I)
_WRITTEN = re.compile(r"<(?:video|audio|source|iframe|embed)\b[^<>]{0,1000}>", re.I)
_UNFETCHED = re.compile(
    r"(?<![\w+])(?:rtmp[est]{0,2}|rtsp[su]?|mms[htu]?|s?ftps?):(?:\\?/){2}(?:[^\s\"'<>\\]|\\/){3,300}", re.I
)
_MOST_WRITTEN, _MOST_VISIBLE = 100, 2_000
_MOST_RECKONED = 4_000_000  # characters of the scripts of a page
_LONGEST_LEADING = 2_000  # characters of a script that does little but lead on
_DEEPEST = 4  # templates and comments inside each other


def read_page(source: str, url: str, frame: str | None = None, policy: str | None = None) -> Page:
    """Everything that the source of a page at `url` says. frame: the page's own address if it was found in another.

    policy: the referrer policy that came with it.
    """
    source = source.replace("\r\n", "\n").replace("\r", "\n")  # as the parser does (HTML §13.2.3.5)
    markup = parse(source)
    tree = markup.tree
    node = tree.css_first("base[href]")
    base = (node and resolve(url, node.attributes.get("href") or "")) or url
    into = Collector(source, url, base, frame)
    stated = (node.attributes.get("content") for node in tree.css('meta[name="referrer" i]'))
    if markup.reduced:
        into.page.notes.append(UNREADABLE)
    into.page.policy = next(filter(None, map(policy_of, stated)), policy)
    read_metadata(tree, into)
    _Walk(into).tree(tree, "")
    into.page.finds = into.finds()
    into.page.left_out = into.left_out
    named = (match[0].replace("\\/", "/") for match in islice(_UNFETCHED.finditer(source), _MOST_VISIBLE))
    into.page.unfetched = list(dict.fromkeys(named))
    if into.page.unfetched:
        into.page.notes.append(f"It names {shown(into.page.unfetched[0])}; only http and https are fetched.")
    into.page.onward = into.page.onward or _refresh(tree, base, url)
    return into.page


def read_script(source: str, address: str, page: Page) -> Page:
    """What a script or JSON at an address says, for the page that it belongs to. Its drawings are left out, and what
    may be a segment (or TypeScript, which has the same extension)."""
    into = Collector(source, page.url, page.url)
    walk, name = _Walk(into), file_part(address)
    if (data := decode_json(source)) is not None:
        walk.json(data, "script", 15, "", lambda path, how: f"{name}, {path}" + (f" ({how})" if how else ""))
    else:
        walk.script(source, 0, f" in {name}")
    into.page.finds = [find for find in into.finds() if find.kind != "image" and not is_segment(find.url)]
    return into.page


def _refresh(tree: LexborHTMLParser, base: str, url: str) -> tuple[str, str] | None:
    """Where a page leads by itself within ten seconds (HTML §4.2.5.3), or at once by a bare assignment."""
    for node in tree.css('meta[http-equiv="refresh" i]'):
        stated, _, rest = (node.attributes.get("content") or "").replace(",", ";").partition(";")
        wait = stated.strip()
        target = re.sub(r"^\s*url\s*=\s*", "", rest, flags=re.I).strip().strip("\"'")
        if re.fullmatch(r"\d{1,2}(?:\.\d*)?", wait) and float(wait) <= _SOON and target:
            address = resolve(base, target)
            if address and address != url:
                return address, f"after {float(wait):g} s by itself" if float(wait) else "at once by itself"
    for node in tree.css("script:not([src])"):
        text = node.text()
        match = _LEADS.search(text) if len(text) < _LONGEST_LEADING else None
        if match and text.count("{", 0, match.start()) == text.count("}", 0, match.start()):
            address = resolve(base, match[2])
            if address and address != url and "+" not in text[match.end() : match.end() + 3]:
                return address, "by a script"
    return None


def srcset(text: str) -> list[tuple[str, float]]:
    """The candidates of a srcset (HTML §4.8.4.2.1), each with its width or density."""
    listed = []
    for candidate in re.split(r",\s+|,(?=https?:|/)", text.strip(), maxsplit=_MOST_SIZES)[:_MOST_SIZES]:
        reference, _, size = candidate.strip().rstrip(",").partition(" ")
        match = _WIDTH.match(size.strip())
        if reference:
            listed.append((reference, float(match[1]) if match else 1.0))
    return listed


def _source_of(attributes: dict[str, str | None]) -> str | None:
    """What an element shows, or will show once it is seen."""
    given = (attributes.get(name) for name in _SHOWN)
    return next((one for one in given if one and not one.strip().startswith(("about:", "data:", "javascript:"))), None)


def _by_name(name: str, address: str) -> Kind | None:
    """What an address is by the name under which it is given, where its own says nothing."""
    return "document" if "manifest" in name.lower() and kind_by_extension(address) is None else None


def _kind_by_words(node: LexborNode) -> Kind | None:
    """What a link says that it leads to: a film or sound, by its format and size, as catalogues put it."""
    words = node.text()[:300]
    named = _FORMAT.search(words) or _SORT.search(words) if _SIZE.search(words) else _ONLY_FORMAT.search(words)
    if named is None:
        return None
    return _SORTS.get(named[1].lower()) or kind_by_extension(f"/x.{named[1]}")


def _text_around(node: LexborNode) -> str | None:
    """The text right before and after an element, where its own says nothing."""
    beside = (other.text() for other in (node.prev, node, node.next) if other is not None)
    return tidy(" ".join(text[:200] for text in beside if text), 120)


class _Walk:
    """One pass over the elements of a page, in its order."""

    def __init__(self, into: Collector) -> None:
        self.into = into
        self._text_cursor = 0
        self._trees = 0
        self._documents = 0
        self._elements = 0
        self._unreckoned = _MOST_RECKONED

    def tree(self, tree: LexborHTMLParser, context: str, depth: int = 0) -> None:
        """All elements of a tree. context: words added to every place, like ` in a comment`."""
        if depth > _DEEPEST or tree.root is None:
            return
        self._trees += 1
        for node in tree.root.traverse():
            self._elements += 1
            if self._elements > _MOST_ELEMENTS:
                self.into.page.notes = [TOO_MANY]
                break
            tag = node.tag or "-"
            if tag[0] == "-":  # a comment, of which the library must not be asked for attributes: it may crash
                continue
            handler = _HANDLERS.get(tag)
            attributes = node.attributes
            if handler:
                handler(self, node, attributes, context)
            if attributes:
                self.attributes(node, attributes, context)
            if tag == "template" and self._trees < _MOST_TREES:
                inside = re.sub(r"^<template[^>]*>|</template>$", "", node.html or "")
                self.tree(parse(inside).tree, f"{context} in a template", depth + 1)
        if not depth:
            self.comments()
            self.visible()

    def comments(self) -> None:
        """All comments of the source, one after the other."""
        source, end = self.into.source, 0
        while (begin := source.find("<!--", end)) >= 0 and (end := source.find("-->", begin + 4)) >= 0:
            self.comment(source[begin + 4 : end], begin + 4)

    def comment(self, text: str, begin: int) -> None:
        """A comment may hold markup or bare addresses."""
        if "<" in text and ("src" in text or "href" in text or "data" in text) and self._trees < _MOST_TREES:
            self.tree(parse(text).tree, " in a comment", 1)
        for listed in ANYWHERE.finditer(text):
            at = self.into.line_at(begin + listed.start())
            self.into.add(listed[0], None, "comment", "comment", 4, Beside(at=at))

    def attributes(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        """data-*, on*, style, and what frameworks bind, of any element."""
        for name, value in attributes.items():
            if not value:
                continue
            where = f"attribute {name} of {node.tag} element{context}"
            if name.startswith("data-"):
                self.data(node, name, value, where)
                if _DATA.search(value):
                    self.script_at(value)
            elif (_BOUND.match(name) and len(value) > 6) or (name == "href" and _SCRIPTED.match(value)):
                self.code(node, value, where)
                if name.removeprefix("ng-") in _SOURCES:
                    self.source(node, name, value, context)
            elif name in _SOURCES and node.tag not in _HANDLERS:
                self.source(node, name, value, context)
            elif name == "style" and "url(" in value:
                self.css(value, f"style of {node.tag} element{context}", node.tag)

    def code(self, node: LexborNode, value: str, where: str) -> None:
        """What a script in an attribute says."""
        script = value.replace("%27", "'").replace("%22", '"')
        for literal in literals(script, self.reckoned(script)):
            if _DATA.search(literal.text):
                self.script_at(literal.text)
            hint = Beside(tag=node.tag, hint="unfinished") if literal.unfinished else Beside(tag=node.tag)
            self.hidden(literal.text, literal.how, "attribute", where, 14, hint)

    def source(self, node: LexborNode, name: str, value: str, context: str) -> None:
        """What an element of the page's own kind (HTML §4.13) is given to play or to show."""
        kind = kind_by_extension(value)
        if kind in (*PLAYED, "image", "subtitle"):
            weight = 4 if kind == "image" else 26
            where = f"{name} of {_article(node.tag)} element{context}"
            self.into.add(value, kind, "element", where, weight, Beside(tag=node.tag, group=self.name(node)))

    def on_text(self, node: LexborNode, _: dict[str, str | None], context: str) -> None:
        """The code of a player, to be copied."""
        text = node.text()
        if "<" in text and "src" in text and self._trees < _MOST_TREES:
            self.tree(parse(text).tree, f"{context} in a text to be copied", 1)

    def written(self, script: str, context: str) -> None:
        """Players in the strings of a script, which it writes into the page."""
        plain = script.replace('\\"', '"').replace("\\'", "'").replace("\\/", "/")
        tags = [match[0] for match in islice(_WRITTEN.finditer(plain), _MOST_WRITTEN)]
        if tags and self._trees < _MOST_TREES:
            self.tree(parse("".join(tags)).tree, f"{context} in a string of a script", 1)

    def visible(self) -> None:
        """Addresses of films and sounds that are only text."""
        source = self.into.source
        for listed in islice(ANYWHERE.finditer(source), _MOST_VISIBLE):
            before = source[listed.start() - 1 : listed.start()]
            address = listed[0].rstrip(".,;:)!?")
            if (before.isspace() or before == ">") and kind_by_extension(address) in PLAYED:
                at = self.into.line_at(listed.start())
                self.into.add(address, kind_by_extension(address), "text", "text of the page", 5, Beside(at=at))

    def data(self, node: LexborNode, name: str, value: str, where: str) -> None:
        """A data attribute: an address, or JSON, percent-encoding or base64 around one."""
        tag = node.tag or ""
        if "&quot;" in value:  # escaped once more than the page would have it
            value = html.unescape(value)
        if value.lstrip()[:1] in "{[" and len(value) <= _LONGEST_JSON:
            data = decode_json(value)
            self.json(data, "attribute", 14, "", lambda path, how: f"{where} (JSON {path}{how and ', ' + how})")
            if data is None:
                self.code(node, value, where)
        for address, how in addresses(value) if value.lstrip()[:1] not in "{[" else ():
            self.hidden(address, how, "attribute", where, 14, Beside(tag=tag), _by_name(name, address))
            if not how and kind_by_extension(address) is None and is_rooted(address):
                self.guessed(address, kind_by_key(name, address), "attribute", where, Beside(tag=tag))
        if "srcset" in name:
            self.versions(value, "attribute", where, tag)
        elif is_rooted(value) and not looks_like_address(value):
            if kind_given := _by_name(name, value):
                self.into.add(value, kind_given, "attribute", where, 14, Beside(tag=tag))
            else:
                self.guessed(value, kind_by_key(name, value), "attribute", where, Beside(tag=tag))

    def guessed(self, address: str, kind: Kind | None, place: Place, where: str, beside: Beside) -> None:
        """An address that only the name of a value calls media."""
        if kind:
            self.into.add(address, kind, place, where, 6, replace(beside, hint=beside.hint or "guessed"))

    def hidden(
        self, address: str, how: str, place: Place, where: str, weight: int, beside: Beside, kind: Kind | None = None
    ) -> None:
        """An address that stood inside other text."""
        self.into.add(address, kind, place, f"{where} ({how})" if how else where, weight, beside)

    def css(self, text: str, where: str, tag: str | None) -> None:
        end = 0
        while (begin := text.find("url(", end)) >= 0:
            end = begin + 4
            close = text.find(")", end, end + _LONGEST_URL)
            reference = text[end:close].strip().strip("\"'") if close > 0 else ""
            if reference and not reference.startswith("data:"):
                kind = kind_by_extension(reference)
                self.into.add(reference, kind, "style", f"CSS url() in {where}", 2, Beside(tag=tag))

    def versions(self, text: str, place: Place, where: str, tag: str | None) -> None:
        """The sizes of one picture: the largest is a find, the others are its versions."""
        candidates = srcset(text)
        if not candidates:
            return
        largest = max(candidates, key=lambda candidate: candidate[1])[0]
        best = self.into.add(largest, "image", place, f"{where}, largest of {len(candidates)}", 4, Beside(tag=tag))
        for reference, _ in candidates:
            if reference == largest:
                continue
            other = self.into.add(reference, "image", place, where, 0, Beside(tag=tag))
            if best and other and best.url != other.url:
                self.into.link(other, best.url)

    def on_player(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        tag = node.tag or ""
        group = self.name(node)
        advert: Hint | None = "advert" if self.speaks_of_advertising(node) else None
        if source := _source_of(attributes):
            kind: Kind = "audio" if tag == "audio" else "video"
            beside = Beside(tag=tag, group=group, item=group, hint=advert)
            self.into.add(source, kind, "element", f"{tag} element{context}", 30, beside)
        if poster := attributes.get("poster"):
            where = f"poster of a video element{context}"
            self.into.add(poster, "image", "element", where, 3, Beside(tag=tag, item=group, hint="poster"))

    def on_source(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        parent = node.parent.tag if node.parent else ""
        if source := _source_of(attributes):
            by_parent: dict[str | None, Kind] = {"video": "video", "audio": "audio", "picture": "image"}
            kind = kind_by_type(attributes.get("type")) or by_parent.get(parent)
            player = self.name(node.parent) if node.parent and parent in ("video", "audio") else None
            stated = (
                attributes.get(name) for name in ("res", "size", "height", "label", "title", "data-res", "data-quality")
            )
            spoken = node.parent is not None and player is not None and self.speaks_of_advertising(node.parent)
            advert: Hint | None = "advert" if spoken else None
            beside = Beside(
                tag="source",
                group=player,
                item=player,
                hint=advert,
                declared=next(filter(None, map(stated_height, stated)), None),
            )
            self.into.add(source, kind, "element", f"source of {_article(parent)} element{context}", 30, beside)
        if sizes := attributes.get("srcset"):
            self.versions(sizes, "element", f"srcset of a source element{context}", "source")

    def on_track(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        if (attributes.get("kind") or "subtitles").lower() in ("metadata", "chapters"):
            return
        if source := attributes.get("src"):
            label = tidy(attributes.get("label") or attributes.get("srclang"))
            player = self.name(node.parent) if node.parent else None
            beside = Beside(tag="track", label=label, item=player, language=tidy(attributes.get("srclang"), 35))
            self.into.add(source, "subtitle", "element", f"track of a media element{context}", 6, beside)

    def on_image(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        label = tidy(attributes.get("alt") or attributes.get("title"))
        shown = None
        tiny = _is_tiny(attributes)
        if source := attributes.get("src") or attributes.get("href"):
            beside = Beside(tag=node.tag, label=label, hint="tiny" if tiny else None)
            shown = self.into.add(source, "image", "element", f"img element{context}", 0, beside)
        if sizes := attributes.get("srcset"):
            self.versions(sizes, "element", f"srcset of an img element{context}", "img")
        around = node.parent
        if shown and around is not None and around.tag == "a" and (target := around.attributes.get("href")):
            full = resolve(self.into.base, target)
            if full and full != shown.url and kind_by_extension(full) == "image":
                self.into.link(shown, full)

    def on_link(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        target = attributes.get("href") or attributes.get("xlink:href")
        if not target:
            return
        if target.partition("?")[0].lower().endswith(".xspf") and (address := resolve(self.into.base, target)):
            self.feed(address)
        offered = attributes.get("download") is not None or "download" in attributes
        kind, named = kind_by_type(attributes.get("type")), kind_by_extension(target) or kind_of_sent(target)
        guessed = kind is None and named is None and node.tag == "a" and (kind := _kind_by_words(node)) is not None
        if kind is None and named is None:
            if not offered:
                self.query(target, "link", f"link{context}")
                return
            kind = "package"
        label = tidy(node.text() if node.tag == "a" else None)
        label = label or tidy(attributes.get("title") or attributes.get("aria-label"))
        if label is None or label.lower() in _EMPTY_WORDS:
            label = _text_around(node) or label
        no_referrer = "noreferrer" in (attributes.get("rel") or "").lower().split()
        beside = Beside(
            tag=node.tag,
            label=label,
            hint="download" if offered else "guessed" if guessed else None,
            group=self.block(node),
            declared=stated_height(label) if is_only_quality(label) else None,
            policy="no-referrer" if no_referrer else policy_of(attributes.get("referrerpolicy")),
        )
        where = f"download link{context}" if offered else f"link{context}"
        self.into.add(target, kind, "link", where, 14 if offered else 8, beside)

    def query(self, address: str, place: Place, where: str) -> None:
        """Addresses that another address carries in its parameters."""
        if "=" in address:
            for hidden, how in parameters(address):
                self.hidden(hidden, how, place, where, 12, NOTHING, _by_name(how, hidden))

    def feed(self, address: str | None) -> None:
        """A list of entries that the page leads to."""
        feeds = self.into.page.feeds
        if address and address not in feeds and len(feeds) < _MOST_FEEDS:
            feeds.append(address)

    def on_link_element(self, _: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        target, relations = attributes.get("href"), set((attributes.get("rel") or "").lower().split())
        type_ = (attributes.get("type") or "").lower().partition(";")[0].strip()
        if not target:
            return
        page = self.into.page
        address = resolve(self.into.base, target)
        if type_ in _OEMBED:
            if address and type_ == _OEMBED[0]:
                page.oembed = page.oembed or address
        elif type_ in FEEDS and "alternate" in relations:
            self.feed(address)
        elif _DATA.search(target) or (attributes.get("as") or "") == "script":
            self.script_at(target)
        elif relations & _LINKS:
            kind = kind_by_type(attributes.get("type")) or FAMILIES.get(attributes.get("as") or "")
            relation = sorted(relations & _LINKS)[0]
            self.into.add(target, kind, "element", f"link element, {relation}{context}", 12, Beside(tag="link"))

    def on_frame(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        if (inside := attributes.get("srcdoc")) and self._trees < _MOST_TREES:
            self.tree(parse(inside).tree, f"{context} in the document of a frame", 1)
        if source := _source_of(attributes):
            where = f"{node.tag} element{context}"
            if kind_by_extension(source):
                self.into.add(source, None, "frame", where, 25, Beside(tag=node.tag))
            else:
                self.into.add_frame(source, where, advert=self.speaks_of_advertising(node))
            for address, how in parameters(source):
                self.into.add(address, _by_name(how, address), "frame", f"{node.tag} element ({how}){context}", 22)

    def on_embed(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        for name in ("src", "data"):
            if value := attributes.get(name):
                kind = kind_by_type(attributes.get("type"))
                where = f"{node.tag} element{context}"
                listed = self.into.add(value, kind, "element", where, 25, Beside(tag=node.tag))
                if listed is None and node.tag in ("embed", "object"):
                    self.into.add_frame(value, where)
                self.query(value, "element", where)
        if variables := attributes.get("flashvars"):
            self.query("?" + variables, "element", f"embed parameters{context}")

    def on_parameter(self, _: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        name, value = attributes.get("name") or "", attributes.get("value") or ""
        where = f"param {name} of an object element{context}"
        for address, how in addresses(value) if value else ():
            self.hidden(address, how, "element", where, 22, Beside(tag="param"))
        self.query(value if "?" in value else "?" + value, "element", where)

    def on_control(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        if (attributes.get("type") or "").lower() == "password":
            self.into.page.wants_login = True
        for name in ("formaction", "src", "value"):
            value = attributes.get(name)
            if value and looks_like_address(value):
                label = tidy(node.text() or attributes.get("value"))
                drawn = name == "src"  # its own picture
                beside = Beside(tag=node.tag, label=None if drawn else label, hint="control" if drawn else None)
                self.into.add(value, None, "form", f"{name} of {node.tag} element{context}", 0 if drawn else 10, beside)

    def on_form(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        """What a form leads to, or one of its choices."""
        value = attributes.get("action" if node.tag == "form" else "value") or ""
        if kind_by_extension(value) in PLAYED:
            label = tidy(node.text()) if node.tag == "option" else None
            beside = Beside(
                tag=node.tag, label=label, declared=stated_height(label) if is_only_quality(label) else None
            )
            self.into.add(value, None, "form", f"{node.tag} element{context}", 10, beside)

    def on_script(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        type_ = (attributes.get("type") or "").lower()
        if reference := attributes.get("src"):
            self.script_at(reference)
        text = node.text()
        if reference or (type_ == "application/ld+json" and embedded_json(text) is not None):
            return
        begin = self.into.source.find(text, self._text_cursor) if text else -1
        self._text_cursor = max(begin, self._text_cursor)
        if type_.endswith("json") and (data := embedded_json(text)) is not None:
            at = self.into.line_at(begin) if begin >= 0 else None
            where = f"JSON in a script{context}"
            self.json(data, "script", 16, at or "", lambda path, how: f"{where}, {path}" + (f" ({how})" if how else ""))
            return
        self.script(text, begin, context)

    def script(self, text: str, begin: int, context: str) -> None:
        """What a script says. begin: its first character in the source, -1 if that is not known."""
        made = self.reckoned(text)
        self.written(made.script, context)
        for literal in literals(text, made):
            if _DATA.search(literal.text):
                self.script_at(literal.text)
            at = self.into.line_at(begin + literal.position) if begin >= 0 else None
            path = f"script {literal.list_at}[0].{literal.key}"
            beside = facts_in(literal.around, literal.key, path, self.into.page.url, at or "")
            if literal.unfinished:
                beside = Beside(at=at, hint="unfinished")
            where = f"script string{context}"
            kind = None if literal.how else stated_kind(literal.around, literal.text)
            self.hidden(literal.text, literal.how, "script", where, 15, beside, kind)
            if kind is None and is_rooted(literal.text):
                self.guessed(literal.text, kind_by_key(literal.key, literal.text), "script", where, beside)

    def reckoned(self, script: str) -> Reckoned:
        """What a script makes of its own texts, as long as the page has not too much of them."""
        self._unreckoned -= len(script)
        return reckoned(script) if self._unreckoned >= 0 else Reckoned(script, {})

    def script_at(self, reference: str) -> None:
        """A script, or JSON for one, that stands by itself; those of other hosts are libraries, mostly."""
        address, scripts = resolve(self.into.base, reference), self.into.page.scripts
        own = address and urlsplit(address).netloc == urlsplit(self.into.page.url).netloc
        if address and own and address not in scripts and len(scripts) < MOST_SCRIPTS:
            scripts.append(address)

    def json(self, data: object, place: Place, weight: int, at: str, words: Callable[[str, str], str]) -> None:
        """Addresses in decoded JSON, with what the object around each says. words: the place, from a path and how the
        address is hidden there."""
        self._documents += 1
        name = f"{self.into.page.url} JSON {self._documents}"
        for string, path, around in strings_with_objects(data):
            key = path.rpartition(".")[2].partition("[")[0]
            for address, how, kind in named_in(string, around):
                beside = facts_in(around, key, path, name, at)
                self.into.add(address, kind, place, words(path, how), weight, beside)
                if kind is None and is_rooted(address):
                    said = kind_by_key(_INDICES.sub("", path), address)
                    self.guessed(address, said, place, words(path, how), beside)

    def on_style(self, node: LexborNode, _: dict[str, str | None], context: str) -> None:
        self.css(node.text(), f"a style sheet{context}", None)

    def name(self, node: LexborNode) -> str:
        """Something that tells an element of this page from all others."""
        return f"{self.into.page.url} {self._trees} {node.mem_id}"

    def block(self, node: LexborNode) -> str | None:
        """The block that a link stands in: links in it belong together."""
        around = node.parent
        for _ in range(_HIGHEST):
            if around is None or around.tag in _BLOCKS:
                break
            around = around.parent
        return self.name(around) if around is not None else None

    def speaks_of_advertising(self, node: LexborNode) -> bool:
        """True if an element, or one of those right above it, is named for advertising."""
        at: LexborNode | None = node
        for _ in range(_ABOVE):
            if at is None or at.tag in ("body", "html", None):
                return False
            given = at.attributes
            named = " ".join(given.get(name) or "" for name in ("id", "class", "title", "name", "aria-label"))
            if named_for_advertising(named):
                return True
            at = at.parent
        return False


def named_in(string: str, around: Object) -> Iterator[tuple[str, str, Kind | None]]:
    """Addresses that a string in JSON is or hides, with how it hides them, and what the object around makes of them."""
    for address, how in addresses(string):
        yield address, how, None if how or kind_by_extension(address) else stated_kind(around, address)
    if kind_by_extension(string) is None and not looks_like_address(string) and is_rooted(string):
        yield string, "", stated_kind(around, string)


def stated_kind(around: Object, address: str) -> Kind | None:
    """What a type beside an address in JSON makes of it; identifiers are no addresses."""
    if not is_rooted(address):
        return None
    for key, value in around.items():
        if isinstance(value, str) and key.lower() in _TYPES:
            if "/" in value and (kind := kind_by_type(value)):
                return kind
            if kind := kind_by_extension(f"/x.{value}") or _STREAMS.get(value.lower()):
                return kind
    return None


def facts_in(around: Object, key: str, path: str, name: str, at: str) -> Beside:
    """What the object around an address says of it. key: of the address in it. name: of the JSON as a whole."""
    lower = {k.lower(): value for k, value in around.items() if isinstance(value, str | int | float)}
    heights = (stated_height(str(lower[k])) for k in _HEIGHTS if k in lower)
    label = tidy(next((str(lower[k]) for k in ("label", "title", "name") if isinstance(lower.get(k), str)), None))
    language = next((str(lower[k]) for k in ("srclang", "lang", "language", "languagecode") if k in lower), None)
    outer = path.rpartition(".")[0]
    first = re.match(r"[^\[]*\[\d+\]", path)
    return Beside(
        at=at or None,
        label=label,
        hint="poster" if key.lower() in _PICTURE_KEYS else None,
        group=f"{name} {_INDEX.sub('', outer)}",
        item=f"{name} {first[0] if first else ''}",
        declared=next(filter(None, heights), None),
        language=tidy(language, 35),
    )


def _article(tag: str | None) -> str:
    return f"{'an' if (tag or 'x')[0] in 'aeiou' else 'a'} {tag or 'nameless'}"


def _is_tiny(attributes: dict[str, str | None]) -> bool:
    """True if a picture is declared no larger than an icon."""
    sizes = [re.match(r"\s*(\d{1,5})", attributes.get(name) or "") for name in ("width", "height")]
    return all(size is not None and int(size[1]) <= _TINY for size in sizes)


_Handler = Callable[[_Walk, LexborNode, "dict[str, str | None]", str], None]
_HANDLERS: dict[str, _Handler] = {
    "video": _Walk.on_player,
    "audio": _Walk.on_player,
    "source": _Walk.on_source,
    "track": _Walk.on_track,
    "img": _Walk.on_image,
    "image": _Walk.on_image,
    "a": _Walk.on_link,
    "area": _Walk.on_link,
    "link": _Walk.on_link_element,
    "iframe": _Walk.on_frame,
    "frame": _Walk.on_frame,
    "embed": _Walk.on_embed,
    "object": _Walk.on_embed,
    "param": _Walk.on_parameter,
    "input": _Walk.on_control,
    "button": _Walk.on_control,
    "form": _Walk.on_form,
    "option": _Walk.on_form,
    "script": _Walk.on_script,
    "style": _Walk.on_style,
    "textarea": _Walk.on_text,
}
