"""Elementary streams of NAL units (H.264, HEVC): units in arrays, and access units as MP4 samples.

Follows ITU-T H.264 and H.265 Annex B (byte streams) and ISO/IEC 14496-15 (length-prefixed samples). What differs
between the two stands in a `Dialect`. Start codes become lengths in place wherever there is room, so picture bytes are
never copied here.
"""

from collections.abc import Callable, Iterator, Sequence

import msgspec
import numpy as np
from msgspec.structs import replace

from mudlark.media.picture.inband import length_size, put_before
from mudlark.media.samples import Bytes, Flags, Format, Ints, Samples

CLOCK = 90_000  # ticks a second of the times given to NalStream
_CHUNK = 1 << 15  # 16-bit words scanned at a time, so that the work stays in the cache
_FEW_ZEROS = 4  # bytes that usually trail a unit, taken off all units at once
_BLOCK = 1 << 16


class PictureFacts(msgspec.Struct, frozen=True):
    """What parameter sets say of the picture. name: as in RFC 6381. ticks_per_frame: of CLOCK, 0 if not stated.

    fields: two access units may be one picture.
    """

    name: str
    width: int
    height: int
    pixel_aspect: tuple[int, int] = (1, 1)
    ticks_per_frame: int = 0
    fields: bool = False


class Dialect(msgspec.Struct, frozen=True):
    """How a codec writes its units.

    kinds: the kind of a unit by its first byte, shape (256,). sets: the kinds of parameter sets, all of which a decoder
    needs, the one of the sequence first among those that name the picture. dropped, sync: by kind, what MP4 samples do
    not hold, and where decoding may start. in_band: the sample entry for samples that keep their parameter sets.
    recovery: of units in a stream (their begins, ends and kinds), which say that decoding may start here too, though
    not every picture before this one in time can then be shown; None where the kinds say it all. slices, trailing: by
    kind, parts of a picture, and what stands behind one and belongs to it. header: bytes before the first bit of a
    slice, which is set in the first of a picture.
    """

    kinds: Bytes
    sets: tuple[int, ...]
    delimiter: int
    dropped: Flags
    sync: Flags
    slices: Flags
    trailing: Flags
    header: int
    in_band: str
    identifier: Callable[[bytes], int]
    picture: Callable[[Sequence[bytes]], PictureFacts]
    configuration: Callable[[Sequence[bytes]], bytes]
    recovery: "Callable[[Bytes, Ints, Ints, Bytes], Flags] | None" = None


def unescape(unit: bytes) -> bytes:
    """Remove emulation prevention bytes (§7.4.1)."""
    return unit.replace(b"\0\0\3", b"\0\0")


def lengthened(data: bytes, size: int) -> Iterator[bytes]:
    """The units that stand behind their lengths, which have `size` bytes each; the last one may be cut off."""
    at = 0
    while at + size < len(data):
        length = int.from_bytes(data[at : at + size], "big")
        if length:
            yield data[at + size : at + size + length]
        at += size + length


