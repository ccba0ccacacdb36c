"""What an item keeps of where it came from: manifests, recorded requests, the page, the way there, and who asked."""

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from mudlark.archive.layout import CAPTURE
from mudlark.archive.naming import file_name
from mudlark.archive.record import (
    CaptureFacts,
    EvidenceFacts,
    FileFacts,
    FindFacts,
    ManifestFacts,
    PageFacts,
    RequestFacts,
    WalkFacts,
)
from mudlark.find.model import Find, Page
from mudlark.manifest.model import Document
from mudlark.media.sniff import sniff
from mudlark.verify.fixity import digest
from mudlark.web.address import file_part
from mudlark.web.guise import PLAIN
from mudlark.web.redact import redacted, redacted_field
from mudlark.web.session import Session

if TYPE_CHECKING:
    from mudlark.browser.listen import Recording


def keep_manifests(
    item: Path, documents: Iterable[Document], files: list[FileFacts], *, keep_secrets: bool = False
) -> list[ManifestFacts]:
    """Copies of the manifests inside the item; they are added to its files. What gives access is hidden in them."""
    manifests = []
    for number, document in enumerate(documents, start=1):
        name = f"manifest/{number:02d}-{file_name(file_part(document.url)) or 'manifest.m3u8'}"
        path = item / name
        path.parent.mkdir(exist_ok=True)
        text = document.body.decode("utf-8", "surrogateescape")
        path.write_bytes(document.body if keep_secrets else redacted(text).encode("utf-8", "surrogateescape"))
        files.append(FileFacts(name, "manifest", *digest(path)))
        manifests.append(ManifestFacts(document.url, name, files[-1].sha256))
    return manifests


def keep_capture(
    item: Path,
    page: Page | None,
    recording: "Recording | None",
    har: Path | None,
    files: list[FileFacts],
    *,
    keep_secrets: bool = False,
) -> CaptureFacts | None:
    """What was listened to stays with the item; a capture that the user gave is named."""
    if page is None or page.capture is None:
        return None
    if recording:
        recording.write(item / CAPTURE, keep_secrets=keep_secrets)
        files.append(FileFacts(CAPTURE, "capture", *digest(item / CAPTURE)))
        return CaptureFacts(recording.browser, CAPTURE, files[-1].sha256)
    return CaptureFacts(page.capture, None, digest(har)[1]) if har else None


def keep_page(
    item: Path, page: Page, recording: "Recording | None", files: list[FileFacts], *, keep_secrets: bool = False
) -> None:
    """The page as it was received and, if it was listened to, a picture of it and its text as it stood at the end."""
    contents = {}
    if page.received:
        text = page.received.decode("latin-1")
        kept = page.received if keep_secrets else redacted(text).encode("latin-1")
        contents["page.xml" if sniff(page.received) == "xml" else "page.html"] = kept
    if recording and recording.picture:
        contents["page.png"] = recording.picture
    if recording and recording.text:
        contents["page.txt"] = (recording.text if keep_secrets else redacted(recording.text)).encode("utf-8", "replace")
    for name, body in contents.items():
        path = item / "page" / name
        path.parent.mkdir(exist_ok=True)
        path.write_bytes(body)
        files.append(FileFacts(f"page/{name}", "page", *digest(path)))


def page_facts(page: Page) -> PageFacts:
    """The page and what it says of itself."""
    return PageFacts(page.url, page.title, page.description, page.creator, page.date, page.duration, page.dimensions)


def find_facts(find: Find) -> FindFacts:
    """The find that was taken."""
    evidence = [EvidenceFacts(evidence.where, evidence.at, evidence.place) for evidence in find.evidence]
    return FindFacts(find.url, find.kind, find.role, find.score, find.rank.reasons, evidence)


def walk_facts(page: Page) -> list[WalkFacts]:
    """The way through the questions of a page."""
    return [WalkFacts(step.url, step.method, list(step.answered)) for step in page.walk]


def request_facts(session: Session, address: str, find: Find) -> RequestFacts:
    """As whom the requests for an address were made, without secrets."""
    guise = session.connection.guise
    name = "as captured" if guise == PLAIN and "user-agent" in find.mention.sent else guise.name
    sent = session.identity(address).items()
    return RequestFacts(name, {field: redacted_field(field, value) for field, value in sent})
