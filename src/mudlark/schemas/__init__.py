"""JSON Schemas (2020-12) of the record and of what each command gives with --json, as files in this folder.

They are made by tools/make_schemas.py; `schema_of("record")`, or of a command by its name, reads one.
"""

import json
from importlib.resources import files
from typing import Any

NAMES = (
    *("record", "sift", "listen", "guises", "peek", "tracks", "haul", "sweep", "ledger", "bag", "assay"),
    *("report", "check"),
)


def schema_of(name: str) -> dict[str, Any]:
    """The schema of a name. Raises FileNotFoundError where there is none."""
    schema: dict[str, Any] = json.loads((files("mudlark.schemas") / f"{name}.json").read_text(encoding="utf-8"))
    return schema
