"""H.264 elementary streams: NAL units in arrays, parameter sets, and access units as MP4 samples.

Follows ITU-T H.264 (§7.3, Annex B, Annex E) and ISO/IEC 14496-15 §5 (decoder configuration, length-prefixed samples).
Start codes become lengths in place wherever there is room, so picture bytes are never copied here.
"""

from dataclasses import dataclass, replace

import numpy as np

from mudlark.errors import FormatError
from mudlark.media.bits import Bits
from mudlark.media.samples import Bytes, Flags, Format, Ints, Samples

IDR, SPS, PPS, DELIMITER = 5, 7, 8, 9
_PICTURE = ~np.isin(np.arange(32), [DELIMITER, 10, 11, 12])  # not delimiters, ends of sequence and stream, filler
_PICTURE_ONLY = _PICTURE & ~np.isin(np.arange(32), [SPS, PPS])
_WITH_CHROMA_FIELDS = (100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135)
_PIXEL_ASPECTS = (
    *((0, 1), (1, 1), (12, 11), (10, 11), (16, 11), (40, 33), (24, 11), (20, 11), (32, 11), (80, 33), (18, 11)),
    *((15, 11), (64, 33), (160, 99), (4, 3), (3, 2), (2, 1)),
)
_CHUNK = 1 << 15  # 16-bit words scanned at a time, so that the work stays in the cache
CLOCK = 90_000  # ticks a second of the times given to AvcStream


