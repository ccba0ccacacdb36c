"""Make src/mudlark/schemas: JSON Schemas of the record, from its types, and of what each command gives with --json.

Fields may be added within a version, so no schema forbids those that it does not name.
"""

import inspect
import json
from pathlib import Path
from typing import Any, get_args

import msgspec

from mudlark.archive.record import FetchingFacts, FileFacts, PlayFacts, Record, SegmentCounts, TrackFacts
from mudlark.find.model import Kind, Place, Role
from mudlark.verify.account import Check, Verdict

TARGET = Path(__file__).parent.parent / "src/mudlark/schemas"
DIALECT = "https://json-schema.org/draft/2020-12/schema"
Schema = dict[str, Any]

TEXT: Schema = {"type": "string"}
NUMBER: Schema = {"type": "number"}
COUNT: Schema = {"type": "integer"}
TRUTH: Schema = {"type": "boolean"}
ANY: Schema = {}
TEXTS: Schema = {"type": "array", "items": TEXT}


def maybe(schema: Schema) -> Schema:
    """That, or null."""
    return {"anyOf": [schema, {"type": "null"}]}


def several(schema: Schema) -> Schema:
    """A list of such."""
    return {"type": "array", "items": schema}


def one_of(kind: Any) -> Schema:
    """One of the words of a type."""
    return {"enum": list(get_args(kind))}


def thing(**fields: Schema) -> Schema:
    """An object that has these fields; those whose names end with an underscore may be missing."""
    properties = {name.rstrip("_"): schema for name, schema in fields.items()}
    return {"type": "object", "properties": properties, "required": [n for n in fields if not n.endswith("_")]}


def typed(kind: Any) -> Schema:
    """What a type of the record looks like."""
    schema = msgspec.json.schema(kind)
    definitions = schema.pop("$defs", {})
    reference = schema.get("$ref", "").rpartition("/")[2]
    whole: Schema = definitions.pop(reference) if reference else schema
    inlined: Schema = _inlined(whole, definitions)
    return inlined


def _inlined(schema: Any, definitions: dict[str, Any]) -> Any:
    if isinstance(schema, dict):
        if reference := schema.get("$ref", "").rpartition("/")[2]:
            return _inlined(definitions[reference], definitions)
        return {name: _inlined(value, definitions) for name, value in schema.items()}
    return [_inlined(one, definitions) for one in schema] if isinstance(schema, list) else schema


