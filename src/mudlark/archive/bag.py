"""Items as bags for other archives: BagIt 1.0 (RFC 8493), with the `bagit` package.

A bag has its name only when it is complete, and its payload has been compared with the records of the items. What the
records say stands in `metadata/`, beside the payload.
"""

import os
import tempfile
import zipfile
from collections.abc import Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from mudlark import __version__
from mudlark.archive.choosing import Meant
from mudlark.archive.handover import METADATA, Package, give, insist_on_digests, plain_files, record_for, said_of
from mudlark.archive.naming import numbered
from mudlark.archive.place import make_durable, rename_to_free, sync_folder
from mudlark.archive.record import Record
from mudlark.archive.tree import DECLARATION
from mudlark.atomic import atomic_write
from mudlark.errors import FormatError, StorageError, UsageError
from mudlark.plain import is_plain
from mudlark.text import readable

_LISTS = "manifest-sha256.txt"
_ALGORITHMS = ["sha256", "sha512"]
_DECLARATION = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"


def make_bag(items: Sequence[Meant], into: Path, facts: Mapping[str, str], *, zipped: bool) -> Package:
    """One bag of one or several items, below `into`. facts: for bag-info.txt. Raises FormatError where an item is not
    what its record says, StorageError where it cannot be written."""
    bagit = _bagit()
    records = [record_for(one.folder) for one in items]
    roots = list(dict.fromkeys(one.root for one in items))
    name = (items[0].folder if len(items) == 1 else roots[0]).resolve().name if len(roots) == 1 else "items"
    places = [_place(one, roots) if len(items) > 1 else "" for one in items]
    try:
        into.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(prefix=".mudlark-bag-", dir=into) as temporary:
            made = Path(temporary) / (name or "items")
            for one, place in zip(items, places, strict=True):
                (made / place).mkdir(parents=True, exist_ok=True)
                for path in plain_files(one.folder):
                    give(one.folder / path, path, made / place / path)
            with _standing():
                bag = bagit.make_bag(str(made), {**facts, **_info(records)}, checksums=_ALGORITHMS)
                for one, record, place in zip(items, records, places, strict=True):
                    _insist(bag, one.folder, record, f"{place}/" if place else "")
                    _say(made / METADATA / place, one.folder, record)
                if not any(
                    "%" in path for path in bag.payload_entries()
                ):  # which 1.0 writes otherwise than the package
                    (made / "bagit.txt").write_text(_DECLARATION)
                bag.save()
            make_durable(made)
            size, files = (int(part) for part in bag.info["Payload-Oxum"].split("."))
            target, new = _placed(made, into, made.name, zipped=zipped)
            return Package(target, len(items), files, size, new)
    except OSError as problem:
        raise StorageError(
            f"Cannot make a bag in {into}: {problem.strerror}.", "Make room, or choose another folder with --into."
        ) from problem
    except bagit.BagError as problem:
        raise FormatError(
            f"No bag can be made of {name}: {problem}.", advice="See that you may read it all."
        ) from problem


def _place(item: Meant, roots: Sequence[Path]) -> str:
    """Where an item goes in a bag of several, below the folder that it was found in if there are several of those."""
    below = item.folder.relative_to(item.root)
    return (
        below.as_posix() if len(roots) == 1 else f"{roots.index(item.root) + 1:02} {item.root.resolve().name}/{below}"
    )


def _say(folder: Path, item: Path, record: Record) -> None:
    folder.mkdir(parents=True, exist_ok=True)
    for name, data in said_of(item, record).items():
        (folder / name).write_bytes(data)


def _insist(bag: Any, item: Path, record: Record, below: str) -> None:
    """Raises FormatError unless the payload has what the record says."""
    start = f"data/{below}"
    entries = ((path, digests) for path, digests in bag.payload_entries().items() if path.startswith(start))
    insist_on_digests(item, record, {path.removeprefix(start): digests["sha256"] for path, digests in entries})


def bags_in(folder: Path) -> list[Path]:
    """The bag that a path is, or the bags right below it. Raises UsageError where there is none."""
    if _is_bag(folder):
        return [folder]
    found = sorted(filter(_is_bag, folder.iterdir())) if folder.is_dir() else []
    if not found:
        raise UsageError(f"{folder} is no bag, and holds none.", "Give the folder or ZIP file of a bag.")
    return found


def _is_bag(path: Path) -> bool:
    return is_plain(path / DECLARATION) or (path.suffix == ".zip" and is_plain(path))


def _bagit() -> Any:
    try:
        import bagit
    except ImportError as problem:
        raise UsageError(
            "Bags need the `bagit` package.", "Install it with: python -m pip install 'mudlark[archive]'"
        ) from problem
    import logging

    logging.getLogger("bagit").setLevel(logging.CRITICAL)
    return bagit


@contextmanager
def _standing() -> Any:
    """The working folder as it was, which the package changes."""
    here = Path.cwd()
    try:
        yield
    finally:
        os.chdir(here)


def _info(records: Sequence[Record]) -> dict[str, str]:
    """What the records say of themselves, by the names of RFC 8493 §2.2.2."""
    facts = {"Bag-Software-Agent": f"Mudlark {__version__}"}
    if len(records) == 1:
        source = records[0].source
        description = source.page.description if source.page else None
        facts["External-Identifier"] = source.identity or source.address
        facts["External-Description"] = ": ".join(filter(None, (records[0].title, description)))
        listed = [f"{name}: {text}" for name, text in source.listed.items()]
        facts["Internal-Sender-Description"] = "; ".join([f"Verdict when it was hauled: {records[0].verdict}", *listed])
    else:
        facts["External-Description"] = f"{len(records)} items: " + "; ".join(one.title for one in records[:20])
    return {name: " ".join(text.split()) for name, text in facts.items()}


def _payload(bag: Path) -> bytes | None:
    """The manifest of what is in a bag; None if it is none."""
    try:
        if bag.suffix == ".zip":
            with zipfile.ZipFile(bag) as archive:
                names = (name for name in archive.namelist() if name.count("/") == 1 and name.endswith(f"/{_LISTS}"))
                return archive.read(next(names))
        return (bag / _LISTS).read_bytes()
    except (OSError, zipfile.BadZipFile, StopIteration):
        return None


def _placed(made: Path, into: Path, name: str, *, zipped: bool) -> tuple[Path, bool]:
    """The bag under a name that was free; or the one that is there, if it has the same in it."""
    payload = _payload(made)
    number = 1
    while True:
        target = into / (numbered(name, number) + (".zip" if zipped else ""))
        number += 1
        if os.path.lexists(target):
            if _payload(target) == payload:
                return target, False
            continue
        if zipped:
            _write_zip(made, target)
            return target, True
        try:
            rename_to_free(made, target)
        except FileExistsError:
            continue
        sync_folder(into)
        return target, True


def _write_zip(made: Path, target: Path) -> None:
    """A bag as one file, nothing packed: media are already."""
    with (
        atomic_write(target, "Choose another folder with --into.") as file,
        zipfile.ZipFile(file, "w", strict_timestamps=False) as archive,
    ):
        for path in sorted(made.rglob("*")):
            archive.write(path, readable(str(path.relative_to(made.parent))))