def start_codes(stream: Bytes) -> Ints:
    """Positions of every 00 00 01 in the stream (Annex B §B.1)."""
    words = stream[: len(stream) // 2 * 2].view("<u2")
    masked, zero = np.empty(_CHUNK, np.uint16), np.empty(_CHUNK, np.bool_)
    found: list[Ints] = []
    for first in range(0, len(words), _CHUNK):
        part = words[first : first + _CHUNK]
        # 00 00 at an even place, or 00 01 at an even place that may end a start code begun one byte earlier
        low = np.bitwise_and(part, np.uint16(0xFEFF), out=masked[: len(part)])
        hits = np.equal(low, 0, out=zero[: len(part)]).nonzero()[0]
        hits += first
        found.append(hits)
    hits = np.concatenate(found) if found else np.zeros(0, np.int64)
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


def nal_units(stream: Bytes) -> tuple[Ints, Ints]:
    """First byte (the header) and end of each NAL unit; zero bytes that trail a unit belong to none."""
    codes = start_codes(stream)
    begins = codes + 3
    ends = np.append(codes[1:], len(stream))
    while True:
        trailing = (ends > begins) & (stream[np.maximum(ends - 1, 0)] == 0)
        if not trailing.any():
            break
        ends = ends - trailing
    filled = ends > begins
    return begins[filled], ends[filled]


@dataclass(frozen=True, slots=True)
class SequenceParameters:
    """What a sequence parameter set (§7.3.2.1.1) says about the picture. ticks_per_frame: of CLOCK, 0 if not stated."""

    identifier: int
    profile: int
    constraints: int
    level: int
    width: int
    height: int
    chroma_format: int
    luma_depth: int
    chroma_depth: int
    frames_only: bool
    pixel_aspect: tuple[int, int]
    ticks_per_frame: int


def unescape(unit: bytes) -> bytes:
    """Remove emulation prevention bytes (§7.4.1)."""
    return unit.replace(b"\0\0\3", b"\0\0")


def parse_sps(unit: bytes) -> SequenceParameters:
    """Read a sequence parameter set, header byte included."""
    bits = Bits(unescape(unit)[1:])
    profile, constraints, level = bits.take(8), bits.take(8), bits.take(8)
    identifier = bits.unsigned()
    chroma, luma_depth, chroma_depth, separate = 1, 8, 8, False
    if profile in _WITH_CHROMA_FIELDS:
        chroma = bits.unsigned()
        separate = chroma == 3 and bits.flag()
        luma_depth, chroma_depth = 8 + bits.unsigned(), 8 + bits.unsigned()
        bits.flag()
        if bits.flag():
            for index in range(12 if chroma == 3 else 8):
                if bits.flag():
                    _skip_scaling_list(bits, 16 if index < 6 else 64)
    bits.unsigned()
    order = bits.unsigned()
    if order == 0:
        bits.unsigned()
    elif order == 1:
        bits.flag()
        bits.signed()
        bits.signed()
        for _ in range(bits.unsigned()):
            bits.signed()
    bits.unsigned()
    bits.flag()
    columns, rows = bits.unsigned() + 1, bits.unsigned() + 1
    frames_only = bits.flag()
    if not frames_only:
        bits.flag()
        rows *= 2
    bits.flag()
    left = right = top = bottom = 0
    if bits.flag():
        left, right, top, bottom = (bits.unsigned() for _ in range(4))
    sampled = 0 if separate else chroma
    unit_x = 2 if sampled in (1, 2) else 1
    unit_y = (2 if sampled == 1 else 1) * (1 if frames_only else 2)
    aspect, ticks = _usability(bits) if bits.flag() else ((1, 1), 0)
    width, height = columns * 16 - unit_x * (left + right), rows * 16 - unit_y * (top + bottom)
    if width <= 0 or height <= 0:
        raise FormatError("A sequence parameter set gives a picture without size")
    return SequenceParameters(
        *(identifier, profile, constraints, level, width, height, chroma, luma_depth, chroma_depth),
        *(frames_only, aspect, ticks),
    )


def _skip_scaling_list(bits: Bits, size: int) -> None:
    last = following = 8
    for _ in range(size):
        if following:
            following = (last + bits.signed()) % 256
        last = following or last


def _usability(bits: Bits) -> tuple[tuple[int, int], int]:
    """Pixel aspect and frame duration out of the usability information (Annex E §E.1.1)."""
    aspect = (1, 1)
    if bits.flag():
        code = bits.take(8)
        if code == 255:
            aspect = (bits.take(16), bits.take(16))
        elif code < len(_PIXEL_ASPECTS):
            aspect = _PIXEL_ASPECTS[code]
    if bits.flag():
        bits.flag()
    if bits.flag():
        bits.take(4)
        if bits.flag():
            bits.take(24)
    if bits.flag():
        bits.unsigned()
        bits.unsigned()
    ticks = 0
    if bits.flag():
        units, scale = bits.take(32), bits.take(32)
        if units and scale:
            ticks = round(2 * units * CLOCK / scale)
    return (aspect if all(aspect) else (1, 1)), ticks


def configuration(sps: list[bytes], pps: list[bytes]) -> bytes:
    """An AVCDecoderConfigurationRecord (ISO/IEC 14496-15 §5.3.3.1) with four-byte lengths."""
    first = parse_sps(sps[0])
    record = bytes([1, *sps[0][1:4], 0xFF, 0xE0 | len(sps)])
    record += b"".join(len(unit).to_bytes(2, "big") + unit for unit in sps)
    record += bytes([len(pps)]) + b"".join(len(unit).to_bytes(2, "big") + unit for unit in pps)
    if first.profile in (100, 110, 122, 144):
        record += bytes([0xFC | first.chroma_format, 0xF8 | first.luma_depth - 8, 0xF8 | first.chroma_depth - 8, 0])
    return record


class AvcStream:
    """Turns an H.264 elementary stream with its timestamps into samples.

    Parameter sets go into the format; while they stay the same they are left out of the samples. Once a set changes,
    the samples keep theirs, and the codec of the format becomes avc3.
    """

    def __init__(self, track: int) -> None:
        self.track = track
        self.format: Format | None = None
        self.changed = False
        self.skipped = 0
        self._sets: dict[tuple[int, int], bytes] = {}
        self._seen: set[bytes] = set()
        self._parameters: SequenceParameters | None = None

    def samples(self, stream: Bytes, starts: Ints, dts: Ints, pts: Ints) -> Samples | None:
        """Samples of a stretch of stream that begins and ends with an access unit.

        stream: writable, used up by this call. starts: where each timed unit begins; dts, pts: its times, shape (k,).
        Pictures before the first parameter sets cannot be decoded; they are counted in `skipped`.
        """
        begins, ends = nal_units(stream)
        if not len(begins):
            return None
        kinds: Bytes = stream[begins] & np.uint8(0x1F)
        self._learn(stream, begins, ends, kinds)
        if self.format is None or self._parameters is None:
            self.skipped += len(starts)
            return None
        first, dts, pts = self._access_units(begins, kinds, starts, dts, pts)
        kept = (_PICTURE if self.changed else _PICTURE_ONLY)[kinds]
        kept[: first[0]] = False
        sizes = np.add.reduceat(np.where(kept, ends - begins + 4, 0), first)
        sync = np.logical_or.reduceat(kinds == IDR, first)
        whole = sizes > 0
        pieces = _with_lengths(stream, begins, ends, kept)
        return Samples(self.track, self.format, sizes[whole], dts[whole], pts[whole], sync[whole], pieces)

    def _learn(self, stream: Bytes, begins: Ints, ends: Ints, kinds: Bytes) -> None:
        """Take note of the parameter sets; make the format when there is one of each."""
        for index in np.flatnonzero((kinds == SPS) | (kinds == PPS)).tolist():
            unit = stream[begins[index] : ends[index]].tobytes()
            if unit in self._seen:
                continue
            self._seen.add(unit)
            kind = int(kinds[index])
            if kind == SPS:
                parameters = parse_sps(unit)
                identifier = parameters.identifier
                self._parameters = self._parameters or parameters
            else:
                identifier = Bits(unescape(unit)[1:]).unsigned()
            known = self._sets.setdefault((kind, identifier), unit)
            if known != unit or (self.format is not None and unit not in self.format.config):
                self.changed = True
        if self.changed and self.format is not None and self.format.codec.startswith("avc1"):
            self.format = replace(self.format, codec="avc3" + self.format.codec[4:])
        if self.format is None and self._parameters is not None:
            sps, pps = ([u for (kind, _), u in self._sets.items() if kind == wanted] for wanted in (SPS, PPS))
            if sps and pps:
                self.format = Format(
                    type="video",
                    codec=f"avc1.{sps[0][1:4].hex()}",
                    timescale=CLOCK,
                    config=configuration(sps, pps),
                    sample_duration=self._parameters.ticks_per_frame,
                    width=self._parameters.width,
                    height=self._parameters.height,
                    pixel_aspect=self._parameters.pixel_aspect,
                )

    def _access_units(self, begins: Ints, kinds: Bytes, starts: Ints, dts: Ints, pts: Ints) -> tuple[Ints, Ints, Ints]:
        """First NAL unit of each access unit with its times; several units under one timestamp are spread evenly."""
        first = np.searchsorted(begins, starts)
        timed = (first < len(begins)) & np.append(first[1:] != first[:-1], True)
        first, dts, pts = first[timed], dts[timed], pts[timed]
        if not len(first):
            first, dts, pts = np.zeros(1, np.int64), dts[:1], pts[:1]
        if self._parameters is None or not self._parameters.frames_only:
            return first, dts, pts  # two fields under one timestamp are one sample
        opening = kinds == DELIMITER
        opening[: first[0]] = False
        opening[first] = True
        every = np.flatnonzero(opening)
        if len(every) == len(first):
            return first, dts, pts
        step = self._parameters.ticks_per_frame or int(np.median(np.diff(dts)) if len(dts) > 1 else CLOCK // 25)
        group = np.searchsorted(first, every, "right") - 1
        within = np.arange(len(every)) - np.searchsorted(every, first)[group]
        return every, dts[group] + within * step, pts[group] + within * step


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