PROBLEM = thing(code=TEXT, message=TEXT, advice=maybe(TEXT), url=maybe(TEXT))
NOTE = thing(code=TEXT, message=TEXT)
EVIDENCE = thing(place=one_of(Place), where=TEXT, at=maybe(TEXT), frame=maybe(TEXT))
UNFINISHED = thing(folder=TEXT, target=TEXT, since=TEXT, segments=COUNT, bytes=COUNT, running=TRUTH)
PLACED = thing(code=TEXT, message=TEXT, at=maybe(NUMBER), offset=maybe(COUNT))
VERDICT = one_of(Verdict)
KIND = one_of(Kind)
FIND = thing(
    number=COUNT,
    url=TEXT,
    kind=KIND,
    role=one_of(Role),
    score=COUNT,
    why=TEXTS,
    evidence=several(EVIDENCE),
    label=maybe(TEXT),
    language=maybe(TEXT),
    status=maybe(COUNT),
    type=maybe(TEXT),
    bytes=maybe(COUNT),
    duration=maybe(NUMBER),
    width=maybe(COUNT),
    height=maybe(COUNT),
    count=COUNT,
    expires=maybe(NUMBER),
    problem=maybe(TEXT),
    protected=TRUTH,
    live=maybe(thing(depth=maybe(NUMBER), target=maybe(NUMBER))),
)
PAGE = thing(
    url=TEXT,
    title=maybe(TEXT),
    duration=maybe(NUMBER),
    frames=TEXTS,
    feeds=TEXTS,
    forms=several(ANY),
    walk=several(ANY),
    capture=maybe(TEXT),
    key_systems=TEXTS,
    notes=TEXTS,
    entries=several(thing(title=TEXT, url=TEXT)),
    left_out=COUNT,
    finds=several(FIND),
)
ITEM = thing(
    verdict=VERDICT,
    reason=maybe(TEXT),
    title=maybe(TEXT),
    folder=maybe(TEXT),
    kept=maybe(TEXT),
    files=several(typed(FileFacts)),
    duration=maybe(NUMBER),
    tracks=several(typed(TrackFacts)),
    segments=maybe(typed(SegmentCounts)),
    fetching=maybe(typed(FetchingFacts)),
    problems=several(NOTE),
    notes=several(NOTE),
    checks=several(typed(Check)),
    contents=several(ANY),
    source=ANY,
)
COMMANDS: dict[str, dict[str, Schema]] = {
    "sift": {"pages": several(PAGE)},
    "listen": {
        "status": maybe(COUNT),
        "url": TEXT,
        "title": maybe(TEXT),
        "har": maybe(TEXT),
        "browser": TEXT,
        "requests": COUNT,
        "bytes": COUNT,
        "frames": TEXTS,
        "players": several(ANY),
        "key_systems": TEXTS,
        "notes": TEXTS,
    },
    "guises": {"guises": several(thing(name=TEXT))},
    "peek": {"sheet": maybe(TEXT), "finds": several(thing(url=TEXT, kind=KIND, role=TEXT, problem=maybe(TEXT)))},
    "tracks": {
        "url": TEXT,
        "kind": TEXT,
        "live": maybe(ANY),
        "duration": maybe(NUMBER),
        "tracks": several(thing(taken=TRUTH, name=TEXT, type=TEXT, codecs=TEXTS, url=maybe(TEXT))),
    },
    "haul": {"items": several(ITEM)},
    "sweep": {
        "items": several({"allOf": [ITEM, thing(row=COUNT)]}),
        "summary": maybe(
            thing(rows=COUNT, doubled=COUNT, already=COUNT, tried=COUNT, verdicts=ANY, bytes=COUNT, seconds=NUMBER)
        ),
    },
    "ledger": {
        "items": several(
            thing(
                path=TEXT,
                title=TEXT,
                verdict=VERDICT,
                date=TEXT,
                checked=TEXT,
                duration=maybe(NUMBER),
                bytes=COUNT,
                tracks=several(thing(type=TEXT, codec=TEXT, height=maybe(COUNT), language=maybe(TEXT))),
                url=TEXT,
                media=TEXTS,
                problem=TEXT,
                listed=ANY,
            )
        ),
        "totals": thing(items=COUNT, all=COUNT, bytes=COUNT, duration=NUMBER, verdicts=ANY),
        "doubles": several(TEXTS),
        "unfinished": several(UNFINISHED),
    },
    "check": {
        "findings": several(thing(name=TEXT, state=TEXT, message=TEXT, advice=maybe(TEXT))),
        "configuration": TEXT,
        "values": several(thing(name=TEXT, value=TEXT, source=TEXT)),
    },
    "report": {"page": TEXT, "pages": COUNT},
    "bag": {"bags": several(thing(path=TEXT))},
    "assay": {
        "items": several(
            thing(
                path=TEXT,
                title=maybe(TEXT),
                verdict=VERDICT,
                reason=TEXT,
                state=maybe(TEXT),
                duration=maybe(NUMBER),
                tracks=several(typed(TrackFacts)),
                checks=several(typed(Check)),
                problems=several(PLACED),
                played=maybe(typed(PlayFacts)),
            )
        )
    },
}


def output(name: str, fields: dict[str, Schema]) -> Schema:
    """What a command gives: with what went wrong before it had anything, without its fields."""
    head = thing(mudlark={"const": 1}, command={"const": name}, problems=several(PROBLEM))
    whole = {"required": list(fields)}
    failed = {"properties": {"problems": {"minItems": 1}}}
    return {
        "$schema": DIALECT,
        "title": f"mudlark {name} --json",
        "type": "object",
        "properties": head["properties"] | fields,
        "required": head["required"],
        "anyOf": [whole, failed, *([{"required": [one]} for one in ("unfinished", "plans")] if name == "haul" else [])],
    }


def schemas() -> dict[str, Schema]:
    """All of them, by name."""

    record = {"$schema": DIALECT, "title": "record.json of an item", **typed(Record)}
    made = {"record": record, **{name: output(name, fields) for name, fields in COMMANDS.items()}}
    return {name: without_margins(schema) for name, schema in made.items()}


def without_margins(part: Any) -> Any:
    """Descriptions without the margin of the docstring that they are, which some versions of msgspec leave in."""
    if isinstance(part, list):
        return [without_margins(one) for one in part]
    if not isinstance(part, dict):
        return part
    return {
        name: inspect.cleandoc(value) if name == "description" and isinstance(value, str) else without_margins(value)
        for name, value in part.items()
    }


def main() -> None:
    for name, schema in schemas().items():
        text = json.dumps(schema, indent=1, sort_keys=True) + "\n"
        (TARGET / f"{name}.json").write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
