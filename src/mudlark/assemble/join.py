"""Parts of one file back into that file."""

import os
import shutil
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from mudlark.media.sniff import right_extension, sniff

_SOME = 1 << 20


def join(parts: Sequence[Path], target: Path) -> None:
    """Write the parts one after the other into `target`; a single part just gets a second name where that works."""
    if len(parts) == 1:
        try:
            target.hardlink_to(parts[0])
        except OSError:
            shutil.copyfile(parts[0], target)
        return
    with target.open("wb", buffering=0) as file:
        for part in parts:
            with part.open("rb", buffering=0) as source:
                copy_range(source.fileno(), file.fileno(), part.stat().st_size)


def keep_pages(pictures: Sequence[Path], folder: Path) -> list[Path]:
    """Copies of page images, numbered in their order, each with the extension of what it is."""
    folder.mkdir()
    kept = []
    width = max(3, len(str(len(pictures))))
    for number, picture in enumerate(pictures, start=1):
        with picture.open("rb") as source:
            extension = right_extension(sniff(source.read(64)), "")
        kept.append(folder / f"{number:0{width}d}{extension}")
        join([picture], kept[-1])
    return kept


def copy_range(source: int, target: int, size: int) -> None:
    """Copy so many bytes from where one file stands to where another does: inside the kernel where it can, else by
    hand."""
    left = size
    while left > 0:
        done = 0
        if hasattr(os, "copy_file_range"):
            with suppress(OSError):
                done = os.copy_file_range(source, target, left)
        if not done:
            block = os.read(source, min(left, _SOME))
            if not block:
                return
            done = len(block)
            view = memoryview(block)
            while len(view):
                view = view[os.write(target, view) :]
        left -= done
