"""All exchanges of a haul as WARC 1.1 (ISO 28500:2017), with the `warcio` package: a request and a response record for
each, and a revisit record where the same bytes were answered before. Each record is a member of its own in a gzip file.

What gives access is hidden, as everywhere: in addresses, header fields and texts; digests are of what is kept. Header
fields that told of codings which the kept body no longer has stand under names that begin with `X-Received-`.
"""

import asyncio
import os
import shutil
import zlib
from contextlib import suppress
from datetime import UTC, datetime
from io import BytesIO
from pathlib import Path
from typing import IO, Any
from urllib.parse import urlsplit

from mudlark import __version__
from mudlark.browser.capture import is_text
from mudlark.browser.har import Entry, Pair
from mudlark.errors import StorageError, UsageError
from mudlark.web.observer import Seen, new_body
from mudlark.web.redact import redacted, redacted_field

_CODED = frozenset({"transfer-encoding", "content-encoding"})
_LARGEST_TEXT = (
    20_000_000  # bytes of a text that is looked through for secrets; a larger one is no page and no manifest
)
_BLOCK = 1 << 20
_GZIP = zlib.MAX_WBITS | 16


def need_warcio() -> None:
    """Raises UsageError where the package is missing."""
    try:
        import warcio  # noqa: F401
    except ImportError as problem:
        raise UsageError(
            "WARC needs the `warcio` package.", "Install it with: python -m pip install 'mudlark[archive]'"
        ) from problem


class Notes(list[Seen]):
    """Exchanges that are noted before there is a file for them."""

    async def __call__(self, seen: Seen) -> None:
        self.append(seen)


class Exchanges:
    """A file of exchanges. One that is there already is gone on with, up to its last whole record; it is copied for
    that, as an item may have the same file under a second name."""

    def __init__(self, path: Path, *, keep_secrets: bool = False) -> None:
        from warcio.warcwriter import WARCWriter

        self.path = path
        self._secrets = keep_secrets
        self._bodies: dict[str, tuple[str, str]] = {}
        self._lock = asyncio.Lock()
        self._file = self._opened()
        self._member = _Member(self._file)
        self._writer = WARCWriter(self._member, gzip=False, warc_version="1.1")
        if not self._file.tell():
            facts = {
                "software": f"Mudlark {__version__}",
                "format": "WARC File Format 1.1",
                "conformsTo": "http://iipc.github.io/warc-specifications/specifications/warc-format/warc-1.1/",
            }
            if not keep_secrets:
                facts["description"] = "Values that give access are replaced by short digests of themselves."
            self._write(self._writer.create_warcinfo_record(path.name, facts), 6)

    async def __call__(self, seen: Seen) -> None:
        """Write an exchange, off the loop, one after the other. Raises StorageError if that cannot be."""
        async with self._lock:
            await asyncio.to_thread(self.write, seen)

    def write(self, seen: Seen) -> None:
        """Write an exchange. Raises StorageError if that cannot be."""
        try:
            self._write_pair(seen)
        except OSError as problem:
            raise StorageError(
                f"Cannot write {self.path}: {problem.strerror}.", "Make room; the same command goes on from here."
            ) from problem

    def close(self) -> None:
        """No more comes."""
        self._file.close()

    def _write_pair(self, seen: Seen) -> None:
        url = self._kept(seen.url)
        date = datetime.fromtimestamp(seen.moment, UTC).isoformat(timespec="microseconds").replace("+00:00", "Z")
        common = {"WARC-Date": date}
        if seen.peer:
            common["WARC-IP-Address"] = seen.peer
        target = urlsplit(url)
        path = f"{target.path or '/'}{f'?{target.query}' if target.query else ''}"
        form = self._kept(seen.form.decode("latin-1")).encode("latin-1") if seen.form else b""
        fields = self._fields(seen.sent, len(form) if form else None)
        asked = _head(f"{seen.method} {path} HTTP/1.1", fields, is_http_request=True)
        request = self._writer.create_warc_record(
            url, "request", BytesIO(form), len(form), warc_headers_dict=dict(common), http_headers=asked
        )
        if not seen.status:
            self._write(request, 6)
            return
        if seen.cut:
            common["WARC-Truncated"] = seen.cut
        kind = next((value for name, value in seen.came if name.lower() == "content-type"), "")
        readable = is_text(kind.partition(";")[0].strip().lower(), seen.url)
        body, size = self._body(seen.body, readable)
        words = f"{seen.status} {' '.join(seen.reason.split())}".strip()
        answered = _head(words, self._fields(seen.came, size), protocol=seen.version)
        response = self._writer.create_warc_record(
            url, "response", body, size, warc_headers_dict=dict(common), http_headers=answered
        )
        digest = response.rec_headers.get_header("WARC-Payload-Digest")
        if size and (first := self._bodies.get(digest)):
            response = self._writer.create_revisit_record(
                url, digest, *first, http_headers=answered, warc_headers_dict=dict(common)
            )
        elif size and not seen.cut:
            self._bodies[digest] = (url, date)
        request.rec_headers.add_header("WARC-Concurrent-To", response.rec_headers.get_header("WARC-Record-ID"))
        self._write(response, 6 if readable else 0)  # media are packed already
        self._write(request, 6)

    def _write(self, record: Any, level: int) -> None:
        self._member.begin(level)
        self._writer.write_record(record)
        self._member.end()

    def _kept(self, text: str) -> str:
        return text if self._secrets else redacted(text)

    def _fields(self, fields: list[tuple[str, str]], size: int | None) -> list[tuple[str, str]]:
        """Fields as they are kept with a body of `size` bytes, which they fit: what told of codings that it no longer
        has, or of another length, stands under another name. size: None for a head without a body."""
        kept = []
        for name, value in fields:
            other = name.lower() in _CODED or (name.lower() == "content-length" and value.strip() != str(size))
            shown = " ".join((value if self._secrets else redacted_field(name, value)).split())
            kept.append((f"X-Received-{name}" if size is not None and other else name, shown))
        if size and not any(name.lower() == "content-length" for name, _ in kept):
            kept.append(("Content-Length", str(size)))
        return kept

    def _body(self, body: IO[bytes], readable: bool) -> tuple[IO[bytes], int]:
        """A body as it is kept, and its length."""
        size = body.seek(0, 2)
        body.seek(0)
        if self._secrets or not readable or size > _LARGEST_TEXT:
            return body, size
        text = body.read().decode("latin-1")
        kept = redacted(text)
        if kept == text:
            body.seek(0)
            return body, size
        return BytesIO(kept.encode("latin-1")), len(kept)

    def _opened(self) -> IO[bytes]:
        """The file to write on, with what of it is whole; the bodies in that are remembered."""
        partial = self.path.with_name(f"{self.path.name}.partial")
        partial.unlink(missing_ok=True)
        with partial.open("xb") as new:
            if self.path.exists():
                with self.path.open("rb") as old:
                    shutil.copyfileobj(old, new)
                new.truncate(_whole(self.path))
        partial.replace(self.path)
        self._remember()
        return self.path.open("ab")

    def _remember(self) -> None:
        from warcio.archiveiterator import ArchiveIterator

        with self.path.open("rb") as file:
            for record in ArchiveIterator(file) if os.fstat(file.fileno()).st_size else ():
                header = record.rec_headers.get_header
                if record.rec_type == "response" and not header("WARC-Truncated"):
                    self._bodies[header("WARC-Payload-Digest")] = (header("WARC-Target-URI"), header("WARC-Date"))


