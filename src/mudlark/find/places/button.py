"""What a control of a page points to, also when it is broken: its own addresses, and links elsewhere that match it.

A control is found by its text or by a CSS selector. Addresses that share a file name or words with it are candidates
too, as a button that does nothing often has a working twin in the source.
"""

import re

import msgspec
from selectolax.lexbor import LexborHTMLParser, LexborNode, SelectolaxError

from mudlark.errors import NothingFound, UsageError
from mudlark.find.model import Find, Mention, Page
from mudlark.find.places.hidden import addresses
from mudlark.find.places.markup import parse
from mudlark.find.places.script import literals
from mudlark.text import printable, tidy
from mudlark.web.address import file_part, resolve

_CONTROLS = "a, button, input, area, summary, [role=button], [onclick], [data-href], [data-url], [data-file]"
_WORD = re.compile(r"[^\W_]{2,}")
_BUILD = re.compile(r"\b(?:x86[-_]64|x64|x86|amd64|arm64|aarch64|win(?:32|64)|32[- ]?bit|64[- ]?bit|32|64)\b", re.I)
_COMMON = frozenset({"download", "the", "get", "now", "for", "file", "here", "click", "http", "https", "www", "com"})


class Pointed(msgspec.Struct):
    """One address that a control may mean. where: how it is tied to it. tells: what sets it apart from the others."""

    find: Find
    where: str
    own: bool
    tells: list[str] = msgspec.field(default_factory=list)


class Button(msgspec.Struct):
    """A control: its text, its markup without content, and what it may point to."""

    text: str
    markup: str
    pointed: list[Pointed] = msgspec.field(default_factory=list)


def find_button(source: str, page: Page, wanted: str) -> Button:
    """The control that `wanted` means, with everything it may point to; live ones are sorted first by the caller."""
    tree = parse(source).tree
    node = tree.css_first("base[href]")
    base = (node and resolve(page.url, node.attributes.get("href") or "")) or page.url
    control = _control(tree, wanted)
    text = _label(control)
    opening = re.match(r"<[^>]*>", control.html or "")
    button = Button(text, printable(opening[0]) if opening else "")
    known = {find.url: find for find in page.finds}
    for reference, where in _own(control):
        url = resolve(base, reference)
        if url and url != page.url and all(entry.find.url != url for entry in button.pointed):
            find = known.get(url) or Find(Mention(url=url, kind="package"))
            button.pointed.append(Pointed(find, where, own=True))
    _add_related(button, page, _words(f"{text} {button.markup}"))
    _tell_apart(button)
    return button


def _control(tree: LexborHTMLParser, wanted: str) -> LexborNode:
    """By the text of a control (whole, then in part), else by selector."""
    controls = tree.css(_CONTROLS)
    target = " ".join(wanted.lower().split())
    for fits in (lambda label: label == target, lambda label: target in label):
        for node in controls:
            if fits(_label(node).lower()):
                return node
    try:
        matches = tree.css_first(wanted)
    except (SelectolaxError, ValueError):
        matches = None
    if matches is None:
        texts = list(dict.fromkeys(label for node in controls if (label := _label(node))))
        shown = ", ".join(f"'{text[:40]}'" for text in texts[:6])
        raise UsageError(
            f"There is no control {wanted!r} on the page.", f"It has: {shown}." if shown else "It has none."
        )
    return matches


def _label(node: LexborNode) -> str:
    attributes = node.attributes
    return (
        tidy(node.text())
        or tidy(attributes.get("value") or attributes.get("aria-label") or attributes.get("title"))
        or ""
    )


def _own(control: LexborNode) -> list[tuple[str, str]]:
    """Addresses in the control itself, in what it wraps, and in the form around it."""
    matches: list[tuple[str, str]] = []
    for node in (control, *control.css("[href], [src], [onclick], [data-href], [data-url]")):
        for name, value in node.attributes.items():
            if not value:
                continue
            if name in ("href", "formaction") and not value.startswith(("#", "javascript:")):
                matches.append((value, f"its {name}"))
            elif name.startswith("on") or value.startswith("javascript:"):
                matches += [(literal.text, f"its {name}") for literal in literals(value)]
            elif name.startswith("data-"):
                matches += [
                    (address, f"its {name}" + (f" ({how})" if how else "")) for address, how in addresses(value)
                ]
    around: LexborNode | None = control
    while around is not None and around.tag != "form":
        around = around.parent
    if around is not None and control.tag in ("button", "input") and (action := around.attributes.get("action")):
        matches.append((action, "the form around it"))
    return matches


def _words(text: str) -> set[str]:
    return {word.lower() for word in _WORD.findall(text)} - _COMMON


def _add_related(button: Button, page: Page, words: set[str]) -> None:
    """Finds elsewhere in the source with the same file name, or that share words with the control."""
    names = {_stem(entry.find.url) for entry in button.pointed}
    own_words = _words(button.text)
    for find in page.finds:
        if find.kind in ("image", "subtitle") or any(entry.find.url == find.url for entry in button.pointed):
            continue
        name = file_part(find.url)
        shared = _words(f"{name} {find.label or ''}") & (own_words or words)
        if _stem(find.url) in names and name:
            button.pointed.append(Pointed(find, f"the same file name, in {find.evidence[0].where}", own=False))
        elif len(shared) >= min(2, max(1, len(own_words))):
            common = " and ".join(f"'{word}'" for word in sorted(shared)[:3])
            button.pointed.append(Pointed(find, f"it shares {common}, in {find.evidence[0].where}", own=False))
    if not button.pointed:
        raise NothingFound(
            f"The control '{button.text or button.markup}' points to nothing that its page names.",
            "It may only be decided in a script; look at all finds with `mudlark sift`.",
        )


def _stem(url: str) -> str:
    """A file name without its version, build and extension."""
    name = file_part(url).lower()
    return re.sub(r"[-_.]?v?\d+(?:\.\d+)*", "", _BUILD.sub("", name.replace("_", "-"))).strip("-. ")


def _tell_apart(button: Button) -> None:
    """Words of address and label that not all candidates share: architecture, language, version."""
    texts = [_parts(f"{file_part(e.find.url)} {e.find.label or ''}") for e in button.pointed]
    if len(texts) < 2:
        return
    common = set.intersection(*(set(text) for text in texts))
    for entry, text in zip(button.pointed, texts, strict=True):
        entry.tells = [word for word in dict.fromkeys(text) if word not in common][:6]


def _parts(text: str) -> list[str]:
    return [part for part in re.split(r"[\s_/,()-]+|\.(?=\D)", text.lower()) if part]
