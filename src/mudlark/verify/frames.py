"""Are the coded frames in a finished file those that came? Their digest, track by track, over the bytes in order.

What was put in (silence in holes of sound) stays out on both sides.
"""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from xxhash import xxh3_128

from mudlark.assemble.film import CodedFrames
from mudlark.media.movie import Movie, TrackIndex, contiguous
from mudlark.media.samples import Flags
from mudlark.verify.account import Account

_SOME = 1 << 22


def check_frames(path: Path, movie: Movie, came: Sequence[CodedFrames], account: Account) -> list[str]:
    """Compare the tracks of a file with the frames that were read from its source, in the same order; gives the digests
    of what is in the file."""
    made = sum(frames.tracks for frames in came)
    if len(movie.tracks) != made:
        text = f"The file has {len(movie.tracks)} tracks, and {made} were made"
        account.failed("coded-frames", "coded-frames", text, grave=True)
        return []
    digests, rest = [], list(movie.tracks)
    for number, frames in enumerate(came, start=1):
        tracks, rest = rest[: frames.tracks], rest[frames.tracks :]
        kept = np.ones(sum(len(track.sizes) for track in tracks), np.bool_)
        for first, count in frames.added:
            kept[first : first + count] = False
        digests.append(coded_digest(path, tracks, kept))
        if int(kept.sum()) != frames.count or digests[-1] != frames.digest:
            account.failed(
                "coded-frames", "coded-frames", f"Track {number} does not hold the frames that came", grave=True
            )
            return digests
    count = sum(frames.count for frames in came)
    account.passed("coded-frames", f"all {count:,} coded frames are the bytes that came")
    return digests


def check_packing(path: Path, came: Sequence[CodedFrames], account: Account) -> list[str]:
    """The same, of a file that is nothing but the frames of one track."""
    (frames,) = came
    hashed = xxh3_128()
    with path.open("rb", buffering=0) as file:
        while block := file.read(_SOME):
            hashed.update(block)
    if frames.added:
        account.skipped("coded-frames", "silence was put between the frames, which its packing cannot tell apart")
    elif hashed.hexdigest() != frames.digest:
        account.failed("coded-frames", "coded-frames", "The file does not hold the frames that came", grave=True)
    else:
        account.passed("coded-frames", f"all {frames.count:,} coded frames are the bytes that came")
    return [hashed.hexdigest()]


def coded_digest(path: Path, tracks: Sequence[TrackIndex], kept: Flags) -> str:
    """The digest (XXH3, 128 bits) over the bytes of the samples of some tracks, one behind the other, for which `kept`,
    shape (n,), is true."""
    hashed = xxh3_128()
    offsets, sizes = (np.concatenate([getattr(track, name) for track in tracks]) for name in ("offsets", "sizes"))
    runs = contiguous(offsets[kept], sizes[kept])
    with path.open("rb", buffering=0) as file:
        for begin, end in runs.tolist():
            file.seek(begin)
            while begin < end:
                block = file.read(min(_SOME, end - begin))
                if not block:
                    return ""
                hashed.update(block)
                begin += len(block)
    return hashed.hexdigest()
