"""What a page appends to its media sources, taken down as it comes: of each source which element plays it and how long
it is, of each of its buffers the type and every append, with its bytes.

The script in tap.js stands before the first of every frame and dedicated worker. What it tells goes to files at once.
"""

import asyncio
import base64
import hashlib
import json
import secrets
from contextlib import suppress
from importlib.resources import files
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

import msgspec

from mudlark.errors import Refused

if TYPE_CHECKING:
    from playwright.async_api import BrowserContext, CDPSession, Page

    from mudlark.media.samples import Format

MOST_BYTES = 40_000_000_000  # of one tap
_MOST_BUFFERS = 500
_MOST_APPENDS = 2_000_000
_EBML = b"\x1a\x45\xdf\xa3"
_SECTION = 1 << 17  # bytes that an append with a section that describes tracks has at most
_FIRST = 3  # appends to a buffer, in which its tracks are described
_KNOWN = 4096  # bytes by which an append is known again


class Append(msgspec.Struct, omit_defaults=True):
    """One append. time: when, in seconds since 1970. place: in the file of its buffer; size: bytes; kept: how many of
    them are there. offset: `timestampOffset` when it came, in seconds; settled: when it was taken in. window: in which
    of its pictures and sounds are presented, seconds; None for no end. anew: the parser was reset before it. type: of
    the buffer by then."""

    time: float
    place: int
    size: int
    offset: float = 0.0
    settled: float | None = None
    window: tuple[float, float | None] = (0.0, None)
    mode: str = "segments"
    type: str = ""
    anew: bool = False
    kept: int = 0
    sha256: str | None = None


class TappedBuffer(msgspec.Struct):
    """A source buffer. number: among all, from 1. type: media type with codecs, as the page gave it. file: what was
    appended, one behind the other. covered: what it ever held, in seconds."""

    number: int
    source: "TappedSource"
    type: str
    file: Path
    appends: list[Append] = msgspec.field(default_factory=list)
    covered: list[tuple[float, float]] = msgspec.field(default_factory=list)
    anew: bool = False
    size: int = 0
    writer: BinaryIO | None = None
    hashing: Any = None


class TappedSource(msgspec.Struct):
    """A media source. frame: address of the frame whose element plays it. address: the blob: address that it has, if
    any. tag: of the element, where it was handed over as an object. length: seconds, None while unknown; endless: it
    is a broadcast. ended: the page said that all of it was appended."""

    id: str
    frame: str
    address: str | None = None
    tag: str | None = None
    length: float | None = None
    endless: bool = False
    ended: bool = False
    buffers: list[TappedBuffer] = msgspec.field(default_factory=list)

    @property
    def size(self) -> int:
        """Bytes that were appended."""
        return sum(append.size for buffer in self.buffers for append in buffer.appends)

    @property
    def covered(self) -> list[tuple[float, float]]:
        """The seconds that every buffer with something in it has held."""
        filled = [buffer.covered for buffer in self.buffers if buffer.appends]
        common = filled[0] if filled else []
        for other in filled[1:]:
            common = _common(common, other)
        return common


