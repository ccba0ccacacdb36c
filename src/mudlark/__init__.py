"""Mudlark finds the media that a web page hides and leaves a verified local file with a record of its provenance.

For programs: `sift`, `tracks`, `haul`, `assay` and `sweep`, and every type that they take or give; see
docs/library.md. They are loaded when they are first used.
"""

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from mudlark.archive.assay import Assay
    from mudlark.archive.record import Record
    from mudlark.browser.options import Listening
    from mudlark.errors import MudlarkError
    from mudlark.find.look import Means
    from mudlark.find.model import Find, Page
    from mudlark.find.questions import Answer
    from mudlark.hauling.order import HaulWatch, Item
    from mudlark.hauling.plan import Planned
    from mudlark.library import assay, haul, sift, sweep, tracks
    from mudlark.manifest.model import Presentation, Rendition
    from mudlark.manifest.wish import Wish
    from mudlark.sweeping.run import Done
    from mudlark.web.connection import Connection

__version__ = "0.1.0"
__all__ = [
    "Answer",
    "Assay",
    "Connection",
    "Done",
    "Find",
    "HaulWatch",
    "Item",
    "Listening",
    "Means",
    "MudlarkError",
    "Page",
    "Planned",
    "Presentation",
    "Record",
    "Rendition",
    "Wish",
    "__version__",
    "assay",
    "haul",
    "sift",
    "sweep",
    "tracks",
]
_PLACES = {
    "Answer": "find.questions",
    "Assay": "archive.assay",
    "Connection": "web.connection",
    "Done": "sweeping.run",
    "Find": "find.model",
    "HaulWatch": "hauling.order",
    "Item": "hauling.order",
    "Listening": "browser.options",
    "Means": "find.look",
    "MudlarkError": "errors",
    "Page": "find.model",
    "Planned": "hauling.plan",
    "Presentation": "manifest.model",
    "Record": "archive.record",
    "Rendition": "manifest.model",
    "Wish": "manifest.wish",
    **dict.fromkeys(("assay", "haul", "sift", "sweep", "tracks"), "library"),
}


def __getattr__(name: str) -> Any:
    if name in _PLACES:
        return getattr(import_module(f"mudlark.{_PLACES[name]}"), name)
    raise AttributeError(f"module 'mudlark' has no attribute {name!r}")
