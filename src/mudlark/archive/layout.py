"""What an item keeps under which name."""

RECORD = "record.json"
CAPTURE = "capture.har"
EXCHANGES = "exchanges.warc.gz"
REPLACED = "replaced"
RESERVED = frozenset({RECORD, CAPTURE, EXCHANGES, REPLACED, "manifest", "page", "pages", "poster"})
