"""The tracks of a film on this disk, whichever of the containers with an index it is in."""

from pathlib import Path

from mudlark.errors import FormatError
from mudlark.media.matroska.read import read_matroska
from mudlark.media.movie import Movie, reader_of
from mudlark.media.mp4.fragments import read_movie
from mudlark.media.mp4.read import scan
from mudlark.media.sniff import sniff

_HEAD = 65536


def movie_in(path: Path) -> Movie:
    """The tracks of an MP4 or Matroska file, with all their samples. Raises FormatError for any other, and where its
    index cannot be read."""
    size = path.stat().st_size
    with path.open("rb") as file:
        read = reader_of(file)
        form = sniff(read(0, _HEAD))
        if form == "matroska":
            return read_matroska(read, size)
        if form != "mp4":
            raise FormatError(
                f"{path} is no MP4 or Matroska file.", advice="Give one of these, or the address of a playlist."
            )
        boxes = scan(read, size)
        index = next((box for box in boxes if box.kind == "moov"), None)
        if index is None:
            raise FormatError(f"{path} has no index (moov).", advice="It is incomplete; see `mudlark assay`.")
        return read_movie(read, boxes, index)
