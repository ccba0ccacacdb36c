"""What a file is, by its content, in the words of two registries: media types (IANA) and PRONOM identifiers.

Only what the first bytes leave no doubt of has an identifier.
"""

from pathlib import Path

from mudlark.media.forms import FORMS
from mudlark.verify.media import form_of

_WEBM = ("video/webm", "fmt/573")
_SOUND_ONLY = {"mp4": "audio/mp4", "matroska": "audio/matroska"}


def identified(path: Path, *, only_sound: bool = False) -> tuple[str | None, str | None]:
    """The media type and the PRONOM identifier of a file; None where its content does not tell."""
    form = form_of(path)
    known = FORMS.get(form)
    media_type, pronom = (known.media_type, known.pronom) if known else (None, None)
    if form == "matroska":
        with path.open("rb") as file:
            if b"webm" in file.read(64):
                media_type, pronom = _WEBM
    elif form == "pdf" or form == "gif":
        with path.open("rb") as file:
            pronom = _by_version(form, file.read(8))
    if only_sound and form in _SOUND_ONLY and media_type != _WEBM[0]:
        media_type = _SOUND_ONLY[form]
    return media_type, pronom


def _by_version(form: str, head: bytes) -> str | None:
    """Identifiers that differ by the version in the first bytes."""
    if form == "gif":
        return {b"GIF87a": "fmt/3", b"GIF89a": "fmt/4"}.get(head[:6])
    versions = {b"1.0": 14, b"1.1": 15, b"1.2": 16, b"1.3": 17, b"1.4": 18, b"1.5": 19, b"1.6": 20, b"1.7": 276}
    number = versions.get(head[5:8])
    return f"fmt/{number}" if number else None
