"""Formats that are looked into from their first byte to their last, in bounded memory: a file each."""
