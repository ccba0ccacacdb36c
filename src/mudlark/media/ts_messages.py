"""Messages that go along with picture and sound in a transport stream: timed metadata (ID3, as HLS has it; KLV after
SMPTE ST 336), and the markers of SCTE 35, each as a line with its time."""

from collections.abc import Callable, Iterable, Iterator

from mudlark.media.id3 import tagged
from mudlark.media.samples import Event

METADATA, PRIVATE, MARKERS = 0x15, 0x06, 0x86  # types in a program map
KLV = b"KLVA"  # how a private stream says that it is such
MARKER_TABLE = 0xFC
_CLOCK = 90_000
_LONGEST = 2_000  # characters of a message
_COMMANDS = {0: "splice_null", 4: "splice_schedule", 5: "splice_insert", 6: "time_signal", 255: "private_command"}
_UNIVERSAL = b"\x06\x0e\x2b\x34"  # how each key of SMPTE begins


def is_cut(packets: Iterable[bytes], *, section: bool) -> bool:
    """True if the section behind its pointer (ISO/IEC 13818-1 §2.4.4), or the PES packet (§2.4.3.6), that begins in the
    first of some transport packets states more bytes than these hold."""
    payload = b"".join(one[5 + one[4] if one[3] & 0x20 else 4 :] for one in packets)
    if section:
        begin = 1 + payload[0] if payload else 0
        head = payload[begin : begin + 3]
        return len(head) < 3 or len(payload) - begin < 3 + (int.from_bytes(head[1:], "big") & 0x0FFF)
    stated = int.from_bytes(payload[4:6], "big")
    return len(payload) < 6 or (stated > 0 and len(payload) < 6 + stated)


def metadata(body: bytes, begin: float) -> Iterator[Event]:
    """The frames of an ID3 tag (ID3 2.4 §4), or a set of keys and values."""
    if body[:3] != b"ID3":
        scheme = "SMPTE ST 336 (KLV)" if _UNIVERSAL in body[:32] else "private data"
        yield Event(scheme, "", begin, body.hex()[:_LONGEST])
        return
    for name, words in tagged(body):
        yield Event("ID3", name, begin, words)


def marker(section: bytes, begin: float, origin: int, unwrap: Callable[[int], int]) -> Event | None:
    """A splice information section (ANSI/SCTE 35 §9.6); None for what is none. begin: when it came. origin: the tick at
    which the stream begins; unwrap: makes a time of 33 bits one of the stream's."""
    if len(section) < 14 or section[0] != MARKER_TABLE:
        return None
    encrypted, adjustment, command = section[4] >> 7, _ticks(section, 4), section[13]
    words = [_COMMANDS.get(command, f"command {command}")]
    at = 14
    if command == 5 and len(section) > at + 6 and not encrypted:
        words.append(f"event {int.from_bytes(section[at : at + 4], 'big')}")
        flags = section[at + 5]
        words.append("cancelled" if section[at + 4] & 0x80 else "out" if flags & 0x80 else "in")
        at += 6
        if section[at - 2] & 0x80 or not flags & 0x40 or flags & 0x10:
            at = 0
    elif command != 6 or encrypted:
        at = 0
    if at and at + 5 <= len(section) and section[at] & 0x80:
        ticks = unwrap((_ticks(section, at) + adjustment) % (1 << 33))
        begin = (ticks - origin) / _CLOCK
    return Event("SCTE 35", words[0], round(begin, 3), f"{' '.join(words[1:])} {section.hex()}".strip()[:_LONGEST])


def _ticks(data: bytes, at: int) -> int:
    """33 bits, the first of them the last of a byte."""
    return int.from_bytes(data[at : at + 5], "big") & (1 << 33) - 1
