"""What a user wants of a presentation."""

import msgspec

ALL = "all"
NONE = "none"


class Wish(msgspec.Struct, frozen=True):
    """What a user wants of a presentation. within: the largest picture, width (None for any) and height. under: bits a
    second. codecs: short names, in order of liking. languages: of sound, `all` for every one; empty for the
    presentation's own default. subtitles: languages, `all` or `none`. rendition: the name of exactly one.
    """

    within: tuple[int | None, int] | None = None
    under: int | None = None
    codecs: tuple[str, ...] = ()
    languages: tuple[str, ...] = ()
    subtitles: tuple[str, ...] = (ALL,)
    rendition: str | None = None
