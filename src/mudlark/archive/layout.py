"""What an item, and the folder that it is in, keeps under which name."""

import re

RECORD = "record.json"
LARGEST_RECORD = 200_000_000  # bytes
CAPTURE = "capture.har"
EXCHANGES = "exchanges.warc.gz"
REPLACED = "replaced"
HISTORY = "history.jsonl"
REQUESTS = "requests.jsonl"
APPENDS = "appends.jsonl"
CHECKSUMS = "checksums.sha256"
TABLE = "sweep.csv"
_TABLES = re.compile(r"sweep(?: \(\d+\))?\.csv$")
OWN = frozenset({RECORD, HISTORY, CHECKSUMS})  # what no record lists
RESERVED = OWN | {REQUESTS, APPENDS, CAPTURE, EXCHANGES, REPLACED, "manifest", "page", "pages", "poster"}


def is_sweep_table(name: str) -> bool:
    """True for the name of the table that a sweep leaves beside its items."""
    return bool(_TABLES.match(name))
