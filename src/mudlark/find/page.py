"""Looking through the source of a page: every element that can name media, and what its attributes hide.

Works on text alone. Addresses are resolved against `<base>`; only http and https count. What a place says about an
address (an extension, a type, the element around it) decides whether it is media at all.
"""

import re
from collections.abc import Callable

from selectolax.lexbor import LexborHTMLParser, LexborNode

from mudlark.find.collect import Collector
from mudlark.find.hidden import ANYWHERE, addresses, decode_json, looks_like_address, parameters, strings_in
from mudlark.find.kind import FAMILIES, kind_by_extension, kind_by_type
from mudlark.find.metadata import read_metadata
from mudlark.find.model import Kind, Page
from mudlark.find.script import literals
from mudlark.web.address import resolve, tidy

_WIDTH = re.compile(r"^(\d+(?:\.\d+)?)([wx])$")
_TELLING = re.compile(r"(?:^|[-_])(?:video|audio|stream|hls|dash|mp4|m3u8|film|movie|sound|media)(?:[-_]|$)")

_LINKS = frozenset({"preload", "alternate", "enclosure", "prefetch", "video_src", "audio_src", "image_src"})
_EMPTY_WORDS = frozenset({"download", "here", "click here", "link", "more", "open", "get"})
_OEMBED = ("application/json+oembed", "text/xml+oembed")
_MOST_SIZES = 64  # of one picture
_LONGEST_URL = 2048
_DEEPEST = 4  # templates and comments inside each other


def read_page(source: str, url: str, frame: str | None = None) -> Page:
    """Everything that the source of a page at `url` says. frame: the page's own address if it was found in another."""
    tree = LexborHTMLParser(source)
    node = tree.css_first("base[href]")
    base = (node and resolve(url, node.attributes.get("href") or "")) or url
    into = Collector(source, url, base, frame)
    read_metadata(tree, into)
    _Walk(into).tree(tree, "")
    into.page.finds = list(into.finds.values())
    into.page.left_out = into.left_out
    return into.page


def srcset(text: str) -> list[tuple[str, float]]:
    """The candidates of a srcset (HTML §4.8.4.2.1), each with its width or density."""
    found = []
    for candidate in re.split(r",\s+|,(?=https?:|/)", text.strip(), maxsplit=_MOST_SIZES)[:_MOST_SIZES]:
        reference, _, size = candidate.strip().rstrip(",").partition(" ")
        match = _WIDTH.match(size.strip())
        if reference:
            found.append((reference, float(match[1]) if match else 1.0))
    return found


def _text_around(node: LexborNode) -> str | None:
    """The text right before and after an element, where its own says nothing."""
    beside = (other.text() for other in (node.prev, node, node.next) if other is not None)
    return tidy(" ".join(text[:200] for text in beside if text), 120)


