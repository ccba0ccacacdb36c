"""A plain file as a presentation: one rendition of one segment, which is a byte range where the server allows it.

Parts may only be put together if they are of the same representation, so a file may be cut only when the server gives a
strong validator (RFC 9110 §8.8.1) that every later request repeats.
"""

from mudlark.manifest.model import Facts, Presentation, Rendition, Segment
from mudlark.web.answer import Content
from mudlark.web.digest import stated_digests
from mudlark.web.resource import Resource, Span, Version

_LARGE = 2 << 20  # bytes from which parts are worth it


def plain_file(look: Content, whole: Content | None = None) -> Presentation:
    """look: the answer to a request for the beginning. whole: that to a request for all of it, if there was one."""
    resource = Resource(look.url)
    if look.ranges and look.validator and look.length and look.length > _LARGE:
        version = Version(look.validator, look.headers.get("last-modified"), look.length)
        resource = Resource(look.url, Span(0, look.length), version)
    digests = stated_digests(look.headers, whole=look.status == 200)
    if whole and whole.status == 200 and "content-encoding" not in whole.headers:
        digests = stated_digests(whole.headers, whole=True) | digests
    facts = Facts(
        length=look.length,
        filename=look.filename or (whole.filename if whole else None),
        digests=tuple(digests.items()),
        validator=look.headers.get("etag"),
        modified=look.headers.get("last-modified"),
        head=look.body,
    )
    return Presentation(
        look.url, "file", (Rendition("file", "other", look.url, segments=(Segment(0, resource),)),), facts=facts
    )
