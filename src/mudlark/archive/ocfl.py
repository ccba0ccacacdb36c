"""Items as objects of an OCFL storage root (Oxford Common File Layout 1.1): one object for what has one identity, with
a version for each state that was handed over. What is there already is never changed.

Objects lie by the registered layout 0003 (hash and identifier n-tuple). A version has its name before the object says
that it is the newest; where that was interrupted, the next run finishes it.
"""

import hashlib
import os
import tempfile
from contextlib import suppress
from pathlib import Path, PurePosixPath
from typing import Any
from urllib.parse import quote
from uuid import NAMESPACE_URL, uuid5

import msgspec

from mudlark.archive.handover import METADATA, Package, give, insist_on_digests, plain_files, record_for, said_of
from mudlark.archive.place import inside_item, make_durable, rename_to_free, sync_folder
from mudlark.archive.preservation import identity_in_words
from mudlark.archive.record import Record
from mudlark.archive.tree import files_below
from mudlark.atomic import atomic_write
from mudlark.errors import FormatError, StorageError, UsageError
from mudlark.fetch.store import now
from mudlark.plain import is_plain, read_plain

_ROOT, _OBJECT = "0=ocfl_1.1", "0=ocfl_object_1.1"
_LAYOUT = "0003-hash-and-id-n-tuple-storage-layout"
_TUPLE, _TUPLES = 3, 3
_CONFIG = {"extensionName": _LAYOUT, "digestAlgorithm": "sha256", "tupleSize": _TUPLE, "numberOfTuples": _TUPLES}
_INVENTORY, _SIDECAR = "inventory.json", "inventory.json.sha512"
_LARGEST = 200_000_000  # bytes of an inventory
_BLOCK = 1 << 20
_ADVICE = "Make room, or choose another folder with --into."


class _Version(msgspec.Struct):
    """state: logical paths by the SHA-512 of what stands there."""

    created: str
    state: dict[str, list[str]]
    message: str = ""
    user: dict[str, str] = {}


class Inventory(msgspec.Struct):
    """What an object holds (OCFL 1.1 §3.5). manifest: paths of files by their SHA-512. versions: by name (v1, v2 …)."""

    id: str
    head: str
    manifest: dict[str, list[str]]
    versions: dict[str, _Version]
    type: str = "https://ocfl.io/1.1/spec/#inventory"
    digestAlgorithm: str = "sha512"  # noqa: N815, the standard's name
    fixity: dict[str, dict[str, list[str]]] = {}


_decoder = msgspec.json.Decoder(Inventory)


def store(item: Path, into: Path, user: dict[str, str]) -> Package:
    """Put an item into a storage root, which is made if there is none: as an object, or as the next version of one.

    user: who hands it over (name, address). Raises FormatError where the item is not what its record says, StorageError
    where nothing can be written, UsageError where the folder is something else.
    """
    record = record_for(item)
    try:
        _make_root(into)
        return _stored(item, record, into, user)
    except OSError as problem:
        raise StorageError(f"Cannot store {item.name} in {into}: {problem.strerror}.", _ADVICE) from problem


def _stored(item: Path, record: Record, into: Path, user: dict[str, str]) -> Package:
    identifier = uuid5(NAMESPACE_URL, identity_in_words(record)).urn  # a URI, as the standard asks for
    place = into / _place_of(identifier)
    there = _finished(place) if os.path.lexists(place) else None
    inventory = there or Inventory(identifier, "", {}, {})
    files = {name: _digests(item / name) for name in plain_files(item)}
    insist_on_digests(item, record, {name: sha256 for name, (_, sha256, _) in files.items()})
    said = {f"{METADATA}/{name}": data for name, data in said_of(item, record).items()}
    state: dict[str, list[str]] = {}
    for name, (digest, _, _) in files.items():
        state.setdefault(digest, []).append(name)
    for name, data in said.items():
        state.setdefault(hashlib.sha512(data).hexdigest(), []).append(name)
    size = sum(length for _, _, length in files.values())
    known = next((name for name, version in inventory.versions.items() if version.state == state), None)
    if known:
        return Package(place, 1, len(files), size, new=False, version=known)
    inventory.head = head = f"v{len(inventory.versions) + 1}"
    message = f"{'Changed' if there else 'Hauled'}; its verdict was {record.verdict}"
    inventory.versions[head] = _Version(now(), state, message, user)
    with tempfile.TemporaryDirectory(prefix=".mudlark-ocfl-", dir=into) as temporary:
        made = Path(temporary) / "object" / head
        _fill(made, item, said, inventory)
        inventory.fixity["sha256"] = {
            **inventory.fixity.get("sha256", {}),
            **{sha256: inventory.manifest[digest] for digest, sha256, _ in files.values()},
        }
        _write_inventory(made, inventory)
        if there is None:
            whole = made.parent
            (whole / _OBJECT).write_text("ocfl_object_1.1\n")
            _write_inventory(whole, inventory)
            make_durable(whole)
            place.parent.mkdir(parents=True, exist_ok=True)
            rename_to_free(whole, place)
            sync_folder(place.parent)
        else:
            make_durable(made)
            rename_to_free(made, place / head)
            sync_folder(place)
            _install(place, head)
    return Package(place, 1, len(files), size, version=head)


