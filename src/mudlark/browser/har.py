"""HTTP Archive 1.2: the form in which captures are kept, as browsers and other programs write and read it.

Fields whose names begin with an underscore are additions, which the format allows and readers pass over. Two of them,
`_resourceType` and `_initiator`, are those that browsers write; `_frame`, `_failure` and `_views` are ours.
"""

import base64
import binascii
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec

from mudlark.atomic import atomic_write
from mudlark.browser.json_stream import JsonStream
from mudlark.errors import FormatError, StorageError
from mudlark.web.redact import redacted, redacted_field

VERSION = "1.2"


class Pair(msgspec.Struct):
    """A header field, a parameter of a query, or a field of a form."""

    name: str
    value: str = ""


class PostData(msgspec.Struct, rename="camel"):
    """What a request carried."""

    mime_type: str | None = ""
    text: str | None = ""


class HarContent(msgspec.Struct, rename="camel"):
    """The body of a response. size: decoded, in bytes, -1 if unknown. text: the body itself, if it was kept."""

    size: float | None = msgspec.field(default=-1)
    mime_type: str | None = ""
    text: str | msgspec.UnsetType | None = msgspec.UNSET
    encoding: str | msgspec.UnsetType | None = msgspec.UNSET

    def body(self) -> bytes | None:
        """The body's bytes, None if it was not kept or cannot be decoded."""
        if not isinstance(self.text, str):
            return None
        if self.encoding != "base64":
            return self.text.encode("utf-8", "surrogatepass")
        with suppress(binascii.Error, ValueError):
            return base64.b64decode(self.text, validate=True)
        return None


class Request(msgspec.Struct, rename="camel"):
    """A request as it was sent. Sizes in bytes, -1 if unknown."""

    method: str
    url: str
    http_version: str | None = ""
    cookies: list[Any] = []
    headers: list[Pair] = []
    query_string: list[Any] = []
    headers_size: float | None = -1
    body_size: float | None = -1
    post_data: PostData | msgspec.UnsetType | None = msgspec.UNSET


class HarResponse(msgspec.Struct, rename="camel"):
    """What came back; status 0 if nothing did. body_size: transferred bytes of the body, -1 if unknown."""

    status: float | None = 0
    status_text: str | None = ""
    http_version: str | None = ""
    cookies: list[Any] = []
    headers: list[Pair] = []
    content: HarContent = msgspec.field(default_factory=HarContent)
    redirect_url: str | None = msgspec.field(default="", name="redirectURL")
    headers_size: float | None = -1
    body_size: float | None = -1


class Timings(msgspec.Struct):
    """Milliseconds; -1 where a phase does not apply."""

    blocked: float | None = -1
    dns: float | None = -1
    connect: float | None = -1
    ssl: float | None = -1
    send: float | None = 0
    wait: float | None = 0
    receive: float | None = 0


class Initiator(msgspec.Struct, omit_defaults=True, rename="camel"):
    """Who made the request: the parser or a script, and where. line_number: from 0, as browsers count."""

    type: str | None = "other"
    url: str | None = None
    line_number: float | None = None


class Entry(msgspec.Struct, rename="camel"):
    """One request with its response. frame: address of the frame that made it. failure: why nothing (more) came."""

    started_date_time: str
    request: Request
    response: HarResponse
    time: float | None = 0
    cache: dict[str, Any] = {}
    timings: Timings = msgspec.field(default_factory=Timings)
    server_ip_address: str | msgspec.UnsetType | None = msgspec.field(default=msgspec.UNSET, name="serverIPAddress")
    pageref: str | msgspec.UnsetType | None = msgspec.UNSET
    resource_type: str | msgspec.UnsetType | None = msgspec.field(default=msgspec.UNSET, name="_resourceType")
    initiator: Initiator | msgspec.UnsetType | None = msgspec.field(default=msgspec.UNSET, name="_initiator")
    frame: str | msgspec.UnsetType | None = msgspec.field(default=msgspec.UNSET, name="_frame")
    failure: str | msgspec.UnsetType | None = msgspec.field(default=msgspec.UNSET, name="_failure")


class Player(msgspec.Struct, omit_defaults=True):
    """A media element as it stood at the end. tag: video or audio. keyed: a key system is attached to it."""

    tag: str
    src: str = ""
    duration: float | None = None
    width: int = 0
    height: int = 0
    time: float = 0.0
    paused: bool = True
    ended: bool = False
    keyed: bool = False


class Shown(msgspec.Struct, omit_defaults=True):
    """A picture as it stood on the page, in CSS pixels from its top left corner; natural: its own size in pixels."""

    src: str
    top: float
    left: float
    width: float
    height: float
    natural_width: int = 0
    natural_height: int = 0


