"""The JSON Schemas that Mudlark ships are those that its types make, and hold of what it writes."""

import json
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest
from jsonschema import Draft202012Validator

from mudlark.demo.site import DemoSite
from mudlark.schemas import NAMES, schema_of
from tests.conftest import Ran, validator_of

ROOT = Path(__file__).parents[1]


def test_they_are_as_their_tool_makes_them_and_are_schemas() -> None:
    source = "import json, make_schemas; print(json.dumps(make_schemas.schemas()))"
    made = subprocess.run([sys.executable, "-c", source], cwd=ROOT / "tools", capture_output=True, check=True).stdout
    schemas = json.loads(made)
    assert set(schemas) == set(NAMES)
    for name, schema in schemas.items():
        assert schema == schema_of(name), f"run tools/make_schemas.py: {name} has changed"
        Draft202012Validator.check_schema(schema)


@pytest.mark.program
def test_records_and_documents_are_as_their_schemas_say(
    mudlark: Callable[..., Ran], site: DemoSite, tmp_path: Path
) -> None:
    ran = mudlark("haul", site.address("languages"), site.address("keeper-log"), "--into", "a", "--json")
    for item in ran.json["items"]:
        record = json.loads((tmp_path / item["folder"] / "record.json").read_text())
        validator_of("record").validate(record)
    failed = mudlark("haul", site.origins.site + "/nowhere", "--json")
    assert failed.json["problems"] and mudlark("haul", "--into", "nowhere", "--json").json["problems"]
    for command in ("sift", "tracks", "guises"):
        assert mudlark(command, site.address("languages"), "--json").json["command"] == command
    assert mudlark("assay", "a", "--json").json["items"] and mudlark("ledger", "a", "--json").json["totals"]
