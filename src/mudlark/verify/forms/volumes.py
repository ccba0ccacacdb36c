"""Disk images by their volume descriptors, and installers by their containers: does the file have as many bytes as they
say? Nothing is proven of what is inside.
"""

from collections.abc import Callable
from pathlib import Path
from typing import BinaryIO

from mudlark.verify.account import Account
from mudlark.verify.forms.found import Found

_SECTOR = 2048
_DESCRIPTORS = 16  # the first sector with a descriptor (ECMA-119 §8, ECMA-167 §2/9)
_MOST = 64
_PADDING = 512  # sectors that writers add behind


def check_volume(path: Path, form: str, account: Account) -> Found:
    """Look at the descriptors of a disk image. form: iso or udf."""
    size = path.stat().st_size
    with path.open("rb") as file:
        stated = _stated(file)
    if stated is None:
        account.skipped("content", f"{path.name}: its volume descriptors do not say how large it is")
    elif stated > size:
        text = f"The volume states {stated:,} bytes; the image has {size:,}: it is cut off"
        account.failed("content", "cut-off", text, grave=True, offset=size)
    else:
        extra = size - stated
        more = f", and {extra:,} bytes behind it" if extra > _PADDING * _SECTOR else ""
        account.skipped("content", f"a volume of {stated:,} bytes that fits the image{more}; it has no check sums")
    return Found()


def _stated(file: BinaryIO) -> int | None:
    """Bytes that the primary volume descriptor (ECMA-119 §8.4) or the partition (ECMA-167 §3/10.5) states."""
    found = None
    for sector in range(_DESCRIPTORS, _DESCRIPTORS + _MOST):
        file.seek(sector * _SECTOR)
        data = file.read(_SECTOR)
        if data[1:6] == b"CD001" and data[:1] == b"\1":
            blocks, length = int.from_bytes(data[80:84], "little"), int.from_bytes(data[128:130], "little")
            found = max(found or 0, blocks * (length or _SECTOR))
        elif data[1:6] not in (b"CD001", b"BEA01", b"NSR02", b"NSR03", b"TEA01", b"BOOT2"):
            break
    file.seek(256 * _SECTOR)
    anchor = file.read(_SECTOR)
    if int.from_bytes(anchor[:2], "little") == 2:
        length, place = int.from_bytes(anchor[16:20], "little"), int.from_bytes(anchor[20:24], "little")
        for sector in range(place, place + min(_MOST, length // _SECTOR)):
            file.seek(sector * _SECTOR)
            data = file.read(_SECTOR)
            if int.from_bytes(data[:2], "little") == 5:
                begin, count = int.from_bytes(data[188:192], "little"), int.from_bytes(data[192:196], "little")
                found = max(found or 0, (begin + count) * _SECTOR)
    return found


def check_installer(path: Path, form: str, account: Account) -> Found:
    """Look at the container of an installer. form: exe, deb, rpm, cab."""
    size = path.stat().st_size
    with path.open("rb") as file:
        stated = _CONTAINERS[form](file, size)
    if stated is None:
        account.failed("content", "container", f"The container of {path.name} cannot be read", grave=True)
    elif stated > size:
        text = f"{path.name} states {stated:,} bytes and has {size:,}: it is cut off"
        account.failed("content", "cut-off", text, grave=True, offset=size)
    else:
        account.skipped("content", f"its container ({form}) fits the file; what is inside is not looked into")
    return Found()


def _exe(file: BinaryIO, size: int) -> int | None:
    """Where the last section of a portable executable ends."""
    head = file.read(64)
    place = int.from_bytes(head[60:64], "little")
    file.seek(place)
    header = file.read(24)
    if header[:4] != b"PE\0\0":
        return 64 if head[:2] == b"MZ" else None  # an older kind, of which nothing is known
    count, optional = int.from_bytes(header[6:8], "little"), int.from_bytes(header[20:22], "little")
    file.seek(place + 24 + optional)
    sections = file.read(40 * min(count, 200))
    ends = [
        int.from_bytes(sections[at + 16 : at + 20], "little") + int.from_bytes(sections[at + 20 : at + 24], "little")
        for at in range(0, len(sections) - 39, 40)
    ]
    return max(ends, default=None)


def _deb(file: BinaryIO, size: int) -> int | None:
    """Where the last member of an ar archive ends."""
    at = 8
    while at + 60 <= size:
        file.seek(at)
        head = file.read(60)
        if head[58:60] != b"`\n" or not head[48:58].strip().isdigit():
            return None
        length = int(head[48:58])
        at += 60 + length + length % 2
    return at - 1 if at == size + 1 else max(at, 0)


def _cab(file: BinaryIO, size: int) -> int | None:
    return int.from_bytes(file.read(12)[8:12], "little") or None


def _rpm(file: BinaryIO, size: int) -> int | None:
    return 96 if len(file.read(96)) == 96 else None


_CONTAINERS: dict[str, Callable[[BinaryIO, int], int | None]] = {"exe": _exe, "deb": _deb, "cab": _cab, "rpm": _rpm}
