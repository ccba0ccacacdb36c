"""What an item's record says, in the words of other archives: PREMIS 3.0 for what was done to it and by whom, Dublin
Core (oai_dc) for what it is. Both are made of record and history alone: the same item gives the same bytes.
"""

import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from mudlark import __version__
from mudlark.archive.history import checks_of
from mudlark.archive.record import FileFacts, Record
from mudlark.text import counted, printable
from mudlark.verify.account import Verdict

if TYPE_CHECKING:
    from lxml.etree import _Element as Element

PREMIS = "http://www.loc.gov/premis/v3"
_DC, _OAI = "http://purl.org/dc/elements/1.1/", "http://www.openarchives.org/OAI/2.0/oai_dc/"
_INSTANCE = "http://www.w3.org/2001/XMLSchema-instance"
_LOCAL, _MUDLARK = "local", "Mudlark"
_OUTCOMES: dict[Verdict, str] = {"sound": "success", "unproven": "warning", "flawed": "warning"}
_NAMES_IT = re.compile(r"\b(?:id|identifier|cote)\b|shelf.?mark|call.?number|signatur|inventory|accession", re.I)
# types of DCMI's own list (DCMI Type Vocabulary), by what an item is made of
_TYPES = {"video": "MovingImage", "audio": "Sound", "image": "StillImage"}


class _Event(msgspec.Struct, frozen=True):
    """Something that was done to an item. when: RFC 3339. outcome: success, warning or fail; note: on it. by: names of
    the software and of who answers for it."""

    type: str
    when: str
    outcome: str
    note: str
    by: tuple[str, ...]


def premis_of(folder: Path, record: Record) -> bytes:
    """The objects, events and agents of an item as XML that is valid by PREMIS 3.0. folder: of the item, for its
    history."""
    from lxml import etree  # few commands need it

    names: Any = {None: PREMIS, "xsi": _INSTANCE}  # one without a prefix, which the stubs do not know
    root = etree.Element(f"{{{PREMIS}}}premis", nsmap=names, version="3.0")
    events = _events(folder, record)
    made_by = tuple(dict.fromkeys(name for event in events for name in event.by))
    whole = _object(root, "intellectualEntity", identity_in_words(record))
    _text(whole, "originalName", record.title)
    for number in range(len(events)):
        _identifier(whole, "linkingEventIdentifier", f"event-{number + 1}")
    for file in record.files:
        _file(root, record, file)
    for number, event in enumerate(events):
        _event(root, f"event-{number + 1}", event, record)
    for name in made_by:
        _agent(root, name)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


def dublin_core_of(record: Record) -> bytes:
    """An item in the fifteen elements of Dublin Core, as far as its record knows them."""
    from lxml import etree

    root = etree.Element(f"{{{_OAI}}}dc", nsmap={"oai_dc": _OAI, "dc": _DC})
    source, page = record.source, record.source.page
    kinds = {track.type for track in record.tracks} or {
        (file.media_type or "").partition("/")[0] for file in record.files if file.role == "media"
    }
    kind = next((word for name, word in _TYPES.items() if name in kinds), "Dataset")
    facts: list[tuple[str, str | None]] = [
        ("title", record.title),
        ("creator", page.creator if page else None),
        ("description", page.description if page else None),
        ("date", page.date if page else None),
        ("type", kind),
        *(("format", one.media_type) for one in record.files if one.role == "media"),
        ("identifier", identity_in_words(record)),
        *(
            ("identifier", text) if _NAMES_IT.search(name) else ("description", f"{name}: {text}")
            for name, text in source.listed.items()
        ),
        *(("source", address) for address in dict.fromkeys((page.url if page else source.target, source.address))),
        *(("language", language) for language in dict.fromkeys(one.language for one in record.tracks)),
    ]
    for name, text in dict.fromkeys(facts):
        if text:
            etree.SubElement(root, f"{{{_DC}}}{name}").text = printable(text)
    return bytes(etree.tostring(root, xml_declaration=True, encoding="UTF-8", pretty_print=True))


def identity_in_words(record: Record) -> str:
    """What tells an item from all others: what it is known by, else its address."""
    return record.source.identity or record.source.address


