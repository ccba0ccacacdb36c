"""The lowest versions that pyproject.toml allows, one a line, as constraints for pip: what is promised is tried."""

import re
import sys
import tomllib
from pathlib import Path
from typing import Any

EXTRAS = ("archive", "report", "browser", "sheets")


def lowest(project: dict[str, Any]) -> list[str]:
    """`name==version` for each requirement that states a lowest version."""
    options = project["optional-dependencies"]
    listed = [*project["dependencies"], *(one for extra in EXTRAS for one in options[extra])]
    return sorted({re.sub(r"\[.*?\]", "", one).replace(">=", "==") for one in listed if ">=" in one})


if __name__ == "__main__":
    text = (Path(__file__).parents[1] / "pyproject.toml").read_text("utf-8")
    sys.stdout.write("\n".join(lowest(tomllib.loads(text)["project"])) + "\n")
