"""Documents by IIIF Presentation 2 and 3: their canvases in order, with the picture that is painted on each.

https://iiif.io/api/presentation/3.0/, https://iiif.io/api/presentation/2.1/
"""

from collections.abc import Iterator
from html import unescape
from typing import Any

import msgspec

from mudlark.errors import ManifestError
from mudlark.manifest.model import ManifestRemark
from mudlark.text import tidy
from mudlark.web.address import resolve

_MOST_CANVASES = 20_000
_LONGEST = 2_000  # characters of a label or value


class Canvas(msgspec.Struct, frozen=True):
    """label: its own. picture: address of the image that is painted on it. service: base address of its image service.
    more: how many further images it has."""

    label: str | None
    picture: str
    service: str | None
    more: int


class Folio(msgspec.Struct, frozen=True):
    """A document of canvases. title: its label. notes: its metadata and its canvases' labels."""

    title: str | None
    canvases: tuple[Canvas, ...]
    notes: tuple[ManifestRemark, ...]


def read_folio(body: bytes, url: str) -> Folio:
    """The document that a manifest describes. Raises ManifestError where it describes none of pictures."""
    facts = parsed(body, url)
    if is_collection(facts):
        listed = documents_of(facts)
        raise ManifestError(
            f"{url} is a collection of {len(listed)} documents, none itself.",
            advice=f"Haul one of them{f', such as {listed[0][0]}' if listed else ''}, or all with `mudlark sweep`.",
        )
    canvases = tuple(_canvases(facts, url))
    if not canvases:
        raise ManifestError(f"{url} describes no pictures.", advice=_played(facts))
    return Folio(_text(facts.get("label")), canvases, tuple(_notes(facts, canvases)))


def parsed(body: bytes, url: str) -> dict[str, Any]:
    """What a manifest says. Raises ManifestError where it is none."""
    try:
        facts: dict[str, Any] = msgspec.json.decode(body, type=dict[str, Any])
    except (ValueError, RecursionError) as problem:
        raise ManifestError(f"{url} is no manifest: {problem}.") from problem
    return facts


def is_collection(facts: dict[str, Any]) -> bool:
    """True for a list of documents."""
    return str(facts.get("type") or facts.get("@type") or "").endswith("Collection")


def documents_of(facts: dict[str, Any]) -> list[tuple[str, str | None]]:
    """Addresses and labels of the documents of a collection, and of collections in it."""
    listed = [*_list(facts.get("items") or facts.get("members")), *_list(facts.get("manifests"))]
    return [(str(_id(one)), _text(one.get("label"))) for one in listed if isinstance(one, dict) and _id(one)]


def _canvases(facts: dict[str, Any], url: str) -> Iterator[Canvas]:
    listed = facts.get("items")
    if listed is None:
        sequences = [one for one in _list(facts.get("sequences")) if isinstance(one, dict)]
        listed = sequences[0].get("canvases") if sequences else []
    for canvas in _list(listed)[:_MOST_CANVASES]:
        if not isinstance(canvas, dict):
            continue
        pictures = [found for body in _bodies(canvas) if (found := _picture(body, url))]
        if pictures:
            yield Canvas(_text(canvas.get("label")), *pictures[0], len(pictures) - 1)


def _bodies(canvas: dict[str, Any]) -> Iterator[Any]:
    """What is painted on a canvas, in either version; of a choice, the first."""
    annotations = [
        one for page in _list(canvas.get("items")) if isinstance(page, dict) for one in _list(page.get("items"))
    ]
    for annotation in [*annotations, *_list(canvas.get("images"))]:
        if not isinstance(annotation, dict):
            continue
        for body in _list(annotation.get("body") or annotation.get("resource")):
            if isinstance(body, dict) and str(body.get("type") or body.get("@type")) in ("Choice", "oa:Choice"):
                body = next(iter(_list(body.get("items") or body.get("default"))), None)
            yield body


def _picture(body: Any, url: str) -> tuple[str, str | None] | None:
    """The address of an image, and of its service."""
    if not isinstance(body, dict) or not str(body.get("type") or body.get("@type") or "Image").endswith("Image"):
        return None
    address = resolve(url, str(_id(body) or ""))
    services = [resolve(url, str(_id(one) or "")) for one in _list(body.get("service")) if _is_image_service(one)]
    service = next(filter(None, services), None)
    if not address and not service:
        return None
    return address or f"{service}/full/full/0/default.jpg", service and service.rstrip("/")


def _is_image_service(service: Any) -> bool:
    if not isinstance(service, dict):
        return False
    words = f"{service.get('type')} {service.get('@type')} {service.get('profile')} {service.get('@context')}"
    return "ImageService" in words or "/image" in words


def _played(facts: dict[str, Any]) -> str:
    """What to do about a document of sound or film."""
    for canvas in _list(facts.get("items")):
        for body in _bodies(canvas) if isinstance(canvas, dict) else ():
            if isinstance(body, dict) and body.get("type") in ("Video", "Sound") and _id(body):
                return f"It holds a {body['type'].lower()}; haul that: {_id(body)}"
    return "Open it in a browser to see what it is."


def _notes(facts: dict[str, Any], canvases: tuple[Canvas, ...]) -> Iterator[ManifestRemark]:
    for name in ("label", "summary", "description", "attribution", "rights", "license"):
        if value := _text(facts.get(name)):
            yield ManifestRemark(name, value)
    statement = facts.get("requiredStatement")
    for pair in [*_list(facts.get("metadata")), *([statement] if statement else [])]:
        called, said = (_text(pair.get("label")), _text(pair.get("value"))) if isinstance(pair, dict) else (None, None)
        if called and said:
            yield ManifestRemark(called, said)
    for number, canvas in enumerate(canvases, start=1):
        if canvas.label:
            yield ManifestRemark(f"canvas {number}", canvas.label)


def _text(value: Any) -> str | None:
    """A label or value in whichever form: a text, a list of them, by language, as a value with its language."""
    if isinstance(value, dict):
        value = value.get("@value") or value.get("en") or next((v for k, v in value.items() if k[:1] != "@"), None)
    if isinstance(value, list):
        value = "; ".join(filter(None, map(_text, value[:50])))
    return tidy(unescape(str(value)), _LONGEST) if value not in (None, "") else None


def _id(thing: dict[str, Any]) -> Any:
    return thing.get("id") or thing.get("@id")


def _list(value: Any) -> list[Any]:
    if value is None:
        return []
    return value if isinstance(value, list) else [value]
