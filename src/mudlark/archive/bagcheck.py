"""Is a bag whole? RFC 8493 §3: as a folder or a ZIP file, which may come from anyone.

Every file is read once, by all digests that are listed for it. Nothing is followed, waited for or unpacked to the disk.
"""

import hashlib
import re
import zipfile
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path
from typing import Protocol

from mudlark.archive.tree import DECLARATION, files_below
from mudlark.errors import FormatError, MudlarkError, examining
from mudlark.plain import open_plain
from mudlark.text import printable
from mudlark.verify.zipped import blocks, opened

_ALGORITHMS = frozenset({"md5", "sha1", "sha224", "sha256", "sha384", "sha512"})
_LIST = re.compile(r"(tag)?manifest-([a-z0-9]{1,20})\.txt")
_LINE = re.compile(r"([0-9A-Fa-f]{32,128})[ \t]+\*?(\S.*)")
_OXUM = re.compile(r"^Payload-Oxum:[ \t]*(\d{1,18})\.(\d{1,12})[ \t]*$", re.M)
_LARGEST_LIST = 50_000_000  # bytes
_MOST = 200  # complaints that are told
_BLOCK = 1 << 20
_ESCAPES = {"%0a": "\n", "%0d": "\r", "%25": "%"}


class _Holder(Protocol):
    """What holds the files of a bag. sizes: bytes of each, by its path. odd: what is in it and not opened, in words."""

    sizes: dict[str, int]
    odd: list[str]

    def blocks(self, name: str) -> Iterator[bytes]: ...


class _Folder:
    def __init__(self, path: Path) -> None:
        self._path = path
        self.sizes: dict[str, int] = {}
        self.odd: list[str] = []
        for name, words in files_below(path):
            if words:
                self.odd.append(f"{name} is {words}, and was not opened")
            else:
                self.sizes[name] = (path / name).lstat().st_size

    def blocks(self, name: str) -> Iterator[bytes]:
        with open_plain(self._path / name) as file:
            while block := file.read(_BLOCK):
                yield block


class _Zip:
    """root: of the only folder at the top of the archive, which is the bag."""

    def __init__(self, archive: zipfile.ZipFile) -> None:
        self._archive = archive
        self.odd: list[str] = []
        self._entries: dict[str, zipfile.ZipInfo] = {}
        roots = {entry.filename.partition("/")[0] for entry in archive.infolist()}
        if len(roots) != 1:
            raise FormatError("It does not hold one bag")
        for entry in archive.infolist():
            name = entry.filename.partition("/")[2]
            if entry.is_dir() or not name:
                continue
            if name in self._entries:
                self.odd.append(f"{name} is in it twice")
            self._entries[name] = entry
        self.sizes = {name: entry.file_size for name, entry in self._entries.items()}

    def blocks(self, name: str) -> Iterator[bytes]:
        return blocks(self._archive, self._entries[name])


def check_bag(path: Path) -> list[str]:
    """What is wrong with a bag: nothing, if it is whole."""
    try:
        with examining(path):
            if path.is_dir():
                return _check(_Folder(path))
            with opened(path) as archive:
                return _check(_Zip(archive))
    except MudlarkError as problem:
        return [problem.what]


def _check(holder: _Holder) -> list[str]:
    wrong = list(holder.odd)
    if DECLARATION not in holder.sizes:
        return [*wrong, f"It is no bag: it has no {DECLARATION}"]
    declared = _text(holder, DECLARATION)
    version = re.match(r"BagIt-Version: (\d{1,3}\.\d{1,3})\s+Tag-File-Character-Encoding: *UTF-8\s*$", declared, re.I)
    if version is None:
        return [*wrong, f"{DECLARATION} does not say what version of BagIt it follows, and that it is in UTF-8"]
    lists = {name: found for name in sorted(holder.sizes) if (found := _LIST.fullmatch(name))}
    if not any(not found[1] for found in lists.values()):
        return [*wrong, "It is no bag: nothing lists its payload"]
    payload = {name for name in holder.sizes if name.startswith("data/")}
    expected: defaultdict[str, dict[str, str]] = defaultdict(dict)
    for name, found in lists.items():
        if found[2] not in _ALGORITHMS:
            wrong.append(f"{name} is of a digest that is not known here")
            continue
        listed = set()
        for digest, file in _listed(_text(holder, name), version[1], name, wrong):
            if file not in holder.sizes:
                wrong.append(f"{file} is missing, and listed in {name}")
            elif expected[file].setdefault(found[2], digest) != digest:
                wrong.append(f"{file} is listed twice, and differently")
            listed.add(file)
        if not found[1]:
            wrong += [f"{file} is not listed in {name}" for file in sorted(payload - listed)]
    wrong += _check_count(holder, payload)
    for file, digests in sorted(expected.items()):
        wrong += _check_file(holder, file, digests)
        if len(wrong) > _MOST:
            break
    words = [printable(one) for one in wrong]
    return words if len(words) <= _MOST else [*words[:_MOST], "and more"]


def _text(holder: _Holder, name: str) -> str:
    if holder.sizes[name] > _LARGEST_LIST:
        raise FormatError(f"{name} is larger than any list")
    return b"".join(holder.blocks(name)).decode("utf-8-sig", "replace")


def _listed(text: str, version: str, name: str, wrong: list[str]) -> Iterator[tuple[str, str]]:
    """Digests and paths; a path has its line breaks escaped, and since version 1.0 its per cent signs (§2.1.3)."""
    for line in text.splitlines():
        if not line.strip():
            continue
        match = _LINE.fullmatch(line.rstrip())
        if match is None:
            wrong.append(f"{name} has a line that is none: {line[:80]}")
            continue
        escapes = r"%0[AaDd]|%25" if version != "0.97" else r"%0[AaDd]"
        file = re.sub(escapes, lambda found: _ESCAPES[found[0].lower()], match[2])
        yield match[1].lower(), file.removeprefix("./")


def _check_count(holder: _Holder, payload: set[str]) -> list[str]:
    """What bag-info.txt says of the payload: bytes, and number of files (§2.2.2)."""
    if "bag-info.txt" not in holder.sizes:
        return []
    stated = _OXUM.search(_text(holder, "bag-info.txt").replace("\r", "\n"))
    there = sum(holder.sizes[name] for name in payload), len(payload)
    if stated is None or (int(stated[1]), int(stated[2])) == there:
        return []
    return [f"It has {there[1]:,} files of {there[0]:,} bytes, where it says {int(stated[2]):,} of {int(stated[1]):,}"]


def _check_file(holder: _Holder, file: str, digests: dict[str, str]) -> list[str]:
    reckoned = {name: hashlib.new(name) for name in digests}
    try:
        for block in holder.blocks(file):
            for one in reckoned.values():
                one.update(block)
    except MudlarkError as problem:
        return [problem.what]
    except OSError as problem:
        return [f"{file} cannot be read: {problem.strerror}"]
    return [
        f"{file} has another {name} than is listed"
        for name, one in reckoned.items()
        if one.hexdigest() != digests[name]
    ]
