"""DASH (ISO/IEC 23009-1): from a media presentation description to renditions."""