class Tap:
    """Taps the pages of a context. folder: where the bytes go. keep: all of them, else the first of a few appends.
    systems: key systems by which the page protects what it plays; None as long as it does not."""

    def __init__(self, folder: Path, *, keep: bool) -> None:
        self.folder = folder
        self.keep = keep
        self.sources: dict[str, TappedSource] = {}
        self.systems: list[str] | None = None
        self.overfull = False
        self._buffers: dict[str, TappedBuffer] = {}
        self._heard: dict[str, int] = {}  # by realm: the last note
        self._total = 0
        self._given = {"binding": f"b{secrets.token_hex(8)}", "channel": secrets.token_hex(16), "keep": keep}
        script = (files("mudlark.browser") / "tap.js").read_text(encoding="utf-8")
        call = f"({script.rstrip()})({json.dumps(self._given)}, %s);\n"
        self._in_worker = call % '""'
        self._in_frame = call % json.dumps(self._in_worker)

    async def attach(self, context: "BrowserContext") -> None:
        """Before the first page of a context is opened."""
        await context.expose_binding(str(self._given["binding"]), lambda _source, message: self._hear(message))
        await context.add_init_script(self._in_frame)

    async def follow(self, page: "Page") -> None:
        """Have the workers of a page tell as well."""
        running: set[asyncio.Task[None]] = set()

        def paused(event: dict[str, Any]) -> None:
            task = asyncio.create_task(self._put_before(session, event))
            running.add(task)
            task.add_done_callback(running.discard)

        with suppress(Exception):  # a page that is gone has none
            session = await page.context.new_cdp_session(page)
            session.on("Fetch.requestPaused", paused)
            # the scripts of workers are of no type of their own
            workers = [{"urlPattern": "http*", "resourceType": "Other", "requestStage": "Response"}]
            await session.send("Fetch.enable", {"patterns": workers})

    async def _put_before(self, session: "CDPSession", event: dict[str, Any]) -> None:
        """Put the script before that of a worker; any other answer goes on as it is."""
        request = {"requestId": event["requestId"]}
        fields = event.get("responseHeaders", [])
        kind = next((one["value"] for one in fields if one["name"].lower() == "content-type"), "")
        with suppress(Exception):  # what cannot be had is left to the browser
            if event.get("responseStatusCode") == 200 and "javascript" in kind.lower():
                answer = await session.send("Fetch.getResponseBody", request)
                body = base64.b64decode(answer["body"]) if answer["base64Encoded"] else answer["body"].encode()
                own = [one for one in fields if one["name"].lower() not in ("content-length", "content-encoding")]
                whole = base64.b64encode(self._in_worker.encode() + body).decode()
                given = {**request, "responseCode": 200, "responseHeaders": own, "body": whole}
                await session.send("Fetch.fulfillRequest", given)
                return
        with suppress(Exception):  # the page may be gone by now
            await session.send("Fetch.continueRequest", request)

    def forget(self) -> None:
        """The page is opened once more, and appends everything anew."""
        if self.systems is None:
            self.empty()

    def close(self) -> None:
        """Nothing more is taken down."""
        for buffer in self._buffers.values():
            if buffer.writer:
                buffer.writer.close()
                buffer.writer = None
            self._seal(buffer)

    def empty(self) -> None:
        """Remove all that was taken down."""
        self.close()
        for buffer in self._buffers.values():
            buffer.file.unlink(missing_ok=True)
        self.sources, self._buffers, self._total = {}, {}, 0

    def _hear(self, message: str) -> None:
        """A note of the script. What a page that has found the way says beside is passed over."""
        with suppress(ValueError, KeyError, TypeError, AttributeError):
            note = json.loads(message)
            realm, number = str(note["realm"]), int(note["number"])
            if number <= self._heard.get(realm, 0):
                return  # several frames of one origin hear the same worker
            self._heard[realm] = number
            if self.overfull and note["what"] in ("append", "bytes"):
                return  # what follows would belong to nothing
            getattr(self, f"_on_{note['what']}")(note)

    def _source(self, note: dict[str, Any]) -> TappedSource:
        known = self.sources.get(note["source"])
        if known is None:
            known = TappedSource(note["source"], str(note["frame"]))
            self.sources[known.id] = known
        return known

    def _on_buffer(self, note: dict[str, Any]) -> None:
        if len(self._buffers) >= _MOST_BUFFERS or self.systems is not None:
            return
        source = self._source(note)
        number = len(self._buffers) + 1
        buffer = TappedBuffer(number, source, str(note["type"]), self.folder / f"appended-{number}")
        source.buffers.append(buffer)
        self._buffers[note["buffer"]] = buffer

    def _on_append(self, note: dict[str, Any]) -> None:
        buffer = self._buffers[note["buffer"]]
        if len(buffer.appends) >= _MOST_APPENDS:
            self.overfull = True
            return
        self._seal(buffer)
        until = note["until"]
        append = Append(
            time=round(float(note["time"]) / 1000, 3),
            place=buffer.size,
            size=int(note["size"]),
            offset=float(note["offset"]),
            window=(float(note["from"]), None if until is None else float(until)),
            mode=str(note["mode"]),
            type=buffer.type,
            anew=buffer.anew,
        )
        buffer.anew = False
        buffer.appends.append(append)

    def _on_bytes(self, note: dict[str, Any]) -> None:
        buffer = self._buffers[note["buffer"]]
        data = base64.b64decode(note["data"])
        self._total += len(data)
        if self._total > MOST_BYTES:
            self.overfull = True
            return
        if buffer.writer is None:
            buffer.writer = buffer.file.open("ab")
        if buffer.hashing is None:
            buffer.hashing = hashlib.sha256()
        buffer.writer.write(data)
        buffer.hashing.update(data)
        buffer.size += len(data)
        buffer.appends[-1].kept += len(data)

    def _on_done(self, note: dict[str, Any]) -> None:
        buffer = self._buffers[note["buffer"]]
        number = int(note["append"])
        if 0 < number <= len(buffer.appends):
            buffer.appends[number - 1].settled = float(note["offset"])
        for begin, end in note["ranges"]:
            buffer.covered = _joined(buffer.covered, (float(begin), float(end)))
        self._measure(buffer.source, note)

    def _on_end(self, note: dict[str, Any]) -> None:
        source = self._source(note)
        source.ended = note["error"] is None
        self._measure(source, note)

    def _on_type(self, note: dict[str, Any]) -> None:
        buffer = self._buffers[note["buffer"]]
        buffer.type, buffer.anew = str(note["type"]), True

    def _on_abort(self, note: dict[str, Any]) -> None:
        self._buffers[note["buffer"]].anew = True

    def _on_address(self, note: dict[str, Any]) -> None:
        source = self._source(note)
        source.address, source.frame = str(note["address"]), str(note["frame"])

    def _on_object(self, note: dict[str, Any]) -> None:
        """An element plays a source without an address; the handle of one in a worker does not say of which."""
        handled = [one for one in self.sources.values() if one.tag is None and one.address is None]
        source = self._source(note) if note["source"] else handled[-1] if handled else None
        if source:
            source.tag, source.frame = str(note["tag"]), str(note["frame"])

    def _on_handle(self, note: dict[str, Any]) -> None:
        self._source(note)

    def _on_keys(self, note: dict[str, Any]) -> None:
        self.protect([str(system) for system in note["systems"]])

    def protect(self, systems: list[str]) -> None:
        """What the page plays is protected: nothing of it stays."""
        self.systems = list(dict.fromkeys([*(self.systems or []), *systems])) or ["a key system that it does not name"]
        self.empty()

    def _seal(self, buffer: TappedBuffer) -> None:
        """The last append of a buffer is complete."""
        if not buffer.appends or buffer.hashing is None:
            return
        append = buffer.appends[-1]
        append.sha256, buffer.hashing = buffer.hashing.hexdigest(), None
        if buffer.writer:
            buffer.writer.flush()
        if append.size <= _SECTION and append.kept == append.size and _is_protected(buffer.file, append):
            self.protect([])

    @staticmethod
    def _measure(source: TappedSource, note: dict[str, Any]) -> None:
        length = note["length"]
        source.length = float(length) if length is not None else source.length
        source.endless = bool(note["endless"])


