"""A plain file as a presentation: one track, whose segments are byte ranges where the server allows it.

Parts may only be put together if they are of the same representation, so a file is cut only when the server gives a
strong validator (RFC 9110 §8.8.1) that every later request repeats.
"""

from mudlark.manifest.model import ByteRange, Presentation, Segment, Track
from mudlark.web.digest import stated_digests
from mudlark.web.session import Look

_PIECE = 1 << 20
_MOST_PIECES = 2_000


def plain_file(look: Look, whole: Look | None = None) -> Presentation:
    """look: the answer to a request for the beginning. whole: that to a request for all of it, if there was one."""
    segments = [Segment(0, look.url)]
    if look.ranges and look.validator and look.length and look.length > 2 * _PIECE:
        size = max(_PIECE, -(-look.length // _MOST_PIECES // _PIECE) * _PIECE)
        starts = range(0, look.length, size)
        segments = [
            Segment(n, look.url, 0.0, ByteRange(at, min(size, look.length - at)), validator=look.validator)
            for n, at in enumerate(starts)
        ]
    found = Presentation(look.url, "file", [Track("file", "file", look.url, segments=segments)])
    found.length = look.length
    found.validator, found.modified = look.headers.get("etag"), look.headers.get("last-modified")
    found.head = look.body
    found.filename = look.filename or (whole.filename if whole else None)
    found.digests = stated_digests(look.headers, whole=look.status == 200)
    if whole and whole.status == 200 and "content-encoding" not in whole.headers:
        found.digests = stated_digests(whole.headers, whole=True) | found.digests
    return found
