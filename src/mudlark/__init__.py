"""Mudlark finds the media that a web page hides and leaves a verified local file with a record of its provenance."""

__version__ = "0.1.0"