def _head(line: str, fields: list[tuple[str, str]], **given: Any) -> Any:
    """The head of a request or an answer; in UTF-8, where the package itself would write ASCII alone."""
    from warcio.statusandheaders import StatusAndHeaders

    head = StatusAndHeaders(line, fields, **given)

    def write(header_filter: Any = None) -> None:
        head.headers_buff = head.to_bytes(header_filter, "utf-8")

    head.compute_headers_buffer = write
    return head


def _whole(path: Path) -> int:
    """Up to which byte a file consists of whole gzip members."""
    whole = at = 0
    packed = zlib.decompressobj(_GZIP)
    with path.open("rb") as file, suppress(zlib.error):
        while data := file.read(_BLOCK):
            while data:
                packed.decompress(data)
                at += len(data) - len(packed.unused_data)
                data = packed.unused_data
                if packed.eof:
                    whole, packed = at, zlib.decompressobj(_GZIP)
    return whole


class _Member:
    """Gzip (RFC 1952), a member a record."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self._packer = zlib.compressobj(6, zlib.DEFLATED, _GZIP)

    def begin(self, level: int) -> None:
        """A new member. level: how hard to pack it, from 0 to 9."""
        self._packer = zlib.compressobj(level, zlib.DEFLATED, _GZIP)

    def write(self, data: bytes) -> None:
        """Add to the member."""
        self._file.write(self._packer.compress(data))

    def flush(self) -> None:
        """Nothing is to be done before the member ends."""

    def end(self) -> None:
        """No more of the member."""
        self._file.write(self._packer.flush())
        self._file.flush()


def seen_in(entry: Entry) -> Seen | None:
    """A request that a browser made, as it was recorded; None if it did not go over HTTP."""
    request, response = entry.request, entry.response
    if not request.url.startswith(("http://", "https://")):
        return None
    body = new_body()
    kept = response.content.body()
    body.write(kept or b"")
    status = int(response.status or 0)
    has_body = kept is not None or not response.content.size
    moment = datetime.fromisoformat(entry.started_date_time).timestamp()
    posted = request.post_data.text if isinstance(request.post_data, object) and request.post_data else None
    version = (response.http_version or "").upper()
    return Seen(
        request.url,
        request.method,
        moment,
        _pairs(request.headers),
        (posted or "").encode("utf-8", "replace"),
        status,
        response.status_text or "",
        version if version.startswith("HTTP/") else "HTTP/1.1",
        _pairs(response.headers),
        body,
        None if has_body else "unspecified",
        entry.server_ip_address if isinstance(entry.server_ip_address, str) else None,
    )


def _pairs(fields: list[Pair]) -> list[tuple[str, str]]:
    """Header fields, without those that a browser writes for versions of HTTP that have no request line."""
    return [(field.name, field.value) for field in fields if not field.name.startswith(":")]
