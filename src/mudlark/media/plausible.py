"""Do coded samples look like their codec? Lengths, markers and check sums that every sample of a codec must have.

All samples of a window are looked at together, in arrays. Nothing is decoded: what looks right may still be wrong
inside, unless the codec has check sums. Each function takes bytes, where samples begin and end in them (shape (n,)),
and their format; it gives True, shape (n,), for samples that are not what their codec writes.
"""

from collections.abc import Callable

import numpy as np

from mudlark.media.crc import crc16
from mudlark.media.picture.inband import length_size
from mudlark.media.samples import Bytes, Flags, Format, Ints
from mudlark.media.sound.ac3 import AC3
from mudlark.media.sound.framed import Syntax
from mudlark.media.sound.mpeg_audio import MPEG_AUDIO
from mudlark.media.sound.opus import DURATIONS

Misfits = Callable[[Bytes, Ints, Ints, Format], Flags]
_MOST_UNITS = 4096  # NAL units, or other parts, in one sample
_PLAIN_AAC = frozenset({1, 2, 3, 4, 5, 29})  # audio object types whose blocks end with an element (ISO/IEC 14496-3)
_ZEROS_BEHIND = np.array([8, *((n & -n).bit_length() - 1 for n in range(1, 256))], np.int64)
_LONGEST_OPUS = 5760  # samples of 48 kHz: 120 ms (RFC 6716 §3.2.5)


def _at(data: Bytes, places: Ints) -> Ints:
    """The bytes at some places, as int64; the last byte for places behind the end."""
    return data[np.minimum(places, len(data) - 1)].astype(np.int64)


