"""The verification of one file: what it is, then its structure and timeline, or its content.

Which form is looked into by what is a table.
"""

from collections.abc import Callable
from functools import partial
from pathlib import Path

import msgspec

from mudlark.media.movie import Movie
from mudlark.media.samples import Format
from mudlark.media.sniff import sniff
from mudlark.media.sound.packed import SYNTAXES, skip_tags, sound_within
from mudlark.verify.account import Account
from mudlark.verify.avi import check_avi
from mudlark.verify.content import check_content, is_misnamed
from mudlark.verify.flv import check_flv
from mudlark.verify.forms.chain import check_chain
from mudlark.verify.forms.flac import check_flac
from mudlark.verify.forms.found import Found
from mudlark.verify.forms.ogg import check_ogg
from mudlark.verify.forms.program import check_program
from mudlark.verify.forms.riff import check_riff
from mudlark.verify.forms.transport import check_transport
from mudlark.verify.forms.volumes import check_installer, check_volume
from mudlark.verify.forms.words import check_words
from mudlark.verify.matroska import check_matroska
from mudlark.verify.structure import check_structure
from mudlark.verify.timeline import check_length, check_timeline

_HEAD = 65536
_WITHOUT_SIGN = ("unknown", "text")  # what a file of frames may seem to be that begins with something else
_FORMS: dict[str, Callable[[Path, str, Account], Found]] = {
    **dict.fromkeys(("mp3", "adts", "ac3"), check_chain),
    "flac": lambda path, _, account: check_flac(path, account),
    "ogg": lambda path, _, account: check_ogg(path, account),
    "ts": lambda path, _, account: check_transport(path, account),
    "program": lambda path, _, account: check_program(path, account),
    **dict.fromkeys(("wav", "aiff"), lambda path, _, account: check_riff(path, account)),
    **dict.fromkeys(("webvtt", "srt", "ttml"), check_words),
    **dict.fromkeys(("iso", "udf"), check_volume),
    **dict.fromkeys(("exe", "deb", "rpm", "cab"), check_installer),
}
_FILMS: dict[str, Callable[..., Movie | None]] = {
    "mp4": check_structure,
    "matroska": check_matroska,
    "flv": check_flv,
    "avi": check_avi,
}
# what may have been cut out of a body without a beginning and an end
_RECORDED: dict[str, Callable[[Path, str, Account], Found]] = {
    **dict.fromkeys(SYNTAXES, partial(check_chain, endless=True)),
    "ogg": lambda path, _, account: check_ogg(path, account, endless=True),
}


class Checked(msgspec.Struct):
    """form: what the first bytes say it is. movie: of a film with a table of its samples, or the like. contents: names
    and sizes inside an archive. length: seconds. formats: of the tracks of other media."""

    form: str
    movie: Movie | None = None
    contents: list[tuple[str, int]] = msgspec.field(default_factory=list)
    length: float | None = None
    formats: list[Format] = msgspec.field(default_factory=list)

    @property
    def seconds(self) -> float | None:
        """How long it lasts; None where nothing says."""
        seconds = self.movie.end if self.movie else self.length
        return round(seconds, 3) if seconds is not None else None


def form_of(path: Path) -> str:
    """What the first bytes of a file say it is, behind tags that may stand before any sound, or behind the rest of a
    frame in which it was cut out of a longer one."""
    with path.open("rb") as file:
        head = file.read(_HEAD)
        behind = skip_tags(head + bytes(_HEAD))[0] if head[:3] == b"ID3" else 0
        if behind:
            file.seek(behind)
            named = sniff(file.read(_HEAD))
            return named if named in ("adts", "ac3", "flac", "mp3") else "mp3"
    if not head:
        return "empty"
    named = sniff(head)
    if named in ("unknown", *SYNTAXES):
        named = sound_within(head) or named
    return "mp3" if named in _WITHOUT_SIGN and path.suffix.lower() == ".mp3" else named


def check_file(
    path: Path,
    planned: float | None,
    account: Account,
    tolerance: float = 0.0,
    *,
    streamed: bool = False,
    endless: bool = False,
) -> Checked:
    """Look into a file. planned: seconds that the manifest promised, None if nothing did; tolerance: by how many that
    may be off. streamed: the file was made of segments. endless: it was recorded from an endless body."""
    checked = Checked(form_of(path))
    if checked.form == "empty":
        account.failed("content", "empty", f"{path.name} is empty", grave=True)
    elif checked.form in _FILMS:
        look = partial(check_flv, endless=endless) if checked.form == "flv" else _FILMS[checked.form]
        checked.movie = look(path, account, streamed=streamed)
        if checked.movie and not any(problem.grave for problem in account.problems):
            check_timeline(checked.movie, planned, account, tolerance, streamed=streamed)
    elif checked.form in _FORMS and not is_misnamed(path, checked.form):
        look_into = _RECORDED.get(checked.form) if endless else None
        found = (look_into or _FORMS[checked.form])(path, checked.form, account)
        checked.length, checked.formats, checked.contents = found.length, found.formats, found.contents
        if planned and found.length:
            check_length(found.length, planned, account, tolerance)
    else:
        checked.contents = check_content(path, checked.form, account)
    if account.covered or account.unknown:
        account.close(path.stat().st_size)
    return checked