def start_codes(stream: Bytes) -> Ints:
    """Positions of every 00 00 01 in the stream (Annex B §B.1)."""
    words = stream[: len(stream) // 2 * 2].view("<u2")
    masked, zero = np.empty(_CHUNK, np.uint16), np.empty(_CHUNK, np.bool_)
    begins_at: list[Ints] = []
    for first in range(0, len(words), _CHUNK):
        part = words[first : first + _CHUNK]
        # 00 00 at an even place, or 00 01 at an even place that may end a start code begun one byte earlier
        low = np.bitwise_and(part, np.uint16(0xFEFF), out=masked[: len(part)])
        hits = np.equal(low, 0, out=zero[: len(part)]).nonzero()[0]
        hits += first
        begins_at.append(hits)
    hits = np.concatenate(begins_at) if begins_at else np.zeros(0, np.int64)
    whole = words[hits] == 0
    even = hits[whole] * 2
    even = even[even + 2 < len(stream)]
    even = even[stream[even + 2] == 1]
    odd = hits[~whole] * 2 - 1
    odd = odd[odd >= 0]
    odd = odd[stream[odd] == 0]
    places = np.concatenate([even, odd])
    places.sort()
    return places


def _last_of(stream: Bytes, begin: int, end: int) -> int:
    """Where a unit ends without its trailing zeros, looked for block by block from behind."""
    while end > begin:
        first = max(begin, end - _BLOCK)
        if len(there := np.flatnonzero(stream[first:end])):
            return first + int(there[-1]) + 1
        end = first
    return begin


def nal_units(stream: Bytes) -> tuple[Ints, Ints]:
    """First byte (the header) and end of each NAL unit; zero bytes that trail a unit belong to none."""
    codes = start_codes(stream)
    if not len(codes):
        return codes, codes
    begins = codes + 3
    ends = np.append(codes[1:], len(stream))
    for _ in range(_FEW_ZEROS):
        trailing = (ends > begins) & (stream[ends - 1] == 0)
        if not trailing.any():
            break
        ends = ends - trailing
    else:
        for unit in np.flatnonzero((ends > begins) & (stream[ends - 1] == 0)).tolist():
            ends[unit] = _last_of(stream, int(begins[unit]), int(ends[unit]))
    filled = ends > begins
    return begins[filled], ends[filled]


def units_of(sample: bytes, format: Format) -> list[bytes]:
    """The units of a sample of H.264 or HEVC: behind their lengths; behind start codes where there is no configuration,
    as browsers record them."""
    if format.config:
        return list(lengthened(sample, length_size(format.codec, format.config)))
    begins, ends = nal_units(np.frombuffer(sample, np.uint8))
    return [sample[begin:end] for begin, end in zip(begins.tolist(), ends.tolist(), strict=True)]


class HeldUnit(msgspec.Struct, frozen=True):
    """An access unit that may go on: where it begins in its stretch of stream, and its times."""

    begin: int
    dts: int
    pts: int


class NalStream:
    """Turns an elementary stream of NAL units with its timestamps into samples.

    Parameter sets go into the format; while they stay the same they are left out of the samples. Once a set changes,
    each picture at which decoding may begin has its sets before it, and the sample entry of the format becomes the one
    for that (avc3, hev1). in_band: so it is from the first sample on.
    """

    def __init__(self, track: int, dialect: Dialect, *, in_band: bool = False) -> None:
        self.track = track
        self.format: Format | None = None
        self.changed = in_band
        self.skipped = 0
        self._dialect = dialect
        self._sets: dict[tuple[int, int], bytes] = {}  # the first of each kind and identifier
        self._latest: dict[tuple[int, int], bytes] = {}
        self._seen: set[bytes] = set()
        self._picture: PictureFacts | None = None
        self._begun = False  # a picture came with which a decoder begins anew

    def samples(
        self, stream: Bytes, starts: Ints, dts: Ints, pts: Ints, *, last: bool
    ) -> tuple[Samples | None, HeldUnit | None]:
        """Samples of the access units in a stretch of stream, and the last one, which is held back unless nothing
        follows it.

        stream: writable, used up by this call. starts: where each packet with a time begins; dts, pts: its times, shape
        (k,). Access units are found in the stream itself: a packet may hold several of them, or a part of one.
        Pictures before the first parameter sets cannot be decoded; they are counted in `skipped`.
        """
        begins, ends = nal_units(stream)
        if not len(begins) or not len(starts):
            rest = HeldUnit(0, int(dts[0]), int(pts[0])) if len(starts) else None
            return None, rest
        first, dts, pts = self._access_units(stream, begins, starts, dts, pts)
        if last:
            return self._made(stream, begins, ends, first, dts, pts), None
        held = HeldUnit(_lead(stream, begins, ends, int(first[-1])), int(dts[-1]), int(pts[-1]))
        cut = int(first[-1])
        made = self._made(stream, begins[:cut], ends[:cut], first[:-1], dts[:-1], pts[:-1]) if cut else None
        return made, held

    def _made(self, stream: Bytes, begins: Ints, ends: Ints, first: Ints, dts: Ints, pts: Ints) -> Samples | None:
        """Samples of access units, each of which begins with the unit of a number in `first`."""
        dialect = self._dialect
        kinds = dialect.kinds[stream[begins]]
        self._learn(stream, begins, ends, kinds)
        if self.format is None:
            self.skipped += len(first)
            return None
        kept = ~dialect.dropped[kinds]
        if not self.changed:
            kept &= ~np.isin(kinds, dialect.sets)
        kept[: first[0]] = False
        sizes = np.add.reduceat(np.where(kept, ends - begins + 4, 0), first)
        sync = np.logical_or.reduceat(dialect.sync[kinds], first)
        if dialect.recovery and not self._begun:
            points = np.logical_or.reduceat(dialect.recovery(stream, begins, ends, kinds), first)
            sync |= points & ~np.logical_or.accumulate(sync)
        self._begun = self._begun or bool(np.logical_or.reduce(dialect.sync[kinds]))
        whole = sizes > 0
        bare = np.flatnonzero((sync & ~np.logical_or.reduceat(kinds == dialect.sets[0], first))[whole])
        pieces = _with_lengths(stream, begins, ends, kept)
        samples = Samples(self.track, self.format, sizes[whole], dts[whole], pts[whole], sync[whole], pieces)
        if not self.changed or not len(bare):
            return samples
        sets = [unit for wanted in dialect.sets for (kind, _), unit in self._latest.items() if kind == wanted]
        return put_before(samples, bare, b"".join(len(unit).to_bytes(4, "big") + unit for unit in sets))

    def _learn(self, stream: Bytes, begins: Ints, ends: Ints, kinds: Bytes) -> None:
        """Take note of the parameter sets; make the format when there is one of each."""
        dialect = self._dialect
        for index in np.flatnonzero(np.isin(kinds, dialect.sets)).tolist():
            unit = stream[begins[index] : ends[index]].tobytes()
            if unit in self._seen and not self.changed:
                continue
            self._seen.add(unit)
            which = int(kinds[index]), dialect.identifier(unit)
            self._latest[which] = unit
            known = self._sets.setdefault(which, unit)
            if known != unit or (self.format is not None and unit not in self.format.config):
                self.changed = True
        if self.changed and self.format is not None:
            self.format = replace(self.format, codec=dialect.in_band + self.format.codec[4:])
        there = {kind for kind, _ in self._sets}
        if self.format is None and there.issuperset(dialect.sets):
            sets = [unit for wanted in dialect.sets for (kind, _), unit in self._sets.items() if kind == wanted]
            self._picture = dialect.picture(sets)
            name = self._picture.name
            self.format = Format(
                type="video",
                codec=dialect.in_band + name[4:] if self.changed else name,
                timescale=CLOCK,
                config=dialect.configuration(sets),
                sample_duration=self._picture.ticks_per_frame,
                width=self._picture.width,
                height=self._picture.height,
                pixel_aspect=self._picture.pixel_aspect,
            )

    def _access_units(self, stream: Bytes, begins: Ints, starts: Ints, dts: Ints, pts: Ints) -> tuple[Ints, Ints, Ints]:
        """The number of the first unit of each access unit, with its times.

        A time is that of the first access unit that begins in its packet (ISO/IEC 13818-1 §2.4.3.7); those behind it
        follow at the usual distance. Packets of one time hold parts of one picture, or pictures that came in a burst.
        """
        alike = np.append(False, (np.diff(dts) == 0) & (np.diff(pts) == 0))
        starts, dts, pts = starts[~alike], dts[~alike], pts[~alike]
        delimited = np.flatnonzero(self._dialect.kinds[stream[begins]] == self._dialect.delimiter)
        first = delimited if len(delimited) >= len(starts) else self._openings(stream, begins)
        timed = begins[first] >= starts[0]  # what stands before the first packet with a time has none
        first = first[timed] if timed.any() else first[-1:]
        packet = np.maximum(np.searchsorted(starts, begins[first], "right") - 1, 0)
        # a picture whose first slice is lost begins where the packet with its time does
        without = np.flatnonzero(np.bincount(packet, minlength=len(starts)) == 0)
        lost = np.searchsorted(begins, starts[without])
        inside = lost < np.searchsorted(begins, np.append(starts, len(stream))[without + 1])
        if inside.any():
            first = np.union1d(first, lost[inside])
            packet = np.maximum(np.searchsorted(starts, begins[first], "right") - 1, 0)
        within = np.arange(len(first)) - np.searchsorted(packet, packet)
        if self._picture is not None and self._picture.fields:
            whole = within == 0  # two fields under one time are one sample
            return first[whole], dts[packet[whole]], pts[packet[whole]]
        if not within.any():
            return first, dts[packet], pts[packet]
        count = np.bincount(packet, minlength=len(starts))
        usual = self._picture.ticks_per_frame if self._picture else 0
        usual = usual or int(np.median(np.diff(dts) // np.maximum(count[:-1], 1)) if len(dts) > 1 else CLOCK // 25)
        room = np.append(np.diff(dts), usual * count[-1])
        step = np.where((room > 0) & (room < usual * count), room // np.maximum(count, 1), usual)[packet]
        return first, dts[packet] + within * step, pts[packet] + within * step

    def _openings(self, stream: Bytes, begins: Ints) -> Ints:
        """The first unit of each access unit, where no delimiters say it (ITU-T H.264 §7.4.1.2.3, H.265 §7.4.2.4.4):
        what stands before the first slice of a picture and behind the last of another."""
        dialect = self._dialect
        kinds = dialect.kinds[stream[begins]]
        slices = dialect.slices[kinds]
        begun = stream[np.minimum(begins + dialect.header, len(stream) - 1)] & 0x80 != 0
        opening = np.flatnonzero(slices & begun)
        before = np.maximum.accumulate(np.where(slices, np.arange(len(begins)), -1))
        earliest = np.where(opening > 0, before[opening - 1] + 1, 0)
        leading = np.flatnonzero(~slices & ~dialect.trailing[kinds])
        leads = np.append(leading, len(begins))[np.searchsorted(leading, earliest)]
        first = np.minimum(leads, opening)
        return first if len(first) else np.zeros(1, np.int64)


def _lead(stream: Bytes, begins: Ints, ends: Ints, unit: int) -> int:
    """Where the start code of a unit begins, which may have a zero more than three bytes."""
    place = int(begins[unit]) - 3
    before = int(ends[unit - 1]) if unit else 0
    return place - 1 if place - 1 >= before and stream[place - 1] == 0 else place


def _with_lengths(stream: Bytes, begins: Ints, ends: Ints, kept: Flags) -> list[memoryview]:
    """The kept NAL units as buffers, each unit behind its four-byte length.

    The length takes the place of the start code. A three-byte code right behind a kept unit leaves no room for four;
    its length then stands in a buffer of its own.
    """
    previous = np.concatenate([[0], np.where(kept, ends, 0)[:-1]])
    previous = np.maximum.accumulate(previous)[kept]
    begins, ends = begins[kept], ends[kept]
    room = (begins - 4 >= previous) & (begins >= 4)
    lengths = (ends - begins).astype(">u4").view(np.uint8).reshape(-1, 4)
    stream[begins[room, None] + np.arange(-4, 0)] = lengths[room]
    whole, apart = stream.data, lengths.reshape(-1).data
    if not len(begins):
        return []
    lead = np.where(room, begins - 4, begins)
    breaks = np.flatnonzero(~room[1:] | (lead[1:] != ends[:-1])) + 1
    run = np.concatenate([[0], breaks])
    pieces: list[memoryview] = []
    for index, roomy, begin, end in zip(
        run.tolist(),
        room[run].tolist(),
        lead[run].tolist(),
        ends[np.append(breaks, len(ends)) - 1].tolist(),
        strict=True,
    ):
        if not roomy:
            pieces.append(apart[index * 4 : index * 4 + 4])
        pieces.append(whole[begin:end])
    return pieces
