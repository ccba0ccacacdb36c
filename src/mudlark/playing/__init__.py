"""Playing files in a real browser, and measuring what it decodes."""
