"""Do the samples of a film look like their codecs, and are there no holes of zeros in them?

The file is read once, in windows of bounded size, the samples of all tracks together; all work on them is in arrays.
Zeros in place of coded data are what a broken download or a bad disk leaves in a file whose tables are good; how many
in a row a codec can hold is a property of the codec.
"""

from collections.abc import Callable, Iterable
from typing import TypeVar

import msgspec
import numpy as np

from mudlark.errors import FormatError
from mudlark.media.codecs import codec_of, misfits_of
from mudlark.media.configuration import fault_of, oddity_of
from mudlark.media.details import heed_hints
from mudlark.media.movie import CutOff, Movie, ReadAt, TrackIndex
from mudlark.media.picture.beginning import begins_alone
from mudlark.media.picture.numbers import Numbering, Numbers, numbers_of
from mudlark.media.plausible import Misfits, anything, jpeg_pictures, nal_units
from mudlark.media.samples import Bytes, Flags, Format, Ints
from mudlark.verify.account import Account
from mudlark.verify.forms.found import at_second

AnyMovie = TypeVar("AnyMovie", bound=Movie)
_WINDOW = 8 << 20
_WORD = 8  # bytes that are looked at as one
_LARGEST_SAMPLE = 1 << 22  # bytes of one that is looked at by itself
_MOST_BEGINNINGS = 1000  # pictures that are looked at for where decoding may begin
_FILLING = 64  # words of zeros that an encoder hardly leaves in the midst of a sample, unless it does in all
_FAR = 1 << 62  # behind every sample
_ZEROS_OF_JPEG = 512  # bytes of zeros in a row that no picture holds
_MOST_BAD = 0.1  # share of pictures of a stream that may have come damaged
_MOST_OTHER = 0.5  # share of samples from which on they are of another codec
_PARTS, _SOME_OF_EACH, _NOT_ALL = 4, 0.1, 0.8  # of a file, in each of which so large a share of samples is odd
_WITH_UNITS = ("avc1", "avc3", "hvc1", "hev1")  # where a sample that does not add up was cut