def readable_in(fetched: list[tuple[str, bytes]], buffers: list[TappedBuffer]) -> list[str]:
    """Those addresses of what scripts fetched under which media came that can be read, or what was appended itself."""
    from mudlark.media.readers import READERS, container  # which bring the libraries of all formats

    openings = [opening for buffer in buffers for opening in _openings(buffer)]
    return [
        address
        for address, body in fetched
        if container(body) in READERS or any(opening in body for opening in openings)
    ]


def formats_of(source: TappedSource) -> "list[Format]":
    """The formats that the first appends to each buffer describe."""
    from mudlark.media.appended import formats_in

    found: list[Format] = []
    for buffer in source.buffers:
        whole = [one for one in buffer.appends[:_FIRST] if one.kept == one.size]
        formats = (formats_in(_read(buffer.file, one)) for one in whole)
        found += next((some for some in formats if some), [])
    return found


def _read(file: Path, append: Append) -> bytes:
    with file.open("rb") as opened:
        opened.seek(append.place)
        return opened.read(append.size)


def _openings(buffer: TappedBuffer) -> list[bytes]:
    """How the first appends begin; what is too short to be known again is left out."""
    if not buffer.size:
        return []  # it has no file
    with buffer.file.open("rb") as file:
        found = []
        for append in buffer.appends:
            if append.kept >= _KNOWN:
                file.seek(append.place)
                found.append(file.read(_KNOWN))
        return found


def _is_protected(file: Path, append: Append) -> bool:
    """True if an append describes tracks that are protected (ISO/IEC 14496-12 §8.12, RFC 9559 ContentEncryption)."""
    with file.open("rb") as opened:
        opened.seek(append.place)
        head = opened.read(8)
        if head[4:8] not in (b"ftyp", b"moov") and head[:4] != _EBML:
            return False
    from mudlark.media.appended import refuse_protected  # which brings the readers of all formats

    try:
        refuse_protected(_read(file, append))
    except Refused:
        return True
    return False


def _joined(spans: list[tuple[float, float]], more: tuple[float, float]) -> list[tuple[float, float]]:
    """Spans with another one, in order and apart from each other."""
    begin, end = more
    apart = [one for one in spans if one[1] < begin or one[0] > end]
    touched = [one for one in spans if not (one[1] < begin or one[0] > end)]
    joined = (min([begin, *(one[0] for one in touched)]), max([end, *(one[1] for one in touched)]))
    return sorted([*apart, joined])


def _common(ones: list[tuple[float, float]], others: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """What two lists of spans have in common."""
    pairs = ((max(a, c), min(b, d)) for a, b in ones for c, d in others)
    return [(begin, end) for begin, end in pairs if begin < end]
