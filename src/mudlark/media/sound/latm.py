"""AAC in LATM with LOAS framing, as broadcasts carry it.

Follows ISO/IEC 14496-3 §1.7 (AudioSyncStream, AudioMuxElement with one program, one layer, one frame).
"""

import numpy as np

from mudlark.errors import FormatError
from mudlark.media.bits import Bits
from mudlark.media.samples import Bytes, Format, Ints, Samples
from mudlark.media.sound.adts import FRAME, RATES
from mudlark.media.sound.framed import Frames, Syntax, bits_of, frames, running_times

_SYNC, _HEADER = 0x2B7, 3
_LONGEST = 0x1FFF


def _marks(stream: Bytes) -> Ints:
    return np.flatnonzero((stream[:-1] == 0x56) & (stream[1:] & 0xE0 == 0xE0))


def _lengths(stream: Bytes, at: Ints) -> Ints:
    return (bits_of(stream, at, 1, 0, 31) << 8 | bits_of(stream, at, 2, 0, 255)) + _HEADER


def _no_format(_: bytes) -> Format:
    raise FormatError("The configuration of LATM stands inside of its frames")


_LOAS = Syntax(header=_HEADER, marks=_marks, lengths=_lengths, alike=b"\xff\xe0", format=_no_format)


class LatmStream:
    """Turns LATM with the 90 kHz timestamps of its packets into samples."""

    def __init__(self, track: int) -> None:
        self.track = track
        self.format: Format | None = None
        self._next: int | None = None

    def restart(self) -> None:
        """The next timestamp starts a new count."""
        self._next = None

    def samples(self, stream: Bytes, starts: Ints, pts: Ints) -> tuple[Samples | None, int]:
        """Samples of all whole frames, and where the unfinished rest begins; as FramedStream."""
        layout: Frames = frames(stream, _LOAS)
        payloads: list[bytes] = []
        positions: list[int] = []
        for position, length in zip(layout.positions.tolist(), layout.lengths.tolist(), strict=True):
            # payloads stand at any bit, so each has to be moved
            payload = self._payload(stream[position + _HEADER : position + length].tobytes())
            if payload is not None:
                payloads.append(payload)
                positions.append(position)
        if not payloads or self.format is None:
            return None, layout.rest
        sizes = np.array([len(payload) for payload in payloads], np.int64)
        frame = np.searchsorted(np.array(positions, np.int64), starts)
        times, self._next = running_times(self.format, self._next, len(sizes), frame, pts)
        sync = np.ones(len(sizes), np.bool_)
        return Samples(
            self.track, self.format, sizes, times, times, sync, [memoryview(b"".join(payloads))]
        ), layout.rest

    def _payload(self, element: bytes) -> bytes | None:
        """The raw data block inside of an AudioMuxElement (§1.7.3); None before the first configuration."""
        bits = Bits(element)
        if not bits.flag():
            self._configure(bits, element)
        if self.format is None:
            return None
        length = 0
        while (step := bits.take(8)) == 255:
            length += step
        length += step
        return bits.take(length * 8).to_bytes(length, "big")

    def _configure(self, bits: Bits, element: bytes) -> None:
        version = bits.take(1)
        if version and bits.take(1):
            raise FormatError("LATM of a version that is not read")
        if version:
            _value(bits)
        bits.take(1)
        frames_, programs, layers = bits.take(6), bits.take(4), bits.take(3)
        if frames_ or programs or layers:
            raise FormatError("LATM with several frames, programs or layers in one element is not read")
        config_bits = _value(bits) if version else 0
        before = bits.left
        kind, rate_index = bits.take(5), bits.take(4)
        rate = bits.take(24) if rate_index == 15 else RATES[rate_index] if rate_index < len(RATES) else 0
        channels = bits.take(4)
        core = kind
        if kind in (5, 29):  # an explicit extension: the core follows
            extended = bits.take(4)
            if extended == 15:
                bits.take(24)
            core = bits.take(5)
        if core != 2 or not rate or not channels:
            raise FormatError(f"LATM with audio of type {core} is not read")
        bits.take(1)
        if bits.take(1):
            bits.take(14)
        bits.take(1)
        if config_bits:
            bits.take(max(0, config_bits - (before - bits.left)))
        if bits.take(3):
            raise FormatError("LATM with frames of fixed length is not read")
        bits.take(8)
        if bits.flag():
            if version:
                _value(bits)
            else:
                while bits.take(9) >> 8:
                    pass
        if bits.flag():
            bits.take(8)
        config = (2 << 11 | RATES.index(rate) << 7 | channels << 3) if rate in RATES else 0
        if not config:
            raise FormatError(f"LATM with {rate} Hz is not read")
        self.format = Format(
            type="audio",
            codec="mp4a.40.2",
            timescale=rate,
            config=config.to_bytes(2, "big"),
            sample_duration=FRAME,
            channels=8 if channels == 7 else channels,
            sample_rate=rate,
        )


def _value(bits: Bits) -> int:
    """LatmGetValue (§1.7.3.1)."""
    return bits.take(8 * (bits.take(2) + 1))