class View(msgspec.Struct, omit_defaults=True):
    """A frame as it stood at the end. source: its markup then. systems: key systems that its scripts asked for."""

    url: str
    title: str = ""
    source: str | None = None
    players: list[Player] = []
    pictures: list[Shown] = []
    systems: list[str] = []
    encrypted: bool = False


class PageTimings(msgspec.Struct, rename="camel"):
    """Milliseconds from the start of the page, -1 if unknown."""

    on_content_load: float | None = -1
    on_load: float | None = -1


class OpenedPage(msgspec.Struct, rename="camel"):
    """A page that was opened. views: its frames at the end, the page itself first; notes: what happened on the way."""

    started_date_time: str | None
    id: str
    title: str | None = ""
    page_timings: PageTimings = msgspec.field(default_factory=PageTimings)
    views: list[View] | msgspec.UnsetType = msgspec.field(default=msgspec.UNSET, name="_views")
    notes: list[str] | msgspec.UnsetType = msgspec.field(default=msgspec.UNSET, name="_notes")


for _kind in (Entry, OpenedPage):
    msgspec.json.Decoder(_kind)  # which works the type out, here and once: two threads that do so at once crash


def write_har(
    path: Path,
    page: OpenedPage,
    entries: list[Entry],
    creator: tuple[str, str],
    browser: str,
    *,
    keep_secrets: bool = False,
    replace: bool = False,
) -> None:
    """Write a capture of one page, readable by its owner only; there whole or not at all, and never over another file
    unless it is to be replaced. What gives access is hidden unless it is to be kept."""
    name, _, version = browser.partition("/")
    head = {
        "version": VERSION,
        "creator": {"name": creator[0], "version": creator[1]},
        "browser": {"name": name, "version": version},
        "pages": [page],
    }
    with atomic_write(path, "Choose another place with --har.", 0o600, replace=replace) as file:
        file.write(b'{"log": ' + _kept(msgspec.json.encode(head)[:-1], keep_secrets) + b', "entries": [\n')
        for number, entry in enumerate(entries):
            kept = entry if keep_secrets else _without_secrets(entry)
            file.write((b",\n" if number else b"") + _kept(msgspec.json.encode(kept), keep_secrets))
        file.write(b"\n]}}\n")


def _kept(document: bytes, keep_secrets: bool) -> bytes:
    return document if keep_secrets else redacted(document.decode()).encode()


def _without_secrets(entry: Entry) -> Entry:
    """The entry with the fields hidden whose names and values stand apart; what stands in texts is found there."""
    request, response = entry.request, entry.response
    asked = [Pair(pair.name, redacted_field(pair.name, pair.value)) for pair in request.headers]
    came = [Pair(pair.name, redacted_field(pair.name, pair.value)) for pair in response.headers]
    query = [{**one, "value": redacted_field(one["name"], one["value"])} for one in request.query_string]
    return msgspec.structs.replace(
        entry,
        request=msgspec.structs.replace(request, headers=asked, query_string=query),
        response=msgspec.structs.replace(response, headers=came),
    )


class HarFile:
    """A HAR file, read entry by entry. unreadable: entries passed over so far; cut: why the file ended early, if so."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self.unreadable = 0
        self.cut: str | None = None

    def pages(self) -> list[OpenedPage]:
        """The pages that it speaks of; those that cannot be read are passed over."""
        opened = []
        for raw in self._items("pages"):
            with suppress(msgspec.ValidationError):
                opened.append(msgspec.convert(raw, OpenedPage, strict=False))
        return opened

    def entries(self) -> Iterator[Entry]:
        """The requests in the order of the file."""
        self.unreadable, self.cut = 0, None
        any_came = False
        for raw in self._items("entries"):
            any_came = True
            try:
                yield msgspec.convert(raw, Entry, strict=False)
            except (msgspec.ValidationError, RecursionError):
                self.unreadable += 1
        if not any_came:
            why = f": {self.cut}" if self.cut else ""
            raise FormatError(
                f"{self.path} holds no requests{why}.", advice="Save the capture again, as HAR with content."
            )

    def _items(self, wanted: str) -> Iterator[Any]:
        """The elements of one array of the log."""
        try:
            with self.path.open("rb") as file:
                stream = JsonStream(file)
                if stream.next() != "{":
                    raise FormatError(f"{self.path} is not a HAR file: it does not begin as JSON does.", 0)
                for outer in stream.members():
                    if outer != "log":
                        stream.skip()
                        continue
                    for name in stream.members():
                        if name == wanted:
                            yield from stream.elements()
                        else:
                            stream.skip()
        except OSError as problem:
            raise StorageError(f"Cannot read {self.path}: {problem.strerror}.") from problem
        except (ValueError, RecursionError) as problem:
            self.cut = " ".join(str(problem).split())[:120]
