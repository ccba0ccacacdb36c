"""Is an AVI whole? Chunks that fill it, as many pictures and as much sound as it states, indexes that lead to them."""

from pathlib import Path

import numpy as np

from mudlark.media.avi import AviMovie, read_avi
from mudlark.media.movie import Movie, reader_of
from mudlark.verify.account import Account
from mudlark.verify.coded import check_coded, opened_film

_BLOCK = 1 << 20


def check_avi(path: Path, account: Account, *, streamed: bool = False) -> Movie | None:
    """Check the file at `path`; gives its tracks, or None if there is nothing to go on with."""
    size = path.stat().st_size
    with path.open("rb", buffering=0) as file:
        read = reader_of(file)
        movie = opened_film(lambda: read_avi(read, size), account, "chunks")
        if movie is None:
            return None
        check_coded(read, movie.tracks, account, streamed=streamed)
        behind = read(movie.behind, size - movie.behind) if size - movie.behind < _BLOCK else b"too much"
    _check_lengths(movie, account)
    _check_index(movie, account)
    if any(behind):
        text = f"{size - movie.behind:,} bytes stand behind its last part, and belong to nothing"
        account.failed("boxes", "stray-bytes", text, offset=movie.behind)
    others = sum(sum(one.sizes) for one in movie.streams if one.type == "text")
    if others:
        account.leave_out(f"{others:,} bytes of streams that are neither picture nor sound")
    if movie.unread.count:
        account.leave_out(f"{movie.unread.count:,} chunks of no known kind, the first at byte {movie.unread.first:,}")
    frames = sum(int(track.sizes.sum()) for track in movie.tracks)
    account.cover("padding", movie.padding + size - movie.behind)
    account.cover("structure", movie.behind - frames - movie.padding - movie.unread.size - others)
    return movie


def _check_lengths(movie: AviMovie, account: Account) -> None:
    """As many pictures and as much sound as each stream states."""
    for number, stream in enumerate(movie.streams):
        there = sum(stream.sizes) // stream.unit if stream.unit else len(stream.sizes)
        if stream.type == "text" or not stream.length or abs(there - stream.length) <= max(1, stream.length // 500):
            continue
        what = "pictures" if stream.type == "video" else "pieces of sound"
        text = f"Stream {number} states {stream.length:,} {what}, and has {there:,}"
        account.failed("promises", "cut-off" if there < stream.length else "frame-count", text)


def _check_index(movie: AviMovie, account: Account) -> None:
    """Every entry of the index (idx1) leads to a chunk of its size; places count from the file or from its list."""
    if movie.index is None or not len(movie.index):
        return
    places = [np.array(stream.offsets, np.int64) - 8 for stream in movie.streams]
    for base in (movie.base, 0):
        wrong = 0
        for number, stream in enumerate(movie.streams):
            rows = movie.index[movie.index[:, 0] == number]
            at = np.minimum(np.searchsorted(places[number], rows[:, 1] + base), max(0, len(places[number]) - 1))
            if len(places[number]):
                sizes = np.array(stream.sizes, np.int64)[at]
                wrong += int(((places[number][at] != rows[:, 1] + base) | (sizes != rows[:, 2])).sum())
            else:
                wrong += len(rows)
        if not wrong:
            account.passed("promises", f"all {len(movie.index):,} entries of its index lead to their chunks")
            return
    account.failed("promises", "boxes", f"{wrong:,} of {len(movie.index):,} entries of its index lead to no chunk")
