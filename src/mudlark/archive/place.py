"""Giving a finished item its final name: durable first, then in one step, so that it is there whole or not at all."""

import os
import shutil
from pathlib import Path

from mudlark.archive.record import RECORD, Record, to_json


def place(item: Path, record: Record, folder: Path, aside: Path) -> None:
    """Move the item with its record to `folder`. An earlier item there gives way by way of `aside`, and comes back if
    the move fails. Raises OSError."""
    (item / RECORD).write_bytes(to_json(record))
    for file in item.rglob("*"):
        if file.is_file():
            with file.open("rb+") as opened:
                os.fsync(opened.fileno())
    if folder.exists():
        folder.rename(aside)
    try:
        item.rename(folder)
    except OSError:
        if aside.exists():
            aside.rename(folder)
        raise
    shutil.rmtree(aside, ignore_errors=True)
