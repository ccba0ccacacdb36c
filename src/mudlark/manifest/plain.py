"""A plain file as a presentation: one rendition, whose segments are byte ranges where the server allows it.

Parts may only be put together if they are of the same representation, so a file is cut only when the server gives a
strong validator (RFC 9110 §8.8.1) that every later request repeats.
"""

from mudlark.manifest.model import Facts, Presentation, Rendition, Segment
from mudlark.web.digest import stated_digests
from mudlark.web.resource import Resource, Span
from mudlark.web.session import Content

_PIECE = 1 << 20
_MOST_PIECES = 2_000


def plain_file(look: Content, whole: Content | None = None) -> Presentation:
    """look: the answer to a request for the beginning. whole: that to a request for all of it, if there was one."""
    segments = [Segment(0, Resource(look.url))]
    if look.ranges and look.validator and look.length and look.length > 2 * _PIECE:
        size = max(_PIECE, -(-look.length // _MOST_PIECES // _PIECE) * _PIECE)
        starts = range(0, look.length, size)
        segments = [
            Segment(n, Resource(look.url, Span(at, min(size, look.length - at)), look.validator))
            for n, at in enumerate(starts)
        ]
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
        look.url, "file", (Rendition("file", "other", look.url, segments=tuple(segments)),), facts=facts
    )
