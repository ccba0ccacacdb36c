"""Opus in transport streams: access units behind control headers, and the box that describes Opus in MP4.

Follows RFC 6716 §3.1 (packets), RFC 7845 §5.1 (channels) and ETSI TS 103 491 Annex (control header of access units);
the MP4 box is the one of the registered encapsulation (dOps).
"""

import numpy as np

from mudlark.media.samples import Bytes, Format, Ints, Samples
from mudlark.media.sound.framed import running_times

RATE = 48_000
# samples of 48 kHz by the configuration of a packet (RFC 6716 §3.1): speech, both, music
_SPEECH, _BOTH, _MUSIC = (480, 960, 1920, 2880), (480, 960), (120, 240, 480, 960)
DURATIONS = 3 * _SPEECH + 2 * _BOTH + 4 * _MUSIC
_PRE_SKIP = 312
# pairs of channels that are coded together, and which coded channel each output channel is (RFC 7845 §5.1.1.2)
_SURROUND = {
    3: (1, bytes([0, 2, 1])),
    4: (2, bytes([0, 1, 2, 3])),
    5: (2, bytes([0, 4, 1, 2, 3])),
    6: (2, bytes([0, 4, 1, 2, 3, 5])),
    7: (3, bytes([0, 4, 1, 2, 3, 5, 6])),
    8: (3, bytes([0, 6, 1, 2, 3, 4, 5, 7])),
}


def packet_duration(packet: bytes | memoryview) -> int:
    """Samples of 48 kHz in a packet."""
    if not len(packet):
        return 0
    count = (1, 2, 2, packet[1] & 63 if len(packet) > 1 else 0)[packet[0] & 3]
    return DURATIONS[packet[0] >> 3] * count


def fault(version: bytes, channels: bytes, mapping: bytes) -> str:
    """What is wrong with the fields of an identification header (RFC 7845 §5.1), in words; empty if nothing is.
    version, channels: a byte each. mapping: its family, and which channel is which."""
    if not version or not channels or not mapping or version[0] >> 4:
        return "the header of its opus stream is of no version that is known"
    count, family = channels[0], mapping[0]
    most = {0: 2, 1: 8}.get(family, 255)
    if not 1 <= count <= most:
        return f"its opus stream states {count} channels, of 1 to {most}"
    if not family:
        return ""
    if len(mapping) < 3 + count:
        return "the header of its opus stream does not say which channel is which"
    streams, coupled = mapping[1], mapping[2]
    if not streams or coupled > streams or streams + coupled > 255:
        return f"its opus stream states {streams} streams, {coupled} of them of two channels"
    if any(one != 255 and one >= streams + coupled for one in mapping[3 : 3 + count]):
        return "the header of its opus stream names channels that are not there"
    return ""


def silence(duration: int = 960) -> bytes | None:
    """A packet in which nothing is heard. duration: samples of 48 kHz; None where no packet has so many."""
    if duration in (120, 240, 480):
        return bytes([0xE0 | (duration // 240) << 3, 0xFF, 0xFE])
    count, rest = divmod(duration, 960)
    if rest or not 1 <= count <= 6:
        return None
    return b"\xf8\xff\xfe" if count == 1 else bytes([0xFB, count]) + b"\xff\xfe" * count


def audio_format(channels: int, duration: int = 960) -> Format:
    """The format of Opus with one to eight channels, in their usual order. duration: samples of 48 kHz in a packet."""
    config = bytes([0, channels]) + _PRE_SKIP.to_bytes(2, "big") + RATE.to_bytes(4, "big") + bytes(2)
    coupled, mapping = _SURROUND.get(channels, (0, b""))
    config += bytes([1, channels - coupled, coupled]) + mapping if mapping else b"\0"
    return Format("audio", "opus", RATE, config, duration, channels=channels, sample_rate=RATE)


class OpusStream:
    """Turns access units with the 90 kHz timestamps of their packets into samples. channels: as the program map states
    them, 0 if it does not."""

    def __init__(self, track: int, channels: int = 0) -> None:
        self.track = track
        self._channels = channels
        self.format: Format | None = None
        self._next: int | None = None

    def restart(self) -> None:
        """The next timestamp starts a new count."""
        self._next = None

    def samples(self, stream: Bytes, starts: Ints, pts: Ints) -> tuple[Samples | None, int]:
        """Samples of all whole units, and where the unfinished rest begins; as FramedStream."""
        data = stream.tobytes()
        positions: list[int] = []
        packets: list[bytes] = []
        at = 0
        while (at := data.find(b"\x7f", at)) >= 0:
            unit = _unit(data, at)
            if unit is None:
                at += 1
                continue
            begin, end = unit
            if end > len(data):
                break
            positions.append(at)
            packets.append(data[begin:end])
            at = end
        rest = at if at >= 0 else len(data)
        if not packets:
            return None, rest
        if self.format is None:
            channels = self._channels or (2 if packets[0][:1] and packets[0][0] & 4 else 1)
            self.format = audio_format(channels, packet_duration(packets[0]) or 960)
        sizes = np.array([len(packet) for packet in packets], np.int64)
        frame = np.searchsorted(np.array(positions, np.int64), starts)
        times, self._next = running_times(self.format, self._next, len(sizes), frame, pts)
        sync = np.ones(len(sizes), np.bool_)
        return Samples(self.track, self.format, sizes, times, times, sync, [memoryview(b"".join(packets))]), rest


def _unit(data: bytes, at: int) -> tuple[int, int] | None:
    """Where the packet of an access unit begins and ends, behind its control header; None if there is none here."""
    if at + 3 > len(data) or data[at + 1] & 0xE0 != 0xE0:
        return None
    flags = data[at + 1]
    place, size = at + 2, 0
    while place < len(data) and data[place] == 255:
        size, place = size + 255, place + 1
    if place >= len(data):
        return None
    size, place = size + data[place], place + 1
    place += (2 if flags & 0x10 else 0) + (2 if flags & 0x08 else 0)
    if flags & 0x04 and place < len(data):
        place += 1 + data[place]
    return place, place + size
