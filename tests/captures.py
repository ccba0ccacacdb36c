"""Captures for tests, written as browsers write them."""

import json
from pathlib import Path
from typing import Any

from mudlark.browser.capture import Capture, read_captures

PAGE = "http://museum.test/film"
MEDIA = "http://media.test"


def entry(url: str, kind: str = "", body: str | None = None, **given: Any) -> dict[str, Any]:
    """One request. given: status, size, resource, sent and came (header fields), frame, method, location, page."""
    content: dict[str, Any] = {"mimeType": kind}
    if "size" in given:
        content["size"] = given["size"]
    if body is not None:
        content |= {"text": body, "size": len(body)}
    made: dict[str, Any] = {
        "startedDateTime": "2026-03-02T10:00:00.000+01:00",
        "time": 12.5,
        "request": {
            "method": given.get("method", "GET"),
            "url": url,
            "httpVersion": "h2",
            "headers": [{"name": n, "value": v} for n, v in given.get("sent", {}).items()],
            "queryString": [],
            "cookies": [],
            "headersSize": -1,
            "bodySize": 0,
        },
        "response": {
            "status": given.get("status", 200),
            "statusText": "",
            "httpVersion": "h2",
            "headers": [{"name": n, "value": v} for n, v in given.get("came", {}).items()],
            "cookies": [],
            "content": content,
            "redirectURL": given.get("location", ""),
            "headersSize": -1,
            "bodySize": -1,
        },
        "cache": {},
        "timings": {"send": 0, "wait": 10, "receive": 2.5},
    }
    for name in ("frame", "resourceType"):
        if name in given:
            made[f"_{name}"] = given[name]
    if "page" in given:
        made["pageref"] = given["page"]
    return made


def har(entries: list[dict[str, Any]], pages: list[dict[str, Any]] | None = None) -> dict[str, Any]:
    """The whole document."""
    creator = {"name": "t", "version": "1"}
    log: dict[str, Any] = {"version": "1.2", "creator": creator, "pages": pages or [], "entries": entries}
    return {"log": log}


def write(folder: Path, entries: list[dict[str, Any]], pages: list[dict[str, Any]] | None = None) -> Path:
    """The document as a file."""
    path = folder / "capture.har"
    path.write_text(json.dumps(har(entries, pages)))
    return path


def captured(folder: Path, entries: list[dict[str, Any]], views: list[dict[str, Any]] | None = None) -> Capture:
    """The capture of one page, read back from a file. views: its frames at the end."""
    page: dict[str, Any] = {"startedDateTime": "2026-03-02T10:00:00Z", "id": "p", "title": "A Film", "pageTimings": {}}
    if views is not None:
        page["_views"] = views
    return read_captures(write(folder, entries, [page]))[0]


def document(source: str = "<title>A Film</title>") -> dict[str, Any]:
    """The page itself."""
    return entry(PAGE, "text/html", source, resourceType="document")