class _Walk:
    """One pass over the elements of a page, in its order."""

    def __init__(self, into: Collector) -> None:
        self.into = into
        self._text_cursor = 0

    def tree(self, tree: LexborHTMLParser, context: str, depth: int = 0) -> None:
        """All elements of a tree. context: words added to every place, like ` in a comment`."""
        if depth > _DEEPEST or tree.root is None:
            return
        for node in tree.root.traverse():
            tag = node.tag or ""
            handler = _HANDLERS.get(tag)
            attributes = node.attributes
            if handler:
                handler(self, node, attributes, context)
            if attributes:
                self.attributes(node, attributes, context)
            if tag == "template":
                inside = re.sub(r"^<template[^>]*>|</template>$", "", node.html or "")
                self.tree(LexborHTMLParser(inside), f"{context} in a template", depth + 1)
        if not depth:
            self.comments()

    def comments(self) -> None:
        """All comments of the source, one after the other."""
        source, end = self.into.source, 0
        while (begin := source.find("<!--", end)) >= 0 and (end := source.find("-->", begin + 4)) >= 0:
            self.comment(source[begin + 4 : end], begin + 4)

    def comment(self, text: str, begin: int) -> None:
        """A comment may hold markup or bare addresses."""
        if "<" in text and ("src" in text or "href" in text):
            self.tree(LexborHTMLParser(text), " in a comment", 1)
        for found in ANYWHERE.finditer(text):
            self.into.add(found[0], None, "comment", 4, at=self.into.line_at(begin + found.start()))

    def attributes(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        """data-*, on* and style of any element."""
        for name, value in attributes.items():
            if not value:
                continue
            place = f"attribute {name} of {node.tag} element{context}"
            if name.startswith("data-"):
                self.data(node, name, value, place)
            elif name.startswith("on") and len(value) > 6:
                for literal in literals(value):
                    self.hidden(literal.text, literal.how, place, 14, node.tag)
            elif name == "style" and "url(" in value:
                self.css(value, f"style of {node.tag} element{context}", node.tag)

    def data(self, node: LexborNode, name: str, value: str, place: str) -> None:
        """A data attribute: an address, or JSON, percent-encoding or base64 around one."""
        tag = node.tag or ""
        for address, how in addresses(value):
            self.hidden(address, how, place, 14, tag)
            if not how and kind_by_extension(address) is None and _TELLING.search(name) and "/" in address:
                kind: Kind = "audio" if re.search("audio|sound", name) else "video"
                self.into.add(address, kind, place, 6, tag=tag)
        if "srcset" in name:
            self.versions(value, place, tag)

    def hidden(self, address: str, how: str, place: str, weight: int, tag: str | None, at: str | None = None) -> None:
        """An address that stood inside other text."""
        where = f"{place} ({how})" if how else place
        self.into.add(address, None, where, weight, tag=None if at else tag, at=at)

    def css(self, text: str, place: str, tag: str | None) -> None:
        end = 0
        while (begin := text.find("url(", end)) >= 0:
            end = begin + 4
            close = text.find(")", end, end + _LONGEST_URL)
            reference = text[end:close].strip().strip("\"'") if close > 0 else ""
            if reference and not reference.startswith("data:"):
                self.into.add(reference, kind_by_extension(reference), f"CSS url() in {place}", 2, tag=tag)

    def versions(self, text: str, place: str, tag: str | None) -> None:
        """The sizes of one picture: the largest is a find, the others are its versions."""
        candidates = srcset(text)
        if not candidates:
            return
        largest = max(candidates, key=lambda candidate: candidate[1])[0]
        best = self.into.add(largest, "image", f"{place}, largest of {len(candidates)}", 4, tag=tag)
        for reference, _ in candidates:
            if reference == largest:
                continue
            other = self.into.add(reference, "image", place, 0, tag=tag)
            if best and other and other is not best and best.url != other.url:
                other.larger = other.larger or best.url

    def on_player(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        tag = node.tag or ""
        if source := attributes.get("src"):
            kind: Kind = "audio" if tag == "audio" else "video"
            self.into.add(source, kind, f"{tag} element{context}", 30, tag=tag)
        if poster := attributes.get("poster"):
            self.into.add(poster, "image", f"poster of a video element{context}", 3, tag=tag)

    def on_source(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        parent = node.parent.tag if node.parent else ""
        if source := attributes.get("src"):
            by_parent: dict[str | None, Kind] = {"video": "video", "audio": "audio", "picture": "image"}
            kind = kind_by_type(attributes.get("type")) or by_parent.get(parent)
            self.into.add(source, kind, f"source of a {parent} element{context}", 30, tag="source")
        if sizes := attributes.get("srcset"):
            self.versions(sizes, f"srcset of a source element{context}", "source")

    def on_track(self, _: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        if source := attributes.get("src"):
            label = tidy(attributes.get("label") or attributes.get("srclang"))
            self.into.add(source, "subtitle", f"track of a media element{context}", 6, tag="track", label=label)

    def on_image(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        label = tidy(attributes.get("alt") or attributes.get("title"))
        shown = None
        if source := attributes.get("src") or attributes.get("href"):
            shown = self.into.add(source, "image", f"img element{context}", 0, tag=node.tag, label=label)
        if sizes := attributes.get("srcset"):
            self.versions(sizes, f"srcset of an img element{context}", "img")
        around = node.parent
        if shown and around is not None and around.tag == "a" and (target := around.attributes.get("href")):
            full = resolve(self.into.base, target)
            if full and full != shown.url and kind_by_extension(full) == "image":
                shown.larger = full

    def on_link(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        target = attributes.get("href")
        if not target:
            return
        offered = attributes.get("download") is not None or "download" in attributes
        kind = kind_by_type(attributes.get("type"))
        if kind_by_extension(target) is None and kind is None:
            if not offered:
                self.query(target, f"link{context}", node.tag)
                return
            kind = "package"
        label = tidy(node.text() if node.tag == "a" else None)
        label = label or tidy(attributes.get("title") or attributes.get("aria-label"))
        if label is None or label.lower() in _EMPTY_WORDS:
            label = _text_around(node) or label
        where = f"download link{context}" if offered else f"link{context}"
        self.into.add(target, kind, where, 14 if offered else 8, tag=node.tag, label=label)

    def query(self, address: str, place: str, tag: str | None) -> None:
        """Addresses that another address carries in its parameters."""
        if "=" in address:
            for hidden, how in parameters(address):
                self.hidden(hidden, how, place, 12, None)

    def on_link_element(self, _: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        target, relations = attributes.get("href"), set((attributes.get("rel") or "").lower().split())
        type_ = (attributes.get("type") or "").lower()
        if not target:
            return
        if type_ in _OEMBED:
            address = resolve(self.into.base, target)
            if address and type_ == _OEMBED[0]:
                self.into.page.oembed = self.into.page.oembed or address
        elif relations & _LINKS:
            kind = kind_by_type(type_) or FAMILIES.get(attributes.get("as") or "")
            relation = sorted(relations & _LINKS)[0]
            self.into.add(target, kind, f"link element, {relation}{context}", 12, tag="link")

    def on_frame(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        if source := attributes.get("src") or attributes.get("data-src"):
            if kind_by_extension(source):
                self.into.add(source, None, f"{node.tag} element{context}", 25, tag=node.tag)
            else:
                self.into.add_frame(source, f"{node.tag} element{context}")
            for address, how in parameters(source):
                self.into.add(address, None, f"{node.tag} element ({how}){context}", 22, tag=None)

    def on_embed(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        for name in ("src", "data"):
            if value := attributes.get(name):
                kind = kind_by_type(attributes.get("type"))
                found = self.into.add(value, kind, f"{node.tag} element{context}", 25, tag=node.tag)
                if found is None and node.tag in ("embed", "object"):
                    self.into.add_frame(value, f"{node.tag} element{context}")
                self.query(value, f"{node.tag} element{context}", node.tag)
        if variables := attributes.get("flashvars"):
            self.query("?" + variables, f"embed parameters{context}", node.tag)

    def on_parameter(self, _: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        name, value = attributes.get("name") or "", attributes.get("value") or ""
        for address, how in addresses(value) if value else ():
            self.hidden(address, how, f"param {name} of an object element{context}", 22, "param")
        self.query(value if "?" in value else "?" + value, f"param {name} of an object element{context}", "param")

    def on_control(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        if (attributes.get("type") or "").lower() == "password":
            self.into.page.wants_login = True
        for name in ("formaction", "src", "value"):
            value = attributes.get(name)
            if value and looks_like_address(value):
                label = tidy(node.text() or attributes.get("value"))
                self.into.add(value, None, f"{name} of {node.tag} element{context}", 10, tag=node.tag, label=label)

    def on_script(self, node: LexborNode, attributes: dict[str, str | None], context: str) -> None:
        type_ = (attributes.get("type") or "").lower()
        if attributes.get("src") or type_ == "application/ld+json":
            return
        text = node.text()
        begin = self.into.source.find(text, self._text_cursor) if text else -1
        self._text_cursor = max(begin, self._text_cursor)
        if type_.endswith("json") and (data := decode_json(text)) is not None:
            at = self.into.line_at(begin) if begin >= 0 else None
            for string, path in strings_in(data):
                for address, how in addresses(string):
                    self.hidden(address, how, f"JSON in a script, {path}{context}", 16, None, at)
            return
        for literal in literals(text):
            at = self.into.line_at(begin + literal.position) if begin >= 0 else None
            self.hidden(literal.text, literal.how, f"script string{context}", 15, None, at)

    def on_style(self, node: LexborNode, _: dict[str, str | None], context: str) -> None:
        self.css(node.text(), f"a style sheet{context}", None)


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
    "script": _Walk.on_script,
    "style": _Walk.on_style,
}
