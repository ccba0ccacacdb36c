"""Where finds stand: source, scripts, metadata, lists, feeds, captures, and what a button points to."""
