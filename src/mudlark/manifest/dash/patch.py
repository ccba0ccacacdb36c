"""Changes to an MPD that come alone (ISO/IEC 23009-1 §5.15), as RFC 5261 has them: add, replace and remove.

Raises ManifestError where a change does not fit; the whole manifest is fetched then.
"""

import re
from copy import deepcopy

from lxml import etree

from mudlark.errors import ManifestError
from mudlark.manifest.dash.document import Element, local_name, parse_xml

_STEP = re.compile(r"(/|^)(?:[\w.-]+:)?([A-Za-z_][\w.-]*)(?=[\[/]|$)")
_ATTRIBUTE = re.compile(r"(.*)/@(?:[\w.-]+:)?([\w.-]+)$")
_MOST = 100_000


def patched(root: Element, body: bytes, url: str) -> Element:
    """The document with the changes of a patch; the old one stays as it was."""
    patch = parse_xml(body, url)
    if patch is None or local_name(patch) != "Patch":
        raise ManifestError(f"{url} is no patch of a manifest.")
    if patch.get("originalPublishTime") not in (None, root.get("publishTime")):
        raise ManifestError(f"{url} is a patch of another version of the manifest.")
    changed = deepcopy(root)
    for count, change in enumerate(patch):
        if isinstance(change.tag, str):
            _apply(changed, change, url)
        if count > _MOST:
            raise ManifestError(f"{url} has more changes than any patch.")
    return changed


def _apply(root: Element, change: Element, url: str) -> None:
    selector, kind = change.get("sel") or "", local_name(change)
    attribute = _ATTRIBUTE.match(selector)
    target = _one(root, attribute[1] if attribute else selector, url)
    name = attribute[2] if attribute else (change.get("type") or "").removeprefix("@")
    if name:
        if kind == "remove":
            target.attrib.pop(name, "")
        else:
            target.set(name, (change.text or "").strip())
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


def _one(root: Element, selector: str, url: str) -> Element:
    """The element that a path of a patch means; its names are those of the manifest, whatever their prefix."""
    path = _STEP.sub(lambda match: f"{match[1]}*[local-name()='{match[2]}']", selector)
    try:
        found = root.xpath(path)
    except etree.XPathError as problem:
        raise ManifestError(f"{url} has {selector[:80]!r}, which is no path.") from problem
    if not isinstance(found, list) or len(found) != 1 or not isinstance(found[0], etree._Element):
        raise ManifestError(f"{url} changes {selector[:80]!r}, which is not one element of the manifest.")
    return found[0]
