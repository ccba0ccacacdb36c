"""What an item keeps under which name."""

RECORD = "record.json"
LARGEST_RECORD = 200_000_000  # bytes
CAPTURE = "capture.har"
EXCHANGES = "exchanges.warc.gz"
REPLACED = "replaced"
HISTORY = "history.jsonl"
REQUESTS = "requests.jsonl"
APPENDS = "appends.jsonl"
CHECKSUMS = "checksums.sha256"
OWN = frozenset({RECORD, HISTORY, CHECKSUMS})  # what no record lists
RESERVED = OWN | {REQUESTS, APPENDS, CAPTURE, EXCHANGES, REPLACED, "manifest", "page", "pages", "poster"}