def _events(folder: Path, record: Record) -> list[_Event]:
    """All that was done to an item, the earliest first."""
    operator = (record.operator or {}).get("name")
    software = f"{_MUDLARK} {record.versions.get('mudlark', __version__)}"
    by = (software, operator) if operator else (software,)
    missing = f"; {counted(record.segments.missing, 'segment')} missing" if record.segments.missing else ""
    note = f"{record.verdict}: {record.reason or 'as its checks say'}{missing}"
    events = [
        _Event("capture", record.finished, _OUTCOMES.get(record.verdict, "fail"), note, by),
        _Event("message digest calculation", record.finished, "success", "SHA-256 of each file", by),
    ]
    events += [
        _Event("modification", record.finished, "success", one.message, by)
        for one in record.notes
        if one.code == "replaced"
    ]
    for check in checks_of(folder):
        own = (f"{_MUDLARK} {check.mudlark}", *([check.operator] if check.operator else []))
        words = f"{check.verdict}{': ' + ', '.join(check.problems) if check.problems else ''}"
        events.append(_Event(check.event, check.when, _OUTCOMES.get(check.verdict, "fail"), words, own))
    return events


def _object(root: "Element", kind: str, identifier: str) -> "Element":
    made = _child(root, "object")
    made.set(f"{{{_INSTANCE}}}type", kind)
    _identifier(made, "objectIdentifier", identifier)
    return made


def _file(root: "Element", record: Record, file: FileFacts) -> None:
    made = _object(root, "file", file.path)
    facts = _child(made, "objectCharacteristics")
    fixity = _child(facts, "fixity")
    _text(fixity, "messageDigestAlgorithm", "SHA-256")
    _text(fixity, "messageDigest", file.sha256)
    _text(fixity, "messageDigestOriginator", _MUDLARK)
    _text(facts, "size", str(file.bytes))
    form = _child(facts, "format")
    _text(_child(form, "formatDesignation"), "formatName", file.media_type or "application/octet-stream")
    if file.pronom:
        registry = _child(form, "formatRegistry")
        _text(registry, "formatRegistryName", "PRONOM")
        _text(registry, "formatRegistryKey", file.pronom)
    _text(form, "formatNote", f"role in the item: {file.role}")
    _text(made, "originalName", file.path)
    related = _child(made, "relationship")
    _text(related, "relationshipType", "structural")
    _text(related, "relationshipSubType", "is Part Of")
    _identifier(related, "relatedObjectIdentifier", identity_in_words(record))


def _event(root: "Element", identifier: str, event: _Event, record: Record) -> None:
    made = _child(root, "event")
    _identifier(made, "eventIdentifier", identifier)
    _text(made, "eventType", event.type)
    _text(made, "eventDateTime", event.when)
    if event.type == "capture":
        words = f"From {record.source.address}, asked for as {record.source.target}, begun {record.started}"
        _text(_child(made, "eventDetailInformation"), "eventDetail", words)
    outcome = _child(made, "eventOutcomeInformation")
    _text(outcome, "eventOutcome", event.outcome)
    _text(_child(outcome, "eventOutcomeDetail"), "eventOutcomeDetailNote", event.note)
    for name in event.by:
        _identifier(made, "linkingAgentIdentifier", name)
    _identifier(made, "linkingObjectIdentifier", identity_in_words(record))


def _agent(root: "Element", name: str) -> None:
    made = _child(root, "agent")
    _identifier(made, "agentIdentifier", name)
    software = name.startswith(f"{_MUDLARK} ")
    _text(made, "agentName", _MUDLARK if software else name)
    _text(made, "agentType", "software" if software else "person")
    if software:
        _text(made, "agentVersion", name.partition(" ")[2])


def _child(parent: "Element", name: str) -> "Element":
    from lxml import etree

    return etree.SubElement(parent, f"{{{PREMIS}}}{name}")


def _text(parent: "Element", name: str, text: str) -> None:
    _child(parent, name).text = printable(text)


def _identifier(parent: "Element", name: str, value: str) -> None:
    """An identifier of our own: a pair of type and value."""
    made = _child(parent, name)
    _text(made, f"{name}Type", _LOCAL)
    _text(made, f"{name}Value", value)
