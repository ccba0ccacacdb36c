"""Files under further names, and parts of files into others."""

import os
import shutil
from collections.abc import Sequence
from contextlib import suppress
from pathlib import Path

from mudlark.media.sniff import right_extension, sniff

_SOME = 1 << 20


def second_name(path: Path, target: Path) -> None:
    """Have a file under another name too; where that does not work, a copy of it."""
    try:
        target.hardlink_to(path)
    except OSError:
        shutil.copyfile(path, target)


def keep_pages(pictures: Sequence[Path], folder: Path) -> list[Path]:
    """Copies of page images, numbered in their order, each with the extension of what it is."""
    folder.mkdir()
    kept = []
    width = max(3, len(str(len(pictures))))
    for number, picture in enumerate(pictures, start=1):
        with picture.open("rb") as source:
            extension = right_extension(sniff(source.read(64)), "")
        kept.append(folder / f"{number:0{width}d}{extension}")
        second_name(picture, kept[-1])
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
