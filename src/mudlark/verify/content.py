"""Is a file that is no film whole? What can be told of archives, pictures and documents.

What cannot be looked into is skipped, and the check says so: then only a digest can prove it.
"""

import bz2
import codecs
import csv
import gzip
import lzma
import tarfile
from collections import Counter
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import BinaryIO, Protocol

from mudlark.errors import FormatError
from mudlark.guard import reading
from mudlark.media.forms import CATEGORIES, PICTURES, PROMISED
from mudlark.plain import open_plain
from mudlark.text import counted
from mudlark.verify import zipped
from mudlark.verify.account import Account
from mudlark.verify.forms.pdf import check_pdf
from mudlark.verify.forms.pictures import check_picture, check_svg
from mudlark.verify.zipped import is_bomb

_TEXTUAL = frozenset({"text", "html", "xml", "json", "unknown"})  # what comes in place of something that is gone
_PLAYED = ("video", "audio")
_A = {"gzip": "a gzip", "bzip2": "a bzip2", "xz": "an xz"}
_MOST_MEMORY = 100_000_000  # bytes that unpacking may take
_MOST_UNPACKED = 64 << 30  # bytes that are unpacked as a check
_SOME = 1 << 20
_TAR_END = 512  # bytes of zeros in place of a header
_LARGEST_JSON = 50_000_000
_TABLES, _LARGEST_TABLE = {".csv": ",", ".tsv": "\t"}, 50_000_000


def check_content(path: Path, form: str, account: Account) -> list[tuple[str, int]]:
    """Check a file by what its first bytes say it is; gives the names and sizes inside an archive."""
    if form == "zip":
        return _check_zip(path, account)
    if is_misnamed(path, form):
        text = f"{path.name} is named {path.suffix} but holds {'something else' if form == 'unknown' else form.upper()}"
        played = any(CATEGORIES.get(one) in _PLAYED for one in _promised(path))
        account.failed("content", "misnamed", text, grave=played and form != "unknown")
    elif form in PICTURES:
        check_picture(path, account)
    elif form == "pdf":
        check_pdf(path, account)
    elif form in _A:
        _check_packed(path, form, account)
    elif form == "tar":
        _check_tar(path, account)
    elif form == "svg":
        check_svg(path, account)
    elif form == "json" and path.stat().st_size <= _LARGEST_JSON:
        _check_json(path, account)
    elif (words := _table_in_words(path, form)) is not None:
        account.skipped("content", f"{path.name}: {words}; a table does not say where it ends")
    else:
        account.skipped(
            "content", f"{path.name}: Mudlark does not look into this format; only a digest can prove it whole"
        )
    return []


def _table_in_words(path: Path, form: str) -> str | None:
    """What is in a table of text (RFC 4180); None if a file is none that can be read."""
    if form not in _TEXTUAL or path.suffix.lower() not in _TABLES or path.stat().st_size > _LARGEST_TABLE:
        return None
    try:
        with path.open(encoding="utf-8-sig", newline="") as file:
            widths = Counter(len(row) for row in csv.reader(file, delimiter=_TABLES[path.suffix.lower()], strict=True))
    except (OSError, ValueError, csv.Error):
        return None
    cells = counted(max(widths), "cell") if len(widths) == 1 else f"{min(widths)} to {max(widths)} cells"
    return f"{counted(widths.total(), 'row')} of {cells}" if widths else None


def is_misnamed(path: Path, form: str) -> bool:
    """True if a text stands where the name promises something else: the page of an error, likely."""
    promised = _promised(path)
    return bool(promised) and form not in promised and form in _TEXTUAL


def _promised(path: Path) -> frozenset[str]:
    """The forms that a name promises; none if it promises nothing."""
    return PROMISED.get(path.suffix.lower().lstrip("."), frozenset())


def _check_packed(path: Path, form: str, account: Account) -> None:
    """Unpacked to its end, where its own checksum stands (RFC 1952 §2.3.1 for gzip)."""
    packed, size = path.stat().st_size, 0
    try:
        with reading(f"The {form} file"), open_plain(path) as file:
            for block in _unpacked(file, form):
                size += len(block)
                if size > _MOST_UNPACKED or is_bomb(packed, size):
                    account.skipped("content", f"{_A[form]} file that unpacks to more than is unpacked as a check")
                    return
    except FormatError as problem:
        if "Memory usage limit" in problem.what:
            account.skipped("content", f"{_A[form]} file that takes more memory to unpack than a check may")
        else:
            account.failed("content", "archive", problem.what, grave=True)
        return
    account.passed("content", f"{_A[form]} file that unpacks to {size:,} bytes with its checksum")
    account.cover("content", packed)


