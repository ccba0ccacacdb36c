"""The tracks of a film on this disk, whichever of the containers with an index it is in."""

from collections.abc import Callable
from pathlib import Path

from mudlark.errors import FormatError
from mudlark.media.avi import read_avi
from mudlark.media.details import heed_hints
from mudlark.media.flv import read_flv
from mudlark.media.forms import FORMS
from mudlark.media.matroska.read import read_matroska
from mudlark.media.movie import Movie, ReadAt, reader_of
from mudlark.media.mp4.fragments import read_movie
from mudlark.media.mp4.read import scan
from mudlark.media.sniff import sniff

_HEAD = 65536


def _read_mp4(read: ReadAt, size: int) -> Movie:
    boxes = scan(read, size)
    index = next((box for box in boxes if box.kind == "moov"), None)
    if index is None:
        raise FormatError("The file has no index (moov).", advice="It is incomplete; see `mudlark assay`.")
    return read_movie(read, boxes, index)


_READERS: dict[str, Callable[[ReadAt, int], Movie]] = {
    "mp4": _read_mp4,
    "matroska": read_matroska,
    "flv": read_flv,
    "avi": read_avi,
}
INDEXED = frozenset(_READERS)  # kinds of files whose samples stand in tables, or are found like that


def movie_in(path: Path) -> Movie:
    """The tracks of a film, with all their samples. Raises FormatError for a file without a table of its samples, or
    the like, and where that cannot be read."""
    size = path.stat().st_size
    with path.open("rb") as file:
        read = reader_of(file)
        form = sniff(read(0, _HEAD))
        if form not in _READERS:
            named = FORMS[form].title if form in FORMS else "of no kind that Mudlark knows"
            what = f"{path} is no film whose tracks Mudlark reads; it is {named}."
            raise FormatError(what, advice="Give an MP4, Matroska, FLV or AVI file, or the address of a playlist.")
        movie = _READERS[form](read, size)
        heed_hints(read, movie.tracks)
    return movie
