"""Changes to an MPD that come alone (ISO/IEC 23009-1 §5.15), as RFC 5261 has them: add, replace and remove.

Raises ManifestError where a change does not fit; the whole manifest is fetched then.
"""

import re
from copy import deepcopy

from mudlark.errors import ManifestError
from mudlark.manifest.dash.document import Element, local_name, parse_xml

_STEP = re.compile(r"/?(?:[\w.-]{1,100}:)?([A-Za-z_][\w.-]{0,100})")
_CONDITION = re.compile(
    r"\[\s*(?:([1-9]\d{0,8})|@(?:[\w.-]{1,100}:)?([\w.-]{1,100})\s*=\s*(?:'([^']{0,1000})'|\"([^\"]{0,1000})\"))\s*\]"
)
_NAME = re.compile(r"(?:[\w.-]{1,100}:)?([\w.-]{1,100})")
_MOST = 100_000
_DEEPEST = 20  # steps of a path
_MOST_LOOKED_AT = 20_000_000  # elements that all paths of a patch may lead by


def patched(root: Element, body: bytes, url: str) -> Element:
    """The document with the changes of a patch; the old one stays as it was."""
    patch = parse_xml(body, url)
    if patch is None or local_name(patch) != "Patch":
        raise ManifestError(f"{url} is no patch of a manifest.")
    if patch.get("originalPublishTime") not in (None, root.get("publishTime")):
        raise ManifestError(f"{url} is a patch of another version of the manifest.")
    changed, paths = deepcopy(root), _Paths(url)
    for count, change in enumerate(patch):
        if isinstance(change.tag, str):
            _apply(changed, change, url, paths)
        if count > _MOST:
            raise ManifestError(f"{url} has more changes than any patch.")
    return changed


def _apply(root: Element, change: Element, url: str, paths: "_Paths") -> None:
    selector, kind = change.get("sel") or "", local_name(change)
    path, _, last = selector.rpartition("/@")
    attribute = _NAME.fullmatch(last) if path else None
    target = paths.one(root, path if attribute else selector)
    name = attribute[1] if attribute else (change.get("type") or "").removeprefix("@")
    if name:
        if kind == "remove":
            target.attrib.pop(name, "")
            return
        try:
            target.set(name, (change.text or "").strip())
        except ValueError as problem:
            raise ManifestError(f"{url} sets an attribute {name[:80]!r}, which none is called.") from problem
        return
    parent, parts = target.getparent(), [part for part in change if isinstance(part.tag, str)]
    if kind == "add":
        _add(target, parts, change.get("pos") or "")
    elif parent is None:
        raise ManifestError(f"{url} changes the root of the manifest.")
    elif kind == "replace":
        place = parent.index(target)
        parent[place : place + 1] = parts
    elif kind == "remove":
        parent.remove(target)


def _add(target: Element, parts: list[Element], place: str) -> None:
    parent = target.getparent()
    if place == "prepend":
        target[0:0] = parts
    elif place in ("before", "after") and parent is not None:
        at = parent.index(target) + (place == "after")
        parent[at:at] = parts
    else:
        target.extend(parts)


class _Paths:
    """Reads the paths of a patch: steps by name, each with a number or the value of an attribute (ISO/IEC 23009-1 annex
    on patches, RFC 5261 §4.1). Nothing else of XPath is needed, and nothing else is read; the work is bounded."""

    def __init__(self, url: str) -> None:
        self._url = url
        self._looked_at = 0

    def one(self, root: Element, selector: str) -> Element:
        """The element that a path means; its names are those of the manifest, whatever their prefix."""
        found, at = [root], 0
        for depth in range(_DEEPEST):
            step = _STEP.match(selector, at)
            if step is None:
                break
            at = step.end()
            around = found if depth else None
            found = [child for one in around for child in one] if around is not None else [root]
            self._looked_at += len(found)
            found = [one for one in found if isinstance(one.tag, str) and local_name(one) == step[1]]
            while condition := _CONDITION.match(selector, at):
                at = condition.end()
                found = _fulfilling(found, condition)
            if self._looked_at > _MOST_LOOKED_AT:
                raise ManifestError(f"{self._url} changes more than any patch does.")
        if at != len(selector) or len(found) != 1:
            raise ManifestError(f"{self._url} changes {selector[:80]!r}, which is not one element of the manifest.")
        return found[0]


def _fulfilling(found: list[Element], condition: re.Match[str]) -> list[Element]:
    """Those of some elements that a condition holds for."""
    number, name, value, other = condition.groups()
    if number:
        return found[int(number) - 1 : int(number)]
    wanted = value if value is not None else other
    return [one for one in found if any(_local(key) == name and text == wanted for key, text in one.items())]


def _local(name: object) -> str:
    """The name of an attribute without its namespace."""
    return str(name).rpartition("}")[2]
