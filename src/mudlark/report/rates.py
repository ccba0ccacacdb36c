"""How an item's film or sound is made up over its time: bit rates, and the distances of pictures that stand alone.

Drawn from the file itself where it is of a kind whose samples are known (MP4, Matroska, transport streams, chains of
frames), else from what the record says of its pieces.
"""

from collections import defaultdict
from collections.abc import Iterable, Iterator
from contextlib import suppress
from itertools import pairwise
from pathlib import Path
from typing import BinaryIO

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.archive.place import inside_item
from mudlark.archive.record import Record
from mudlark.errors import FormatError
from mudlark.media.index import INDEXED, movie_in
from mudlark.media.samples import Flags, Ints, Samples, batches
from mudlark.media.sound.framed import frames
from mudlark.media.sound.packed import SYNTAXES
from mudlark.media.ts import TransportReader
from mudlark.report.table import LONGEST, Row, Table, within
from mudlark.text import printable
from mudlark.verify.forms.chain import edges_of
from mudlark.verify.media import form_of

_MOST_BINS = 600  # points of a line, more than which no eye could tell apart
_WINDOW = 188 * 21 * 2048  # bytes, some 8 MB
_RATES, _KEYS = ("track", "second", "kbit/s"), ("track", "second", "seconds to the next")

_Drawn = tuple[list[Row], str]  # rows of a table, and a word on them


class _Track(msgspec.Struct):
    """A track's samples. times: seconds of the film at which they play; sizes: bytes; sync: decoding may begin."""

    name: str
    video: bool
    times: np.ndarray
    sizes: Ints
    sync: Flags


def rates_of(folder: Path, record: Record) -> tuple[Table, Table]:
    """The tables of bit rates and of pictures that can be decoded alone."""
    media = [path for file in record.files if file.role == "media" and (path := inside_item(folder, file.path))]
    drawn: list[tuple[_Drawn, _Drawn]] = []
    if len(media) == 1:
        with suppress(FormatError, OSError, ValueError, IndexError):  # what is wrong with it, the checks say
            drawn = [(_rates(track), _keys(track)) for track in _tracks(media[0])]  # one in memory at a time
    rates, words = _joined(rates for rates, _ in drawn)
    if not rates:
        rates, words = _rates_of_pieces(record)
    keys, key_words = _joined(keys for _, keys in drawn)
    key_words = key_words or "There is no picture here whose samples are known."
    return (
        Table("rates", "Bit rate of each track", _RATES, rates, words),
        Table("keys", "Distances of key frames (pictures that can be decoded alone)", _KEYS, keys, key_words),
    )


def _joined(drawn: Iterable[_Drawn]) -> _Drawn:
    """What was drawn of all tracks: their rows, and what is said of each."""
    parts = list(drawn)
    facts = "; ".join(fact for _, fact in parts if fact)
    return [row for rows, _ in parts for row in rows], f"{facts}." if facts else ""


def _tracks(path: Path) -> Iterator[_Track]:
    """The tracks of a file, if it is of a kind whose samples are known."""
    form = form_of(path)
    if form in INDEXED:
        tracks = movie_in(path).tracks
        while tracks:  # each is let go when the next is looked at
            track = tracks.pop(0)
            if len(track.sizes):
                begin = track.presented()[0]
                times = begin + (track.pts - track.pts.min()) / track.format.timescale
                name = f"{track.format.type} {track.number}"
                yield _Track(name, track.format.type == "video", times, track.sizes, track.sync)
    elif form == "ts":
        with path.open("rb") as file:
            yield from _streamed(file)
    elif form in SYNTAXES:
        with path.open("rb") as file:
            yield from _chained(file, path.stat().st_size, form)


def _streamed(file: BinaryIO) -> list[_Track]:
    """The tracks of a transport stream."""
    gathered: defaultdict[int, list[Samples]] = defaultdict(list)
    for came in batches(TransportReader(), iter(lambda: file.read(_WINDOW), b"")):
        for samples in came:
            if len(samples):
                gathered[samples.track].append(replace(samples, pieces=[]))
    begin = min((int(one.pts.min()) / one.format.timescale for all_ in gathered.values() for one in all_), default=0.0)
    tracks = []
    for number, parts in sorted(gathered.items()):
        format = parts[0].format
        times = np.concatenate([one.pts for one in parts]) / format.timescale - begin
        sizes, sync = np.concatenate([one.sizes for one in parts]), np.concatenate([one.sync for one in parts])
        tracks.append(_Track(f"{format.type} {number}", format.type == "video", times, sizes, sync))
    return tracks


def _chained(file: BinaryIO, size: int, form: str) -> Iterator[_Track]:
    """The one track of a file that is a chain of frames."""
    syntax = SYNTAXES[form]
    at, end = edges_of(file, size)
    sizes: list[Ints] = []
    step = 0.0
    while at < end:
        file.seek(at)
        window = np.frombuffer(file.read(min(_WINDOW, end - at)), np.uint8)
        layout = frames(window, syntax)
        if not len(layout.positions):
            break
        if not sizes:
            first = int(layout.positions[0])
            format = syntax.format(window[first : first + int(layout.lengths[0])].tobytes())
            step = format.sample_duration / format.sample_rate if format.sample_rate else 0.0
        sizes.append(layout.lengths)
        at += layout.rest
    if sizes and step:
        lengths = np.concatenate(sizes)
        yield _Track("audio 1", False, np.arange(len(lengths)) * step, lengths, np.ones(len(lengths), np.bool_))


def _rates(track: _Track) -> _Drawn:
    length = max(float(track.times.max()), 1.0)
    edges = np.linspace(0.0, length, min(_MOST_BINS, max(2, int(length))) + 1)
    bits, _ = np.histogram(track.times, edges, weights=track.sizes * 8.0)
    rates = bits / (edges[1] - edges[0]) / 1000
    pairs = zip(edges[:-1].tolist(), rates.tolist(), strict=True)
    spread = f"{rates.mean():,.0f} kbit/s on average, from {rates.min():,.0f} to {rates.max():,.0f}"
    return [(track.name, round(at, 3), round(rate, 1)) for at, rate in pairs], f"{track.name}: {spread}"


def _rates_of_pieces(record: Record) -> tuple[list[Row], str]:
    """Bit rates from the sizes and lengths of the pieces."""
    rows: list[Row] = []
    at: defaultdict[str, float] = defaultdict(float)
    for piece in record.segment_list:
        if 0 < piece.duration < LONGEST:
            rate = within(piece.bytes or 0, 1e15) * 8 / piece.duration / 1000
            rows.append((printable(piece.track), round(at[piece.track], 3), round(rate, 1)))
            at[piece.track] += piece.duration
    if not rows:
        return [], "There is no film or sound here whose samples are known."
    return rows, "From the sizes of the pieces as they came, as the samples of the file itself are not known."


def _keys(track: _Track) -> _Drawn:
    alone = np.sort(track.times[track.sync]).tolist() if track.video else []
    if not alone:
        return [], ""
    distances: list[Row] = [(track.name, round(at, 3), round(after - at, 3)) for at, after in pairwise(alone)]
    if not distances:
        return [], f"{track.name}: one key frame only, at its beginning"
    apart = np.diff(alone)
    widest = int(np.argmax(apart))
    words = f"at most {apart[widest]:.2f} s apart (at {alone[widest]:.1f} s)"
    return distances, f"{track.name}: {len(alone):,} key frames, {words}"