def is_root(folder: Path) -> bool:
    """True if a folder is a storage root."""
    return is_plain(folder / _ROOT)


def objects_in(root: Path) -> list[Path]:
    """The objects of a storage root."""
    return sorted(Path(root, name).parent for name, _ in files_below(root) if PurePosixPath(name).name == _OBJECT)


def check_object(place: Path) -> list[str]:
    """What is wrong with an object, in words; nothing if it is whole: all that its inventory names is there and as it
    was, and nothing else is."""
    wrong: list[str] = []
    try:
        inventory = _read(place)
    except FormatError as problem:
        return [problem.what]
    head = place / inventory.head
    if _bytes(head / _INVENTORY) != _bytes(place / _INVENTORY):
        wrong.append(f"{_INVENTORY} is not that of its newest version, {inventory.head}")
    if list(inventory.versions) != [f"v{number + 1}" for number in range(len(inventory.versions))]:
        wrong.append("its versions are not numbered one after the other")
    listed: dict[str, str] = {path: digest for digest, paths in inventory.manifest.items() for path in paths}
    for path, digest in listed.items():
        file = inside_item(place, path)
        if file is None or not is_plain(file):
            wrong.append(f"{path} is missing")
        elif _digests(file)[0] != digest.lower():
            wrong.append(f"{path} has changed")
    for name, version in inventory.versions.items():
        if not version.state.keys() <= inventory.manifest.keys():
            wrong.append(f"{name} has something that no file holds")
        try:
            _read(place / name)
        except FormatError as problem:
            wrong.append(problem.what)
    own = {_OBJECT, _INVENTORY, _SIDECAR}
    own |= {f"{name}/{one}" for name in inventory.versions for one in (_INVENTORY, _SIDECAR)}
    wrong += [f"{name} is in no inventory" for name, _ in files_below(place) if name not in listed and name not in own]
    return wrong


def _make_root(into: Path) -> None:
    into.mkdir(parents=True, exist_ok=True)
    if is_root(into):
        _insist_on_layout(into)
        return
    if any(into.iterdir()):
        raise UsageError(f"{into} is no OCFL storage root, and not empty.", "Choose an empty folder with --into.")
    described = {
        "extension": _LAYOUT,
        "description": "SHA-256 of the identifier in three folders of three characters, then it",
    }
    settings = into / "extensions" / _LAYOUT
    settings.mkdir(parents=True)
    (settings / "config.json").write_bytes(msgspec.json.format(msgspec.json.encode(_CONFIG), indent=2))
    (into / "ocfl_layout.json").write_bytes(msgspec.json.format(msgspec.json.encode(described), indent=2))
    (into / _ROOT).write_text("ocfl_1.1\n")  # last: with it the folder is a root
    make_durable(into)


