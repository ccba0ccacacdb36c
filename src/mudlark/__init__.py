"""Mudlark finds the media that a web page hides and leaves a verified local file with a record of its provenance.

For programs: `sift`, `tracks`, `haul` and `assay`, which are coroutines; see docs/library.md. They are loaded when they
are first used.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from mudlark.library import assay, haul, sift, tracks

__version__ = "0.1.0"
__all__ = ["__version__", "assay", "haul", "sift", "tracks"]


def __getattr__(name: str) -> Any:
    if name in __all__:
        from mudlark import library

        return getattr(library, name)
    raise AttributeError(f"module 'mudlark' has no attribute {name!r}")