class _Kind(msgspec.Struct):
    """Samples of one track that one of its formats describes, by its number. look: what finds those that do not look
    like it. words: of zeros in a row that none holds, 0 for any number; filled: that none begins with, as it may have
    some in its midst. wrong, holes: numbers of samples; hollow: of those that have very many in their midst. numbering:
    of its pictures, None where they have none that proves anything; pictures: the numbers that all samples of the track
    have by it. unfit: those at which decoding is said to begin and cannot."""

    track: TrackIndex
    described: int
    look: Misfits | None
    words: int
    filled: bool
    dependent: Callable[[Bytes, Ints, Ints], Flags] | None
    numbering: Numbering | None
    pictures: Numbers
    count: int = 0
    bytes: int = 0
    hollow: list[int] = msgspec.field(default_factory=list)
    wrong: list[int] = msgspec.field(default_factory=list)
    holes: list[int] = msgspec.field(default_factory=list)
    unfit: list[int] = msgspec.field(default_factory=list)

    @classmethod
    def of(cls, track: TrackIndex, described: int) -> "_Kind":
        format = track.formats[described]
        codec = codec_of(format.codec)
        look = misfits_of(format.codec)
        zeros = codec.zeros if codec else _ZEROS_OF_JPEG if look is jpeg_pictures else 0
        words = zeros // _WORD - 1 if zeros and not format.deflated else 0
        if format.prefix or format.deflated:  # samples are not in the file as their codec writes them
            look = anything if format.prefix and look else None
        numbering = Numbering.of(format) if look is nal_units else None
        dependent = codec.dependent if codec and look is codec.misfits else None
        pictures = Numbers.empty(len(track.sizes) if numbering else 0)
        filled = codec.filled if codec else False
        return cls(track, described, look, words, filled, dependent, numbering, pictures)

    @property
    def format(self) -> Format:
        """What describes these samples."""
        return self.track.formats[self.described]

    @property
    def numbers(self) -> Ints:
        """All of them, by their numbers in the track."""
        if len(self.track.formats) == 1:
            return np.arange(len(self.track.sizes))
        return np.flatnonzero(self.track.described == self.described)

    def look_at(self, numbers: Ints, data: Bytes, begins: Ints, ends: Ints, zeros: Ints) -> None:
        """Some samples, and the words of zeros among the bytes that hold them."""
        self.count += len(numbers)
        if not len(data):
            self.wrong += numbers.tolist()  # no sample is of no bytes at all
            return
        self.bytes += int((ends - begins).sum())
        if self.look is not None:
            wrong = self.look(data, begins, ends, self.format)
            self.wrong += numbers[wrong].tolist()
            if self.numbering:
                good = ~wrong
                found = numbers_of(data, begins[good], ends[good], self.format, self.numbering)
                self.pictures.put(numbers[good], found)
                self.unfit += numbers[good][found.dependent & self.track.sync[numbers[good]]].tolist()
            elif self.dependent:
                self.unfit += numbers[~wrong & self.track.sync[numbers] & self.dependent(data, begins, ends)].tolist()
        if self.filled:
            runs = _runs(zeros, self.words)
            over = np.searchsorted(begins, runs)
            self.holes += _met(numbers, begins, over, runs + (self.words - 1) * _WORD)
        words, within = (_FILLING, self.hollow) if self.filled else (self.words, self.holes)
        if words:
            runs = _runs(zeros, words)
            within += _met(numbers, begins, np.searchsorted(ends, runs, "right"), runs)

    def out_of_order(self, *, spliced: bool) -> list[int]:
        """The pictures before which others are missing, or that are out of order. Where one kind of number breaks all
        over a file, that is how its encoder counts; if it is the first, none of them proves anything."""
        if not self.numbering:
            return []
        kinds = self.pictures.breaks(self.numbering, self.track.sync, self.track.pts, spliced=spliced)
        kept = [] if self.is_all_over(kinds[0]) else [kind for kind in kinds if not self.is_all_over(kind)]
        return sorted({number for kind in kept for number in kind.tolist()})

    def is_all_over(self, found: Ints) -> bool:
        """True if samples that are odd are in each part of a file, and not few."""
        parts = np.bincount(found * _PARTS // max(self.numbers[-1] + 1, 1), minlength=_PARTS)
        return bool((parts >= self.count / _PARTS * _SOME_OF_EACH).all())

    def second(self, number: int) -> float:
        """When a sample is shown or heard, in seconds from the first."""
        return float(self.track.pts[number] - self.track.pts.min()) / self.format.timescale


def _runs(zeros: Ints, words: int) -> Ints:
    """Where so many words of zeros in a row begin, in bytes. zeros: the words that are zero."""
    span = words - 1
    if len(zeros) <= span:
        return zeros[:0]
    begins: Ints = zeros[: len(zeros) - span][zeros[span:] - zeros[: len(zeros) - span] == span] * _WORD
    return begins


def _met(numbers: Ints, begins: Ints, samples: Ints, last: Ints) -> list[int]:
    """The numbers of those samples, by their places among some, that begin at a byte or before it."""
    return sorted(set(numbers[samples[np.append(begins, _FAR)[samples] <= last]].tolist()))


def opened_film(read: Callable[[], AnyMovie], account: Account, parts: str) -> AnyMovie | None:
    """A film with at least one sample, as reading gives it; None, and said, if it is damaged or has none. parts: what
    it is made of, in words."""
    try:
        movie = read()
    except FormatError as problem:
        code = "cut-off" if isinstance(problem, CutOff) else "boxes"
        account.failed("boxes", code, str(problem), grave=True, offset=problem.offset)
        return None
    count = sum(len(track.sizes) for track in movie.tracks)
    if not count:
        account.failed("samples", "empty", "The file holds no picture and no sound", grave=True)
        return None
    account.passed("boxes", f"its {parts} follow each other to the end")
    account.passed("samples", f"all {count:,} samples lie inside of the {parts}")
    return movie


def check_coded(read: ReadAt, tracks: Iterable[TrackIndex], account: Account, *, streamed: bool = False) -> None:
    """Look at all samples of some tracks, and account for their bytes. streamed: the file was made of segments, in
    which single pictures may have come damaged."""
    tracks = list(tracks)
    heed_hints(read, tracks)
    kinds = [_Kind.of(track, described) for track in tracks for described in range(len(track.formats))]
    numbered = [kind.numbers for kind in kinds]
    which = np.repeat(np.arange(len(kinds)), [len(numbers) for numbers in numbered])
    offsets = _joined([kind.track.offsets[numbers] for kind, numbers in zip(kinds, numbered, strict=True)])
    sizes = _joined([kind.track.sizes[numbers] for kind, numbers in zip(kinds, numbered, strict=True)])
    numbers = _joined(numbered)
    order = np.argsort(offsets, kind="stable")
    places = offsets[order]
    at = 0
    while at < len(order):
        start = int(places[at])
        until = max(at + 1, int(np.searchsorted(places, start + _WINDOW)))
        group = order[at:until]
        begins = offsets[group] - start
        ends = begins + sizes[group]
        data = np.frombuffer(read(start, int(ends.max())), np.uint8)
        zeros = np.flatnonzero(data[: len(data) // _WORD * _WORD].view("<u8") == 0)
        for index in np.flatnonzero(np.bincount(which[group])).tolist():
            own = which[group] == index
            kinds[index].look_at(numbers[group[own]], data, begins[own], ends[own], zeros)
        at = until
    kinds = [kind for kind in kinds if kind.count]
    shown = any(kind.format.type == "video" for kind in kinds)
    for kind in kinds:
        needed = kind.format.type == "video" or not shown  # a film without its sound can still be used
        _tell(kind, account, streamed=streamed, needed=needed)
        _check_format(read, kind, account, needed=needed)


def _check_format(read: ReadAt, kind: _Kind, account: Account, *, needed: bool) -> None:
    """What a decoder must know of a format is there, and the first picture of a film is one that it can begin with."""
    first, is_video = int(kind.numbers[0]), kind.format.type == "video"
    sample = _sample(read, kind.track, first)
    if fault := fault_of(kind.format, sample):
        text = f"Nothing can decode its {'pictures' if is_video else 'sound'}: {fault}"
        account.failed("configuration", "configuration", text, grave=needed)
    elif odd := oddity_of(kind.format, sample, _usual(kind.track.durations[kind.numbers])):
        account.failed("configuration", "configuration", f"{odd[0].upper()}{odd[1:]}")
    elif is_video and not first:
        _check_beginning(read, kind.track, account)


def _usual(durations: Ints) -> float:
    """How long samples last that are not cut, as the last one may be."""
    return float(np.quantile(durations, 0.75, method="higher"))


def _sample(read: ReadAt, track: TrackIndex, number: int) -> bytes:
    return read(int(track.offsets[number]), min(int(track.sizes[number]), _LARGEST_SAMPLE))


def _check_beginning(read: ReadAt, track: TrackIndex, account: Account) -> None:
    """A film begins with a picture that is made from no others, or nothing can show what comes before the first."""

    def may_begin(number: int) -> bool:
        return begins_alone(_sample(read, track, number), track.formats[int(track.described[number])]) is not False

    if may_begin(0):
        return
    later = np.flatnonzero(track.sync)[:_MOST_BEGINNINGS].tolist()
    first = next((number for number in later if number and may_begin(number)), None)
    if first is None:
        account.failed("picture-sync", "picture-sync", "Decoding cannot begin at any of its pictures", grave=True)
        return
    second = float(track.pts[first] - track.pts.min()) / track.format.timescale
    text = f"Nothing can be decoded before picture {first:,}, at {at_second(second)}: it begins with others made from"
    account.failed("picture-sync", "picture-sync", f"{text} pictures that are not there", at=0.0)


def _joined(arrays: list[Ints]) -> Ints:
    return np.concatenate([*arrays, np.zeros(0, np.int64)])


def _is_habit(kind: _Kind) -> bool:
    """True if samples that do not look like their codec are all over a file, and as many that do: then that is how
    their encoder writes (as those that do not fill up blocks of AAC with zeros), and no damage."""
    return kind.is_all_over(np.array(kind.wrong, np.int64)) and len(kind.wrong) < _NOT_ALL * kind.count


def _tell(kind: _Kind, account: Account, *, streamed: bool, needed: bool) -> None:
    """What was found, and whether the bytes are accounted for. needed: there is nothing to play without it."""
    codec = codec_of(kind.format.codec)
    name = codec.words if codec else kind.format.codec
    one = {"video": "picture", "audio": "frame of sound"}.get(kind.format.type, "sample")
    what = {"frame of sound": "frames of sound"}.get(one, f"{one}s")
    if kind.look is None:
        account.leave_out(f"{kind.count:,} {what} of '{name}' ({kind.bytes:,} bytes), which no one looks into")
        return
    account.cover("samples", kind.bytes)
    if kind.hollow and not kind.is_all_over(np.array(kind.hollow, np.int64)):
        kind.holes += kind.hollow
    if kind.holes:
        first = min(kind.holes)
        second = kind.second(first)
        text = f"Zeros stand in place of coded data in {len(kind.holes):,} {what}, the first at {at_second(second)}"
        account.failed("holes", "zeros", text, at=second, offset=int(kind.track.offsets[first]))
    if odd := kind.out_of_order(spliced=streamed):
        second = kind.second(odd[0])
        where = f"in {len(odd):,} places, first before picture {odd[0]:,}, at {at_second(second)}"
        text = f"Pictures are missing or out of order {where}: their numbers do not follow each other"
        account.failed("picture-order", "picture-order", text, at=second, offset=int(kind.track.offsets[odd[0]]))
    if kind.unfit and not kind.is_all_over(np.array(kind.unfit, np.int64)):
        first = min(kind.unfit)
        text = f"Decoding is said to begin at {len(kind.unfit):,} pictures that are made from others, the first is"
        where = f"picture {first:,}, at {at_second(kind.second(first))}"
        account.failed("picture-sync", "picture-sync", f"{text} {where}", at=kind.second(first))
    units = kind.format.codec.startswith(_WITH_UNITS)
    code = "picture-units" if units else "coded-form"
    if kind.wrong and not (codec and codec.lax and _is_habit(kind)):
        first, share = min(kind.wrong), len(kind.wrong) / kind.count
        second = kind.second(first)
        does = "do not add up" if units else f"do not look like {name}"
        whose = f"The units of {len(kind.wrong):,}" if units else f"{len(kind.wrong):,}"
        text = f"{whose} of {kind.count:,} {what} {does}, the first is {one} {first:,}, at {at_second(second)}"
        grave = (units and (not streamed or share > _MOST_BAD)) or (needed and share > _MOST_OTHER)
        account.failed(code, code, text, grave=grave, at=second, offset=int(kind.track.offsets[first]))
    elif codec:
        how = "consist of whole units" if units else f"look like {name}"
        account.passed(code, f"all {kind.count:,} {what} {how}")