def _insist_on_layout(root: Path) -> None:
    """Raises UsageError for a root whose objects lie otherwise."""
    stated = _bytes(root / "ocfl_layout.json")
    try:
        layout = msgspec.json.decode(stated or b"{}", type=dict[str, Any]).get("extension")
        config = msgspec.json.decode(
            _bytes(root / "extensions" / _LAYOUT / "config.json") or b"{}", type=dict[str, Any]
        )
    except msgspec.DecodeError as problem:
        raise FormatError(f"{root / 'ocfl_layout.json'} cannot be read: {problem}") from problem
    if layout != _LAYOUT or {**config, **_CONFIG} != config:
        what = f"{root} is a storage root whose objects lie by {layout or 'no layout that it states'}."
        raise UsageError(what, f"Choose one that has {_LAYOUT}, or an empty folder.")


def _place_of(identifier: str) -> Path:
    hashed = hashlib.sha256(identifier.encode()).hexdigest()
    tuples = (hashed[at : at + _TUPLE] for at in range(0, _TUPLE * _TUPLES, _TUPLE))
    return Path(*tuples, quote(identifier, safe="").replace("%3A", "%3a"))  # of a URN nothing else is encoded


def _digests(file: Path) -> tuple[str, str, int]:
    """SHA-512, SHA-256 and bytes of a file, which is read once."""
    long, short, size = hashlib.sha512(), hashlib.sha256(), 0
    with file.open("rb") as opened:
        while block := opened.read(_BLOCK):
            long.update(block)
            short.update(block)
            size += len(block)
    return long.hexdigest(), short.hexdigest(), size


def _fill(made: Path, item: Path, said: dict[str, bytes], inventory: Inventory) -> None:
    """The files of the newest version that the object has not yet, and where they are."""
    made.mkdir(parents=True)
    for digest, names in inventory.versions[made.name].state.items():
        if digest in inventory.manifest:
            continue
        path = f"{made.name}/content/{names[0]}"
        target = made.parent / path
        if names[0] in said:
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(said[names[0]])
        else:
            give(item / names[0], names[0], target)
        inventory.manifest[digest] = [path]


def _write_inventory(folder: Path, inventory: Inventory) -> None:
    data = msgspec.json.format(msgspec.json.encode(inventory), indent=2) + b"\n"
    (folder / _INVENTORY).write_bytes(data)
    (folder / _SIDECAR).write_bytes(_sidecar(data))


def _sidecar(data: bytes) -> bytes:
    return f"{hashlib.sha512(data).hexdigest()} {_INVENTORY}\n".encode()


def _read(folder: Path) -> Inventory:
    """The inventory in a folder. Raises FormatError where it is damaged."""
    try:
        data, stated = read_plain(folder / _INVENTORY, _LARGEST), read_plain(folder / _SIDECAR, _BLOCK)
        if stated.split()[:1] != _sidecar(data).split()[:1]:
            raise FormatError(f"{folder / _INVENTORY} is not what its checksum says")
        return _decoder.decode(data)
    except OSError as problem:
        raise FormatError(f"{folder} has no whole inventory: {problem.strerror}") from problem
    except msgspec.DecodeError as problem:
        raise FormatError(f"{folder / _INVENTORY} is no inventory: {problem}") from problem


def _bytes(path: Path) -> bytes | None:
    with suppress(OSError):
        return read_plain(path, _LARGEST)
    return None


def _finished(place: Path) -> Inventory:
    """The inventory of an object, once what a run before left half done is done. Raises FormatError where it is
    damaged."""
    names = [one.name for one in place.iterdir() if one.is_dir() and one.name[:1] == "v" and one.name[1:].isdecimal()]
    newest = max(names, key=lambda name: int(name[1:]), default="")
    if newest and _bytes(place / newest / _INVENTORY) != _bytes(place / _INVENTORY):
        _read(place / newest)
        _install(place, newest)
    elif newest:
        with suppress(FormatError):
            _read(place / newest)
            _install(place, newest, only_sidecar=True)
    try:
        return _read(place)
    except FormatError as problem:
        raise FormatError(problem.what, advice="See what is wrong with `mudlark bag --check`.") from problem


def _install(place: Path, head: str, *, only_sidecar: bool = False) -> None:
    """Have an object say what its newest version says."""
    for name in (_SIDECAR,) if only_sidecar else (_INVENTORY, _SIDECAR):
        data = read_plain(place / head / name, _LARGEST)
        if data != _bytes(place / name):
            with atomic_write(place / name, _ADVICE, replace=True) as file:
                file.write(data)
