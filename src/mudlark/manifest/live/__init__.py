"""Presentations that are still running: what is new in them, when to ask again, and what was missed."""
