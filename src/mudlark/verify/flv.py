"""Is an FLV whole? Tags from the first byte to the last, and frames inside that look like their codec."""

from pathlib import Path

from mudlark.media.flv import FlvMovie, read_flv
from mudlark.media.movie import Movie, reader_of
from mudlark.verify.account import Account
from mudlark.verify.coded import check_coded, opened_film


def check_flv(path: Path, account: Account, *, streamed: bool = False, endless: bool = False) -> Movie | None:
    """Check the file at `path`; gives its tracks, or None if there is nothing to go on with. endless: it was recorded,
    and may have broken off and begun anew."""
    size = path.stat().st_size
    with path.open("rb", buffering=0) as file:
        read = reader_of(file)
        movie = opened_film(lambda: read_flv(read, size, torn=endless), account, "tags")
        if movie is None:
            return None
        check_coded(read, movie.tracks, account, streamed=streamed or endless)
    _balance(movie, size, account)
    return movie


def _balance(movie: FlvMovie, size: int, account: Account) -> None:
    if movie.size and movie.size != size:
        text = f"Its description states {movie.size:,} bytes; it has {size:,}"
        account.failed("promises", "cut-off" if movie.size > size else "stray-bytes", text, offset=size)
    if movie.unread.count:
        account.leave_out(f"{movie.unread.count:,} tags of no known kind, the first at byte {movie.unread.first:,}")
    frames = sum(int(track.sizes.sum()) for track in movie.tracks)
    account.cover("padding", movie.torn.size)
    account.cover("structure", size - frames - movie.torn.size - movie.unread.size)
    if not movie.stated and not movie.size:
        account.leave_open("an FLV that states neither its duration nor its size")