def nal_units(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """Length-prefixed units fill the sample exactly (ISO/IEC 14496-15 §5.3.4.2), each with a header whose first bit is
    zero (ITU-T H.264 and H.265 §7.3.1). Samples without a configuration, as browsers record them, begin with a start
    code (Annex B)."""
    if not format.config:
        lead = [_at(data, begins + number) for number in range(4)]
        zeros = (lead[0] | lead[1]) == 0
        coded: Flags = zeros & ((lead[2] == 1) | (lead[2] == 0) & (lead[3] == 1))
        return ~coded | (ends - begins < 5)
    size = length_size(format.codec[:4], format.config)

    def step(place: Ints, end: Ints) -> tuple[Ints, Flags]:
        length = np.zeros(len(place), np.int64)
        for number in range(size):
            length = length << 8 | _at(data, place + number)
        wrong = (place + size > end) | (length == 0) | (_at(data, place + size) & 0x80 != 0)
        return place + size + length, wrong

    return _walked(data, begins, ends, step)


def av1_units(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """Open bitstream units fill the sample exactly (AV1 §5.3): reserved bits are zero, sizes add up."""

    def step(place: Ints, end: Ints) -> tuple[Ints, Flags]:
        head = _at(data, place)
        wrong = (head & 0x81) != 0
        following = place + 1 + (head >> 2 & 1)
        sized = (head & 2) != 0
        length, more = np.zeros(len(place), np.int64), sized.copy()
        for number in range(8):  # leb128 (§4.10.5)
            byte = _at(data, following)
            length |= np.where(more, (byte & 127) << 7 * number, 0)
            following += more
            more &= (byte & 128) != 0
        return np.where(sized, following + length, end), wrong | more

    return _walked(data, begins, ends, step)


def ac3_frames(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """Frames fill the sample exactly, each with its sync word (ETSI TS 102 366 §5.3.1)."""

    def step(place: Ints, end: Ints) -> tuple[Ints, Flags]:
        wrong = (_at(data, place) != 0x0B) | (_at(data, place + 1) != 0x77) | (place + AC3.header > end)
        length = _frame_lengths(data, place, AC3)
        return place + length, wrong | (length == 0)

    return _walked(data, begins, ends, step)


def _walked(data: Bytes, begins: Ints, ends: Ints, step: Callable[[Ints, Ints], tuple[Ints, Flags]]) -> Flags:
    """Walk all samples together, part by part; they must end exactly where their last part does."""
    wrong = (ends > len(data)) | (begins >= ends)
    place, active = begins.copy(), np.flatnonzero(~wrong)
    for _ in range(_MOST_UNITS):
        if not len(active):
            return wrong
        following, odd = step(place[active], ends[active])
        odd |= following > ends[active]
        wrong[active[odd]] = True
        place[active] = following
        active = active[~odd & (following < ends[active])]
    wrong[active] = True
    return wrong


def _frame_lengths(data: Bytes, places: Ints, syntax: Syntax) -> Ints:
    """The lengths that frame headers state; 0 where none fits."""
    inside = places + syntax.header <= len(data)
    lengths = np.zeros(len(places), np.int64)
    lengths[inside] = syntax.lengths(data, places[inside])
    return lengths


def mpeg_frames(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """One frame a sample, with its sync word, as long as its header says (ISO/IEC 11172-3 §2.4.1.3)."""
    sync = (_at(data, begins) == 0xFF) & (_at(data, begins + 1) >= 0xE0)
    wrong: Flags = ~sync | (_frame_lengths(data, begins, MPEG_AUDIO) != ends - begins)
    return wrong


def aac_blocks(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """A block ends with an END element, and zeros up to the next whole byte (ISO/IEC 14496-3 §4.4.2.1). Codings whose
    blocks have no such end are not looked at."""
    if not format.config or format.config[0] >> 3 not in _PLAIN_AAC:
        return begins >= ends
    last = _at(data, np.maximum(ends - 1, 0))
    word = _at(data, np.maximum(ends - 2, 0)) << 8 | last
    ended = (last != 0) & (word >> _ZEROS_BEHIND[last] & 7 == 7)
    wrong: Flags = ~ended | (ends - begins < 2) | (_at(data, begins) >> 5 == 7) & (ends - begins > 2)
    return wrong


def opus_packets(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """The table of contents fits the packet (RFC 6716 §3.4)."""
    size, first = ends - begins, _at(data, begins)
    code, count = first & 3, _at(data, begins + 1) & 63
    lasts = np.array(DURATIONS, np.int64)[first >> 3] * count
    odd = (code == 1) & (size % 2 == 0)
    many = (code == 3) & ((size < 2) | (count == 0) | (lasts > _LONGEST_OPUS))
    wrong: Flags = (size < 1) | odd | many
    return wrong


def flac_frames(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """The sync code and the check sum of the whole frame (RFC 9639 §9.1, §9.3)."""
    head = (_at(data, begins) == 0xFF) & (_at(data, begins + 1) & 0xFE == 0xF8)
    wrong: Flags = ~head | (ends > len(data)) | (ends - begins < 8)
    good = np.flatnonzero(~wrong)
    wrong[good] = crc16(data, begins[good], ends[good] - begins[good]) != 0
    return wrong


def vorbis_packets(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """The first bit of a packet of sound is zero (Vorbis I §4.3.1); an empty packet is one, too."""
    wrong: Flags = (begins < ends) & (_at(data, begins) & 1 != 0)
    return wrong


def vp8_frames(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """The frame tag, whose first partition fits, and the start code of key frames (RFC 6386 §9.1)."""
    size = ends - begins
    tag = _at(data, begins) | _at(data, begins + 1) << 8 | _at(data, begins + 2) << 16
    code = _at(data, begins + 3) << 16 | _at(data, begins + 4) << 8 | _at(data, begins + 5)
    key = tag & 1 == 0
    head = np.where(key, 10, 3)
    wrong: Flags = (size < head) | (tag >> 1 & 7 > 3) | (head + (tag >> 5) > size) | key & (code != 0x9D012A)
    return wrong


def vp8_dependent(data: Bytes, begins: Ints, ends: Ints) -> Flags:
    """True for pictures that are made from others (RFC 6386 §9.1)."""
    made: Flags = _at(data, begins) & 1 != 0
    return made


def vp9_dependent(data: Bytes, begins: Ints, ends: Ints) -> Flags:
    """True for pictures that are made from others, or that show one that is there (VP9 §6.2)."""
    first = _at(data, begins)
    profile = first >> 5 & 1 | first >> 3 & 2
    made: Flags = np.where(profile == 3, first & 0x06, first & 0x0C) != 0
    return made


def vp9_frames(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """The frame marker, the sync code of key frames, and the sizes of an index of several frames (VP9 §6.2, Annex
    B)."""
    size, first = ends - begins, _at(data, begins)
    profile = first >> 5 & 1 | first >> 3 & 2
    key = (profile < 3) & (first & 0x0C == 0)
    code = _at(data, begins + 1) << 16 | _at(data, begins + 2) << 8 | _at(data, begins + 3)
    wrong: Flags = (size < 1) | (first >> 6 != 2) | key & ((code != 0x498342) | (size < 4))
    last = _at(data, np.maximum(ends - 1, 0))
    for place in np.flatnonzero(~wrong & (last >> 5 == 6)).tolist():
        mark = int(last[place])
        count, width = (mark & 7) + 1, (mark >> 3 & 3) + 1
        begin = int(ends[place]) - 2 - count * width
        if begin < begins[place] or int(data[begin]) != mark:
            continue
        sizes = data[begin + 1 : begin + 1 + count * width].reshape(count, width).astype(np.int64)
        wrong[place] = int((sizes << 8 * np.arange(width)).sum()) > begin - int(begins[place])
    return wrong


def texts(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """A text behind its length of two bytes (3GPP TS 26.245 §5.17)."""
    wrong: Flags = (ends - begins < 2) | ((_at(data, begins) << 8 | _at(data, begins + 1)) + 2 > ends - begins)
    return wrong


def time_codes(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """A number of four bytes."""
    wrong: Flags = ends - begins != 4
    return wrong


def anything(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """Sound that is not coded, and text: any bytes are such."""
    wrong: Flags = begins >= ends
    return wrong


def jpeg_pictures(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """A picture from its first marker to its last (ITU-T T.81 §B.2.1); zeros may stand behind."""
    wrong: Flags = (ends - begins < 4) | (_at(data, begins) != 0xFF) | (_at(data, begins + 1) != 0xD8)
    return wrong


def prores_pictures(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """A frame that states its size, and what it is (SMPTE RDD 36 §5.1)."""
    size = np.zeros(len(begins), np.int64)
    for number in range(4):
        size = size << 8 | _at(data, begins + number)
    marks = [_at(data, begins + 4 + number) == byte for number, byte in enumerate(b"icpf")]
    wrong: Flags = (size > ends - begins) | ~(marks[0] & marks[1] & marks[2] & marks[3])
    return wrong


def start_codes(data: Bytes, begins: Ints, ends: Ints, format: Format) -> Flags:
    """Parts behind start codes (ISO/IEC 13818-2 §6.2.1, 14496-2 §6.2.1)."""
    lead = (_at(data, begins) | _at(data, begins + 1)) == 0
    wrong: Flags = (ends - begins < 4) | ~lead | (_at(data, begins + 2) != 1)
    return wrong