class _Unpacker(Protocol):
    """What unpacks one stream of a packed file."""

    @property
    def eof(self) -> bool: ...
    @property
    def needs_input(self) -> bool: ...
    @property
    def unused_data(self) -> bytes: ...
    def decompress(self, data: bytes, max_length: int, /) -> bytes: ...


_UNPACKERS: dict[str, Callable[[], _Unpacker]] = {
    "bzip2": bz2.BZ2Decompressor,
    # with a bound on its memory, which its file object does not have
    "xz": lambda: lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=_MOST_MEMORY),
}


def _unpacked(file: BinaryIO, form: str) -> Iterator[bytes]:
    """What is in a packed file, piece by piece. Streams may follow each other, with zeros in between (XZ §2.2), and
    nothing else may stand behind them."""
    if form == "gzip":
        with gzip.GzipFile(fileobj=file) as inside:
            while block := inside.read(_SOME):
                yield block
        return
    unpacker, data = _UNPACKERS[form](), b""
    while True:
        if unpacker.eof:
            data = unpacker.unused_data.lstrip(b"\0")
            while not data and (more := file.read(_SOME)):
                data = more.lstrip(b"\0")
            if not data:
                return
            unpacker = _UNPACKERS[form]()
        elif unpacker.needs_input and not (data := file.read(_SOME)):
            raise EOFError("it ends before its end")
        yield unpacker.decompress(data, _SOME)
        data = b""


def _check_tar(path: Path, account: Account) -> None:
    """Every header has its checksum, and the archive ends as one does; what is in the files is not covered."""
    count = 0
    try:
        with reading("The tar file"), open_plain(path) as file, tarfile.open(fileobj=file, mode="r:") as archive:
            while archive.next() is not None:
                vars(archive)["members"].clear()  # which are kept otherwise, however many there are
                count += 1
            file.seek(archive.offset)
            ended, empty = file.read(_TAR_END), True
            while block := file.read(_SOME):
                empty = empty and not any(block)
    except FormatError as problem:
        account.failed("content", "archive", problem.what, grave=True)
        return
    if len(ended) < _TAR_END or any(ended) or path.stat().st_size % _TAR_END:
        account.failed(
            "content", "archive", "The tar file does not end as one should; it is likely cut short", grave=True
        )
    elif not empty:
        text = f"Something stands behind the end of the tar file, at byte {archive.offset:,}: a header is likely lost"
        account.failed("content", "archive", text, grave=True, offset=archive.offset)
    else:
        account.passed("content", f"a tar file of {count:,} entries, each with the checksum of its header")
        account.cover("content", path.stat().st_size)


def _check_json(path: Path, account: Account) -> None:
    """JSON to its end (RFC 8259), in UTF-8; nothing is built of it."""
    import msgspec

    try:
        with reading("The JSON"), open_plain(path) as file:
            data = file.read(_LARGEST_JSON + 1)
            str(data, "utf-8-sig")
            msgspec.json.decode(data.removeprefix(codecs.BOM_UTF8), type=msgspec.Raw)
    except FormatError as problem:
        account.failed("content", "document", problem.what)
    else:
        account.passed("content", "JSON that reads to its end")
        account.cover("content", len(data))


def _check_zip(path: Path, account: Account) -> list[tuple[str, int]]:
    entries: list[tuple[str, int]] = []
    try:
        with zipped.opened(path) as archive:
            inside = [entry for entry in archive.infolist() if not entry.is_dir()]
            entries = [(entry.filename, entry.file_size) for entry in inside]
            locked = [words for entry in inside if (words := zipped.cannot_unpack(entry))]
            parts = zipped.parts_of(archive, path.stat().st_size)
            for entry in inside:
                if not zipped.cannot_unpack(entry):
                    for _ in zipped.blocks(archive, entry):
                        pass
    except zipped.TooMuch as problem:
        account.skipped("content", f"{problem.what}; only a digest can prove it whole")
        return []
    except FormatError as problem:
        account.failed("content", "archive", f"{problem.what}", grave=True)
        return entries
    count = "1 file" if len(entries) == 1 else f"{len(entries):,} files"
    if locked:
        account.skipped("content", f"a ZIP file, {count} inside; {len(locked):,} cannot be tried: one {locked[0]}")
    else:
        account.passed("content", f"a ZIP file, {count} inside, all with their checksums")
        account.cover("content", parts.content)
        account.cover("structure", parts.structure)
        for begin, end in parts.stray:
            account.leave_out(f"{end - begin:,} bytes from byte {begin:,} on, between its parts")
    return entries
