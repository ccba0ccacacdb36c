"""What a file says of itself as a whole: title, date, source, cover.

In a `meta` box (ISO/IEC 14496-12 §8.11) below `udta`, as a list of items, which is where players look for them.
"""

import msgspec

from mudlark.media.mp4.boxes import box, full_box

_TEXT, _JPEG, _PNG = 1, 13, 14  # kinds of values


class About(msgspec.Struct, frozen=True):
    """title, date (RFC 3339) and source (an address) as text; cover: a JPEG or PNG."""

    title: str = ""
    date: str = ""
    source: str = ""
    cover: bytes = b""


def about_box(about: About) -> bytes:
    """The box for a movie's index; empty if there is nothing to say."""
    texts = {"\xa9nam": about.title, "\xa9day": about.date, "\xa9cmt": about.source}
    items = [_item(kind, _TEXT, text.encode("utf-8")) for kind, text in texts.items() if text]
    if about.cover:
        items.append(_item("covr", _PNG if about.cover.startswith(b"\x89PNG") else _JPEG, about.cover))
    if not items:
        return b""
    handler = full_box("hdlr", 0, 0, bytes(4), b"mdir", b"appl", bytes(9))
    return box("udta", full_box("meta", 0, 0, handler, box("ilst", *items)))


def _item(kind: str, form: int, value: bytes) -> bytes:
    return box(kind, box("data", form.to_bytes(4, "big"), bytes(4), value))
